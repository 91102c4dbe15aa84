// A newcomer's way: open the untouched demo shot, track, solve, floor, title, look, deliver.
import assert from "node:assert/strict";
import { execFileSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { join } from "node:path";
import { after, before, test } from "node:test";
import {
  colourAt,
  distance,
  endAll,
  openPage,
  openStation,
  showFrame,
  startAll,
  trueGround,
  trueProject,
} from "../support.mjs";

const truth = JSON.parse(readFileSync(new URL("../../crates/demo/assets/varrick-quay.truth.json", import.meta.url)));
const LAST = 89;
let folder, server, browser, page;

before(async () => {
  ({ folder, server, browser, page } = await startAll());
});
after(() => endAll({ browser, server, folder }));

async function job(start, kind) {
  await page.click(start);
  await page.waitForSelector(`.job[data-kind="${kind}"] progress`);
  await page.waitForSelector(`.job[data-kind="${kind}"]`, { state: "detached", timeout: 240_000 });
}

test("the list shows one finished shot and one untouched", async () => {
  assert.match(await page.textContent('.shot-row[data-shot="2"]'), /finished.*good · 1 insert/s);
  assert.match(await page.textContent('.shot-row[data-shot="1"]'), /untouched.*untouched/s);
});

test("a trim is typed and kept", async () => {
  await page.click('.shot-row[data-shot="1"] a');
  await openStation(page, "footage");
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  await page.fill('[name="last"]', String(LAST));
  await page.click('.station[data-station="footage"] button:has-text("Trim")');
  await page.waitForFunction((n) => globalThis.fennik.model.state.frames === n, LAST + 1);
});

test("looking first shows where points would land, at once while the values move", async () => {
  await openStation(page, "track");
  await showFrame(page, 10);
  await page.click("#look-first");
  await page.waitForFunction(() =>
    /^\d+ points · \d+ % of the frame covered/.test(document.getElementById("look-reading").textContent),
  );
  const count = async () => Number((await page.textContent("#look-reading")).split(" ")[0]);
  const wide = await count();
  const thins = async (name, value) => {
    await page.fill(`[name="${name}"]`, value);
    await page.waitForFunction(
      (n) => Number(document.getElementById("look-reading").textContent.split(" ")[0]) < 0.6 * n,
      wide,
    );
  };
  await thins("spacing", "70");
  await page.fill('[name="spacing"]', "17");
  await thins("density", "200");
  // The answer to the spacing draws the form anew; what is typed from here on comes after it.
  await page.waitForFunction(() => document.querySelector('[name="spacing"]').defaultValue === "17");
  await page.locator('[name="density"]').pressSequentially("0");
  await page.fill('[name="density"]', "1600");
  // The route is drawn anew in the middle of it, as when a job moves on; what is being typed stays.
  await page.evaluate(async () =>
    globalThis.fennik.model.dispatchEvent(
      new CustomEvent("parts", {
        detail: { html: await (await fetch(globalThis.fennik.model.url("route"))).text(), form: null },
      }),
    ),
  );
  assert.equal(await page.inputValue('[name="density"]'), "1600");
  await page.waitForFunction(
    (n) => Number(document.getElementById("look-reading").textContent.split(" ")[0]) > 1.5 * n,
    wide,
  );
  const spot = await page.evaluate(() => globalThis.fennik.model.look.points[40]);
  const marked = await colourAt(page, spot, 4);
  await page.click("#look-first");
  await page.waitForFunction(() => globalThis.fennik.model.look === null);
  await page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));
  assert.ok(distance(marked, await colourAt(page, spot, 4)) > 3, "a mark is drawn there");
  await page.fill('[name="density"]', "576");
  await page.fill('[name="spacing"]', "28");
  await page.press('[name="spacing"]', "Tab");
});

test("tracking shows its progress and ends with tracks on the stage", async () => {
  await openStation(page, "track");
  await job("#start-track", "track");
  assert.match(await page.textContent('.station[data-station="track"] summary'), /\d+ tracks/);
  assert.ok(await page.isDisabled("#worst"), "there is no worst frame before a solve");
  await showFrame(page, 20);
});

test("a track is selected by a click, more by shift and by a box, deleted and brought back", async () => {
  const at = await page.evaluate(() => {
    const { model, stage } = globalThis.fennik;
    const box = document.getElementById("plate").getBoundingClientRect();
    const seen = model.tracks.filter((t) => t.first <= 20 && t.first + t.xy.length / 2 > 20).slice(100, 102);
    return seen
      .map((t) => stage.toStage([t.xy[2 * (20 - t.first)], t.xy[2 * (20 - t.first) + 1]]))
      .map(([x, y]) => [x + box.left, y + box.top]);
  });
  await page.mouse.click(...at[0]);
  assert.equal(await page.textContent("#selected-count"), "1");
  await page.keyboard.down("Shift");
  await page.mouse.click(...at[1]);
  await page.keyboard.up("Shift");
  assert.equal(await page.textContent("#selected-count"), "2");
  await page.mouse.move(500, 300);
  await page.mouse.down();
  await page.mouse.move(800, 500, { steps: 4 });
  await page.mouse.up();
  const inBox = Number(await page.textContent("#selected-count"));
  assert.ok(inBox > 10, `${inBox} in the box`);
  await page.click('[data-act="delete-tracks"]');
  await page.waitForFunction((n) => globalThis.fennik.model.deleted.size === n, inBox);
  await page.click("#undo");
  await page.waitForFunction(() => globalThis.fennik.model.deleted.size === 0);
});

test("the solve ends with a good camera and a reading", async () => {
  await openStation(page, "solve");
  await job("#start-solve", "solve");
  assert.match(await page.textContent('.station[data-station="solve"] summary'), /0\.\d\d px · 90\/90 · good/);
  const regions = (await page.locator(".regions td").allTextContents()).filter((t) => t !== "–").map(Number);
  assert.ok(regions.length >= 7 && regions.every((v) => v > 0 && v < 1), `error by part of the frame: ${regions}`);
  await page.click("#worst");
  const worst = await page.evaluate(() => [globalThis.fennik.model.frame, globalThis.fennik.model.worst()]);
  assert.equal(worst[0], worst[1]);
});

test("a filter tells how many tracks it takes before it takes them", async () => {
  await openStation(page, "track");
  await page.selectOption("#filter-kind", "outliers");
  const outliers = Number((await page.textContent("#filter-select")).match(/\d+/)[0]);
  await page.selectOption("#filter-kind", "short");
  await page.fill("#filter-limit", "12");
  const short = Number((await page.textContent("#filter-select")).match(/\d+/)[0]);
  assert.ok(outliers > 0 && short > 0, `${outliers} outliers, ${short} short`);
  await page.click("#filter-select");
  assert.equal(await page.textContent("#selected-count"), String(short));
  await page.keyboard.press("Escape");
  assert.equal(await page.textContent("#selected-count"), "0");
});

test("a second solve is kept beside the first, compared, named, and either is put to use", async () => {
  await openStation(page, "solve");
  const first = await page.evaluate(() => globalThis.fennik.model.state.solve);
  await page.fill('[name="focal"]', "860");
  await page.press('[name="focal"]', "Tab");
  await page.waitForSelector('.station[data-station="solve"] >> text=settings changed');
  await job("#start-solve", "solve");
  await page.waitForFunction((s) => globalThis.fennik.model.state.solve !== s, first);
  assert.equal(await page.locator(".kept").count(), 2);
  await page.click(`.kept[data-solve="${first}"] [data-act="compare"]`);
  await page.waitForFunction(() =>
    /^lower error on \d+ of 90 frames/.test(document.getElementById("compare-reading").textContent),
  );
  await page.fill(`.kept[data-solve="${first}"] input`, "found by itself");
  await page.press(`.kept[data-solve="${first}"] input`, "Tab");
  await page.waitForFunction(
    (s) => document.querySelector(`.kept[data-solve="${s}"] input`)?.defaultValue === "found by itself",
    first,
  );
  await page.click(`.kept[data-solve="${first}"] button:has-text("Use")`);
  await page.waitForFunction((s) => globalThis.fennik.model.state.solve === s, first);
  await page.fill('[name="focal"]', "");
  await page.press('[name="focal"]', "Tab");
  await page.waitForFunction(
    () => !document.querySelector('.station[data-station="solve"]').textContent.includes("settings changed"),
  );
});

test("the proposed datum is taken with one click, its floor is level and its walls come along", async () => {
  await openStation(page, "datum");
  await page.click("#take-datum");
  await page.waitForFunction(() => globalThis.fennik.model.state.floor);
  const floor = await page.evaluate(() => globalThis.fennik.model.state.floor);
  assert.ok(
    floor.fit_px < 1 && floor.level_deg < 2 && floor.points.length > 100,
    JSON.stringify({ ...floor, points: floor.points.length }),
  );
  assert.match(await page.textContent("#datum-verdict"), /^good: the floor's texture stays within 0\.\d+ px/);
  assert.ok((await page.evaluate(() => globalThis.fennik.model.state.surfaces.length)) > 0);
});

const spot = [560, 520];
let foot;

test("a title is placed under the pointer and changes the picture there", async () => {
  await showFrame(page, 30);
  for (const box of ["#show-tracks", "#show-grid"]) await page.uncheck(box);
  await openStation(page, "inserts");
  await page.click('[data-act="place"][data-kind="title"][data-stance=""]');
  const at = await page.evaluate((p) => {
    const box = document.getElementById("plate").getBoundingClientRect();
    const [x, y] = globalThis.fennik.stage.toStage(p);
    return [x + box.left, y + box.top];
  }, spot);
  await page.mouse.move(at[0] - 3, at[1]);
  await page.mouse.move(...at);
  await page.waitForFunction(() =>
    /^floor · tilt 0\.0 deg · fit \d/.test(document.getElementById("tile-reading").textContent),
  );
  await page.mouse.click(...at);
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.length === 1);
  foot = await page.evaluate(() => globalThis.fennik.model.state.inserts[0].placement.anchor.foot);
  assert.ok(Math.abs(foot[1]) < 1e-9, "on the floor");
});

test("the title's foot stays on its spot of the true ground over all frames", async () => {
  const ground = trueGround(truth.frames[30], spot);
  const misses = await page.evaluate(
    ({ foot, wanted }) => {
      const { model, stage } = globalThis.fennik;
      const was = model.frame;
      const out = wanted.map(([x, y], f) => {
        model.frame = f;
        const [u, v] = stage.toPicture(stage.worldToStage(foot));
        return Math.hypot(u - x, v - y);
      });
      model.frame = was;
      return out;
    },
    { foot, wanted: truth.frames.slice(0, LAST + 1).map((c) => trueProject(c, ground)) },
  );
  assert.ok(Math.max(...misses) < 1, `slips by up to ${Math.max(...misses)} px`);
});

test("the letters show where they should stand, on several frames, and nowhere else", async () => {
  const top = await page.evaluate(() => {
    const i = globalThis.fennik.model.state.inserts[0];
    return [i.placement.anchor.foot, i.content.height_m];
  });
  for (const frame of [5, 30, 80]) {
    await page.check("#show-inserts");
    await showFrame(page, frame);
    const area = await page.evaluate(([f, h]) => {
      const { stage } = globalThis.fennik;
      return stage.toPicture(stage.worldToStage([f[0], f[1] + 0.5 * h, f[2]]));
    }, top);
    const grid = [-36, -24, -12, 0, 12, 24, 36].flatMap((dx) => [-6, 0, 6].map((dy) => [area[0] + dx, area[1] + dy]));
    const away = [
      [100, 650],
      [1150, 640],
      [640, 60],
    ];
    const withTitle = [],
      without = [];
    for (const p of [...grid, ...away]) withTitle.push(await colourAt(page, p, 1));
    await page.uncheck("#show-inserts");
    await showFrame(page, frame === 5 ? 6 : 5);
    await showFrame(page, frame);
    for (const p of [...grid, ...away]) without.push(await colourAt(page, p, 1));
    const changed = grid.filter((_, i) => distance(withTitle[i], without[i]) > 30).length;
    assert.ok(changed >= 6, `frame ${frame}: ${changed} of ${grid.length} spots changed`);
    for (let i = grid.length; i < withTitle.length; i++)
      assert.ok(
        distance(withTitle[i], without[i]) < 12,
        `frame ${frame}: the plate changed at ${away[i - grid.length]}`,
      );
  }
  await page.check("#show-inserts");
});

test("the title is dragged on the ground, typed at, and undone", async () => {
  await showFrame(page, 30);
  const at = await page.evaluate(() => {
    const { model, stage } = globalThis.fennik;
    const box = document.getElementById("plate").getBoundingClientRect();
    const [x, y] = stage.worldToStage(model.state.inserts[0].placement.anchor.foot);
    return [x + box.left, y + box.top];
  });
  await page.mouse.move(...at);
  await page.mouse.down();
  await page.mouse.move(at[0] + 60, at[1] + 20, { steps: 6 });
  await page.mouse.up();
  await page.waitForFunction((f) => globalThis.fennik.model.state.inserts[0].placement.anchor.foot[0] !== f[0], foot);
  const moved = await page.evaluate(() => globalThis.fennik.model.state.inserts[0].placement.anchor.foot);
  assert.ok(Math.abs(moved[1]) < 1e-9, "still on the floor");
  await page.fill(".insert-form textarea", "QUAY");
  await page.press(".insert-form textarea", "Tab");
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts[0].content.text === "QUAY");
  await page.click("#undo");
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts[0].content.text === "VARRICK");
  await page.click("#undo");
  await page.waitForFunction((f) => globalThis.fennik.model.state.inserts[0].placement.anchor.foot[0] === f[0], foot);
});

test("another window's older state is refused and told", async () => {
  const other = await openPage(browser, page.url());
  await other.waitForFunction(() => globalThis.fennik?.model.state?.inserts.length === 1);
  await openStation(page, "light");
  await page.fill('[name="sun"]', "1.1");
  await page.press('[name="sun"]', "Tab");
  await page.waitForFunction(
    () =>
      document.querySelector('[name="sun"]').value === "1.1" && document.querySelector("#undo").title.includes("light"),
  );
  await openStation(other, "light");
  await other.fill('[name="ambient"]', "0.9");
  await other.press('[name="ambient"]', "Tab");
  await other.waitForSelector("#notes >> text=changed in another window");
  await other.waitForFunction(() => document.querySelector('[name="sun"]').value === "1.1");
  assert.notEqual(await other.inputValue('[name="ambient"]'), "0.9");
  await other.close();
});

test("the clip plays at its rate once it is buffered", async () => {
  await page.waitForFunction((n) => globalThis.fennik.frames.blobs.size === n, LAST + 1, { timeout: 120_000 });
  await showFrame(page, 0);
  await page.click("#play");
  await page.waitForFunction((n) => globalThis.fennik.model.frame === n, LAST, { timeout: 90_000 });
  assert.match(await page.textContent("#play-reading"), /fps/);
});

test("the video, the camera file and the scene are delivered whole", async () => {
  await openStation(page, "deliver");
  await job("#start-deliver", "deliver");
  const fetched = async (selector, name) => {
    const [download] = await Promise.all([page.waitForEvent("download"), page.click(selector)]);
    const path = join(folder.path, name);
    await download.saveAs(path);
    return path;
  };
  const video = await fetched("#get-video", "out.mp4");
  const probed = JSON.parse(
    execFileSync("ffprobe", ["-v", "error", "-count_frames", "-show_streams", "-of", "json", video], {
      encoding: "utf8",
    }),
  );
  const picture = probed.streams.find((s) => s.codec_type === "video");
  assert.deepEqual(
    [picture.codec_name, picture.width, picture.height, picture.nb_read_frames, picture.r_frame_rate],
    ["h264", 1280, 720, String(LAST + 1), "25/1"],
  );
  assert.ok(
    probed.streams.some((s) => s.codec_type === "audio"),
    "the clip's own sound",
  );

  const camera = JSON.parse(readFileSync(await fetched("#get-camera", "camera.json")));
  assert.deepEqual(
    [camera.format, camera.version, camera.frames.length, camera.solve.motion],
    ["fennik-camera", 1, LAST + 1, "free"],
  );
  assert.ok(Math.abs(camera.frames[0].focal_length_px / truth.frames[0].focal_length_px - 1) < 0.01);

  const scene = readFileSync(await fetched("#get-scene", "scene.glb"));
  const report = await createRequire(import.meta.url)("gltf-validator").validateBytes(new Uint8Array(scene));
  assert.equal(report.issues.numErrors, 0, JSON.stringify(report.issues.messages.slice(0, 5)));
  // Points, the title, the floor, and each surface.
  const meshes = 3 + (await page.evaluate(() => globalThis.fennik.model.state.surfaces.length));
  assert.ok(report.info.animationCount === 1 && report.info.drawCallCount === meshes, JSON.stringify(report.info));
});

test("a video says when the shot has moved on, and only then", async () => {
  const says = (text) => page.waitForSelector(`#video-state:has-text("${text}")`);
  await says("shows the shot as it is");
  await page.evaluate(() => {
    const { model } = globalThis.fennik,
      [insert] = model.state.inserts;
    return model.edit({ edit: "change-insert", insert: { ...insert, name: "another name" } });
  });
  await says("shows the shot as it is");
  await page.evaluate(() => {
    const { model } = globalThis.fennik,
      [insert] = model.state.inserts;
    return model.edit({ edit: "change-insert", insert: { ...insert, placement: { ...insert.placement, scale: 1.5 } } });
  });
  await says("has moved on since this video");
  assert.match(await page.textContent('.station[data-station="deliver"] summary'), /out of date/);
  await page.keyboard.press("Control+z");
  await says("shows the shot as it is");
});

test("no script of the page failed on the way", () => assert.deepEqual(page.faults, []));
