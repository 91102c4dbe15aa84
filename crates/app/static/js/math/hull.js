// @ts-check
/** Outlines of what is seen. No DOM; run by `node --test`. */

/**
 * The convex outline of points, counter-clockwise (Andrew, "Another Efficient Algorithm for Convex Hulls", 1979).
 * @param {number[][]} points @returns {number[][]}
 */
export function hullOf(points) {
  const sorted = [...points].sort((a, b) => a[0] - b[0] || a[1] - b[1]);
  if (sorted.length < 3) return sorted;
  const turn = (/** @type {number[]} */ a, /** @type {number[]} */ b, /** @type {number[]} */ c) =>
    (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]);
  const half = (/** @type {number[][]} */ from) => {
    /** @type {number[][]} */ const kept = [];
    for (const p of from) {
      while (kept.length > 1 && turn(kept[kept.length - 2], kept[kept.length - 1], p) <= 0) kept.pop();
      kept.push(p);
    }
    kept.pop();
    return kept;
  };
  return [...half(sorted), ...half(sorted.reverse())];
}

/** Whether a place lies in a convex outline, or nearly. @param {number[][]} hull @param {number[]} at */
export function holds(hull, [x, y]) {
  return (
    hull.length > 2 &&
    hull.every((a, i) => {
      const b = hull[(i + 1) % hull.length];
      return (b[0] - a[0]) * (y - a[1]) - (b[1] - a[1]) * (x - a[0]) >= 0;
    })
  );
}
