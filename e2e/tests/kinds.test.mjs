// Pictures, clips and models: taken in, placed by a click, changed, swapped, and refused where they are broken.
import assert from "node:assert/strict";
import { execFileSync } from "node:child_process";
import { copyFileSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { after, before, test } from "node:test";
import { Document, NodeIO, Scene } from "@gltf-transform/core";
import {
  colourAt,
  distance,
  edited,
  endAll,
  exactlyDrawn,
  openStation,
  placeOnPage,
  seenAt,
  showFrame,
  startAll,
  stateOf,
  trueGround,
  trueProject,
  unfold,
} from "../support.mjs";

const truth = JSON.parse(readFileSync(new URL("../../crates/demo/assets/varrick-quay.truth.json", import.meta.url)));

let folder, server, browser, page, files;

const drawing = (colour) =>
  `<svg xmlns="http://www.w3.org/2000/svg" width="40" height="40"><rect width="40" height="40" fill="${colour}"/></svg>`;

before(async () => {
  ({ folder, server, browser, page } = await startAll());
  files = mkdtempSync(join(tmpdir(), "fennik-files-"));
  writeFileSync(join(files, "red crest.svg"), drawing("#e01010"));
  writeFileSync(join(files, "green.svg"), drawing("#10d040"));
  writeFileSync(join(files, "broken.png"), "this is no picture");
  writeFileSync(
    join(files, "crate.obj"),
    "v -1 0 0\nv 1 0 0\nv 1 2 0\nv -1 2 0\nv 0 0 -1\nv 0 2 -1\nf 1 2 3 4\nf 2 5 6 3\nf 5 1 4 6\n",
  );
  const bars = "color=blue:s=64x64:r=25:d=1,format=rgb24,geq=r='255*mod(N,2)':g='0':b='255*(1-mod(N,2))'";
  execFileSync("ffmpeg", ["-v", "error", "-f", "lavfi", "-i", bars, "-pix_fmt", "yuv420p", join(files, "screen.mp4")]);
  await page.goto(`${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  await openStation(page, "inserts");
  await showFrame(page, 60);
});
after(() => {
  rmSync(files, { recursive: true, force: true });
  return endAll({ page, quiet: true, browser, server, folder });
});

const state = () => stateOf(page);

const changed = (act) => edited(page, act);

const onPage = (at) => placeOnPage(page, at);

/** Takes a file in and has it in hand. */
async function takeIn(name) {
  await page.setInputFiles("#file-in", join(files, name));
  await page.waitForFunction((n) => document.getElementById("file-reading").textContent.startsWith(n), name);
}

async function clickAt(at) {
  const [x, y] = await onPage(at);
  await page.mouse.move(x, y);
  await changed(() => page.mouse.click(x, y));
}

const drawn = () => exactlyDrawn(page);
const seen = (at, test, what) => seenAt(page, at, test, what);

test("a picture is taken in, shown as it would stand, and stands where it is clicked", async () => {
  await takeIn("red crest.svg");
  const tile = page.locator('[data-act="place-file"]').first();
  assert.match(await tile.textContent(), /red crest\.svg/);
  await page.waitForFunction(() => document.querySelector('[data-act="place-file"] img').naturalWidth > 0);
  assert.equal(await tile.getAttribute("aria-pressed"), "true", "it is in hand");
  const [r, g] = await colourAt(page, [300, 590], 1);
  assert.ok(r < g + 60, `nothing red is there yet: ${r} ${g}`);
  await clickAt([300, 630]);
  const { inserts } = await state();
  assert.equal(inserts.at(-1).content.kind, "sign");
  assert.equal(inserts.at(-1).content.asset.file, "red crest.svg");
  await seen([300, 590], "r > 120 && g < 60 && b < 60", "the crest stands there");
});

test("its values are typed, and another picture takes its place", async () => {
  await unfold(page, "group-how-it-is-seen");
  assert.equal(await page.locator('.insert-form [name="speed"]').count(), 0, "a still has no speed");
  await page.selectOption('.insert-form [name="light"]', "glows");
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.at(-1).content.glows);
  await changed(async () => {
    await page.fill('.insert-form [name="opacity"]', "0.5");
    await page.press('.insert-form [name="opacity"]', "Tab");
  });
  await seen([300, 590], "r > 120 && g > 40 && g < 150", "the plate shines through");
  const { placement } = (await state()).inserts.at(-1);
  await page.click('[data-act="swap-file"]');
  await changed(() => takeIn("green.svg"));
  const now = (await state()).inserts.at(-1);
  assert.deepEqual([now.placement, now.opacity, now.content.asset.file], [placement, 0.5, "green.svg"]);
  await seen([300, 590], "g > r + 40", "the other picture");
  await changed(() => page.keyboard.press("Control+z"));
  assert.equal((await state()).inserts.at(-1).content.asset.file, "red crest.svg");
});

test("a clip runs with the shot, and a model stands on its foot", async () => {
  await takeIn("screen.mp4");
  await clickAt([560, 640]);
  // A clip has a speed.
  await page.waitForSelector('.insert-form [name="speed"]', { state: "attached" });
  await page.selectOption('.insert-form [name="light"]', "glows");
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.at(-1).content.glows);
  const at = [560, 610];
  await seen(at, "b > 150 && r < 90", "its even frames");
  await showFrame(page, 61);
  const moved = await page.evaluate(() => globalThis.fennik.model.frame);
  assert.equal(moved, 61);
  await seen(at, "r > 150 && b < 90", "its odd frames");
  await showFrame(page, 60);
  await takeIn("crate.obj");
  const bare = await colourAt(page, [860, 570], 2);
  await clickAt([860, 600]);
  const insert = (await state()).inserts.at(-1);
  assert.equal(insert.content.kind, "prop");
  assert.ok(Math.abs(insert.placement.anchor.foot[1]) < 1e-9, "on the floor");
  await drawn();
  assert.ok(distance(bare, await colourAt(page, [860, 570], 2)) > 15, "it is seen");
});

test("with a key at one frame and another value at a later one it moves between them", async () => {
  await unfold(page, "group-keys");
  await page.click('[data-act="arrange"][data-how="key"]');
  await page.waitForFunction(
    () => globalThis.fennik.model.state.inserts.at(-1).placement.anchor.foot.keys?.length === 1,
  );
  const x = (await state()).inserts.at(-1).placement.anchor.foot.keys[0].value[0];
  await showFrame(page, 80);
  await changed(async () => {
    await page.fill('.insert-form [name="x"]', String(x + 2));
    await page.press('.insert-form [name="x"]', "Tab");
  });
  const { keys } = (await state()).inserts.at(-1).placement.anchor.foot;
  assert.deepEqual(
    keys.map((k) => k.frame),
    [60, 80],
  );
  await showFrame(page, 70);
  await page.waitForFunction(
    (middle) => Math.abs(Number(document.querySelector('.insert-form [name="x"]').value) - middle) < 2e-3,
    x + 1,
  );
  await changed(() => page.click('[data-act="arrange"][data-how="forget-keys"]'));
  const foot = (await state()).inserts.at(-1).placement.anchor.foot;
  assert.ok(Math.abs(foot[0] - x - 1) < 1e-6, "it stays as it is at the playhead");
  await showFrame(page, 60);
});

/** A board of 1 m that shows a picture and goes 1 m to the right within a second, by a writer of glTF that is not ours. */
async function writeBoard(path) {
  const made = new Document(),
    buffer = made.createBuffer();
  execFileSync("ffmpeg", [
    "-v",
    "error",
    "-f",
    "lavfi",
    "-i",
    "color=0x20e040:s=16x16",
    "-frames:v",
    "1",
    `${path}.png`,
  ]);
  const numbers = (type, array) => made.createAccessor().setType(type).setArray(array).setBuffer(buffer);
  const picture = made
    .createTexture("board")
    .setImage(readFileSync(`${path}.png`))
    .setMimeType("image/png");
  const paint = made
    .createMaterial("green paint")
    .setBaseColorTexture(picture)
    .setRoughnessFactor(0.9)
    .setMetallicFactor(0)
    .setDoubleSided(true);
  const face = made
    .createPrimitive()
    .setAttribute("POSITION", numbers("VEC3", new Float32Array([0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0])))
    .setAttribute("TEXCOORD_0", numbers("VEC2", new Float32Array([0, 1, 1, 1, 1, 0, 0, 0])))
    .setIndices(numbers("SCALAR", new Uint16Array([0, 1, 2, 0, 2, 3])))
    .setMaterial(paint);
  const node = made.createNode("board").setMesh(made.createMesh().addPrimitive(face));
  new Scene(made.getGraph()).addChild(node);
  const way = made
    .createAnimationSampler()
    .setInput(numbers("SCALAR", new Float32Array([0, 1])))
    .setOutput(numbers("VEC3", new Float32Array([0, 0, 0, 1, 0, 0])));
  const channel = made.createAnimationChannel().setTargetNode(node).setTargetPath("translation").setSampler(way);
  made.createAnimation("slide").addSampler(way).addChannel(channel);
  await new NodeIO().write(path, made);
}

test("a model that another program wrote is shown with its picture and moves by itself", async () => {
  await writeBoard(join(files, "board.glb"));
  await takeIn("board.glb");
  await clickAt([420, 560]);
  await changed(async () => {
    await page.fill('.insert-form [name="scale"]', "2");
    await page.press('.insert-form [name="scale"]', "Tab");
  });
  await unfold(page, "group-materials");
  assert.equal(await page.locator('.material[data-material="green paint"]').count(), 1);
  const middle = () =>
    page.evaluate(() => {
      const canvas = document.getElementById("plate"),
        { data } = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height);
      let [count, sum] = [0, 0];
      for (let i = 0; i < data.length; i += 4)
        if (data[i + 1] > data[i] + 50 && data[i + 1] > data[i + 2] + 50)
          [count, sum] = [count + 1, sum + ((i / 4) % canvas.width)];
      return count > 300 ? sum / count : null;
    });
  const settled = async () => {
    await drawn();
    return middle();
  };
  // With nothing chosen the view stays where it is.
  await page.keyboard.press("Escape");
  await page.keyboard.press("Escape");
  const at = await settled();
  assert.ok(at, "green is seen");
  await showFrame(page, 72);
  const later = await settled();
  assert.ok(Math.abs(later - at) > 12, `it stood at ${at}, later at ${later}`);
  await showFrame(page, 60);
});

test("a far picture goes with the camera: it is dragged about it, and has no place to type", async () => {
  await page.keyboard.press("Escape");
  await page.selectOption("#place-as", "backdrop");
  await takeIn("red crest.svg");
  await clickAt([640, 90]);
  const far = async () => (await state()).inserts.at(-1).content;
  const before = await far();
  assert.equal(before.kind, "backdrop");
  for (const name of ["x", "turn", "scale", "facing", "pivot-x", "count"])
    assert.equal(await page.locator(`.insert-form [name="${name}"]`).count(), 0, `${name} would do nothing`);
  await seen([640, 60], "r > 120 && g < 60 && b < 60", "it is seen where it was put");
  const spot = await page.evaluate(() => {
    const { stage, model } = globalThis.fennik,
      box = stage.canvas.getBoundingClientRect(),
      [x, y] = stage.handles.spotsOf(model.insert(model.chosenOf("insert"))).foot;
    return [x + box.left, y + box.top];
  });
  await page.mouse.move(...spot);
  await page.mouse.down();
  await page.mouse.move(spot[0] + 60, spot[1] + 40, { steps: 4 });
  await page.mouse.move(spot[0] + 150, spot[1] + 40, { steps: 4 });
  await changed(() => page.mouse.up());
  const after = await far();
  assert.ok(after.bearing_deg > before.bearing_deg + 2, `it was turned: ${before.bearing_deg} ${after.bearing_deg}`);
  assert.ok(after.height_deg < before.height_deg - 1, `and lowered: ${before.height_deg} ${after.height_deg}`);
  const by = await page.evaluate(() => 150 / globalThis.fennik.stage.view.scale);
  await seen([640 + by, 70], "r > 120 && g < 60 && b < 60", "it is seen where it was dragged to");
  await changed(() => page.keyboard.press("Alt+ArrowUp"));
  assert.ok((await far()).height_deg > after.height_deg, "the arrow keys move it as well");
  await changed(() => page.keyboard.press("Delete"));
  await page.selectOption("#place-as", "sign");
});

test("drawings and letters of others are taken in", async () => {
  const from = (path) => new URL(`../node_modules/${path}`, import.meta.url).pathname;
  copyFileSync(from("bootstrap-icons/icons/flag-fill.svg"), join(files, "flag.svg"));
  copyFileSync(from("@fontsource/amiri/files/amiri-latin-700-normal.woff2"), join(files, "amiri.woff2"));
  await takeIn("flag.svg");
  await clickAt([940, 560]);
  assert.equal((await state()).inserts.at(-1).content.kind, "sign");
  await page.keyboard.press("Escape");
  await page.click('[data-act="place"][data-kind="title"][data-stance=""]');
  await clickAt([700, 650]);
  await page.click('[data-act="own-font"]');
  await changed(() => takeIn("amiri.woff2"));
  await changed(async () => {
    await page.fill('.insert-form [name="text"]', "Harbour");
    await page.press('.insert-form [name="text"]', "Tab");
  });
  const title = (await state()).inserts.at(-1);
  assert.equal(title.content.lettering?.font_file?.file, "amiri.woff2");
  await page.waitForSelector(".insert-form >> text=/set in amiri.woff2/");
  assert.equal(await page.locator(".insert-list .fault").count(), 0, "no letter is missing");
});

test("colours of the light are seen on what is placed", async () => {
  await drawn();
  await page.evaluate(() => {
    const canvas = document.getElementById("plate");
    globalThis.before = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data;
  });
  await openStation(page, "light");
  await changed(() => page.fill('[name="sun-colour"]', "#ff3018"));
  await changed(() => page.fill('[name="ambient-colour"]', "#ff3018"));
  await drawn();
  // Of what looks otherwise now, by how much more red than blue it is.
  const { count, redder } = await page.evaluate(() => {
    const canvas = document.getElementById("plate"),
      now = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data,
      was = globalThis.before;
    let [count, sum] = [0, 0];
    for (let i = 0; i < now.length; i += 4) {
      const by = now[i] - now[i + 2] - (was[i] - was[i + 2]);
      if (Math.abs(now[i + 1] - was[i + 1]) + Math.abs(now[i + 2] - was[i + 2]) > 30)
        [count, sum] = [count + 1, sum + by];
    }
    return { count, redder: sum / count };
  });
  assert.ok(count > 500 && redder > 15, `in warm light ${count} px are redder by ${redder}`);
  const width = async (deg) => {
    await page.fill('[name="sun-width"]', deg);
    await page.press('[name="sun-width"]', "Tab");
  };
  await width("200");
  await page.waitForFunction(() => /width between 0 and 60/.test(document.getElementById("notes").textContent));
  await page.evaluate(() => document.getElementById("notes").replaceChildren());
  await changed(() => width("2"));
  await openStation(page, "inserts");
});

test("the sun stands where a shadow on the plate says", async () => {
  const camera = truth.frames[60],
    foot = trueGround(camera, [560, 600]),
    pole = 1;
  await openStation(page, "light");
  const sunBy = async (bearing, height) => {
    const [b, h] = [bearing, height].map((deg) => (deg * Math.PI) / 180),
      reach = pole / Math.tan(h);
    const tip = [foot[0] - Math.sin(b) * reach, 0, foot[2] - Math.cos(b) * reach],
      top = [foot[0], pole, foot[2]];
    await page.click('[data-act="sun-shadow"]');
    assert.match(await page.textContent("#sun-reading"), /foot/);
    await changed(async () => {
      for (const place of [foot, tip, top]) await page.mouse.click(...(await onPage(trueProject(camera, place))));
    });
    await page.waitForFunction(() => globalThis.fennik.model.tool.kind === "select");
    const value = async (name) => Number(await page.getAttribute(`#light [name="${name}"]`, "data-full"));
    return [await value("bearing"), await value("height")];
  };
  const apart = (a, b) => Math.abs(((((a - b + 180) % 360) + 360) % 360) - 180);
  const [first, high] = await sunBy(40, 40),
    [second, low] = await sunBy(-65, 25);
  assert.ok(Math.abs(high - 40) < 2 && Math.abs(low - 25) < 2, `heights of 40 and 25 deg: ${high} ${low}`);
  // The datum of the shot may look another way than the film.
  assert.ok(apart(first - second, 105) < 2, `bearings 105 deg apart: ${first} ${second}`);
  await openStation(page, "inserts");
});

test("a file that cannot be shown is refused by its name, and nothing changes", async () => {
  const before = (await state()).revision;
  await page.setInputFiles("#file-in", join(files, "broken.png"));
  await page.waitForFunction(() =>
    /broken\.png.*cannot be read/.test(document.getElementById("file-reading").textContent),
  );
  assert.equal((await state()).revision, before);
  assert.equal(await page.locator(".file-tile", { hasText: "broken" }).count(), 0);
});
