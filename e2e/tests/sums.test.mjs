// The scripts' own sums, without a page.
import assert from "node:assert/strict";
import { test } from "node:test";
import { across, centre, dot, meetPlane, project, ray } from "../../crates/app/static/js/camera.js";
import { chosenBy } from "../../crates/app/static/js/cleanup.js";
import { compared } from "../../crates/app/static/js/compare.js";
import { counts, readTracks, trackAt } from "../../crates/app/static/js/tracks.js";

const c = Math.cos(0.4), s = Math.sin(0.4);
const camera = { frame: 0, r: [[c, 0, s], [0, -1, 0], [s, 0, -c]], t: [0.3, 2, 9], f: 900, c: [639.5, 359.5], k: [-0.05, 0.01], rms: 0, n: 0 };

test("a ray through a pixel meets the point that is seen there", () => {
  for (const p of [[0.5, 0, -1], [-2, 0, 1], [1.5, 0, 2]]) {
    const hit = meetPlane(ray(camera, ...project(camera, p)), [0, 0, 0], [0, 1, 0]);
    assert.ok(Math.hypot(...hit.map((v, i) => v - p[i])) < 1e-6, `${hit} for ${p}`);
  }
  assert.equal(project(camera, centre(camera).map((v, i) => v - camera.r[2][i])), null, "behind the camera");
});

test("two unit vectors lie across any normal", () => {
  for (const n of [[0, 1, 0], [0, 0, 1], [0.6, 0, 0.8]]) {
    const [u, v] = across(n);
    for (const d of [dot(u, n), dot(v, n), dot(u, v), dot(u, u) - 1, dot(v, v) - 1]) assert.ok(Math.abs(d) < 1e-9);
  }
});

test("a track run is read as it was written", () => {
  const words = new DataView(new ArrayBuffer(8 + 4 * 13));
  const put = [640, 360, 10, 1, 4, 1, 7, 3, 2];
  put.forEach((v, i) => words.setUint32(8 + 4 * i, v, true));
  [1.5, 2.5, 3.5, 4.5].forEach((v, i) => words.setFloat32(8 + 4 * (9 + i), v, true));
  const tracks = readTracks(words.buffer);
  assert.deepEqual([tracks.length, tracks[0].id, tracks[0].first], [1, 7, 3]);
  assert.deepEqual([trackAt(tracks[0], 4), trackAt(tracks[0], 5), trackAt(tracks[0], 2)], [[3.5, 4.5], null, null]);
  assert.deepEqual([...counts(tracks, 6)], [0, 0, 0, 1, 1, 0]);
});

test("a frame on which a point was out of sight has no place and counts for nothing", () => {
  const track = { id: 1, first: 2, xy: new Float32Array([1, 1, NaN, NaN, 3, 3]) };
  assert.deepEqual([trackAt(track, 2), trackAt(track, 3), trackAt(track, 4)], [[1, 1], null, [3, 3]]);
  assert.deepEqual([...counts([track], 6)], [0, 0, 1, 0, 1, 0]);
});

test("filters take what they say and leave the deleted alone", () => {
  const track = (id, frames) => ({ id, first: 0, xy: new Float32Array(2 * frames) });
  const model = { tracks: [track(1, 5), track(2, 50), track(3, 9), track(4, 4)], rmsOf: new Map([[1, 0.2], [2, 0.9], [4, 3]]), deleted: new Set([4]), cameras: [{}] };
  assert.deepEqual(chosenBy(model, "error", 0.5), [2]);
  assert.deepEqual(chosenBy(model, "short", 10), [1, 3]);
  assert.deepEqual(chosenBy(model, "astray", 0), [3]);
  assert.deepEqual(chosenBy({ ...model, cameras: [] }, "astray", 0), [], "without a camera nothing is astray");
});

test("two solves are compared frame by frame", () => {
  const now = [{ frame: 0, rms: 0.3, f: 900 }, { frame: 1, rms: 0.2, f: 900 }, { frame: 2, rms: 0.9, f: 900 }];
  const other = [{ frame: 1, rms: 0.25, f: 909 }, { frame: 2, rms: 0.4, f: 900 }];
  assert.equal(compared(now, other), "lower error on 1 of 2 frames · differs most on frame 2: 0.40 against 0.90 px · focal length apart by up to 1.00 %");
  assert.match(compared(now, []), /no frame in common/);
});
