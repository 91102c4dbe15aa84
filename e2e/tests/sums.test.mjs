// The scripts' own sums, without a page.
import assert from "node:assert/strict";
import { test } from "node:test";
import { across, centre, dot, meetPlane, nearestPlace, project, ray } from "../../crates/app/static/js/math/camera.js";
import { chosenBy } from "../../crates/app/static/js/math/filter.js";
import { focalSpan, stretches } from "../../crates/app/static/js/stations/focal-curve.js";
import {
  contains,
  countsOn,
  fromLine,
  alongAt,
  bounding,
  outlineAt,
  pieces,
  placesOf,
  withCorner,
  withKey,
  withoutCorner,
  withoutKey,
} from "../../crates/app/static/js/math/outline.js";
import { dropReading, worstAbove } from "../../crates/app/static/js/math/worst.js";
import { ellipse } from "../../crates/app/static/js/math/spread.js";
import { compared } from "../../crates/app/static/js/math/compare.js";
import { lampLines } from "../../crates/app/static/js/math/lamp.js";
import { toneAt } from "../../crates/app/static/js/math/tone-curve.js";
import { counts, readTracks, trackAt } from "../../crates/app/static/js/math/tracks.js";
import { rest, settle, straighten } from "../../crates/app/static/js/math/snap.js";

const c = Math.cos(0.4),
  s = Math.sin(0.4);
const camera = {
  frame: 0,
  r: [
    [c, 0, s],
    [0, -1, 0],
    [s, 0, -c],
  ],
  t: [0.3, 2, 9],
  f: 900,
  c: [639.5, 359.5],
  k: [-0.05, 0.01],
  rms: 0,
  n: 0,
};

test("a ray through a pixel meets the point that is seen there", () => {
  for (const p of [
    [0.5, 0, -1],
    [-2, 0, 1],
    [1.5, 0, 2],
  ]) {
    const hit = meetPlane(ray(camera, ...project(camera, p)), [0, 0, 0], [0, 1, 0]);
    assert.ok(Math.hypot(...hit.map((v, i) => v - p[i])) < 1e-6, `${hit} for ${p}`);
  }
  assert.equal(
    project(
      camera,
      centre(camera).map((v, i) => v - camera.r[2][i]),
    ),
    null,
    "behind the camera",
  );
});

test("the place that suits several rays best is where they meet, and rays side by side have none", () => {
  const place = [0.4, -0.2, 1.1];
  const from = [
    [0, 0, 0],
    [2, 1, 0],
    [-1, 3, 0.5],
  ];
  const rays = from.map((f) => ({ from: f, along: place.map((v, i) => v - f[i]) }));
  assert.ok(Math.hypot(...nearestPlace(rays).map((v, i) => v - place[i])) < 1e-9);
  // One ray that is off pulls the place only part of the way.
  const off = nearestPlace([...rays, { from: [0, 0, 0], along: [0.4, 0.8, 1.1] }]);
  assert.ok(Math.abs(off[1] - place[1]) > 0.01 && Math.abs(off[1] - place[1]) < 0.5, `${off}`);
  assert.equal(nearestPlace(from.map((f) => ({ from: f, along: [0, 0, 1] }))), null);
});

test("the curve of the focal length keeps a fixed lens level and does not bridge a gap", () => {
  const fixed = focalSpan([
    { frame: 0, f: 1000 },
    { frame: 1, f: 1000.2 },
  ]);
  assert.ok(fixed.to - fixed.from > 15 && fixed.low === 1000);
  const zoom = focalSpan([
    { frame: 0, f: 800 },
    { frame: 9, f: 1200 },
  ]);
  assert.ok(zoom.from < 800 && zoom.to > 1200 && zoom.to < 1300);
  assert.deepEqual(
    stretches([0, 1, 2, 5, 6].map((frame) => ({ frame, f: 1 }))).map((r) => r.length),
    [3, 2],
  );
  assert.deepEqual(stretches([]), []);
});

test("two unit vectors lie across any normal", () => {
  for (const n of [
    [0, 1, 0],
    [0, 0, 1],
    [0.6, 0, 0.8],
  ]) {
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
  const track = (id, frames, first = 0, at = [5, 5]) => ({
    id,
    first,
    xy: new Float32Array(Array.from({ length: frames }, () => at).flat()),
  });
  const tracks = [
    track(1, 5),
    track(2, 50, 0, [200, 100]),
    track(3, 9, 20),
    track(4, 4),
    track(5, 30, 60),
    track(6, 12, 70),
  ];
  const model = {
    tracks,
    rmsOf: new Map([
      [1, 0.2],
      [2, 0.9],
      [4, 3],
    ]),
    outliers: new Map([
      [3, { reason: "image-static" }],
      [4, { reason: "partial-inlier" }],
      [5, { reason: "far" }],
      [6, { reason: "short" }],
    ]),
    deleted: new Set([4]),
    cameras: [{}],
    frame: 2,
    state: { width: 300, height: 150 },
  };
  const chosen = (kind, more = {}, of = model) => chosenBy(of, { kind, limit: 0, from: 0, to: 0, parts: [], ...more });
  assert.deepEqual(chosen("error", { limit: 0.5 }), [2]);
  assert.deepEqual(chosen("short", { limit: 10 }), [1, 3]);
  assert.deepEqual(chosen("span", { from: 25, to: 40 }), [2, 3]);
  assert.deepEqual(chosen("whole", { from: 20, to: 28 }), [2, 3]);
  assert.deepEqual(chosen("whole", { from: 20, to: 29 }), [2]);
  assert.deepEqual(chosen("region", { parts: [0] }), [1], "in the first part on this frame");
  assert.deepEqual(chosen("region", { parts: [8] }), [2]);
  assert.deepEqual(chosen("outliers"), [3], "neither what is far off nor what is too short to tell");
  assert.deepEqual(chosen("unused"), [3, 5, 6]);
  assert.deepEqual(chosen("unused", {}, { ...model, cameras: [] }), [], "without a camera nothing is used yet");
});

const square = (x) => [
  [x, 0],
  [x + 10, 0],
  [x + 10, 10],
  [x, 10],
];
const mask = {
  id: 1,
  name: "m",
  mode: "keep-out",
  keys: [
    { frame: 10, outline: square(0) },
    { frame: 20, outline: square(40) },
  ],
  smooth: [],
  inverted: false,
  span: null,
};

test("a mask moves between its keys, is held outside them, and is keyed by being set", () => {
  assert.deepEqual(
    [0, 15, 99].map((f) => outlineAt(mask, f)[0][0]),
    [0, 20, 40],
  );
  const keyed = withKey(withKey(mask, 15, square(7)), 15, square(9));
  assert.deepEqual(
    keyed.keys.map((k) => k.frame),
    [10, 15, 20],
  );
  assert.equal(outlineAt(keyed, 15)[0][0], 9);
  assert.deepEqual(keyed.by_hand, [15], "what was set by hand is known");
  assert.deepEqual(withoutKey(keyed, 15), { ...mask, by_hand: [] });
  assert.equal(withoutKey({ ...mask, keys: [mask.keys[0]] }, 10).keys.length, 1, "the last key stays");
  assert.ok(countsOn(mask, 5) && !countsOn({ ...mask, span: [6, 9] }, 5) && countsOn({ ...mask, span: [6, 9] }, 9));
});

test("corners are added and taken away on every key", () => {
  const more = withCorner(mask, 3);
  assert.deepEqual(
    more.keys.map((k) => k.outline[4]),
    [
      [0, 5],
      [40, 5],
    ],
  );
  assert.deepEqual(withoutCorner(more, 4).keys, mask.keys);
  const three = withoutCorner(mask, 0);
  assert.equal(withoutCorner(three, 0), three, "three corners stay");
});

test("what is known between corners goes along with them, and stays as corners come and go", () => {
  const along = [
    [[5, -3]],
    [],
    [
      [8, 12],
      [2, 13],
    ],
    [],
  ];
  const traced = { ...mask, keys: [mask.keys[0], { ...mask.keys[1], along }] };
  assert.deepEqual(alongAt(traced, 99), along, "held behind the last key");
  assert.equal(alongAt(traced, 15), null, "between keys corners go straight on");
  const line = (m, f) => placesOf(outlineAt(m, f), alongAt(m, f)).map((p) => p.at);
  assert.deepEqual(
    placesOf(square(0), along).map((p) => p.of),
    [0, 0, 1, 2, 2, 2, 3],
  );
  const pulled = square(40).map((p, i) => (i === 2 ? [p[0] + 9, p[1]] : p));
  const nearer = (/** @type {number[]} */ p) => {
    const [to, next] = [2, 3].map((k) => Math.hypot(p[0] - square(40)[k][0], p[1] - square(40)[k][1]));
    return next / (to + next);
  };
  const gone = withKey(traced, 20, pulled).keys[1].along;
  assert.deepEqual([gone[0], gone[1], gone[3]], [[[5, -3]], [], []]);
  along[2].forEach((p, k) => {
    assert.ok(Math.abs(gone[2][k][0] - p[0] - 9 * nearer(p)) < 1e-9, "the nearer to the corner the more");
    assert.equal(gone[2][k][1], p[1]);
  });
  assert.deepEqual(line(withKey(traced, 30, outlineAt(traced, 30)), 30), line(traced, 20), "on another frame");
  const more = withCorner(traced, 2);
  assert.deepEqual(more.keys[1].outline[3], [2, 13], "one of the places becomes a corner");
  assert.equal(more.keys[0].outline.length, 5);
  assert.deepEqual(line(more, 20), line(traced, 20));
  const fewer = withoutCorner(withoutCorner(more, 3), 0);
  assert.deepEqual([fewer.keys[1].outline.length, fewer.keys[1].along.length], [3, 3]);
  const round = line(fewer, 20);
  assert.deepEqual([round.at(-2), round.at(-1)], [outlineAt(traced, 20)[0], [5, -3]], "the corner is a place now");
});

test("a way in to a hole and out again bounds nothing, goes along with its corners, and gets no corner", () => {
  const hole = [
      [3, 3],
      [3, 6],
      [6, 6],
      [6, 3],
      [3, 3],
    ],
    corners = square(0),
    along = [[...hole, corners[0], [5, -1]], [], [], []],
    holed = { ...mask, keys: [{ frame: 0, outline: corners, along }] };
  const line = (/** @type {any} */ m) => placesOf(outlineAt(m, 0), alongAt(m, 0)).map((p) => p.at);
  const ends = (/** @type {any} */ m) => bounding(line(m)).filter((is) => !is).length;
  assert.deepEqual(bounding(line(holed)).slice(0, 7), [false, true, true, true, true, false, true]);
  assert.equal(ends({ ...mask, keys: [{ frame: 0, outline: corners }] }), 0);
  const pulled = withKey(
    holed,
    0,
    corners.map((p, i) => (i ? p : [-0.7, -2.3])),
  );
  assert.equal(ends(pulled), 2, "it comes back by the way on which it went");
  assert.ok(!contains(line(pulled), [4.5, 4.5]) && contains(line(pulled), [7.5, 5]));
  const more = withCorner(holed, 0);
  assert.deepEqual(more.keys[0].outline[1], [5, -1], "on the line itself");
  assert.equal(ends(withoutCorner(more, 1)), 2);
  const bare = withCorner(
    { ...holed, keys: [{ frame: 0, outline: corners, along: [along[0].slice(0, 6), [], [], []] }] },
    0,
  );
  assert.deepEqual(bare.keys[0].outline[1], [5, 0], "half the way where nothing else lies between");
  assert.equal(ends(bare), 2);
});

test("straight corners make straight pieces and smooth ones bulge", () => {
  const [first] = pieces(square(0), []);
  assert.deepEqual([first.c[1], first.d[1]], [0, 0]);
  const [round] = pieces(square(0), [true, true, true, true]);
  assert.ok(round.c[1] < 0 && round.d[1] < 0, "the upper side bulges upwards");
  assert.ok(contains(square(0), [5, 5]) && !contains(square(0), [15, 5]));
  assert.deepEqual([fromLine([5, 3], [0, 0], [10, 0]), fromLine([-3, 4], [0, 0], [10, 0])], [3, 5]);
});

test("dropping the worst tells how many go and what the error becomes", () => {
  const points = [
    { id: 1, rms: 0.1, views: 90 },
    { id: 2, rms: 0.2, views: 10 },
    { id: 3, rms: 1, views: 10 },
  ];
  const of = worstAbove(points, 0.5);
  assert.deepEqual(of.tracks, [3]);
  assert.ok(
    Math.abs(of.before - Math.sqrt((0.9 + 0.4 + 10) / 110)) < 1e-12 &&
      Math.abs(of.after - Math.sqrt(1.3 / 100)) < 1e-12,
  );
  assert.match(dropReading(of, 3), /^1 of 3 tracks go · 0\.321 px now, 0\.114 px without them$/);
  assert.match(dropReading(worstAbove(points, 9), 3), /no track is worse/);
});

test("a covariance is seen as the ellipse of its axes", () => {
  const flat = ellipse([4, 0, 0, 1, 0, 9], [1, 0, 0], [0, 1, 0]);
  assert.ok(Math.abs(flat.long - 2) < 1e-12 && Math.abs(flat.short - 1) < 1e-12 && Math.abs(flat.turn) < 1e-12);
  const tilted = ellipse([2.5, 1.5, 0, 2.5, 0, 0], [1, 0, 0], [0, 1, 0]);
  assert.ok(Math.abs(tilted.long - 2) < 1e-9 && Math.abs(tilted.turn - Math.PI / 4) < 1e-9);
  assert.deepEqual(ellipse([0, 0, 0, 0, 0, 0], [1, 0, 0], [0, 1, 0]).long, 0);
});

test("two solves are compared frame by frame", () => {
  const now = [
    { frame: 0, rms: 0.3, f: 900 },
    { frame: 1, rms: 0.2, f: 900 },
    { frame: 2, rms: 0.9, f: 900 },
  ];
  const other = [
    { frame: 1, rms: 0.25, f: 909 },
    { frame: 2, rms: 0.4, f: 900 },
  ];
  assert.equal(
    compared(now, other),
    "lower error on 1 of 2 frames · differs most on frame 2: 0.40 against 0.90 px · focal length apart by up to 1.00 %",
  );
  assert.match(compared(now, []), /no frame in common/);
});

test("numbers with units are read as the server reads them", async () => {
  const { readFileSync } = await import("node:fs");
  const { readValue, shownValue } = await import("../../crates/app/static/js/math/values.js");
  const cases = JSON.parse(readFileSync(new URL("../golden/quantities.json", import.meta.url)));
  for (const { text, measure, value } of cases) {
    const found = readValue(text, measure);
    if (value === null) assert.equal(found, null, text);
    else
      assert.ok(
        found !== null && Math.abs(found - value) <= 1e-9 * Math.max(Math.abs(value), 1),
        `${text}: ${found}, not ${value}`,
      );
  }
  for (const [value, text] of [
    [-0.219129229015524, "-0.219"],
    [100, "100"],
    [0.5, "0.5"],
    [-0.0001, "0"],
  ])
    assert.equal(shownValue(value), text);
});

test("a thing that is dragged rests on edges and feet, in line with others, and at straight angles", () => {
  // One metre is 50 px.
  const apart = (a, b) => 50 * Math.hypot(...a.map((v, i) => v - b[i]));
  const thing = { normal: [0, 1, 0], right: [1, 0, 0], ahead: [0, 0, -1] };
  const others = {
    feet: [[2, 0, 3]],
    edges: [
      [
        [5, 0, -4],
        [5, 0, 4],
      ],
      [
        [0, 2, 0],
        [1, 2, 0],
      ],
    ],
  };
  const at = (p, o = others) => rest({ at: p, ...thing }, o, apart);
  assert.deepEqual(at([2.1, 0, 3.05]).at, [2, 0, 3], "onto the foot of another");
  assert.deepEqual(at([4.9, 0, 1]).at, [5, 0, 1], "onto an edge of its own surface");
  assert.deepEqual(at([0.5, 0, 0.02]).at, [0.5, 0, 0.02], "an edge of another surface does not pull");
  const inLine = at([2.08, 0, 0]);
  assert.deepEqual(inLine.at, [2, 0, 0]);
  assert.equal(inLine.marks.length, 1);
  assert.deepEqual(at([0, 0, 2.9]).at, [0, 0, 3]);
  const far = at([0.4, 0, 1.2]);
  assert.deepEqual([far.at, far.marks], [[0.4, 0, 1.2], []], "what is far pulls nothing");

  const deg = Math.PI / 180,
    turned = (d) => [Math.cos(d * deg), 0, -Math.sin(d * deg)];
  const further = (d, o = []) => straighten(turned(d), [0, 1, 0], [1, 0, 0], o) / deg;
  assert.ok(Math.abs(further(43.5) - 1.5) < 1e-9 && Math.abs(further(-91.2) - 1.2) < 1e-9);
  assert.equal(further(20), 0);
  assert.ok(Math.abs(further(18.6, [turned(20)]) - 1.4) < 1e-9, "as another thing is turned");
  assert.ok(Math.abs(further(111, [turned(20)]) + 1) < 1e-9, "at right angles to it");

  assert.equal(settle(0.1, [], 50), 0);
  assert.equal(settle(1.95, [2], 50), 2);
  assert.equal(settle(1, [2], 50), 1);
});

test("a curve of tones goes through its places, and nowhere beyond them", () => {
  const straight = [0, 0.25, 0.5, 0.75, 1];
  for (const x of [0, 0.1, 0.37, 0.5, 0.99, 1]) assert.ok(Math.abs(toneAt(straight, x) - x) < 1e-9);
  const bent = [0.1, 0.1, 0.8, 0.75, 1];
  bent.forEach((y, k) => assert.ok(Math.abs(toneAt(bent, k / 4) - y) < 1e-9, `place ${k}`));
  const all = Array.from({ length: 101 }, (_, i) => toneAt(bent, i / 100));
  assert.ok(Math.min(...all) >= 0.1 - 1e-9 && Math.max(...all) <= 1 + 1e-9);
  // By hand; the picture's own curve is held to the same.
  assert.ok(Math.abs(toneAt([0, 0.15, 0.5, 0.85, 1], 0.3) - 0.20208) < 1e-9);
});

test("a lamp is drawn as it shines: a cone down to the floor, a rectangle, a height", () => {
  const axes = [
    [1, 0, 0],
    [0, 1, 0],
    [0, 0, 1],
  ];
  const hung = { scale: 2, axes, shift: [1, 4, 0] };
  const lamp = { form: "spot", cone_deg: 90, radius_m: 0.1, size_m: [1, 2] };
  const [edge, ray] = lampLines(lamp, {}, 0, hung);
  assert.ok(
    edge.every((p) => Math.abs(p[1]) < 1e-9),
    "its edge lies on the floor",
  );
  assert.ok(Math.abs(Math.hypot(edge[3][0] - 1, edge[3][2]) - 4) < 1e-9, "half of 90 degrees, four metres up");
  assert.deepEqual(ray[0], [1, 4, 0]);
  const keyed = { cone: { keys: [{ frame: 0, value: 60, ease: "linear" }] } };
  assert.ok(Math.abs(lampLines(lamp, keyed, 0, hung)[0][0][0] - 1 - 4 / Math.sqrt(3)) < 1e-9, "a value over time");
  const [corners] = lampLines({ ...lamp, form: "area" }, {}, 0, hung);
  assert.deepEqual(corners[0], [0, 4, -2]);
  const [, height] = lampLines({ ...lamp, form: "point" }, {}, 0, hung);
  assert.ok(Math.abs(height[1][1]) < 1e-9, "down to the floor");
});
