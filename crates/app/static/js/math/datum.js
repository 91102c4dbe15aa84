// @ts-check
/** The datum as it would be after a turn and a shift, drawn in the world as it is. No DOM; run by `node --test`. */

/** A turn by degrees about X, then Y, then Z, as rows (core, scene/datum). @param {number[]} deg */
export function turnRows([x, y, z]) {
  const [a, b, c] = [x, y, z].map((d) => (d * Math.PI) / 180),
    [sa, ca, sb, cb, sc, cc] = [Math.sin(a), Math.cos(a), Math.sin(b), Math.cos(b), Math.sin(c), Math.cos(c)];
  return [
    [cc * cb, cc * sb * sa - sc * ca, cc * sb * ca + sc * sa],
    [sc * cb, sc * sb * sa + cc * ca, sc * sb * ca - cc * sa],
    [-sb, cb * sa, cb * ca],
  ];
}

/**
 * Where origin, up and ahead of the world to come lie in the one that is.
 * @param {{turn: number[], shift: number[], factor: number}} change
 * @returns {{origin: number[], normal: number[], ahead: number[], metre: number}}
 */
export function gridAfter({ turn, shift, factor }) {
  const rows = turnRows(turn);
  const back = (/** @type {number[]} */ p) =>
    [0, 1, 2].map((i) => rows[0][i] * p[0] + rows[1][i] * p[1] + rows[2][i] * p[2]);
  return {
    origin: back(shift.map((v) => -v)),
    normal: back([0, 1, 0]),
    ahead: back([0, 0, -1]),
    metre: 1 / Math.max(factor, 1e-6),
  };
}
