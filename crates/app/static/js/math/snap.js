// @ts-check
/** Where a thing that is dragged comes to rest by itself. No DOM; run by `node --test`. */
import { add, cross, dot, scale, sub, unit } from "./camera.js";

/** How near counts, px of the view, and how near to a straight angle, radians. */
export const NEAR_PX = 7;
const NEAR_TURN = (2.5 * Math.PI) / 180;
/** Straight angles: eighths of a turn. */
const STRAIGHT = Math.PI / 4;
/** How far from the surface an edge may lie to be one of it, m. */
const IN_SURFACE_M = 0.03;

/**
 * The offset from `p` to the nearest place of an edge.
 * @param {number[]} p @param {number[]} a @param {number[]} b
 */
function toEdge(p, a, b) {
  const way = sub(b, a),
    t = dot(sub(p, a), way) / Math.max(dot(way, way), 1e-12);
  return sub(add(a, scale(way, Math.min(Math.max(t, 0), 1))), p);
}

/**
 * A place in a surface that is pulled onto what is near: first onto the foot of another thing or an edge, else into line
 * with other things along its own axes.
 * @param {{at: number[], normal: number[], right: number[], ahead: number[]}} thing
 * @param {{feet: number[][], edges: number[][][]}} others in the world, metres
 * @param {(from: number[], to: number[]) => number} apart how far two places are seen apart, px
 * @returns {{at: number[], marks: number[][][]}} where it rests, and the lines that say why
 */
export function rest({ at, normal, right, ahead }, { feet, edges }, apart) {
  const level = (/** @type {number[]} */ p) => add(p, scale(normal, dot(sub(at, p), normal)));
  const flat = feet.filter((f) => Math.abs(dot(sub(f, at), normal)) < IN_SURFACE_M);
  for (const foot of flat) if (apart(at, foot) < NEAR_PX) return { at: level(foot), marks: [[foot, foot]] };
  let best = NEAR_PX,
    found = null;
  for (const [a, b] of edges) {
    if (Math.abs(dot(sub(a, at), normal)) > IN_SURFACE_M || Math.abs(dot(sub(b, at), normal)) > IN_SURFACE_M) continue;
    const to = add(at, toEdge(at, a, b)),
      px = apart(at, to);
    if (px < best) [best, found] = [px, { at: level(to), marks: [[a, b]] }];
  }
  if (found) return found;
  // In line with another thing: straight beside it, or straight before or behind it.
  let now = at;
  const marks = [];
  for (const [across, along] of [
    [right, ahead],
    [ahead, right],
  ]) {
    let least = NEAR_PX,
      line = null;
    for (const foot of feet) {
      const to = add(now, scale(across, dot(sub(foot, now), across))),
        px = apart(now, to);
      if (px < least) [least, line] = [px, { to, foot }];
    }
    if (!line) continue;
    now = line.to;
    marks.push([add(line.to, scale(along, dot(sub(line.foot, line.to), along))), line.to]);
  }
  return { at: now, marks };
}

/**
 * A turn that is pulled onto a straight angle to the surface's own axes, or onto that of another thing.
 * @param {number[]} baseline as it is turned now @param {number[]} normal @param {number[]} reference
 * @param {number[][]} others their baselines @returns {number} by how much to turn further, radians about the normal
 */
export function straighten(baseline, normal, reference, others) {
  const flat = (/** @type {number[]} */ v) => unit(sub(v, scale(normal, dot(v, normal))));
  const angle = (/** @type {number[]} */ from) => {
    const a = flat(from),
      b = flat(baseline);
    return Math.atan2(dot(cross(a, b), normal), dot(a, b));
  };
  const off = [reference, ...others]
    .map(angle)
    .map((v) => Math.round(v / STRAIGHT) * STRAIGHT - v)
    .filter((v) => Number.isFinite(v));
  const least = off.sort((a, b) => Math.abs(a) - Math.abs(b))[0] ?? 0;
  return Math.abs(least) < NEAR_TURN ? least : 0;
}

/**
 * A height over the surface that is pulled onto the surface itself or level with another thing.
 * @param {number} lift metres @param {number[]} levels @param {number} metrePx px of the view a metre
 */
export function settle(lift, levels, metrePx) {
  const near = [0, ...levels].map((v) => v - lift).sort((a, b) => Math.abs(a) - Math.abs(b))[0];
  return Math.abs(near) * metrePx < NEAR_PX ? lift + near : lift;
}
