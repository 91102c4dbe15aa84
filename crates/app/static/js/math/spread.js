// @ts-check
/** How far a place may be off, seen from outside. No DOM; run by `node --test`. */

/**
 * The ellipse of one deviation of a covariance (xx, xy, xz, yy, yz, zz) in the plane of two axes: half its axes and the
 * turn of the longer one, radians from the first axis towards the second.
 * @param {number[]} spread @param {number[]} right @param {number[]} up
 */
export function ellipse([xx, xy, xz, yy, yz, zz], right, up) {
  const rows = [
    [xx, xy, xz],
    [xy, yy, yz],
    [xz, yz, zz],
  ];
  const form = (/** @type {number[]} */ a, /** @type {number[]} */ b) =>
    a.reduce((s, v, i) => s + v * rows[i].reduce((t, r, k) => t + r * b[k], 0), 0);
  const [uu, uv, vv] = [form(right, right), form(right, up), form(up, up)];
  const middle = (uu + vv) / 2,
    away = Math.hypot((uu - vv) / 2, uv);
  return {
    long: Math.sqrt(Math.max(middle + away, 0)),
    short: Math.sqrt(Math.max(middle - away, 0)),
    turn: Math.atan2(2 * uv, uu - vv) / 2,
  };
}
