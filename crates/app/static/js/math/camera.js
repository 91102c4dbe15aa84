// @ts-check
/** Sums with the cameras that the server gave. No DOM; run by `node --test`. */

/**
 * How a camera moves about a frame, for pictures that are read row by row: turn and shift a frame, and what of them
 * grows with the square of the time (core, geometry/rolling.rs).
 * @typedef {{turn: number[], shift: number[], turn_acceleration: number[], shift_acceleration: number[]}} Velocity
 * @typedef {{frame: number, r: number[][], t: number[], f: number, c: number[], k: number[], rms: number, n: number,
 * slip: number, spread: number[], v: Velocity|null, readout: number, rows: number, origin: number[]}} Camera
 * @typedef {[number, number, number]} Vec
 */

/** Rounds in which the row on which a point is seen is found, and the step that ends them, px. */
const ROW_STEPS = 12,
  ROW_TOLERANCE_PX = 1e-6;

/** A matrix turned by an axis times an angle, from the left. @param {number[]} w @param {number[][]} r */
function turnedLeft(w, r) {
  const angle = Math.hypot(w[0], w[1], w[2]);
  if (angle < 1e-15) return r;
  const k = scale(w, 1 / angle),
    [s, c] = [Math.sin(angle), 1 - Math.cos(angle)];
  const columns = [0, 1, 2].map((i) => {
    const v = [r[0][i], r[1][i], r[2][i]],
      kv = cross(k, v);
    // Rodrigues' formula.
    return add(add(v, scale(kv, s)), scale(cross(k, kv), c));
  });
  return [0, 1, 2].map((row) => columns.map((column) => column[row]));
}

/**
 * The camera as it stands when a row of the picture is exposed.
 * @param {Camera} camera @param {number} row @returns {Camera}
 */
export function atRow(camera, row) {
  const { v, readout, rows, origin, r, t } = camera;
  const time = v ? readout * (row / Math.max(rows - 1, 1) - 0.5) : 0;
  if (!v || time === 0) return camera;
  const grown = (/** @type {number[]} */ by, /** @type {number[]} */ more) => scale(add(by, scale(more, time)), time);
  const turned = turnedLeft(grown(v.turn, v.turn_acceleration), r),
    shift = grown(v.shift, v.shift_acceleration);
  // The datum's shift is seen from a camera that has turned meanwhile.
  const seen = (/** @type {number[][]} */ m) => m.map((line) => dot(line, origin));
  return { ...camera, r: turned, t: add(add(t, shift), sub(seen(r), seen(turned))), v: null };
}

/** World point to the camera frame. @param {Camera} camera @param {number[]} p @returns {Vec} */
export function toCamera(camera, p) {
  const { r, t } = camera;
  const row = (/** @type {number} */ i) => r[i][0] * p[0] + r[i][1] * p[1] + r[i][2] * p[2] + t[i];
  return [row(0), row(1), row(2)];
}

/** Pixel of a world point, or null behind the camera. @param {Camera} camera @param {number[]} p */
export function project(camera, p) {
  let pixel = throughLens(camera, p);
  if (!pixel || !camera.v) return pixel;
  for (let i = 0; i < ROW_STEPS; i++) {
    // Far outside the picture there is no row; the nearest one's time is good enough.
    const row = Math.min(Math.max(pixel[1], -0.5), camera.rows - 0.5);
    const next = throughLens(atRow(camera, row), p);
    if (!next) return null;
    const moved = Math.hypot(next[0] - pixel[0], next[1] - pixel[1]);
    pixel = next;
    if (moved < ROW_TOLERANCE_PX) break;
  }
  return pixel;
}

/** @param {Camera} camera @param {number[]} p */
function throughLens(camera, p) {
  const [x, y, z] = toCamera(camera, p);
  if (z <= 1e-6) return null;
  const u = x / z,
    v = y / z,
    r2 = u * u + v * v;
  // Far outside the picture the lens model folds back; overlays go on straight there.
  const gain = r2 < 4 ? 1 + r2 * (camera.k[0] + r2 * camera.k[1]) : 1;
  return [camera.f * gain * u + camera.c[0], camera.f * gain * v + camera.c[1]];
}

/** Viewing ray of a pixel in the world. @param {Camera} camera @param {number} x @param {number} y */
export function ray(camera, x, y) {
  const dx = (x - camera.c[0]) / camera.f,
    dy = (y - camera.c[1]) / camera.f;
  let u = dx,
    v = dy;
  for (let i = 0; i < 20; i++) {
    const r2 = u * u + v * v,
      gain = 1 + r2 * (camera.k[0] + r2 * camera.k[1]);
    u = dx / gain;
    v = dy / gain;
  }
  const now = atRow(camera, y),
    { r } = now;
  return {
    from: centre(now),
    along: /** @type {Vec} */ ([0, 1, 2].map((i) => r[0][i] * u + r[1][i] * v + r[2][i])),
  };
}

/** @param {Camera} camera @returns {Vec} */
export function centre(camera) {
  const { r, t } = camera;
  return /** @type {Vec} */ ([0, 1, 2].map((i) => -(r[0][i] * t[0] + r[1][i] * t[1] + r[2][i] * t[2])));
}

/**
 * The place nearest to all of some rays (least squares of the distances from them), or null where they hardly differ.
 * @param {{from: number[], along: number[]}[]} rays @returns {Vec|null}
 */
export function nearestPlace(rays) {
  const m = [
      [0, 0, 0],
      [0, 0, 0],
      [0, 0, 0],
    ],
    right = [0, 0, 0];
  for (const { from, along } of rays) {
    const d = unit(along);
    for (let i = 0; i < 3; i++) {
      for (let k = 0; k < 3; k++) {
        const part = (i === k ? 1 : 0) - d[i] * d[k];
        m[i][k] += part;
        right[i] += part * from[k];
      }
    }
  }
  const columns = [0, 1, 2].map((k) => [m[0][k], m[1][k], m[2][k]]);
  const volume = dot(columns[0], cross(columns[1], columns[2]));
  if (!(volume > 1e-9 * rays.length ** 3)) return null;
  const swapped = (/** @type {number} */ k) => columns.map((c, i) => (i === k ? right : c));
  return /** @type {Vec} */ (
    [0, 1, 2].map((k) => {
      const [a, b, c] = swapped(k);
      return dot(a, cross(b, c)) / volume;
    })
  );
}

/**
 * Where a ray meets a plane, or null.
 * @param {{from: number[], along: number[]}} ray
 * @param {number[]} on
 * @param {number[]} normal
 */
export function meetPlane({ from, along }, on, normal) {
  const steep = dot(along, normal);
  const t = dot(sub(on, from), normal) / steep;
  return Math.abs(steep) > 1e-9 && t > 0 && Number.isFinite(t) ? add(from, scale(along, t)) : null;
}

/** Two unit vectors across a normal. @param {number[]} n @returns {[Vec, Vec]} */
export function across(n) {
  const seed = Math.abs(n[1]) > 0.8 ? [0, 0, 1] : [0, -1, 0];
  const b = unit(sub(seed, scale(n, dot(seed, n))));
  return [cross(n, b), b];
}

/** The middle of some places. @param {number[][]} places @returns {Vec} */
export const middleOf = (places) =>
  scale(
    places.reduce((m, p) => add(m, p), [0, 0, 0]),
    1 / Math.max(places.length, 1),
  );
/** @param {number[]} a @param {number[]} b */
export const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
/** @param {number[]} a @param {number[]} b @returns {Vec} */
export const add = (a, b) => [a[0] + b[0], a[1] + b[1], a[2] + b[2]];
/** @param {number[]} a @param {number[]} b @returns {Vec} */
export const sub = (a, b) => [a[0] - b[0], a[1] - b[1], a[2] - b[2]];
/** @param {number[]} a @param {number} s @returns {Vec} */
export const scale = (a, s) => [a[0] * s, a[1] * s, a[2] * s];
/** @param {number[]} a @param {number[]} b @returns {Vec} */
export const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
/** @param {number[]} a @returns {Vec} */
export const unit = (a) => scale(a, 1 / Math.max(Math.hypot(a[0], a[1], a[2]), 1e-12));
