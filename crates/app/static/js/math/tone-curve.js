// @ts-check
/** Curves of tones through places that lie evenly from black to white. No DOM; run by `node --test`. */

/** What the five places are called. */
export const PLACES = ["black", "dark", "middle", "bright", "white"];

/**
 * The curve at a tone, 0 to 1: as steep as both sides are in the mean, and level where one rises and the other falls
 * (Fritsch and Carlson 1980). The same as the picture has.
 * @param {number[]} nodes @param {number} x
 */
export function toneAt(nodes, x) {
  const last = nodes.length - 1,
    step = 1 / last,
    i = Math.min(Math.floor(x / step), last - 1);
  const slope = (/** @type {number} */ k) => (nodes[k + 1] - nodes[k]) / step;
  /** @param {number} k */
  const tangent = (k) => {
    if (k === 0) return slope(0);
    if (k === last) return slope(last - 1);
    const [a, b] = [slope(k - 1), slope(k)];
    return a * b <= 0 ? 0 : (2 * a * b) / (a + b);
  };
  const t = (x - i * step) / step,
    t2 = t * t,
    t3 = t2 * t;
  return (
    nodes[i] * (2 * t3 - 3 * t2 + 1) +
    tangent(i) * step * (t3 - 2 * t2 + t) +
    nodes[i + 1] * (3 * t2 - 2 * t3) +
    tangent(i + 1) * step * (t3 - t2)
  );
}
