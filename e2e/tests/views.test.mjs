// Views from outside, the lanes' counts and the frame buffer, without a page.
import assert from "node:assert/strict";
import { before, test } from "node:test";

let SceneView, Frames, ramp, isDark, dot;

before(async () => {
  // The palette is read from the style sheet; here there is none.
  globalThis.document = { documentElement: {} };
  globalThis.getComputedStyle = () => ({ getPropertyValue: () => "#000" });
  ({ SceneView } = await import("../../crates/app/static/js/viewport/scene-view.js"));
  ({ Frames } = await import("../../crates/app/static/js/state/frames.js"));
  ({ ramp, isDark } = await import("../../crates/app/static/js/viewport/ramp.js"));
  ({ dot } = await import("../../crates/app/static/js/math/camera.js"));
});

const points = Array.from({ length: 60 }, (_, i) => ({
  id: i,
  x: [Math.sin(i) * 4, (i % 5) * 0.5, Math.cos(2 * i) * 6],
  rms: 0.1,
}));
const model = () => ({
  points,
  cameras: [
    {
      r: [
        [1, 0, 0],
        [0, -1, 0],
        [0, 0, -1],
      ],
      t: [0, 2, 9],
    },
  ],
  state: { width: 1280, height: 720, floor: null, inserts: [] },
});

test("in every view from outside the line of sight under a point's mark passes through the point", () => {
  const view = new SceneView(model());
  for (const kind of ["top", "front", "side", "free"]) {
    view.lay(kind, 600, 400);
    view.zoomAt([210, 130], 1.7);
    view.shift[0] += 12;
    for (const { x } of points) {
      const { from, along } = view.rayAt(view.toStage(x));
      const off = x.map((v, i) => v - from[i]),
        far = dot(off, along);
      const miss = Math.hypot(...off.map((v, i) => v - far * along[i]));
      assert.ok(miss < 1e-6 && far > 0, `${kind}: ${miss}`);
    }
  }
});

test("the axes of a view are at right angles, and up is up", () => {
  const view = new SceneView(model());
  for (const kind of ["top", "front", "side", "free"]) {
    const { right, up, near } = view.axes(kind);
    for (const d of [dot(right, up), dot(up, near), dot(near, right), dot(up, up) - 1]) assert.ok(Math.abs(d) < 1e-12);
  }
  view.lay("side", 600, 400);
  assert.ok(view.toStage([0, 2, 0])[1] < view.toStage([0, 0, 0])[1], "higher is further up");
  view.lay("top", 600, 400);
  assert.ok(view.toStage([2, 0, 0])[0] > view.toStage([0, 0, 0])[0], "X is to the right");
});

test("zooming keeps what is under the pointer there, and a fit takes it back", () => {
  const view = new SceneView(model());
  view.lay("top", 600, 400);
  const at = [137, 288],
    before = view.toStage([1, 0, 1]);
  const held = view.rayAt(at).from;
  view.zoomAt(at, 2.3);
  assert.ok(Math.hypot(...view.toStage(held).map((v, i) => v - at[i])) < 1e-6);
  view.fit();
  assert.deepEqual(view.toStage([1, 0, 1]), before);
});

test("a few far points do not shrink the rest, and no point at all is no fault", () => {
  const far = model();
  far.points = points.concat([{ id: 99, x: [5e4, 0, 0], rms: 0 }]);
  const [one, two] = [new SceneView(model()), new SceneView(far)];
  one.lay("top", 600, 400);
  two.lay("top", 600, 400);
  assert.ok(two.frame.size > 0.7 * one.frame.size, `${two.frame.size} ${one.frame.size}`);
  const empty = new SceneView({ ...model(), points: [], cameras: [] });
  empty.lay("top", 600, 400);
  assert.ok(empty.toStage([0, 0, 0]).every(Number.isFinite));
});

test("the ramp runs from dark to light without going back", () => {
  const light = (text) => {
    const [r, g, b] = text.match(/[\d.]+/g).map(Number);
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  };
  let last = -1;
  for (let t = 0; t <= 1; t += 0.125) {
    const l = light(ramp(t));
    assert.ok(l > last, `${t}: ${l}`);
    last = l;
  }
  assert.equal(ramp(-3), ramp(0));
  assert.equal(ramp(9), ramp(1));
  for (const t of [0, 0.2, 0.4, 0.6, 0.8, 1]) assert.equal(isDark(t), light(ramp(t)) < 128, `${t}: ${light(ramp(t))}`);
});

/** Frames over a made-up server; every bitmap remembers whether it was closed. */
function buffered(count, budget = 1e9) {
  const open = new Set();
  globalThis.fetch = async (address) => ({ ok: !address.endsWith("/4"), blob: async () => ({ address, size: 1000 }) });
  globalThis.createImageBitmap = async ({ address }) => {
    const bitmap = { address, close: () => open.delete(bitmap) };
    open.add(bitmap);
    return bitmap;
  };
  const frames = new Frames(
    (f) => `plate/${f}`,
    () => {},
    budget,
  );
  frames.reset(count);
  return { frames, open };
}
/** Everything that the made-up server answers has been taken in: it answers within the turn of the event loop. */
const settled = () => new Promise((r) => setImmediate(r));

test("all frames are fetched once, a broken one is passed over, and few stay decoded", async () => {
  const { frames, open } = buffered(120);
  await settled();
  assert.equal(frames.blobs.size, 119);
  assert.deepEqual([...frames.failed], [4]);
  for (let f = 0; f < 120; f++) {
    frames.now(f);
    await Promise.resolve();
  }
  await settled();
  assert.ok(open.size < 50, `${open.size} are held decoded`);
  frames.now(100);
  await settled();
  assert.equal(frames.now(100)?.address, "plate/100");
});

test("nothing is fetched ahead while something else is in a hurry", async () => {
  const { frames } = buffered(0);
  let dragged = true;
  frames.waits = () => dragged;
  frames.reset(30);
  frames.now(3);
  await settled();
  assert.equal(frames.blobs.size, 0);
  dragged = false;
  frames.now(3);
  await settled();
  assert.equal(frames.blobs.size, 29);
});

test("the picture that is seen stays whole while another state is fetched", async () => {
  const { frames, open } = buffered(10);
  await settled();
  const seen = frames.now(2);
  assert.ok(open.has(seen));
  frames.reset(10);
  assert.ok(open.has(seen) && frames.shown.bitmap === seen, "it is not closed under the view");
  await settled();
  const next = frames.now(2);
  assert.ok(next !== seen && open.has(next) && !open.has(seen), "once there is a newer one it goes");
});

test("no more frames are held than fit: those ahead of the playhead, and a few behind it", async () => {
  const { frames } = buffered(200, 50_000);
  await settled();
  const held = () => [...frames.blobs.keys()].sort((a, b) => a - b);
  assert.ok(held().length <= 50 && frames.ready(0) && frames.ready(40), String(held()));
  frames.now(120);
  await settled();
  assert.ok(held().length <= 50 && held().length > 40, `${held().length} are held`);
  assert.ok(frames.ready(120) && frames.ready(150) && !frames.ready(0), String(held()));
  frames.now(118);
  await settled();
  assert.ok(frames.ready(117) || frames.ready(118), "a step back is there at once");
});
