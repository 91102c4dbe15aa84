// The stations Track and Solve: masks, outliers, filters, a track's own view, what the tracker sees, solving on.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { colourAt, distance, endAll, openPage, openStation, showFrame, startAll } from "../support.mjs";

let folder, server, browser, page;

before(async () => {
  ({ folder, server, browser, page } = await startAll("shots/2"));
  await page.waitForFunction(() => globalThis.fennik?.model.state?.inserts.length === 1);
  await page.uncheck("#show-inserts");
  await page.uncheck("#show-grid");
  await showFrame(page, 100);
  await openStation(page, "track");
});
after(() => endAll({ page, quiet: true, browser, server, folder }));

const revision = () => page.evaluate(() => globalThis.fennik.model.state.revision);
const masks = () => page.evaluate(() => globalThis.fennik.model.state.masks);
const selected = () => page.evaluate(() => [...globalThis.fennik.model.selected]);

/** Does something and waits until it is saved. */
async function saved(what) {
  const was = await revision();
  await what();
  await page.waitForFunction((r) => globalThis.fennik.model.state.revision !== r, was);
}
const undo = () => saved(() => page.keyboard.press("Control+z"));

/** A picture pixel as a place on the page. */
const place = (x, y) =>
  page.evaluate(
    ([px, py]) => {
      const { stage } = globalThis.fennik,
        box = stage.canvas.getBoundingClientRect(),
        [sx, sy] = stage.toStage([px, py]);
      return [sx + box.left, sy + box.top];
    },
    [x, y],
  );

/** How many pixels of a canvas are drawn on. */
const inked = (id) =>
  page.evaluate((i) => {
    const c = document.getElementById(i),
      d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
    let n = 0;
    for (let k = 3; k < d.length; k += 4) if (d[k]) n++;
    return n;
  }, id);

async function drag(from, to) {
  await page.mouse.move(...(await place(...from)));
  await page.mouse.down();
  await page.mouse.move(...(await place(...to)), { steps: 5 });
  await page.mouse.up();
}

test("a keep-out is drawn corner by corner and hatched on the stage", async () => {
  await page.uncheck("#show-tracks");
  const before = await colourAt(page, [620, 300], 12);
  await page.click('[data-act="draw"][data-mode="keep-out"]');
  for (const p of [
    [500, 220],
    [760, 220],
    [760, 400],
    [500, 400],
  ])
    await page.mouse.click(...(await place(...p)));
  await saved(() => page.keyboard.press("Enter"));
  const [mask] = await masks();
  assert.deepEqual(
    [mask.mode, mask.name, mask.keys.length, mask.keys[0].frame, mask.keys[0].outline.length],
    ["keep-out", "mask 1", 1, 100, 4],
  );
  for (const [i, p] of [
    [500, 220],
    [760, 220],
    [760, 400],
    [500, 400],
  ].entries())
    assert.ok(distance(mask.keys[0].outline[i], p) < 1);
  await page.waitForSelector(".mask-line[aria-pressed=true]");
  assert.ok(distance(await colourAt(page, [620, 300], 12), before) > 6, "its inside is hatched");
});

test("twice on a corner makes it smooth, twice on an edge adds one, Alt and a click takes one away", async () => {
  await saved(async () => page.mouse.dblclick(...(await place(500, 220))));
  assert.deepEqual((await masks())[0].smooth, [true, false, false, false]);
  await saved(async () => page.mouse.dblclick(...(await place(760, 310))));
  assert.equal((await masks())[0].keys[0].outline.length, 5);
  await page.keyboard.down("Alt");
  await saved(async () => page.mouse.click(...(await place(760, 310))));
  await page.keyboard.up("Alt");
  assert.equal((await masks())[0].keys[0].outline.length, 4);
});

test("moved on another frame it gets a key there, by a corner or as a whole, and the lane shows it", async () => {
  await showFrame(page, 130);
  await saved(() => drag([620, 320], [660, 340]));
  await page.waitForFunction(() => globalThis.fennik.model.state.masks[0].keys.length === 2);
  let [mask] = await masks();
  assert.deepEqual(
    mask.keys.map((k) => k.frame),
    [100, 130],
  );
  assert.ok(distance(mask.keys[1].outline[2], [800, 420]) < 1 && distance(mask.keys[0].outline[2], [760, 400]) < 1);
  await saved(() => drag([800, 420], [830, 460]));
  [mask] = await masks();
  assert.ok(distance(mask.keys[1].outline[2], [830, 460]) < 1 && distance(mask.keys[1].outline[0], [540, 240]) < 1);
  const sand = await page.evaluate(async () => {
    await new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r)));
    const canvas = document.getElementById("lanes"),
      g = canvas.getContext("2d"),
      d = devicePixelRatio,
      { timeline } = globalThis.fennik;
    return [100, 130, 115].map((f) => {
      // Wide enough for a key to be seen beside the playhead.
      const data = g.getImageData(Math.round((timeline.xOf(f) - 3) * d), 0, 7, canvas.height).data;
      let n = 0;
      for (let i = 0; i < data.length; i += 4) if (data[i] > 200 && data[i + 2] < 160) n++;
      return n;
    });
  });
  assert.ok(sand[0] > sand[2] + 2 && sand[1] > sand[2] + 2, `keys stand out of the lane: ${sand}`);
  await saved(() => page.click('[data-act="unkey-mask"]'));
  assert.deepEqual(
    (await masks())[0].keys.map((k) => k.frame),
    [100],
  );
});

test("mode, inversion and span are typed; copies and undo work", async () => {
  await saved(() => page.check('.mask-form [name="inverted"]'));
  await saved(async () => {
    await page.fill('.mask-form [name="first"]', "90");
    await page.press('.mask-form [name="first"]', "Tab");
  });
  const [mask] = await masks();
  assert.deepEqual([mask.inverted, mask.span], [true, [90, 249]]);
  await undo();
  await undo();
  await saved(() => page.click('[data-act="copy-mask"]'));
  assert.deepEqual(
    (await masks()).map((m) => m.name),
    ["mask 1", "mask 1 copy"],
  );
  await saved(() => page.keyboard.press("Delete"));
  assert.deepEqual(
    (await masks()).map((m) => m.name),
    ["mask 1"],
    "the chosen one, the copy, went",
  );
});

test("a mask follows the picture by itself, both ways", async () => {
  await showFrame(page, 100);
  await page.click(".mask-line");
  await page.click('.mask-form [data-act="follow-mask"]');
  await page.waitForFunction(() => globalThis.fennik.model.state.masks[0].keys.length > 3, null, { timeout: 120_000 });
  const [mask] = await masks();
  assert.ok(mask.keys[0].frame < 90 && mask.keys.at(-1).frame > 110, JSON.stringify(mask.keys.map((k) => k.frame)));
  // It went with the solved points that it held on its frame.
  const off = await page.evaluate(async () => {
    const { model } = globalThis.fennik,
      { outlineAt, contains } = await import("/static/js/math/outline.js"),
      { project } = await import("/static/js/math/camera.js");
    const [mask] = model.state.masks,
      held = model.points.filter((p) => {
        const at = project(model.cameras[100], p.x);
        return at && contains(outlineAt(mask, 100), at);
      });
    return [85, 120].map(
      (f) => held.filter((p) => contains(outlineAt(mask, f), project(model.cameras[f], p.x))).length / held.length,
    );
  });
  assert.ok(
    off.every((share) => share > 0.85),
    `of its points it holds ${off}`,
  );
  await page.keyboard.press("Escape");
});

test("looking first keeps out of the mask, and what the tracker sees is shown", async () => {
  await page.click("#look-first");
  await page.waitForFunction(() => globalThis.fennik.model.look?.frame === 100);
  const inside = await page.evaluate(async () => {
    const { contains, outlineAt } = await import("/static/js/math/outline.js"),
      { model } = globalThis.fennik;
    return model.look.points.filter((p) => contains(outlineAt(model.state.masks[0], 100), p)).length;
  });
  assert.equal(inside, 0);
  await page.click("#look-first");
  const plain = await colourAt(page, [250, 330], 6);
  await page.click("#seen-picture > summary");
  await page.click("#see-picture");
  await page.fill('#track-settings [name="contrast"]', "1");
  await saved(() => page.selectOption('[name="channel"]', "red"));
  await page.waitForFunction(() => globalThis.fennik.model.seen?.frame === 100);
  await page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));
  const seen = await colourAt(page, [250, 330], 6);
  assert.ok(
    Math.abs(seen[0] - seen[2]) < 3 && distance(seen, plain) > 20,
    `grey, and not the plate: ${seen} was ${plain}`,
  );
  await page.click("#see-picture");
  await page.waitForFunction(() => globalThis.fennik.model.seen === null);
  await undo();
});

test("outliers are named with their reason, selected, used anyway and left alone again", async () => {
  await page.check("#show-tracks");
  const own = page.locator('[data-why="independent-motion"]');
  assert.match(await own.textContent(), /\d+ move on their own/);
  assert.match(await own.getAttribute("title"), /people, cars, water/);
  await own.click();
  const ids = await selected();
  assert.ok(ids.length > 20, String(ids.length));
  await page.evaluate((list) => {
    const { model } = globalThis.fennik;
    model.selected = new Set(list.slice(0, 2));
    model.select();
  }, ids);
  await saved(() => page.click('[data-act="trust-tracks"]'));
  assert.deepEqual(
    await page.evaluate(() => globalThis.fennik.model.state.trusted),
    ids.slice(0, 2).sort((a, b) => a - b),
  );
  assert.match(await page.textContent('.station[data-station="solve"]'), /settings changed since this solve/);
  await saved(() => page.click('[data-act="doubt-tracks"]'));
});

test("keep-outs are made from clusters and move with them", async () => {
  const ids = await page.evaluate(() => {
    const { model } = globalThis.fennik;
    const long = [...model.outliers.values()]
      .filter((a) => a.reason === "independent-motion")
      .map((a) => model.tracks.find((t) => t.id === a.id))
      .filter((t) => t.xy.length > 60);
    const [x, y] = long[0].xy.slice(40, 42);
    return long
      .filter((t) => t.first <= long[0].first + 20 && Math.hypot(t.xy[0] - x, t.xy[1] - y) < 120)
      .map((t) => t.id);
  });
  await page.evaluate((list) => {
    const { model } = globalThis.fennik;
    model.selected = new Set(list);
    model.select();
  }, ids);
  await saved(() => page.click('[data-act="mask-tracks"]'));
  const mask = (await masks()).at(-1);
  assert.equal(mask.keys[0].outline.length, 8);
  assert.ok(mask.keys.length > 1 && mask.span);
  await undo();
  await page.locator('[data-why="independent-motion"]').click();
  await saved(() => page.click('[data-act="mask-tracks"]'));
  const drawn = (await masks()).length - 1;
  assert.ok(drawn >= 3, `${drawn} keep-outs for people, boats and water`);
  assert.match(await page.getAttribute("#undo", "title"), new RegExp(`draw ${drawn} masks`));
  await undo();
});

test("the lasso takes what it goes round, and filters tell what they take", async () => {
  await page.keyboard.press("Escape");
  await page.keyboard.press("Escape");
  await page.click('[data-act="lasso"]');
  await page.mouse.move(...(await place(200, 500)));
  await page.mouse.down();
  for (const p of [
    [420, 470],
    [520, 600],
    [330, 680],
    [180, 620],
    [200, 505],
  ])
    await page.mouse.move(...(await place(...p)), { steps: 4 });
  await page.mouse.up();
  const taken = await selected();
  const wrong = await page.evaluate(async (ids) => {
    const { contains } = await import("/static/js/math/outline.js"),
      { trackAt } = await import("/static/js/math/tracks.js"),
      { model } = globalThis.fennik;
    const loop = [
      [200, 500],
      [420, 470],
      [520, 600],
      [330, 680],
      [180, 620],
    ];
    return model.tracks.filter((t) => {
      const at = trackAt(t, model.frame);
      return at && !model.deleted.has(t.id) && contains(loop, at) !== ids.includes(t.id);
    }).length;
  }, taken);
  assert.ok(taken.length > 15 && wrong <= 3, `${taken.length} taken, ${wrong} wrong at the edge`);
  await page.click('[data-act="lasso"]');
  await page.selectOption("#filter-kind", "region");
  await page.click('[data-region="0"]');
  const told = Number((await page.textContent("#filter-select")).match(/\d+/)[0]);
  await page.click("#filter-select");
  assert.equal((await selected()).length, told);
  await page.selectOption("#filter-kind", "whole");
  await page.fill("#filter-from", "10");
  await page.fill("#filter-to", "120");
  assert.match(await page.textContent("#filter-select"), /Select [1-9]\d* tracks/);
});

test("one selected track shows what it saw and its error over time", async () => {
  const id = await page.evaluate(() => {
    const { model } = globalThis.fennik,
      long = model.points.filter((p) => p.views > 50).sort((a, b) => b.rms - a.rms)[0];
    model.selected = new Set([long.id]);
    model.select();
    return long.id;
  });
  await page.waitForFunction(() => document.getElementById("track-patches").naturalWidth > 0);
  assert.match(
    await page.textContent("#track-view-reading"),
    new RegExp(`track ${id} · frames \\d+ to \\d+ · [\\d.]+ px`),
  );
  const size = await page.evaluate(() => {
    const i = document.getElementById("track-patches");
    return [i.naturalWidth, i.naturalHeight];
  });
  assert.deepEqual(size, [8 * 48, 3 * 48]);
  const drawn = await inked("track-error");
  assert.ok(drawn > 400, `${drawn} pixels of the curve`);
  await page.locator("#track-error").click({ position: { x: 8, y: 30 } });
  const [frame, first] = await page.evaluate(
    (i) => [globalThis.fennik.model.frame, globalThis.fennik.model.tracks.find((t) => t.id === i).first],
    id,
  );
  assert.ok(Math.abs(frame - first) < 8, `${frame} of a track that begins at ${first}`);
});

test("an outlier has an error curve against the place that suits it best", async () => {
  await page.evaluate(() => {
    const { model } = globalThis.fennik,
      own = [...model.outliers.values()]
        .filter((a) => a.reason === "independent-motion" && a.error_px > 2)
        .sort((a, b) => b.error_px - a.error_px)[0];
    model.selected = new Set([own.id]);
    model.select();
  });
  assert.match(
    await page.textContent("#track-view-reading"),
    /moves on its own · [\d.]+ px off · error against the place that suits it best$/,
  );
  assert.ok((await inked("track-error")) > 150);
});

test("deleted tracks are shown struck out, picked on the stage and restored one by one", async () => {
  await showFrame(page, 100);
  const ids = await page.evaluate(() => {
    const { model } = globalThis.fennik,
      there = model.tracks.filter(
        (t) => t.first < 90 && t.first + t.xy.length / 2 > 110 && Number.isFinite(t.xy[2 * (100 - t.first)]),
      );
    model.selected = new Set(
      there
        .slice(0, 40)
        .filter((_, i) => i % 8 === 0)
        .map((t) => t.id),
    );
    model.select();
    return [...model.selected];
  });
  assert.equal(ids.length, 5);
  await saved(() => page.locator('[data-act="delete-tracks"]').first().click());
  const at = await page.evaluate((id) => {
    const t = globalThis.fennik.model.tracks.find((k) => k.id === id),
      i = 2 * (100 - t.first);
    return [t.xy[i], t.xy[i + 1]];
  }, ids[2]);
  await page.evaluate(() => {
    const { model } = globalThis.fennik;
    model.selected = new Set();
    model.select();
  });
  const plain = await colourAt(page, at, 3);
  await page.click('[data-act="show-deleted"]');
  assert.equal(await page.getAttribute('[data-act="show-deleted"]', "aria-pressed"), "true");
  await page.waitForFunction(() => globalThis.fennik.model.showDeleted);
  assert.ok(distance(await colourAt(page, at, 3), plain) > 4, "the deleted one is drawn");
  await page.mouse.click(...(await place(...at)));
  assert.deepEqual(await selected(), [ids[2]]);
  await saved(() => page.click('[data-act="restore-selected"]'));
  const left = await page.evaluate(() => globalThis.fennik.model.state.deleted);
  assert.deepEqual([left.length, left.includes(ids[2])], [4, false]);
  await page.click('[data-act="show-deleted"]');
  await saved(() => page.locator('[data-act="restore-tracks"]').first().click());
});

test("the worst are dropped with their effect told beforehand, and the solve goes on from there", async () => {
  await openStation(page, "solve");
  const limit = await page.evaluate(() => {
    const rms = globalThis.fennik.model.points.map((p) => p.rms).sort((a, b) => b - a);
    return rms[40];
  });
  await page.fill("#drop-limit", limit.toFixed(3));
  const [, n, , now, then] = (await page.textContent("#drop-reading")).match(
    /^(\d+) of (\d+) tracks go · ([\d.]+) px now, ([\d.]+) px without them/,
  );
  assert.ok(Number(n) >= 30 && Number(then) < Number(now));
  await page.click("#drop-worst");
  await page.waitForFunction(() => document.querySelectorAll(".kept").length === 2, null, { timeout: 120_000 });
  await page.waitForFunction(
    (k) => globalThis.fennik.model.state.deleted.length === k && globalThis.fennik.model.again.length > 0,
    Number(n),
  );
  const [rms, back] = await page.evaluate(() => {
    const { points, deleted } = globalThis.fennik.model;
    return [
      Math.sqrt(points.reduce((s, p) => s + p.rms ** 2 * p.views, 0) / points.reduce((s, p) => s + p.views, 0)),
      points.filter((p) => deleted.has(p.id)).length,
    ];
  });
  // The mask that was drawn meanwhile takes good points out as well.
  assert.ok(rms < 1.02 * Number(now) && back === 0, `${rms} after ${now}, ${back} of the dropped are used`);
  assert.match(await page.textContent("#drop"), /Take back \d+ deleted that agree/);
});

test("two solves are held against each other by their focal length, and the path follows the playhead", async () => {
  assert.ok(await page.locator("#focal-curve").isHidden(), "a fixed lens by itself needs no curve");
  await page.locator('[data-act="compare"]').first().click();
  await page.waitForSelector("#focal-curve:not([hidden])");
  assert.ok((await inked("focal-over-time")) > 300);
  await page.locator('[data-act="compare"]').first().click();
  await page.waitForSelector("#focal-curve", { state: "hidden" });
  const path = () => page.evaluate(() => /** @type {any} */ (document.getElementById("path-top")).toDataURL());
  await showFrame(page, 20);
  const early = await path();
  await showFrame(page, 200);
  assert.notEqual(await path(), early, "the camera of the frame is drawn on its path");
  await showFrame(page, 100);
});

test("the camera's path is drawn as soon as the station is opened", async () => {
  const fresh = await openPage(browser, `${server.address}shots/2`);
  await fresh.waitForFunction(() => globalThis.fennik?.model.state && globalThis.fennik.model.cameras.length);
  await openStation(fresh, "solve");
  await fresh.waitForFunction(
    () => {
      const c = document.getElementById("path-top"),
        d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
      let n = 0;
      for (let k = 3; k < d.length; k += 4) if (d[k]) n++;
      return n > 150;
    },
    null,
    { timeout: 5000 },
  );
  await fresh.close();
});

test("every reason leads to what it speaks of, and the path and the firmness are drawn", async () => {
  const link = page.locator("[data-reason]", { hasText: "move on their own" });
  await link.click();
  const ids = await selected();
  assert.ok(
    ids.length > 20 &&
      (await page.evaluate(
        (list) => list.every((id) => globalThis.fennik.model.outliers.get(id)?.reason === "independent-motion"),
        ids,
      )),
  );
  await page.locator("[data-reason]", { hasText: "every frame is held" }).click();
  const [frame, slips] = await page.evaluate(() => [
    globalThis.fennik.model.frame,
    globalThis.fennik.model.cameras.map((c) => c.slip),
  ]);
  assert.equal(slips[frame], Math.max(...slips));
  assert.ok((await inked("path-top")) > 150 && (await inked("path-side")) > 150);
  await page.keyboard.press("v");
  await page.waitForFunction(() => globalThis.fennik.views[1].scene.frame?.kind === "top");
  const bare = await inked("plate-2");
  await page.check("#view-2 [name=show-firm]");
  await page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));
  assert.ok((await inked("plate-2")) > bare + 1000, "places are drawn with how far they may be off");
  await page.keyboard.press("v");
  await page.keyboard.press("v");
});

test("a sensor completes a focal length in mm", async () => {
  await page.fill('[name="focal"]', "24 mm");
  await saved(() => page.selectOption("#sensor", "23.5"));
  assert.equal(await page.inputValue('[name="focal"]'), "24 mm of 23.5 mm");
  assert.match(await page.textContent("#steps .quiet"), /solve settings/);
});

test("what stands over the picture and in the lanes follows the station, and can be switched for each", async () => {
  await showFrame(page, 100);
  await openStation(page, "track");
  const at = await page.evaluate(() => {
    const { model } = globalThis.fennik;
    const t = model.tracks.find((k) => !model.deleted.has(k.id) && k.first < 95 && k.first + k.xy.length / 2 > 105);
    return [t.xy[2 * (100 - t.first)], t.xy[2 * (100 - t.first) + 1]];
  });
  const drawn = () => page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));
  const look = async (station) => {
    await openStation(page, station);
    await drawn();
    return {
      mark: await colourAt(page, at, 3),
      lanes: await page.evaluate(() => document.getElementById("lanes").toDataURL()),
    };
  };
  const [track, deliver] = [await look("track"), await look("deliver")];
  assert.ok(distance(track.mark, deliver.mark) > 4, "the mark is there at Track and not at Deliver");
  assert.notEqual(track.lanes, deliver.lanes);
  assert.ok(!(await page.isChecked("#show-tracks")));
  await page.check("#show-tracks");
  await drawn();
  assert.ok(distance(await colourAt(page, at, 3), track.mark) < 3, "it can be had there too");
  assert.ok(distance((await look("inserts")).mark, track.mark) > 4, "and not elsewhere for that");
  assert.ok(distance((await look("deliver")).mark, track.mark) < 3, "it stays switched on there");
  await page.uncheck("#show-tracks");
});
