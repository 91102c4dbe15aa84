// Things that are placed: dragged by themselves, nudged, copied, hung, keyed in the timeline, pulled by their corners.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { edited, endAll, openStation, showFrame, startAll, stateOf, unfold, placeOnPage } from "../support.mjs";

let folder, server, browser, page;

before(async () => {
  ({ folder, server, browser, page } = await startAll());
  await page.goto(`${server.address}shots/2`);
  await page.waitForFunction(() => globalThis.fennik?.model.state);
  await page.waitForFunction(() => !document.querySelector('.job[data-kind="decode"]'), null, { timeout: 120_000 });
  await openStation(page, "inserts");
  await showFrame(page, 60);
});
after(() => endAll({ page, browser, server, folder }));

const state = () => stateOf(page);
const chosen = () =>
  page.evaluate(() => {
    const { model } = globalThis.fennik;
    return model.insert(model.chosenOf("insert"));
  });

const changed = (act) => edited(page, act);

const onPage = (at) => placeOnPage(page, at);

/** The middle of the outline of the chosen insert, on the page. */
const middle = () =>
  page.evaluate(() => {
    const { stage, model } = globalThis.fennik,
      box = stage.canvas.getBoundingClientRect(),
      outline = stage.handles.outline(model.insert(model.chosenOf("insert")));
    const [x, y] = [0, 1].map((k) => outline.reduce((sum, p) => sum + p[k], 0) / outline.length);
    return [x + box.left, y + box.top];
  });

/** The foot of the chosen insert on the picture, px. */
const foot = () =>
  page.evaluate(() => {
    const { stage, model } = globalThis.fennik,
      insert = model.insert(model.chosenOf("insert"));
    return stage.toPicture(stage.handles.spots(stage.handles.places(insert)).foot);
  });

async function placeItem(item, at) {
  await page.locator(`[data-item="${item}"]`).evaluate((b) => b.click());
  await page.waitForFunction(() => globalThis.fennik.model.tool.kind === "place", null, { timeout: 60_000 });
  assert.equal(await page.getAttribute(`[data-item="${item}"]`, "aria-pressed"), "true", "it is in hand");
  const [x, y] = await onPage(at);
  await page.mouse.move(x, y);
  await page.waitForFunction(() => globalThis.fennik.model.surface?.outline?.length > 3);
  await changed(() => page.mouse.click(x, y));
  await page.waitForFunction(
    () => globalThis.fennik.model.shapes.size === globalThis.fennik.model.state.inserts.length,
  );
}

test("an item of the library is placed, dragged by itself, and nudged by px of the picture", async () => {
  await placeItem("bollard", [420, 600]);
  assert.equal((await chosen()).content.kind, "prop");
  const [x, y] = await middle();
  await page.mouse.move(x, y);
  await page.mouse.down();
  await page.mouse.move(x + 30, y + 4, { steps: 4 });
  await changed(() => page.mouse.up());
  const [nx, ny] = await middle();
  assert.ok(Math.abs(nx - x - 30) < 4 && Math.abs(ny - y - 4) < 4, `${nx - x}, ${ny - y}`);
  const before = await foot();
  await changed(() => page.keyboard.press("Alt+ArrowRight"));
  await changed(() => page.keyboard.press("Alt+Shift+ArrowDown"));
  const now = await foot();
  assert.ok(Math.abs(now[0] - before[0] - 1) < 0.05 && Math.abs(now[1] - before[1] - 10) < 0.05, `${before} ${now}`);
});

test("a thing that is dragged comes to rest in line with another, and Shift frees it", async () => {
  // Where the pointer goes for the chosen thing to stand 2 cm beside the line through the other.
  const way = () =>
    page.evaluate(() => {
      const { stage, model } = globalThis.fennik,
        dot = (a, b) => a.reduce((sum, v, i) => sum + v * b[i], 0),
        own = stage.handles.places(model.insert(model.chosenOf("insert"))),
        other = stage.handles.places(model.state.inserts.find((i) => i.id !== model.chosenOf("insert"))),
        off = dot(
          other.foot.map((v, i) => v - own.foot[i]),
          own.right,
        ),
        to = own.foot.map((v, i) => v + own.right[i] * (off + 0.02));
      const [a, b] = [own.foot, to].map((p) => stage.worldToStage(p));
      return { off, by: [b[0] - a[0], b[1] - a[1]] };
    });
  const drag = async () => {
    const [x, y] = await middle(),
      { by } = await way();
    await page.mouse.move(x, y);
    await page.mouse.down();
    await page.mouse.move(x + 0.5 * by[0], y + 0.5 * by[1]);
    await page.mouse.move(x + by[0], y + by[1]);
    await changed(() => page.mouse.up());
    return (await way()).off;
  };
  assert.ok(Math.abs((await way()).off) > 0.5, "it stands well beside it at first");
  assert.ok(Math.abs(await drag()) < 1e-6, "exactly in line");
  await changed(() => page.click("#undo"));
  await page.keyboard.down("Shift");
  const free = await drag();
  await page.keyboard.up("Shift");
  // The pointer goes by whole pixels, which are centimetres there.
  assert.ok(Math.abs(free) > 1e-3 && Math.abs(free) < 0.15, `where the pointer was: ${free}`);
  await changed(() => page.click("#undo"));
});

test("position, turn and size need no scrolling, and values go back to what they began with", async () => {
  for (const name of ["x", "turn", "scale"]) {
    const box = await page.locator(`#sheet-body [name="${name}"]`).boundingBox();
    assert.ok(box && box.y > 0 && box.y + box.height < 620, `${name} at ${JSON.stringify(box)}`);
  }
  await changed(() =>
    page
      .locator('#sheet-body [name="scale"]')
      .fill("2")
      .then(() => page.keyboard.press("Tab")),
  );
  await page.waitForSelector('[data-act="put-back"][data-value="scale"]');
  await changed(() => page.click('[data-act="put-back"][data-value="scale"]'));
  assert.equal((await chosen()).placement.scale, 1);
});

// Fault: the view stayed where it had been moved for what was chosen before, and this lay outside it.
test("whatever is chosen, at the left or at the right, is in sight beside its sheet", async () => {
  const [first, ids] = [(await chosen()).id, []];
  for (const at of [
    [150, 640],
    [1150, 640],
  ]) {
    await placeItem("buoy", at);
    ids.push((await chosen()).id);
  }
  const [left, right] = ids;
  for (const id of [left, right, left, right]) {
    await page.click(`[data-act="choose-insert"][data-insert="${id}"]`);
    await page.waitForFunction(
      (of) => globalThis.fennik.model.chosenOf("insert") === of && globalThis.fennik.model.shapes.has(of),
      id,
    );
    const seen = await page.evaluate(() => {
      const { stage, model } = globalThis.fennik,
        across = stage.handles.outline(model.insert(model.chosenOf("insert"))).map((p) => p[0]);
      return { from: Math.min(...across), to: Math.max(...across), room: stage.size().w };
    });
    assert.ok(seen.from > 0 && seen.to < seen.room, `${id === left ? "left" : "right"}: ${JSON.stringify(seen)}`);
  }
  await changed(() => page.click("#undo"));
  await changed(() => page.click("#undo"));
  await page.click(`[data-act="choose-insert"][data-insert="${first}"]`);
});

test("copies stand in a row, one is taken out, and is hung on the others", async () => {
  await unfold(page, "group-copies");
  await changed(() => page.selectOption('#sheet-body [name="copies"]', "row"));
  await page.waitForSelector("#copy-number");
  const id = (await chosen()).id;
  await page.selectOption("#copy-number", "3");
  await changed(() => page.click('[data-act="take-out"]'));
  const all = (await state()).inserts;
  assert.deepEqual(all.find((i) => i.id === id).copies.out, [2]);
  const own = all[all.length - 1];
  await page.locator(`[data-act="choose-insert"][data-insert="${own.id}"]`).click();
  await page.waitForSelector(`.insert-form[data-insert="${own.id}"]`);
  await unfold(page, "group-kin");
  const before = await foot();
  await changed(() => page.selectOption("#hang-on", String(id)));
  const now = await foot();
  assert.ok(Math.hypot(now[0] - before[0], now[1] - before[1]) < 0.01, "it stays where it is");
  assert.equal((await chosen()).parent, id);
});

test("a locked thing stays, and a hidden one is not seen", async () => {
  const { id } = await chosen();
  await changed(() => page.click('#sheet-body [data-act="switch"][data-value="locked"]'));
  await page.waitForSelector('#sheet-body [data-act="switch"][data-value="locked"][aria-pressed="true"]');
  const before = (await chosen()).placement;
  await page.keyboard.press("Alt+ArrowRight");
  const [x, y] = await middle();
  await page.mouse.move(x, y);
  await page.mouse.down();
  await page.mouse.move(x + 40, y, { steps: 3 });
  await page.mouse.up();
  assert.deepEqual((await chosen()).placement, before);
  await changed(() => page.click('#sheet-body [data-act="switch"][data-value="locked"]'));
  await changed(() => page.click(`[data-act="switch-line"][data-insert="${id}"][data-value="hidden"]`));
  assert.ok((await chosen()).hidden);
});

test("keys are set by moving at another frame, dragged in the timeline, and show their curve", async () => {
  await page.locator('[data-act="choose-insert"]').first().click();
  await page.waitForSelector('#sheet-body [name="text"]', { state: "attached" });
  await unfold(page, "group-keys");
  await changed(() => page.click('[data-act="arrange"][data-how="key"]'));
  await showFrame(page, 120);
  await page.waitForSelector('#sheet-body [name="lift"]');
  await changed(() =>
    page
      .locator('#sheet-body [name="lift"]')
      .fill("3")
      .then(() => page.keyboard.press("Tab")),
  );
  const keys = async () => (await chosen()).placement.anchor.lift_m.keys.map((k) => k.frame);
  assert.deepEqual(await keys(), [60, 120]);
  const grip = await page.evaluate(() => {
    const { timeline } = globalThis.fennik,
      box = timeline.canvas.getBoundingClientRect(),
      k = timeline.grips.find((g) => g.what === "key" && g.frame === 120);
    return [k.x + box.left, k.y + box.top, timeline.xOf(150) + box.left];
  });
  await page.mouse.move(grip[0], grip[1]);
  await page.mouse.down();
  await page.mouse.move(grip[2], grip[1], { steps: 5 });
  await changed(() => page.mouse.up());
  assert.deepEqual(await keys(), [60, 150]);
  await changed(() => page.keyboard.press("Control+z"));
  assert.deepEqual(await keys(), [60, 120]);
});

test("a sign's corners are pulled onto places of the picture", async () => {
  await showFrame(page, 60);
  await placeItem("lane", [640, 330]);
  await unfold(page, "group-how-it-is-seen");
  await unfold(page, "group-fit");
  await page.click('[data-act="pull-corners"]');
  const corner = () =>
    page.evaluate(() => {
      const { stage } = globalThis.fennik;
      return stage.tools.pull.corners()[2];
    });
  const was = await corner(),
    [x, y] = await onPage(was),
    [tx, ty] = await onPage([was[0] + 24, was[1] - 10]);
  await page.mouse.move(x, y);
  await page.mouse.down();
  await page.mouse.move(tx, ty, { steps: 4 });
  await changed(() => page.mouse.up());
  const reading = () => /misses by/.test(document.getElementById("pull-reading")?.textContent ?? "");
  await page.waitForFunction(reading);
  // The sheet is drawn anew after every change, and goes on saying it until the corners are let go.
  await changed(async () => {
    await page.fill('.insert-form [name="opacity"]', "0.9");
    await page.press('.insert-form [name="opacity"]', "Tab");
  });
  await page.waitForFunction(() => document.querySelector('.insert-form [name="opacity"]')?.value === "0.9");
  assert.ok(await page.evaluate(reading), "it is still said");
  assert.equal(await page.getAttribute('[data-act="pull-corners"]', "aria-pressed"), "true");
  await page.click('[data-act="pull-corners"]');
  await page.waitForFunction(() => globalThis.fennik.model.tool.kind === "select");
  assert.equal(await page.textContent("#pull-reading"), "");
});

test("seen from outside, the chosen thing fills the view and its handles stay within it", async () => {
  await showFrame(page, 60);
  await placeItem("crate", [560, 620]);
  await page.selectOption("#panes", "beside");
  await page.waitForFunction(() => globalThis.fennik.views[1].scene.frame?.kind === "top");
  const { spots, size, across } = await page.evaluate(() => {
    const [, view] = globalThis.fennik.views,
      { model, handles } = view;
    view.fitChosen();
    const insert = model.insert(model.chosenOf("insert")),
      xs = handles.outline(insert).map((p) => p[0]);
    return {
      spots: handles.spots(handles.places(insert)),
      size: view.size(),
      across: Math.max(...xs) - Math.min(...xs),
    };
  });
  for (const [name, [x, y]] of Object.entries(spots))
    assert.ok(x > 0 && x < size.w && y > 0 && y < size.h, `${name} at ${x}, ${y} of ${size.w} x ${size.h}`);
  assert.ok(across > 0.15 * size.w && across < size.w, `the thing is ${across} px wide of ${size.w}`);
  // All of it is what stands far outside the points as well.
  await changed(() =>
    page.evaluate(() => {
      const { model } = globalThis.fennik,
        insert = structuredClone(model.insert(model.chosenOf("insert")));
      insert.placement.anchor.foot = [90, 0, 0];
      return model.edit({ edit: "change-insert", insert });
    }),
  );
  const far = await page.evaluate(async () => {
    const [, view] = globalThis.fennik.views;
    view.fit();
    await new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r)));
    return { at: view.worldToStage([90, 0, 0]), size: view.size() };
  });
  assert.ok(far.at[0] > 0 && far.at[0] < far.size.w && far.at[1] > 0 && far.at[1] < far.size.h, `${far.at}`);
  await page.selectOption("#panes", "one");
});
