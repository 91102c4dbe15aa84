// Every handle, both views, the datum by hand and the keyboard, on the finished demo shot.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { endAll, openStation, showFrame, startAll, unfold } from "../support.mjs";

let folder, server, browser, page;
const FRAME = 120;

before(async () => {
  ({ folder, server, browser, page } = await startAll("shots/2"));
  await page.waitForFunction(() => globalThis.fennik?.model.state?.inserts.length === 1);
  await showFrame(page, FRAME);
  await openStation(page, "inserts");
});
after(() => endAll({ page, quiet: true, browser, server, folder }));

const placement = () => page.evaluate(() => globalThis.fennik.model.state.inserts[0].placement);
const revision = () => page.evaluate(() => globalThis.fennik.model.state.revision);

/** Whatever was asked for is drawn. */
const drawn = () => page.evaluate(() => new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))));

/** Where a handle of the title is on the page. */
const handle = (name, view = 0) =>
  page.evaluate(
    ([n, v]) => {
      const { model, views } = globalThis.fennik,
        stage = views[v];
      const box = stage.canvas.getBoundingClientRect();
      const [x, y] = stage.handles.spots(stage.handles.places(model.state.inserts[0]))[n];
      return [x + box.left, y + box.top];
    },
    [name, view],
  );

/** Drags from one place of the page and waits until it is saved. */
async function drag([x, y], [dx, dy]) {
  const was = await revision();
  await page.mouse.move(x, y);
  await page.mouse.down();
  await page.mouse.move(x + dx, y + dy, { steps: 6 });
  await page.mouse.up();
  await page.waitForFunction(
    (r) => globalThis.fennik.model.state.revision !== r && !globalThis.fennik.model.moving,
    was,
  );
}

async function undo() {
  const was = await revision();
  await page.keyboard.press("Control+z");
  await page.waitForFunction((r) => globalThis.fennik.model.state.revision !== r, was);
}

test("a click on the title's foot chooses it and shows its handles", async () => {
  await page.mouse.click(...(await handle("foot")));
  await page.waitForSelector(".insert-form");
});

test("what is chosen is moved into sight once; whoever looks elsewhere is left to it", async () => {
  await page.waitForSelector("#sheet:not([hidden])");
  const left = () => page.evaluate(() => globalThis.fennik.stage.view.x);
  const box = await page.locator("#plate").boundingBox();
  await page.mouse.move(box.x + 60, box.y + 60);
  await page.mouse.down({ button: "middle" });
  // So far that the title lies beyond the right edge.
  await page.mouse.move(box.x + 600, box.y + 60, { steps: 4 });
  await page.mouse.up({ button: "middle" });
  await drawn();
  const away = await left();
  assert.ok(away > 300, String(away));
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("ArrowLeft");
  await drawn();
  assert.equal(await left(), away);
  await page.keyboard.press("f");
  await page.mouse.click(...(await handle("foot")));
});

test("loadings that overlap end with the newest state and no complaint", async () => {
  const [one, two] = await page.evaluate(() =>
    Promise.all(
      [1, 2].map(async () => {
        await globalThis.fennik.model.load();
        return globalThis.fennik.model.state.inserts.length;
      }),
    ),
  );
  assert.deepEqual([one, two], [1, 1]);
});

test("a frame that is being typed stays when news of a job come", async () => {
  await page.fill("#frame", "77");
  await page.evaluate(() => globalThis.fennik.model.load());
  assert.equal(await page.inputValue("#frame"), "77");
  await page.press("#frame", "Enter");
  await page.waitForFunction(() => globalThis.fennik.model.frame === 77);
  await showFrame(page, FRAME);
});

test("turn, lift and size change that and nothing else", async () => {
  const before = await placement();
  for (const [name, pull, key] of [
    ["turn", [-40, 10], "turn"],
    ["lift", [0, -60], "lift_m"],
    ["size", [30, 0], "scale"],
  ]) {
    await drag(await handle(name), pull);
    const after = await placement(),
      flat = ({ anchor, ...rest }) => ({ ...anchor, ...rest });
    for (const [k, was] of Object.entries(flat(before))) {
      const is = flat(after)[k];
      if (k === key) assert.notDeepEqual(is, was, `${k} stayed`);
      else assert.deepEqual(is, was, `${name} changed ${k}`);
    }
    if (name === "lift") assert.ok(after.anchor.lift_m > before.anchor.lift_m + 0.01, "up is up");
    if (name === "size") assert.ok(after.scale > before.scale + 0.01, "out is larger");
    // A turn about the upright: a quaternion about y.
    const deg = ([, y, , w]) => (2 * Math.atan2(y, w) * 180) / Math.PI;
    if (name === "turn") assert.ok(Math.abs(deg(after.anchor.turn) - deg(before.anchor.turn)) > 1);
    await undo();
    assert.deepEqual(await placement(), before);
  }
});

test("what is dragged is seen at once as a draft and exact after", async () => {
  const at = await handle("foot");
  await page.mouse.move(...at);
  await page.mouse.down();
  await page.mouse.move(at[0] + 50, at[1] + 12, { steps: 5 });
  await page.waitForFunction(() => globalThis.fennik.model.draft !== null);
  await page.mouse.up();
  await page.waitForFunction(
    (f) => globalThis.fennik.model.draft === null && globalThis.fennik.frames.ready(f),
    FRAME,
    { timeout: 90_000 },
  );
  await undo();
});

/** Chooses what the second view shows and waits until it is drawn so. */
async function seeFrom(kind) {
  await page.selectOption("#view-2 [name=view]", kind);
  await page.waitForFunction((k) => globalThis.fennik.views[1].scene.frame?.kind === k, kind);
}

test("the second view shows the scene from the top and moves the title along the ground", async () => {
  await page.keyboard.press("v");
  await page.waitForSelector("#view-2:not([hidden])");
  const widths = await page.evaluate(() => globalThis.fennik.views.map((s) => s.root.clientWidth));
  assert.ok(Math.abs(widths[0] - widths[1]) <= 1 && widths[0] > 300, String(widths));
  await page.waitForFunction(() => globalThis.fennik.views[1].scene.frame?.kind === "top");
  const drawn = await page.evaluate(() => {
    const c = document.getElementById("plate-2"),
      d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
    let n = 0;
    for (let i = 3; i < d.length; i += 4) if (d[i]) n++;
    return n;
  });
  assert.ok(drawn > 2000, `${drawn} pixels are drawn`);
  const before = await placement();
  await drag(await handle("foot", 1), [40, 25]);
  const after = await placement();
  assert.ok(
    Math.hypot(after.anchor.foot[0] - before.anchor.foot[0], after.anchor.foot[2] - before.anchor.foot[2]) > 0.05,
    "it moved",
  );
  assert.ok(Math.abs(after.anchor.foot[1] - before.anchor.foot[1]) < 1e-9, "on the ground");
  await undo();
});

test("from the side the ground lies edge-on: the foot still moves along it, and the lift lifts", async () => {
  await seeFrom("side");
  const before = await placement();
  await drag(await handle("foot", 1), [30, 8]);
  const moved = await placement();
  assert.ok(
    Math.hypot(moved.anchor.foot[0] - before.anchor.foot[0], moved.anchor.foot[2] - before.anchor.foot[2]) > 0.05 &&
      Math.abs(moved.anchor.foot[1] - before.anchor.foot[1]) < 1e-9,
    JSON.stringify(moved.anchor.foot),
  );
  await undo();
  await drag(await handle("lift", 1), [0, -30]);
  const lifted = await placement();
  assert.ok(
    lifted.anchor.lift_m > before.anchor.lift_m &&
      JSON.stringify(lifted.anchor.foot) === JSON.stringify(before.anchor.foot),
  );
  await undo();
});

test("points are selected from outside; the wheel, the middle button and a free turn move only the view", async () => {
  await seeFrom("free");
  const was = await revision();
  const box = await page.locator("#plate-2").boundingBox();
  const middle = [box.x + box.width / 2, box.y + box.height / 2];
  const scene = () =>
    page.evaluate(() => {
      const { yaw, zoom, shift } = globalThis.fennik.views[1].scene;
      return { yaw, zoom, shift: [...shift] };
    });
  const before = await scene();
  await page.mouse.move(...middle);
  await page.mouse.wheel(0, -300);
  await page.waitForFunction((z) => globalThis.fennik.views[1].scene.zoom > z, before.zoom);
  await page.mouse.down({ button: "middle" });
  await page.mouse.move(middle[0] + 30, middle[1], { steps: 3 });
  await page.mouse.up({ button: "middle" });
  await page.mouse.move(box.x + 30, box.y + box.height - 30);
  await page.mouse.down();
  await page.mouse.move(box.x + 90, box.y + box.height - 30, { steps: 3 });
  await page.mouse.up();
  const after = await scene();
  assert.ok(
    after.zoom > before.zoom && after.yaw > before.yaw && after.shift[0] !== before.shift[0],
    JSON.stringify(after),
  );
  assert.equal(await revision(), was);
  await page.keyboard.press("f");
  await seeFrom("top");
  await page.mouse.move(box.x + 20, box.y + 60);
  await page.mouse.down();
  await page.mouse.move(box.x + box.width - 20, box.y + box.height - 20, { steps: 4 });
  await page.mouse.up();
  await openStation(page, "track");
  assert.ok(Number(await page.textContent("#selected-count")) > 50);
  await page.keyboard.press("Escape");
  assert.equal(await page.textContent("#selected-count"), "0");
  // Three panes come after two, and one after those.
  await page.keyboard.press("v");
  await page.waitForSelector("#view-3:not([hidden])");
  await page.keyboard.press("v");
  await page.waitForSelector("#view-2", { state: "hidden" });
});

/** Ids of solved points that lie on the floor, far apart. */
const onFloor = () =>
  page.evaluate(() => {
    const { model } = globalThis.fennik;
    const low = model.points.filter((p) => Math.abs(p.x[1]) < 0.012 && p.rms < 0.2 && Math.hypot(p.x[0], p.x[2]) < 30);
    low.sort((a, b) => a.x[0] - b.x[0]);
    return [0, 0.2, 0.4, 0.6, 0.8, 1].map((s) => low[Math.round(s * (low.length - 1))].id);
  });
const select = (ids) =>
  page.evaluate((list) => {
    const { model } = globalThis.fennik;
    model.selected = new Set(list);
    model.select();
  }, ids);
const point = (id) => page.evaluate((i) => globalThis.fennik.model.points.find((p) => p.id === i).x, id);

async function act(name) {
  const was = await revision();
  await page.click(`[data-act="${name}"]`);
  await page.waitForFunction((r) => globalThis.fennik.model.state.revision !== r, was);
}

test("floor, origin, scale and flip are laid by hand and undone", async () => {
  await openStation(page, "datum");
  await unfold(page, "by-points");
  const ids = await onFloor();
  for (const [name, wrong] of [
    ["floor", ids.slice(0, 2)],
    ["origin", []],
    ["scale", ids.slice(0, 1)],
  ]) {
    await select(wrong);
    assert.ok(await page.isDisabled(`[data-act="${name}"]`), `${name} waits for its points`);
  }
  await select(ids);
  await act("floor");
  const floor = await page.evaluate(() => globalThis.fennik.model.state.floor);
  assert.ok(floor.points.length === 6 && floor.fit_px < 1 && floor.level_deg < 3, JSON.stringify(floor));
  assert.match(await page.textContent('.station[data-station="datum"] summary .reading'), /^(good|fair|weak): .*\d/);
  await select([ids[2]]);
  await act("origin");
  const [x, , z] = await point(ids[2]);
  assert.ok(Math.hypot(x, z) < 1e-6, "the point's foot on the floor is the origin");
  await select([ids[0], ids[4]]);
  await page.fill("#distance", "7.5");
  await act("scale");
  const [a, b] = [await point(ids[0]), await point(ids[4])];
  assert.ok(Math.abs(Math.hypot(...a.map((v, i) => v - b[i])) - 7.5) < 1e-6, "they lie 7.5 m apart");
  assert.match(await page.textContent('.station[data-station="datum"]'), /from one distance of 7.50 m/);
  const up = await page.evaluate(() => globalThis.fennik.model.camera().r[1][1]);
  await unfold(page, "by-values");
  await act("flip");
  assert.ok(
    up * (await page.evaluate(() => globalThis.fennik.model.camera().r[1][1])) < 0,
    "the camera is upside down",
  );
  for (let i = 0; i < 4; i++) await undo();
});

test("the whole page is reached by the keyboard alone, and focus is seen", async () => {
  await page.evaluate(() => {
    /** @type {HTMLElement} */ (document.activeElement)?.blur?.();
  });
  await openStation(page, "datum");
  await unfold(page, "found");
  const seen = new Set();
  for (let i = 0; i < 80; i++) {
    await page.keyboard.press("Tab");
    const here = await page.evaluate(() => {
      const e = document.activeElement,
        s = getComputedStyle(e);
      return {
        name: e.id || e.getAttribute("name") || e.textContent.trim().slice(0, 30),
        outline: s.outlineStyle !== "none" && parseFloat(s.outlineWidth) > 0,
        body: e === document.body,
      };
    });
    if (here.body) continue;
    assert.ok(here.outline, `no focus is seen on ${here.name}`);
    seen.add(here.name);
  }
  for (const name of ["help-open", "undo", "plate", "panes", "play", "frame", "worst", "lanes", "take-datum"])
    assert.ok(seen.has(name), `${name} is not reached: ${[...seen]}`);
  await page.focus("#plate");
  await page.keyboard.press("End");
  assert.equal(await page.inputValue("#frame"), "249");
  await page.keyboard.press("ArrowLeft");
  await page.keyboard.press("Shift+ArrowLeft");
  assert.equal(await page.inputValue("#frame"), "238");
  await page.keyboard.press("?");
  await page.waitForSelector("#help[open]");
  await page.keyboard.press("Escape");
  await page.waitForSelector("#help:not([open])", { state: "attached" });
});

test("at 1024 px nothing is cut off", async () => {
  await page.setViewportSize({ width: 1024, height: 700 });
  for (const two of [false, true]) {
    if (two) await page.keyboard.press("v");
    const out = await page.evaluate(() =>
      [...document.querySelectorAll(".head > *, .transport > *, .strip, .view:not([hidden])")]
        .filter((e) => {
          const b = e.getBoundingClientRect();
          return b.width > 0 && (b.right > innerWidth + 1 || b.left < -1 || b.bottom > innerHeight + 1);
        })
        .map((e) => e.id || e.className),
    );
    assert.deepEqual(out, []);
    // What switches the views is within reach however narrow they are.
    const [button, view] = [await page.locator("#panes").boundingBox(), await page.locator("#view-1").boundingBox()];
    assert.ok(button.x + button.width <= view.x + view.width, JSON.stringify([button, view]));
    assert.ok(await page.evaluate(() => document.documentElement.scrollWidth <= innerWidth));
  }
});
