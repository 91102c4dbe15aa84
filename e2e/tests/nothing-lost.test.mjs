// One change is one request in order; fields keep what is stored; what is deleted comes back; what stands stays.
import assert from "node:assert/strict";
import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { after, before, test } from "node:test";
import { endAll, makeClip, openStation, showFrame, startAll } from "../support.mjs";

let folder, server, browser, page;

before(async () => {
  ({ folder, server, browser, page } = await startAll("shots/2"));
  await page.waitForFunction(() => globalThis.fennik?.model.state);
});
after(() => endAll({ page, browser, server, folder }));

const insert = (n = 0) => page.evaluate((n) => globalThis.fennik.model.state.inserts[n], n);
const field = (name) => page.locator(`.insert-form [name="${name}"]`);
/** Waits until the first insert is turned by 90 degrees: a quaternion about y. */
const turned90 = () =>
  page.waitForFunction(() => {
    const [x, y, z, w] = globalThis.fennik.model.state.inserts[0].placement.anchor.turn;
    return Math.hypot(x, z) < 1e-9 && Math.abs(y - w) < 1e-9 && y > 0.7;
  });
/** Waits until a value of the first insert is as wished. */
const until = (of, value) =>
  page.waitForFunction(
    ([of, value]) => of.split(".").reduce((v, k) => v[k], globalThis.fennik.model.state.inserts[0]) === value,
    [of, value],
    { timeout: 60_000 },
  );

test("a number shows three decimals and what is stored keeps all of them", async () => {
  await openStation(page, "inserts");
  const before = await insert();
  const [x] = before.placement.anchor.foot;
  assert.ok(String(x).length > 9, "there is more to it than the field shows");
  await page.click(".insert-line");
  assert.equal(await field("x").inputValue(), String(Number(x.toFixed(3))));
  await field("text").fill("VARRICK\nQUAY");
  await field("text").press("Tab");
  await until("content.text", "VARRICK\nQUAY");
  assert.deepEqual((await insert()).placement, before.placement, "nothing was rounded on the way");
});

test("units, sums and arrow keys are taken, and what is no number is said to be none", async () => {
  for (const [typed, stored] of [
    ["120 cm", 1.2],
    ["1 m + 50 cm", 1.5],
    ["0.123456", 0.123456],
    ["2,5", 2.5],
  ]) {
    await field("height").fill(typed);
    await field("height").press("Tab");
    await until("content.height_m", stored);
  }
  await field("height").press("ArrowUp");
  await until("content.height_m", 2.6);
  await field("height").press("Shift+ArrowDown");
  await until("content.height_m", 1.6);
  await field("turn").fill("0.25 turn");
  await field("turn").press("Enter");
  await turned90();
  const before = await insert();
  await field("height").fill("tall");
  await field("height").press("Tab");
  await page.waitForSelector("#notes:has-text('“tall” is no number for height')");
  assert.equal(await field("height").inputValue(), "tall", "it stays to be mended");
  assert.deepEqual(await insert(), before);
  await field("height").fill("1.1");
  await field("height").press("Tab");
  await until("content.height_m", 1.1);
});

test("typing into a field and pressing a button at once makes two requests, in order, none refused", async () => {
  const sent = [];
  const told = (request) => {
    if (request.method() === "POST") sent.push(request);
  };
  page.on("request", told);
  await page.route("**/shots/2/insert", async (route) => {
    await new Promise((r) => setTimeout(r, 300));
    await route.continue();
  });
  await field("height").fill("2");
  // The press takes the focus from the field, which sends it; the answer comes long after the click.
  await page.click('.insert-form [data-act="remove-insert"]');
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.length === 0, null, { timeout: 60_000 });
  await page.unroute("**/shots/2/insert");
  page.off("request", told);
  const answers = await Promise.all(
    sent.map(async (r) => `${new URL(r.url()).pathname} ${(await r.response()).status()}`),
  );
  assert.deepEqual(answers, ["/shots/2/insert 200", "/shots/2/edit 200"]);
  await page.click("#undo");
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.length === 1);
  assert.equal((await insert()).content.height_m, 2, "the typed value came first");
});

test("a button that is pressed while an answer comes is not drawn away under the pointer", async () => {
  const remove = page.locator('.insert-form [data-act="remove-insert"]');
  await page.click(".insert-line");
  await field("height").fill("2.5");
  const box = await remove.boundingBox();
  await page.mouse.move(box.x + box.width / 2, box.y + box.height / 2);
  await page.mouse.down();
  // The press sent what was typed; its answer is there before the button is let go.
  await until("content.height_m", 2.5);
  await page.mouse.up();
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.length === 0, null, { timeout: 60_000 });
  await page.click("#undo");
  await page.waitForFunction(() => globalThis.fennik.model.state.inserts.length === 1);
});

test("a value that is stepped and left at once is sent once", async () => {
  const sent = [];
  const told = (request) => request.method() === "POST" && sent.push(new URL(request.url()).pathname);
  await page.click(".insert-line");
  page.on("request", told);
  await page.route("**/shots/2/insert", async (route) => {
    await new Promise((r) => setTimeout(r, 300));
    await route.continue();
  });
  await field("height").pressSequentially("1");
  await field("height").press("ArrowUp");
  await field("height").press("Tab");
  // Requests go in order, so a second one of the value would come before this.
  await Promise.all([page.waitForResponse("**/shots/2/undo"), page.click("#undo")]);
  await page.unroute("**/shots/2/insert");
  page.off("request", told);
  assert.deepEqual(sent, ["/shots/2/insert", "/shots/2/undo"]);
});

test("clicks that follow one another at once are all done", async () => {
  await openStation(page, "light");
  const tools = ["sun", "ambient"];
  for (const name of tools) await page.locator(`form[hx-post$="/light"] [name="${name}"]`).fill("0.5");
  await page.evaluate(() => {
    for (const name of ["sun", "ambient"])
      document
        .querySelector(`form[hx-post$="/light"] [name="${name}"]`)
        .dispatchEvent(new Event("change", { bubbles: true }));
    document.querySelector("#undo").click();
    document.querySelector("#redo").click();
  });
  await page.waitForFunction(
    () =>
      document.querySelector('form[hx-post$="/light"] [name="sun"]').defaultValue === "0.5" &&
      document.querySelector("#undo").title.startsWith("Undo: light"),
  );
  assert.equal(
    await page.textContent("#notes"),
    await page.textContent("#notes").then((t) => t.replace(/changed in another window/g, "")),
    "nothing was out of order",
  );
});

test("place, turn and size of the chosen insert are reached without scrolling", async () => {
  await openStation(page, "inserts");
  for (const x of [0.5, 0.9, 0.4]) {
    const box = await page.locator("#plate").boundingBox(),
      n = await page.evaluate(() => globalThis.fennik.model.state.inserts.length);
    await page.click('[data-act="place"][data-kind="title"][data-stance=""]');
    await page.mouse.click(box.x + box.width * x, box.y + box.height * 0.6);
    await page.waitForFunction((n) => globalThis.fennik.model.state.inserts.length === n + 1, n);
    await page.waitForFunction(
      (n) =>
        document.querySelector(".insert-form")?.dataset.insert === String(globalThis.fennik.model.state.inserts[n].id),
      n,
    );
  }
  for (const id of await page.evaluate(() => globalThis.fennik.model.state.inserts.map((i) => i.id))) {
    await page.evaluate((id) => globalThis.fennik.model.choose({ kind: "insert", id }), id);
    await page.waitForSelector(`.insert-form[data-insert="${id}"]`);
    const sheet = await page.locator("#sheet").boundingBox();
    const handles = await page.evaluate(() => {
      const { model, stage } = globalThis.fennik,
        { left } = stage.canvas.getBoundingClientRect();
      const spots = stage.handles.spots(stage.handles.places(model.insert(model.chosen.id)));
      return Object.values(spots).map(([x]) => x + left);
    });
    assert.ok(Math.max(...handles) < sheet.x, `the sheet covers what it is about: ${handles} from ${sheet.x}`);
    for (const name of ["x", "y", "z", "turn", "lean", "lift", "scale", "stance", "text", "colour", "height"]) {
      const box = await field(name).boundingBox();
      assert.ok(box.y >= sheet.y && box.y + box.height <= sheet.y + sheet.height, `${name} at ${JSON.stringify(box)}`);
    }
  }
  await page.keyboard.press("Escape");
  await page.waitForSelector("#sheet", { state: "hidden" });
});

test("a shot can be saved as a recipe", async () => {
  await openStation(page, "deliver");
  const [download] = await Promise.all([page.waitForEvent("download"), page.click("#get-recipe")]);
  const path = join(folder.path, "recipe.json");
  await download.saveAs(path);
  const verbs = JSON.parse(readFileSync(path)).steps.map((s) => s.do);
  assert.deepEqual(verbs.slice(0, 4), ["take-in", "track", "solve", "propose-datum"]);
  assert.equal(verbs.filter((v) => v === "place").length, 4);
});

test("tracking again leaves the camera out of date, and the next one takes over what stands", async () => {
  await openStation(page, "footage");
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  const job = async (start, kind) => {
    await page.click(start);
    await page.waitForSelector(`.job[data-kind="${kind}"] progress`);
    await page.waitForSelector(`.job[data-kind="${kind}"]`, { state: "detached", timeout: 240_000 });
  };
  await openStation(page, "track");
  await page.fill('[name="density"]', "300");
  await page.press('[name="density"]', "Tab");
  await job("#start-track", "track");
  await openStation(page, "solve");
  assert.match(await page.textContent("#stale-solve"), /of other tracks/);
  assert.match(
    await page.textContent('.station[data-station="solve"] summary'),
    /out of date · 0\.\d\d px/,
    "so it says when it is closed",
  );
  const density = () =>
    page.evaluate(
      async () =>
        (await (await fetch(document.getElementById("get-recipe").href)).json()).steps.find((s) => s.do === "track")
          .density,
    );
  assert.notEqual(await density(), 300, "a recipe leads to the camera in use, with what that was made with");
  assert.equal(await page.locator("#start-refine").count(), 0, "it cannot go on from there");
  const where = () =>
    page.evaluate(() => {
      const { model, stage } = globalThis.fennik;
      return stage.worldToStage(model.state.inserts[0].placement.anchor.foot);
    });
  await showFrame(page, 120);
  const before = await where();
  await job("#start-solve", "solve");
  await showFrame(page, 120);
  const after = await where();
  assert.ok(Math.hypot(before[0] - after[0], before[1] - after[1]) < 0.5, `${before} and then ${after}`);
  assert.match(await page.textContent("#carried"), /feet and floor corners moved 0\.\d\d px RMS/);
  assert.equal(await page.locator("#stale-solve").count(), 0);
  assert.equal(await density(), 300);
  assert.match(await page.textContent(".kept:not(.current)"), /out of date: of other tracks/);
  await page.click('.kept:not(.current) [data-act="compare"]');
  await page.waitForSelector("#compare-reading:has-text('what is placed would move by 0.')");
  assert.ok(await page.locator(".use-anyway").first().isHidden());
  await page.click('.kept:not(.current) button:has-text("Use")');
  await page.waitForSelector("#stale-solve");
  await showFrame(page, 120);
  const back = await where();
  assert.ok(Math.hypot(before[0] - back[0], before[1] - back[1]) < 0.5, `${before} and back ${back}`);
});

test("several clips are dropped at once, and what is none is named", async () => {
  const make = (name, ...more) => makeClip(join(folder.path, name), "160x90", 6, ...more);
  const files = [
    make("one.mp4", "-pix_fmt", "yuv420p"),
    make("two.mov", "-pix_fmt", "yuv420p"),
    join(folder.path, "notes.txt"),
  ];
  writeFileSync(files[2], "no clip");
  await page.goto(server.address);
  await page.setInputFiles("#files", files);
  await page.waitForSelector("#upload-taken:has-text('2 shots were taken in')");
  assert.match(await page.textContent("#upload-refused"), /Not taken: notes\.txt/);
  await page.waitForSelector(".shot-name:text-is('two')");
  assert.ok(await page.locator(".shot-name:text-is('one')").count());
});

test("a deleted shot can be brought back, and what takes room is told", async () => {
  page.on("dialog", (dialog) => dialog.accept());
  await page.click('.shot-row[data-shot="2"] button:has-text("Delete")');
  await page.waitForSelector(".deleted-line:has-text('finished')");
  assert.equal(await page.locator('.shot-row[data-shot="2"]').count(), 0);
  await page.click(".deleted-line button");
  await page.waitForSelector('.shot-row[data-shot="2"]');
  await page.click("#room > summary");
  await page.waitForSelector("#room-part:has-text('previews')");
  const previews = () =>
    page.evaluate(() => Number(document.querySelector("#room-part").textContent.match(/previews\s*([\d.]+) MB/)[1]));
  const before = await previews();
  assert.ok(before > 10, `${before} MB`);
  await page.click("#free-previews");
  await page.waitForFunction(
    (before) =>
      Number(document.querySelector("#room-part").textContent.match(/previews\s*([\d.]+) MB/)?.[1] ?? before) <
      before / 2,
    before,
  );
  // Its scripts may come late.
  await page.route("**/static/js/main.js*", async (route) => {
    await new Promise((r) => setTimeout(r, 1000));
    await route.continue();
  });
  await page.click('.shot-row[data-shot="2"] a');
  await showFrame(page, 30);
});
