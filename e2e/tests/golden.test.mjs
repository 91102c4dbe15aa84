// Laws that the server knows too, held to the same files as it is (crates/app/src/web/golden.rs).
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { test } from "node:test";
import { project, ray, unit } from "../../crates/app/static/js/math/camera.js";
import { alongAt, outlineAt, pieces, placesOf } from "../../crates/app/static/js/math/outline.js";
import { ownOf, pointBack, pointOf, standsAt, worldOf } from "../../crates/app/static/js/math/family.js";
import { holds, hullOf } from "../../crates/app/static/js/math/hull.js";
import { placeAt } from "../../crates/app/static/js/math/placement.js";

const cases = (name) => JSON.parse(readFileSync(new URL(`../golden/${name}.json`, import.meta.url)));
/** Largest difference of two lists of numbers, or of lists of them. */
const apart = (a, b) =>
  Array.isArray(a) ? Math.max(0, ...a.map((v, i) => apart(v, b[i]))) : a === b ? 0 : Math.abs(a - b);

test("points are seen where the server sees them, and pixels see what they see there, row by row", () => {
  const all = cases("cameras");
  assert.ok(all.length === 9 && all.some((c) => c.camera.v && c.camera.readout < 0));
  for (const { camera, points, pixels, rays } of all) {
    const seen = points.map((p) => project(camera, p));
    assert.ok(
      apart(seen, pixels) < 1e-6,
      `frame ${camera.frame}, readout ${camera.readout}: ${apart(seen, pixels)} px`,
    );
    pixels.forEach(([x, y], i) => {
      const { from, along } = ray(camera, x, y);
      assert.ok(apart(from, rays[i].from) < 1e-9, `from ${from}`);
      // Twenty rounds of undoing the lens against the server's own way.
      assert.ok(apart(unit(along), rays[i].along) < 1e-7, `along ${along}`);
    });
  }
});

test("outlines lie between their keys where the server has them, and bend alike", () => {
  const cubic = ({ a, b, c, d }, t) =>
    a.map((_, i) => (1 - t) ** 3 * a[i] + 3 * (1 - t) ** 2 * t * c[i] + 3 * (1 - t) * t * t * d[i] + t ** 3 * b[i]);
  for (const { outline, frame, corners, shape } of cases("outlines")) {
    assert.ok(apart(outlineAt(outline, frame), corners) < 1e-9);
    const bent = (i) => outline.smooth[i] || outline.smooth[(i + 1) % corners.length];
    const along = alongAt(outline, frame);
    const drawn = along
      ? placesOf(corners, along).map((p) => p.at)
      : pieces(corners, outline.smooth).flatMap((piece, i) =>
          bent(i) ? [...Array(10).keys()].map((k) => cubic(piece, k / 10)) : [piece.a],
        );
    assert.equal(drawn.length, shape.length);
    assert.ok(apart(drawn, shape) < 1e-9, `frame ${frame}: ${apart(drawn, shape)}`);
  }
});

test("inserts stand, turn and grow as the server has them, on and between their keys", () => {
  for (const { placement, frame, foot, baseline, up, facing, scale } of cases("placements")) {
    const here = placeAt(placement, frame);
    for (const [name, wanted] of Object.entries({ foot, baseline, up, facing, scale }))
      assert.ok(apart(here[name], wanted) < 1e-8, `${name} at ${frame}: ${here[name]} for ${wanted}`);
  }
});

test("inserts turn about their pivot, and to the camera, as the server has them", () => {
  for (const { placement, frame, eye, own, own_seen } of cases("placements")) {
    const seen = pointOf(ownOf(placement, frame, eye), own);
    assert.ok(apart(seen, own_seen) < 1e-8, `${placement.facing} at ${frame}: ${seen} for ${own_seen}`);
  }
});

test("what hangs on another goes with it, and there is a way back", () => {
  const at = (foot, scale, parent) => ({
    id: foot[0],
    parent,
    placement: { anchor: { foot, normal: [0, 1, 0], turn: [0, 0, 0, 1], lift_m: 0 }, scale, stance: "standing" },
  });
  const inserts = [at([1, 0, 0], 2), at([2, 0, 0], 1, 1), at([3, 0, 0], 1, 2)];
  assert.ok(apart(pointOf(standsAt(inserts, inserts[2], 0), [0, 0, 0]), [1 + 2 * (2 + 3), 0, 0]) < 1e-12);
  const world = worldOf(inserts, inserts[2], 0);
  assert.ok(apart(pointBack(world, pointOf(world, [4, 5, 6])), [4, 5, 6]) < 1e-12);
  const square = hullOf([
    [0, 0],
    [2, 0],
    [1, 1],
    [2, 2],
    [0, 2],
  ]);
  assert.equal(square.length, 4);
  assert.deepEqual([holds(square, [1, 1.9]), holds(square, [1, 2.1]), holds([], [0, 0])], [true, false, false]);
});
