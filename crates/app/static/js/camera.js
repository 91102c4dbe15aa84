// @ts-check
/** Sums with the cameras that the server gave. No DOM; run by `node --test`. */

/**
 * @typedef {{frame: number, r: number[][], t: number[], f: number, c: number[], k: number[], rms: number, n: number,
 * slip: number, spread: number[]}} Camera
 * @typedef {[number, number, number]} Vec
 */

/** World point to the camera frame. @param {Camera} camera @param {number[]} p @returns {Vec} */
export function toCamera(camera, p) {
  const { r, t } = camera;
  const row = (/** @type {number} */ i) => r[i][0] * p[0] + r[i][1] * p[1] + r[i][2] * p[2] + t[i];
  return [row(0), row(1), row(2)];
}

/** Pixel of a world point, or null behind the camera. @param {Camera} camera @param {number[]} p */
export function project(camera, p) {
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
  const { r } = camera;
  return {
    from: centre(camera),
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
