// The datum, laid in each of its ways: as it is proposed, by points, by the picture, by values; and the surfaces.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import {
  edited,
  freshFolder,
  openBrowser,
  openPage,
  openStation,
  showFrame,
  startServer,
  stateOf,
  unfold,
} from "../support.mjs";

const folder = freshFolder();
let server, browser, page;

before(async () => {
  server = await startServer(folder.path);
  browser = await openBrowser();
  page = await openPage(browser, `${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await openStation(page, "datum");
});

after(async () => {
  await browser?.close();
  await server?.stop();
  folder.remove();
});

const state = () => stateOf(page);

/** Does something and waits for the revision that comes of it. */
const changed = (act) => edited(page, act);

const press = (act) => changed(() => page.click(`[data-act="${act}"]`));
const undo = () => changed(() => page.keyboard.press("Control+z"));

/** Where a place of the world is seen on the first view, px of the page. */
const onPage = (place) =>
  page.evaluate((p) => {
    const { stage } = globalThis.fennik,
      box = stage.canvas.getBoundingClientRect(),
      at = stage.worldToStage(p);
    return at && [at[0] + box.left, at[1] + box.top];
  }, place);

async function drag(from, to) {
  await page.mouse.move(...from);
  await page.mouse.down();
  await page.mouse.move((from[0] + to[0]) / 2, (from[1] + to[1]) / 2, { steps: 3 });
  await page.mouse.move(...to, { steps: 3 });
  await page.mouse.up();
}

/** The camera's turn on the frame that is shown, rows. */
const turn = () => page.evaluate(() => globalThis.fennik.model.camera().r);
/** The angle between two turns, degrees. */
const apart = (a, b) => {
  const trace = a.reduce((s, row, i) => s + row.reduce((t, v, k) => t + v * b[i][k], 0), 0);
  return (Math.acos(Math.min(1, (trace - 1) / 2)) * 180) / Math.PI;
};
/** How many pixels of a box of the page are of a colour like the one of the grid, or of what is drawn by hand. */
const lichen = (box) => coloured(box, "lichen");
const sand = (box) => coloured(box, "sand");
const coloured = (box, colour) =>
  page.evaluate(
    ([{ x, y, w, h }, colour]) => {
      const { canvas } = globalThis.fennik.stage,
        b = canvas.getBoundingClientRect(),
        k = globalThis.devicePixelRatio;
      const data = canvas.getContext("2d").getImageData((x - b.left) * k, (y - b.top) * k, w * k, h * k).data;
      let n = 0;
      for (let i = 0; i < data.length; i += 4)
        if (
          colour === "lichen"
            ? data[i + 1] > 150 && data[i + 1] > data[i] + 12 && data[i + 1] > data[i + 2] + 12
            : data[i] > 190 && data[i] > data[i + 2] + 60
        )
          n++;
      return n;
    },
    [box, colour],
  );

/** A place of a wall in sight where a click is for the wall: no track is near. Null where there is none. */
const onWall = (id) =>
  page.evaluate((id) => {
    const { model, stage } = globalThis.fennik,
      tracks = stage.tools.select.marks(),
      wall = model.state.surfaces.find((s) => s.id === id);
    const middle = [0, 1, 2].map((i) => wall.outline.reduce((s, p) => s + p[i], 0) / wall.outline.length);
    for (const corner of wall.outline)
      for (const k of [0, 0.15, 0.3, 0.45]) {
        const place = middle.map((m, i) => m + k * (corner[i] - m)),
          at = stage.worldToStage(place);
        if (!at || stage.surfaces.surfaceAt(at)?.id !== id) continue;
        if (tracks.every((t) => Math.hypot(t.x - at[0], t.y - at[1]) > 12)) return place;
      }
    return null;
  }, id);

test("with nothing laid a datum is proposed, drawn dashed, and one click takes it with its walls", async () => {
  await showFrame(page, 100);
  await unfold(page, "by-values");
  await changed(() => page.click('[data-act="reset-datum"][data-part="all"]'));
  assert.equal((await state()).floor, null);
  await page.waitForFunction(() => globalThis.fennik.model.proposal);
  assert.match(await page.textContent("#found"), /floor.*windows.*origin.*heading.*scale.*a guess/s);
  assert.equal((await state()).floor, null, "nothing is laid without the person");
  await page.uncheck("#show-inserts");
  const middle = await onPage(await page.evaluate(() => globalThis.fennik.model.proposal.origin));
  const box = { x: middle[0] - 120, y: middle[1] - 20, w: 240, h: 80 };
  assert.ok((await lichen(box)) > 40, "its grid is seen on the ground");
  assert.match(await page.textContent("#floorless"), /take the one that is proposed/);
  await changed(() => page.click("#take-datum"));
  assert.equal(await page.$("#floorless"), null, "what is placed now stands upright");
  const { floor, surfaces } = await state();
  assert.ok(floor.windows > 100 && floor.normal_deviation_deg < 0.3, JSON.stringify({ ...floor, points: 0 }));
  assert.ok(surfaces.length > 2 && surfaces.some((s) => s.name === "wall A" && s.kind === "wall"));
  assert.match(await page.textContent("#datum-verdict"), /^good: .*px of the grid/);
  assert.match(
    await page.textContent('.station[data-station="datum"] summary .reading'),
    /^good: the floor's texture stays within .* scale a guess$/s,
  );
});

test("lines drawn along uprights turn a datum upright that leans", async () => {
  const before = await turn();
  await unfold(page, "by-values");
  await page.fill("#turn-x", "2");
  await page.fill("#turn-z", "-1.5");
  // Where uprights on the ground are seen before it leans.
  const uprights = [];
  for (const [x, y] of [
    [460, 560],
    [800, 520],
    [1160, 560],
  ]) {
    const foot = await page.evaluate(
      ([px, py]) => {
        const { stage } = globalThis.fennik,
          b = stage.canvas.getBoundingClientRect();
        return stage.onPlane([px - b.left, py - b.top], [0, 0, 0], [0, 1, 0]);
      },
      [x, y],
    );
    uprights.push([await onPage(foot), await onPage([foot[0], 4, foot[2]])]);
  }
  await press("nudge");
  assert.ok(apart(before, await turn()) > 2);
  await unfold(page, "by-picture");
  await page.click('[data-act="line"][data-role="upright"]');
  for (const [from, to] of uprights) await changed(() => drag(from, to));
  await page.keyboard.press("Escape");
  assert.match(await page.textContent("#by-picture"), new RegExp(`Upright ${uprights.length}`));
  assert.match(await page.textContent("#datum-verdict"), /^weak: .*(lean|slides)/, "it says that it leans");
  await press("upright-by-lines");
  assert.ok(apart(before, await turn()) < 0.6, `${apart(before, await turn())} deg off`);
});

test("a line moves onto the edge that it is drawn along, and with Alt it stays", async () => {
  await showFrame(page, 40);
  await unfold(page, "by-picture");
  // The corner of a shed, as the film's own scene has it, px of the picture.
  const corner = [
    [299.6, 360],
    [289.6, 266],
  ];
  const place = (p) =>
    page.evaluate(([x, y]) => {
      const { stage } = globalThis.fennik,
        box = stage.canvas.getBoundingClientRect(),
        at = stage.toStage([x, y]);
      return [at[0] + box.left, at[1] + box.top];
    }, p);
  const aside = async (off) => Promise.all(corner.map(([x, y], i) => place([x + off[i], y])));
  const across = (p) => {
    const t = (p[1] - corner[0][1]) / (corner[1][1] - corner[0][1]);
    return p[0] - (corner[0][0] + t * (corner[1][0] - corner[0][0]));
  };
  await page.click('[data-act="line"][data-role="upright"]');
  const [from, to] = await aside([1.6, -1.6]);
  await changed(() => drag(from, to));
  let line = (await state()).lines.at(-1);
  assert.equal(line.at_edge, true);
  for (const end of [line.from, line.to]) assert.ok(Math.abs(across(end)) < 0.6, `${across(end)} px off`);
  await page.keyboard.down("Alt");
  await changed(() => drag(from, to));
  await page.keyboard.up("Alt");
  line = (await state()).lines.at(-1);
  assert.ok(!line.at_edge);
  assert.ok(across(line.from) > 0.9 && across(line.to) < -0.9, `${across(line.from)} and ${across(line.to)} px`);
  await page.keyboard.press("Escape");
  await undo();
  await undo();
});

test("what is typed or dragged is seen on the grid at once, and done as it was seen", async () => {
  await unfold(page, "by-values");
  const centre = () =>
    page.evaluate(async () => (await import("/static/js/math/camera.js")).centre(globalThis.fennik.model.camera()));
  const before = await centre();
  const typed = { x: ["10", "1"], y: ["-20", "2"], z: ["30", "-0.5"] };
  for (const [axis, [turn, shift]] of Object.entries(typed)) {
    await page.fill(`#turn-${axis}`, turn);
    await page.fill(`#shift-${axis}`, shift);
  }
  const seen = await page.evaluate(async () => {
    const { gridAfter, turnRows } = await import("/static/js/math/datum.js"),
      { preview } = globalThis.fennik.model;
    return { rows: turnRows(preview.turn), shift: preview.shift, grid: gridAfter(preview) };
  });
  await press("nudge");
  const expected = seen.rows.map((row, i) => row.reduce((s, v, k) => s + v * before[k], seen.shift[i]));
  const after = await centre();
  assert.ok(Math.hypot(...after.map((v, i) => v - expected[i])) < 1e-6, `${after}, not ${expected}`);
  assert.equal(await page.evaluate(() => globalThis.fennik.model.preview), null);
  await undo();
  const at = await onPage(seen.grid.origin);
  assert.ok(at, "the grid that was seen lies in the picture's world");
  await page.click('[data-act="turn"]');
  const turned = await turn();
  await changed(() => drag([700, 300], [740, 300]));
  assert.ok(Math.abs(apart(turned, await turn()) - 2) < 0.05, `${apart(turned, await turn())} deg for 40 px`);
  await page.keyboard.press("Escape");
  await undo();
});

test("the grid is seen on the ground in the picture, also where its origin lies under the camera", async () => {
  await unfold(page, "by-values");
  const [x, , z] = await page.evaluate(async () =>
    (await import("/static/js/math/camera.js")).centre(globalThis.fennik.model.camera()),
  );
  await page.fill("#shift-x", String(-x));
  await page.fill("#shift-z", String(-z));
  await press("nudge");
  // The lower half of the stage's own pixels, with the grid and without it.
  const pixels = () =>
    page.evaluate(async () => {
      await new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r)));
      const { canvas } = globalThis.fennik.stage,
        top = canvas.height >> 1;
      return [...canvas.getContext("2d").getImageData(0, top, canvas.width, canvas.height - top).data];
    });
  const shown = await pixels();
  await page.uncheck("#show-grid");
  const without = await pixels();
  await page.check("#show-grid");
  const differ = shown.filter((v, i) => i % 4 === 1 && Math.abs(v - without[i]) > 15).length;
  await undo();
  assert.ok(differ > 600, `the grid is seen on ${differ} pixels`);
});

test("what is placed stays on the picture, or goes with the numbers, as one chooses", async () => {
  const foot = async () => (await state()).inserts[0].placement.anchor.foot;
  const before = await foot();
  await unfold(page, "by-values");
  await page.selectOption("#follow", "numbers");
  await page.fill("#shift-x", "1");
  await press("nudge");
  assert.deepEqual(await foot(), before, "its numbers stay");
  await undo();
  await page.selectOption("#follow", "picture");
  await page.fill("#shift-x", "1");
  await press("nudge");
  const moved = await foot();
  assert.ok(Math.abs(moved[0] - before[0] - 1) < 1e-9, `${before} and then ${moved}`);
  await undo();
});

test("several distances are averaged and their disagreement is told", async () => {
  await unfold(page, "by-points");
  const pair = async (n) => {
    await page.evaluate((k) => {
      const { model } = globalThis.fennik,
        floor = new Set(model.state.floor.points),
        ids = model.points.filter((p) => floor.has(p.id)).map((p) => p.id);
      model.selected = new Set([ids[k], ids[k + 40]]);
      model.select();
    }, n);
  };
  await pair(3);
  await page.fill("#distance", "200 cm");
  await press("scale");
  assert.match(await page.textContent('.station[data-station="datum"]'), /from one distance of 2\.00 m/);
  await pair(20);
  await page.fill("#distance", "9 ft");
  await press("scale-more");
  assert.match(await page.textContent('.station[data-station="datum"]'), /mean of 2 distances.*disagree by \d/s);
  await undo();
  await undo();
});

test("a surface is chosen on the stage, renamed, squared and moved, and placing snaps to it", async () => {
  const walls = (await state()).surfaces.filter((s) => s.kind === "wall");
  let wall, place;
  for (wall of walls) {
    place = await onWall(wall.id);
    if (place) break;
  }
  assert.ok(place, "a wall is in sight");
  const same = async () => (await state()).surfaces.find((s) => s.id === wall.id);
  await page.mouse.click(...(await onPage(place)));
  await page.waitForSelector(".surface-form");
  await page.fill('.surface-form [name="name"]', "shed front");
  await changed(() => page.press('.surface-form [name="name"]', "Enter"));
  await page.fill("#push", "25 cm");
  await press("push-surface");
  const pushed = await same();
  const by = [0, 1, 2].reduce((s, i) => s + (pushed.point[i] - wall.point[i]) * wall.normal[i], 0);
  assert.ok(Math.abs(by - 0.25) < 1e-9 && pushed.name === "shed front", `${by} ${pushed.name}`);
  await page.selectOption("#against", "floor");
  await press("square-surface");
  assert.ok(Math.abs((await same()).normal[1]) < 1e-9);
  await undo();
  await undo();
  await page.keyboard.press("Escape");
  await openStation(page, "inserts");
  await page.click('[data-act="place"][data-kind="title"][data-stance=""]');
  const at = await onPage(place);
  // Two moves at once: where the pointer comes to rest counts.
  await page.mouse.move(at[0], at[1] + 150);
  await page.mouse.move(...at);
  await page.waitForFunction(() =>
    /^shed front · tilt (8[5-9]|9\d)\.\d deg · fit/.test(document.getElementById("tile-reading").textContent),
  );
  // Fault: a title clicked on a wall stood out from it like a shelf.
  const before = (await state()).inserts.length;
  await page.mouse.click(...at);
  await page.waitForFunction((n) => globalThis.fennik.model.state.inserts.length > n, before);
  const title = (await state()).inserts.at(-1);
  assert.equal(title.placement.stance, "lying", "it lies against the wall");
  await page.keyboard.press("Tab");
  await page.keyboard.press("Escape");
  await undo();
  await openStation(page, "datum");
});

test("rods and measures stay on the picture when the world is laid anew", async () => {
  const wall = (await state()).surfaces.find((s) => s.name === "shed front");
  const at = await onPage(await onWall(wall.id));
  await unfold(page, "by-picture");
  await page.fill("#rod", "1 m");
  await page.click('[data-act="rod"]');
  await page.mouse.move(at[0], at[1] + 5);
  await page.mouse.click(...at);
  await page.keyboard.press("Escape");
  const rod = () => page.evaluate(() => globalThis.fennik.model.rods[0]);
  const { foot } = await rod();
  const off = [0, 1, 2].reduce((s, i) => s + (foot[i] - wall.point[i]) * wall.normal[i], 0);
  assert.ok(Math.abs(off) < 1e-6 && foot[1] > 0.3, `it stands on the wall, not on the floor under it: ${foot}`);
  await page.keyboard.press("d");
  await page.mouse.click(...at);
  await page.mouse.click(at[0], at[1] + 20);
  await page.waitForFunction(() => globalThis.fennik.model.measures.length === 1);
  await page.keyboard.press("Escape");
  const measure = () => page.evaluate(() => globalThis.fennik.model.measures[0]);
  const before = await measure();
  await unfold(page, "by-values");
  await page.fill("#shift-x", "1");
  await press("nudge");
  assert.ok(Math.abs((await rod()).foot[0] - foot[0] - 1) < 1e-6, `${foot}, then ${(await rod()).foot}`);
  await page.waitForFunction(
    (x) => Math.abs(globalThis.fennik.model.measures[0].from[0] - x - 1) < 1e-6,
    before.from[0],
  );
  assert.equal((await measure()).text, before.text);
  await undo();
  await page.keyboard.press("Escape");
  await page.evaluate(() => {
    globalThis.fennik.model.measures = [];
    globalThis.fennik.model.rods = [];
  });
});

test("points that were chosen for a floor and lie off it are crossed out", async () => {
  await unfold(page, "by-points");
  const off = await page.evaluate(() => {
    const { model, stage } = globalThis.fennik,
      floor = new Set(model.state.floor.points);
    const near = model.points.filter((p) => stage.worldToStage(p.x) && Math.hypot(...p.x) < 15 && p.spread);
    const on = near.filter((p) => floor.has(p.id)).slice(0, 30),
      high = near.filter((p) => p.x[1] > 1.2).slice(0, 4);
    model.selected = new Set([...on, ...high].map((p) => p.id));
    model.select();
    return high.map((p) => p.id);
  });
  assert.equal(off.length, 4);
  await press("floor");
  const { floor } = await state();
  assert.deepEqual([...floor.left_out].sort(), [...off].sort());
  assert.match(await page.textContent('.station[data-station="datum"]'), /, 4 left out/);
  await page.evaluate(() => {
    globalThis.fennik.model.selected.clear();
    globalThis.fennik.model.select();
  });
  const place = await page.evaluate((id) => globalThis.fennik.model.points.find((p) => p.id === id).x, off[0]);
  const [x, y] = await onPage(place);
  const crossed = async () => sand({ x: x - 6, y: y - 6, w: 12, h: 12 });
  const shown = await crossed();
  await undo();
  assert.ok(shown > (await crossed()) + 6, `${shown} pixels of the cross, then ${await crossed()}`);
});

test("a drag over the ground lays a surface, and a rod stands where one points", async () => {
  const { length } = (await state()).surfaces;
  const at = await onPage([0, 0, 0]);
  await page.click('[data-act="corners"]');
  await changed(() => drag([at[0] - 90, at[1] - 20], [at[0] + 90, at[1] + 60]));
  const laid = (await state()).surfaces;
  assert.equal(laid.length, length + 1);
  assert.ok(laid[length].outline.length === 4 && Math.abs(laid[length].normal[1]) > 0.99, JSON.stringify(laid[length]));
  await page.waitForSelector(".surface-form");
  await changed(() => page.keyboard.press("Delete"));
  await unfold(page, "by-picture");
  await page.fill("#rod", "2 m");
  await page.click('[data-act="rod"]');
  await page.mouse.move(at[0], at[1] + 10);
  await page.mouse.click(at[0], at[1] + 12);
  assert.equal(await page.evaluate(() => globalThis.fennik.model.rods[0].height), 2);
  await page.keyboard.press("Escape");
});

test("a distance is measured between two clicks, with how far it may be off", async () => {
  const at = await onPage([0, 0, 0]);
  await page.keyboard.press("d");
  await page.mouse.click(at[0] - 60, at[1] + 10);
  await page.mouse.click(at[0] + 80, at[1] + 20);
  await page.waitForFunction(() => globalThis.fennik.model.measures.length === 1);
  const [m] = await page.evaluate(() => globalThis.fennik.model.measures);
  const length = Math.hypot(...m.from.map((v, i) => v - m.to[i]));
  assert.ok(Math.abs(m.distance - length) < 1e-9 && m.distance_deviation > 0 && m.distance_deviation < 0.2 * length);
  assert.match(m.text, /^\d+\.\d{3} ±0\.\d{3} m/);
  await page.keyboard.press("Escape");
  await page.keyboard.press("Escape");
});

test("while the lock is off, grid and inserts stand as they would without the camera's move", async () => {
  await page.check("#show-inserts");
  await showFrame(page, 100);
  const place = await page.evaluate(() => globalThis.fennik.model.state.inserts[0].placement.anchor.foot);
  const before = await onPage(place);
  await page.focus("#plate");
  await page.keyboard.down("k");
  const asked = page.waitForRequest((r) => /\/picture\/180\?.*held=100/.test(r.url()));
  await page.evaluate(() => globalThis.fennik.model.go(180));
  await asked;
  assert.deepEqual(await onPage(place), before, "it stays where it stood");
  await page.keyboard.up("k");
  await page.waitForFunction(() => globalThis.fennik.model.held === null);
  const after = await onPage(place);
  assert.ok(Math.hypot(after[0] - before[0], after[1] - before[1]) > 5, "locked again it follows the camera");
});

test("three panes show the scene, and what is selected is found in each", async () => {
  await page.selectOption("#panes", "three");
  await page.selectOption("#view-2 [name=view]", "front");
  const ids = await page.evaluate(() => {
    const { model } = globalThis.fennik;
    const near = [...model.points].sort((a, b) => Math.hypot(...a.x) - Math.hypot(...b.x));
    model.selected = new Set(near.slice(0, 3).map((p) => p.id));
    model.select();
    return [...model.selected];
  });
  await page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));
  // How much of the palette's sand is seen round its mark, on which lines of surfaces may lie.
  const marked = await page.evaluate((id) => {
    const { model, views } = globalThis.fennik;
    return views.slice(1).map((v) => {
      const [x, y] = v.scene.toStage(model.points.find((p) => p.id === id).x),
        k = globalThis.devicePixelRatio;
      const { data } = v.draw2d.getImageData((x - 4) * k, (y - 4) * k, 8 * k, 8 * k);
      let n = 0;
      for (let i = 0; i < data.length; i += 4)
        if (data[i] > 180 && data[i] > data[i + 2] + 40 && data[i + 1] > data[i + 2]) n++;
      return n;
    });
  }, ids[0]);
  for (const n of marked) assert.ok(n > 12, `${n} pixels of the mark are seen`);
  await page.keyboard.press("g");
  const spots = await page.evaluate((list) => {
    const { model, views } = globalThis.fennik;
    return views
      .slice(1)
      .flatMap((v) =>
        list.map((id) => [...v.scene.toStage(model.points.find((p) => p.id === id).x), v.size().w, v.size().h]),
      );
  }, ids);
  for (const [x, y, w, h] of spots) assert.ok(x >= 0 && y >= 0 && x <= w && y <= h, `${[x, y, w, h]}`);
  await page.selectOption("#panes", "one");
});

test("one press on an untouched clip tracks, solves and proposes, with one progress", async () => {
  await page.goto(`${server.address}shots/1`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await openStation(page, "footage");
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  await page.fill('[name="last"]', "79");
  await page.click('.station[data-station="footage"] button:has-text("Trim")');
  await page.waitForFunction(() => globalThis.fennik.model.state.frames === 80);
  await openStation(page, "track");
  const shares = [];
  await page.exposeFunction("progressed", (share) => shares.push(share));
  await page.evaluate(() =>
    setInterval(() => {
      const bar = document.querySelector('.job[data-kind="analyse"] progress');
      if (bar) globalThis.progressed(bar.value / bar.max);
    }, 40),
  );
  await page.click("#start-analyse");
  await page.waitForFunction(() => globalThis.fennik.model.proposal, null, { timeout: 240_000 });
  assert.ok(new Set(shares).size > 3, `it moves: ${[...new Set(shares)]}`);
  assert.ok(
    shares.every((s, i) => i === 0 || s >= shares[i - 1]),
    `it never goes back: ${shares}`,
  );
  const { floor, tracks, solve } = await state();
  assert.ok(tracks !== null && solve !== null && floor === null, "nothing is laid without the person");
  await openStation(page, "datum");
  await page.waitForSelector("#found");
  await changed(() => page.click("#take-datum"));
  assert.ok((await state()).floor.windows > 20);
});
