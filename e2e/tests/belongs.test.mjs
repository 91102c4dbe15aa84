// What is placed is made to belong: lit, shadowed, held out behind what passes in front, and finished.
import assert from "node:assert/strict";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { after, before, test } from "node:test";
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

before(async () => {
  ({ folder, server, browser, page } = await startAll());
  files = mkdtempSync(join(tmpdir(), "fennik-files-"));
  // A red card, a white matte whose left half is black, a sky of one colour, and a table that turns everything round.
  const svg = (inside) =>
    `<svg xmlns="http://www.w3.org/2000/svg" width="64" height="64"><rect width="64" height="64" fill="#e01010"/>${inside}</svg>`;
  writeFileSync(join(files, "card.svg"), svg(""));
  writeFileSync(
    join(files, "half.svg"),
    svg('<rect width="64" height="64" fill="#fff"/><rect width="32" height="64" fill="#000"/>'),
  );
  writeFileSync(
    join(files, "blue sky.svg"),
    svg('<rect width="64" height="64" fill="#1030ff"/>').replaceAll(/height="64"/g, 'height="32"'),
  );
  const corners = [0, 1].flatMap((b) => [0, 1].flatMap((g) => [0, 1].map((r) => `${1 - r} ${1 - g} ${1 - b}`)));
  writeFileSync(join(files, "turned.cube"), `LUT_3D_SIZE 2\n${corners.join("\n")}\n`);
  writeFileSync(join(files, "broken.cube"), "LUT_3D_SIZE 2\n0 0 0\n");
  await page.goto(`${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  await openStation(page, "inserts");
  await showFrame(page, 60);
  await page.setInputFiles("#file-in", join(files, "card.svg"));
  await page.waitForFunction(() => document.getElementById("file-reading").textContent.startsWith("card.svg"));
  const [x, y] = await placeOnPage(page, CARD);
  await page.mouse.move(x, y);
  await changed(() => page.mouse.click(x, y));
  await exactlyDrawn(page);
});
after(() => {
  rmSync(files, { recursive: true, force: true });
  return endAll({ page, quiet: true, browser, server, folder });
});

/** Where the card stands, and a place on it. */
const CARD = [300, 630];
const ON_CARD = [300, 590];

const changed = (act) => edited(page, act);
const state = () => stateOf(page);
const seen = (at, test, what) => seenAt(page, at, test, what);

/** Types a value into a form and waits until it is saved. */
async function type(form, name, value) {
  await changed(async () => {
    await page.fill(`${form} [name="${name}"]`, String(value));
    await page.press(`${form} [name="${name}"]`, "Tab");
  });
}

/** Draws round what passes in front, corner by corner, and leaves it open. */
async function drawRound(corners) {
  await page.click('[data-act="draw"][data-mode="holdout"]');
  for (const at of corners) {
    const [x, y] = await placeOnPage(page, at);
    await page.mouse.move(x, y);
    await page.mouse.click(x, y);
  }
}

test("what is drawn round stands in front, softly, and can be kept from some", async () => {
  await seen(ON_CARD, "r > 120 && g < 70", "the card is seen");
  await openStation(page, "holdouts");
  await drawRound([
    [200, 480],
    [300, 480],
    [300, 700],
    [200, 700],
  ]);
  // Closed by its first corner, and by Enter before the answer is there: that is one wish.
  const [x, y] = await placeOnPage(page, [200, 480]);
  await changed(async () => {
    await page.mouse.click(x, y);
    await page.mouse.click(x, y);
    await page.keyboard.press("Enter");
  });
  await exactlyDrawn(page);
  const { holdouts, masks } = await state();
  assert.deepEqual([holdouts.length, masks.length, holdouts[0].by, masks[0].mode], [1, 1, "mask", "shape"]);
  // The outline of the chosen one stands over the picture; a look beside it is enough.
  await seen([ON_CARD[0] - 12, ON_CARD[1]], "Math.abs(r - g) < 60", "the plate is before the left half");
  await seen([ON_CARD[0] + 12, ON_CARD[1]], "r > 120 && g < 70", "and the right half is seen");
  await type("#sheet", "feather", 40);
  await exactlyDrawn(page);
  const half = await colourAt(page, [ON_CARD[0] + 6, ON_CARD[1] + 40], 1);
  const whole = await colourAt(page, [ON_CARD[0] + 30, ON_CARD[1] + 40], 1);
  assert.ok(whole[0] - whole[1] > 1.2 * (half[0] - half[1]), `it fades in: ${half} ${whole}`);
  await type("#sheet", "strength", 0.5);
  assert.equal((await state()).holdouts[0].strength, 0.5);
  await type("#sheet", "strength", 1);
  await unfold(page, "holdout-of");
  const other = (await state()).inserts[0].id;
  await changed(() => page.check(`#sheet [name="of-${other}"]`));
  await seen([ON_CARD[0] - 12, ON_CARD[1]], "r > 120 && g < 70", "it is in front of the other alone");
  await changed(() => page.uncheck(`#sheet [name="of-${other}"]`));
});

test("the matte is seen over the picture, alone and cut out, and a matte from a file crosses it", async () => {
  await page.selectOption("#matte-view", "alone");
  await seen([240, 600], "r > 240 && g > 240", "white is in front");
  await seen([600, 300], "r < 12 && g < 12", "black is not");
  await changed(() =>
    page.evaluate(() => {
      const { model } = globalThis.fennik,
        [mask] = model.state.masks,
        [key] = mask.keys;
      const hole = [[280, 560], [220, 560], [220, 640], [280, 640], [280, 560], key.outline[0]]; // prettier-ignore
      return model.edit({ edit: "change-mask", mask: { ...mask, keys: [{ ...key, along: [hole, [], [], []] }] } });
    }),
  );
  await seen([250, 600], "r < 12 && g < 12", "an outline can go round a hole");
  await seen([240, 520], "r > 240 && g > 240", "and the way in to it bounds nothing");
  await changed(() => page.keyboard.press("Control+z"));
  await page.setInputFiles("#matte-in", join(files, "half.svg"));
  await page.waitForFunction(() => globalThis.fennik.model.state.holdouts.length === 2);
  await seen([1100, 300], "r > 240", "the right half of the picture is in front as well");
  await changed(() => page.selectOption('#sheet [name="combine"]', "cross"));
  await seen([1100, 300], "r < 12", "what both cover is");
  await page.selectOption("#matte-view", "cut");
  await seen([1100, 300], "Math.abs(r - 96) < 6 && Math.abs(b - 96) < 6", "cut out, on grey");
  await page.selectOption("#matte-view", "");
  await page.keyboard.press("Escape");
  await changed(() => page.keyboard.press("Control+z"));
  await changed(() => page.keyboard.press("Control+z"));
  assert.equal((await state()).holdouts.length, 1);
});

test("a key on the plate tells what is in front, and its colour is picked on the picture", async () => {
  await page.selectOption("#hold-key", "brighter");
  await changed(() => page.click('[data-act="hold-key"]'));
  await type("#sheet", "from", 0);
  await type("#sheet", "soft", 0);
  await seen([ON_CARD[0] + 40, ON_CARD[1]], "Math.abs(r - g) < 70", "everything is brighter than black");
  await changed(() => page.selectOption('#sheet [name="key"]', "colour"));
  await page.click('[data-act="pick-key"]');
  const [x, y] = await placeOnPage(page, [640, 100]);
  await page.mouse.move(x, y);
  await changed(() => page.mouse.click(x, y));
  const { colour } = (await state()).holdouts.at(-1).key;
  const plate = await page.evaluate(() => globalThis.fennik.model.state.holdouts.at(-1).key.colour);
  assert.deepEqual(colour, plate);
  assert.notDeepEqual(colour, [64, 96, 160]);
  await changed(() => page.click('[data-act="remove-holdout"]'));
});

test("a lamp lights what stands by it, and can be hidden", async () => {
  await page.evaluate(() => globalThis.fennik.model.choose(null));
  await openStation(page, "light");
  await changed(async () => {
    await page.fill('#light [name="sun"]', "0");
    await page.press('#light [name="sun"]', "Tab");
  });
  await type("#light", "ambient", 0.05);
  await exactlyDrawn(page);
  const dark = await colourAt(page, [ON_CARD[0] + 30, ON_CARD[1]], 2);
  assert.ok(dark[0] < 110, `it is dark: ${dark}`);
  await page.click('[data-act="place"][data-kind="lamp"]');
  const [x, y] = await placeOnPage(page, [330, 690]);
  await page.mouse.move(x, y);
  await changed(() => page.mouse.click(x, y));
  const lamp = (await state()).inserts.at(-1);
  assert.equal(lamp.content.kind, "lamp");
  await exactlyDrawn(page);
  const lit = await colourAt(page, [ON_CARD[0] + 30, ON_CARD[1]], 2);
  assert.ok(lit[0] > dark[0] + 25, `the lamp lights it: ${dark} ${lit}`);
  await page.click('[data-act="switch"][data-value="hidden"]');
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.at(-1).hidden);
  await exactlyDrawn(page);
  assert.ok(distance(await colourAt(page, [ON_CARD[0] + 30, ON_CARD[1]], 2), dark) < 4);
});

test("surroundings light by their colour, are turned and graded, and stand beside the plate", async () => {
  await openStation(page, "light");
  await unfold(page, "light-around");
  await type("#light", "ambient", 0);
  await page.setInputFiles("#around-in", join(files, "blue sky.svg"));
  await page.waitForFunction(() => globalThis.fennik.model.state.light.surroundings);
  // What is red gives back little of blue light; the other insert is yellow.
  await page.waitForFunction(() => document.getElementById("around-look").naturalWidth > 0);
  await exactlyDrawn(page);
  const blue = await colourAt(page, [ON_CARD[0] + 30, ON_CARD[1]], 2);
  await type("#around", "exposure", 3);
  await exactlyDrawn(page);
  const brighter = await colourAt(page, [ON_CARD[0] + 30, ON_CARD[1]], 2);
  assert.ok(brighter[0] > blue[0] + 15, `three stops more: ${blue} ${brighter}`);
  await type("#around", "saturation", 0);
  await exactlyDrawn(page);
  const grey = await colourAt(page, [ON_CARD[0] + 30, ON_CARD[1]], 2);
  assert.ok(grey[0] > brighter[0] + 15, `grey light holds red: ${brighter} ${grey}`);
  await changed(() => page.click('[data-act="hide-around"]'));
  await changed(() => page.selectOption("#around-picture", ""));
  await type("#light", "sun", 0.85);
  await type("#light", "ambient", 0.4);
});

test("the floor darkens where something stands, and mirrors it", async () => {
  await unfold(page, "catch-0");
  await exactlyDrawn(page);
  const at = [ON_CARD[0] + 20, 634];
  const bare = await colourAt(page, at, 1);
  await type("#catch-0", "contact", 1);
  await exactlyDrawn(page);
  const dark = await colourAt(page, at, 1);
  assert.ok(dark[1] < bare[1] - 4, `close to its foot: ${bare} ${dark}`);
  await type("#catch-0", "contact", 0);
  await type("#catch-0", "mirror", 1);
  await exactlyDrawn(page);
  const mirrored = await colourAt(page, at, 1);
  assert.ok(mirrored[0] - mirrored[1] > bare[0] - bare[1] + 30, `red is mirrored: ${bare} ${mirrored}`);
  await type("#catch-0", "mirror", 0);
});

test("the finish grades all, bars it, and a line parts before from after", async () => {
  await page.evaluate(() => globalThis.fennik.model.choose(null));
  await openStation(page, "finish");
  await exactlyDrawn(page);
  const plain = await colourAt(page, [900, 560], 2);
  await type("#finish", "exposure", -1);
  await exactlyDrawn(page);
  const darker = await colourAt(page, [900, 560], 2);
  const light = (v) => (v <= 10 ? v / 3294.6 : ((v / 255 + 0.055) / 1.055) ** 2.4);
  assert.ok(Math.abs(light(darker[1]) / light(plain[1]) - 0.5) < 0.04, `half the light: ${plain} ${darker}`);
  await type("#finish", "exposure", 0);
  await unfold(page, "finish-curves");
  await page.locator("#finish-curves .tone-curves").scrollIntoViewIfNeeded();
  const node = await page.locator('#finish-curves [data-place="middle"]').boundingBox();
  await page.mouse.move(node.x + node.width / 2, node.y + node.height / 2);
  await page.mouse.down();
  await page.mouse.move(node.x + node.width / 2, node.y - 25, { steps: 3 });
  await changed(() => page.mouse.up());
  const middle = Number(await page.inputValue('#finish [name="curve-middle"]'));
  assert.ok(middle > 0.55 && middle < 0.8, `its field has what was dragged: ${middle}`);
  await exactlyDrawn(page);
  const lighter = await colourAt(page, [900, 560], 2);
  assert.ok(lighter[1] > plain[1] + 10, `the middle is brighter: ${plain} ${lighter}`);
  await type("#finish", "curve-middle", 0.5);
  await type("#finish", "exposure", -1);
  await type("#finish", "bars-format", 2.39);
  await seen([640, 20], "r < 8 && g < 8 && b < 8", "the bar is black");
  await page.click('[data-act="wipe"]');
  await page.waitForFunction(() => document.getElementById("plate").dataset.wipe === "true");
  await seen([200, 20], "r + g + b > 60", "before: no bar on the left of the line");
  await seen([1000, 20], "r < 8 && g < 8 && b < 8", "after: on its right");
  const [x, y] = await placeOnPage(page, [640, 300]);
  const [to] = await placeOnPage(page, [1100, 300]);
  await page.mouse.move(x, y);
  await page.mouse.down();
  await page.mouse.move(to, y, { steps: 4 });
  await page.mouse.up();
  await seen([1000, 20], "r + g + b > 60", "the line was dragged");
  await page.click('[data-act="wipe"]');
  await changed(() => page.click('[data-act="finish-off"]'));
  await seen([640, 20], "r + g + b > 60", "off is as it was filmed");
  await changed(() => page.click('[data-act="finish-off"]'));
});

test("a value of the finish has keys, and a table and a look are put over it", async () => {
  await page.selectOption('[data-station="finish"] [data-key-value]', "exposure");
  const key = () => changed(() => page.click('[data-station="finish"] [data-act="key-of"][data-how="key"]'));
  await key();
  await showFrame(page, 80);
  await key();
  await type("#finish", "exposure", 1);
  const keys = (await state()).finish.numbers.exposure.keys;
  assert.deepEqual(
    keys.map((k) => [k.frame, k.value]),
    [
      [60, -1],
      [80, 1],
    ],
  );
  await showFrame(page, 70);
  await page.waitForFunction(() => document.querySelector('#finish [name="exposure"]').value === "0");
  await changed(() => page.click('[data-station="finish"] [data-act="key-of"][data-how="forget-keys"]'));
  await showFrame(page, 60);
  await page.setInputFiles("#table-in", join(files, "broken.cube"));
  await page.waitForFunction(() => /8/.test(document.getElementById("notes").textContent));
  await exactlyDrawn(page);
  const before = await colourAt(page, [900, 560], 2);
  await changed(() => page.setInputFiles("#table-in", join(files, "turned.cube")));
  await exactlyDrawn(page);
  const after = await colourAt(page, [900, 560], 2);
  assert.ok(
    [0, 1, 2].every((k) => Math.abs(before[k] + after[k] - 255) < 8),
    `${before} ${after}`,
  );
  await page.fill("#look-name", "turned round");
  await page.click('[data-act="keep-look"]');
  await page.waitForSelector("#look-kept option", { state: "attached" });
  await changed(() => page.selectOption("#finish-table", ""));
  assert.equal((await state()).finish.table, undefined);
  await changed(() => page.click('[data-act="use-look"]'));
  assert.equal((await state()).finish.table.file, "turned.cube");
  // What was noted of the broken table and the kept look is as it should be.
  await page.evaluate(() => document.getElementById("notes").replaceChildren());
});

test("the page says that the plate is looked at, can stop it, and says when it found what it knew before", async () => {
  await openStation(page, "match");
  const job = '.job[data-kind="measure"]';
  const told = (words) =>
    page.waitForFunction(([job, words]) => document.querySelector(job)?.textContent.includes(words), [job, words], {
      timeout: 60_000,
    });
  const { revision } = await state();
  await page.click('[data-act="measure-plate"]');
  await page.waitForSelector(`${job} progress`);
  assert.ok(await page.isDisabled('[data-act="measure-plate"]'), "not twice at once");
  await page.click(`${job} button`);
  await told("stopped");
  assert.equal((await state()).revision, revision, "what was stopped changes nothing");
  await page.click('[data-act="measure-plate"]');
  await told("the plate was looked at");
  assert.match(await page.textContent("#plate-measured"), /grain|edges/);
  await page.click('[data-act="measure-plate"]');
  await told("as it was found before");
  assert.ok(await page.isEnabled('[data-act="measure-plate"]'));
});

test("what is placed is drawn to the plate by a job that says what came of it", async () => {
  await openStation(page, "inserts");
  await page.locator(".insert-line").first().click();
  await openStation(page, "match");
  await changed(() => page.click('[data-act="draw-towards"]'));
  await page.waitForFunction(() =>
    document.querySelector('.job[data-kind="draw"]')?.textContent.includes("is drawn to the plate"),
  );
  await page.waitForFunction(() => document.getElementById("match-chosen").textContent.includes("drawn to the plate"));
  await page.keyboard.press("Escape");
});

test("what stands still in front goes with the camera", async () => {
  await openStation(page, "holdouts");
  const post = [
    [552, 420],
    [568, 420],
    [568, 600],
    [552, 600],
  ];
  await drawRound(post);
  await changed(() => page.keyboard.press("Enter"));
  await changed(() => page.click('#sheet [data-act="stand-mask"]'));
  const { masks, frames } = await state();
  const { keys } = masks.at(-1);
  assert.deepEqual([keys[0].frame, keys.at(-1).frame], [0, frames - 1], "it is known all along");
  const foot = trueGround(truth.frames[60], [560, 600]);
  for (const key of keys.filter((k) => Math.abs(k.frame - 60) < 40)) {
    const [a, b] = key.outline.slice(2),
      seen = trueProject(truth.frames[key.frame], foot);
    const off = distance([(a[0] + b[0]) / 2, (a[1] + b[1]) / 2], seen);
    assert.ok(off < 2.5, `its foot is off by ${off} px on frame ${key.frame}`);
  }
});

test("an outline that is set on two frames is followed from the one to the other", async () => {
  await openStation(page, "holdouts");
  await showFrame(page, 60);
  const patch = [
    [420, 480],
    [600, 480],
    [600, 600],
    [420, 600],
  ];
  const ground = patch.map((at) => trueGround(truth.frames[60], at));
  const there = (frame) => ground.map((g) => trueProject(truth.frames[frame], g));
  await drawRound(patch);
  await changed(() => page.keyboard.press("Enter"));
  // A holdout that counts for a while is followed for as long.
  await type("#sheet", "from-frame", 52);
  await type("#sheet", "to-frame", 90);
  await showFrame(page, 80);
  for (let k = 0; k < patch.length; k++) {
    const { masks } = await state();
    const { keys } = masks.at(-1);
    const from = await placeOnPage(page, keys.at(-1).outline[k]);
    const to = await placeOnPage(page, there(80)[k]);
    await changed(async () => {
      await page.mouse.move(...from);
      await page.mouse.down();
      await page.mouse.move(...from.map((v, i) => (v + to[i]) / 2));
      await page.mouse.move(...to);
      await page.mouse.up();
    });
  }
  const set = (await state()).masks.at(-1).keys;
  assert.deepEqual(
    set.map((k) => k.frame),
    [60, 80],
  );
  const follow = async () => {
    const { revision } = await state();
    await page.click('#sheet [data-act="follow-mask"]');
    await page.waitForFunction((was) => globalThis.fennik.model.state.revision > was, revision, { timeout: 60_000 });
    return (await state()).masks.at(-1);
  };
  const ends = ({ keys }) => [keys[0].frame, keys.at(-1).frame];
  assert.deepEqual(ends(await follow()), [60, 90], "back to what was set, and on as long as it counts");
  await showFrame(page, 60);
  const mask = await follow();
  assert.deepEqual(ends(mask), [52, 90]);
  for (const { frame, outline } of set) {
    const kept = mask.keys.find((k) => k.frame === frame).outline;
    assert.ok(
      outline.every((at, k) => distance(at, kept[k]) < 0.01),
      `what was set on frame ${frame} stays`,
    );
  }
  // In between it lies on the same ground, which the mean of both does not.
  const lies = await page.evaluate(async () => {
    const { outlineAt } = await import("/static/js/math/outline.js");
    return [65, 70, 75].map((frame) => outlineAt(globalThis.fennik.model.state.masks.at(-1), frame));
  });
  for (const [n, frame] of [65, 70, 75].entries()) {
    const off = Math.max(...there(frame).map((at, k) => distance(at, lies[n][k])));
    assert.ok(off < 3, `on frame ${frame} a corner is off by ${off} px`);
  }
  await page.keyboard.press("Escape");
});

test("what is known between corners is in front too, and goes along as one of them is dragged", async () => {
  await openStation(page, "holdouts");
  await showFrame(page, 60);
  const drawn = [
    [700, 420],
    [860, 420],
    [780, 560],
  ];
  await drawRound(drawn);
  await changed(() => page.keyboard.press("Enter"));
  const [key] = (await state()).masks.at(-1).keys;
  const along = [[[key.outline[0][0] + 80, key.outline[0][1] - 80]], [], []];
  await changed(() =>
    page.evaluate((along) => {
      const { model } = globalThis.fennik,
        mask = model.state.masks.at(-1);
      return model.edit({ edit: "change-mask", mask: { ...mask, keys: [{ ...mask.keys[0], along }] } });
    }, along),
  );
  await page.selectOption("#matte-view", "alone");
  await seen([780, 375], "r > 200 && g > 200", "above its upper side");
  await seen([720, 360], "r < 12", "beside that place");
  // Its middle goes half as far as the corner.
  const from = await placeOnPage(page, key.outline[1]),
    to = await placeOnPage(page, [key.outline[1][0] + 60, key.outline[1][1]]);
  await changed(async () => {
    await page.mouse.move(...from);
    await page.mouse.down();
    await page.mouse.move((from[0] + to[0]) / 2, from[1]);
    await page.mouse.move(...to);
    await page.mouse.up();
  });
  const [moved] = (await state()).masks.at(-1).keys;
  assert.ok(distance(moved.along[0][0], [along[0][0][0] + 30, along[0][0][1]]) < 1, `${moved.along[0][0]}`);
  assert.deepEqual(moved.outline[2], key.outline[2]);
  await seen([810, 375], "r > 200 && g > 200", "it went along");
  await page.selectOption("#matte-view", "");
  await page.keyboard.press("Escape");
});
