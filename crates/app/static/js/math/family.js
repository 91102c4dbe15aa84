// @ts-check
/**
 * How inserts stand in the world: the sums of the server's `Placement::own`, `own_toward` and `world_of`. No DOM; run by
 * `node --test`.
 */
import { add, cross, dot, scale, sub, unit } from "./camera.js";
import { placeAt } from "./placement.js";

/**
 * A turn, a size and a shift: `axes` are where x, y and z go.
 * @typedef {{scale: number, axes: number[][], shift: number[]}} Similarity
 */

/** @type {Similarity} */
export const NOWHERE = Object.freeze({
  scale: 1,
  axes: [
    [1, 0, 0],
    [0, 1, 0],
    [0, 0, 1],
  ],
  shift: [0, 0, 0],
});

/** A way, turned alone. @param {Similarity} s @param {number[]} v */
export const wayOf = ({ axes }, v) => add(add(scale(axes[0], v[0]), scale(axes[1], v[1])), scale(axes[2], v[2]));

/** @param {Similarity} s @param {number[]} p */
export const pointOf = (s, p) => add(scale(wayOf(s, p), s.scale), s.shift);

/** A way, turned back. @param {Similarity} s @param {number[]} v */
export const wayBack = ({ axes }, v) => axes.map((axis) => dot(axis, v));

/** @param {Similarity} s @param {number[]} p */
export const pointBack = (s, p) => scale(wayBack(s, sub(p, s.shift)), 1 / s.scale);

/** First `a`, then `b`. @param {Similarity} a @param {Similarity} b @returns {Similarity} */
export const then = (a, b) => ({
  scale: a.scale * b.scale,
  axes: a.axes.map((axis) => wayOf(b, axis)),
  shift: pointOf(b, a.shift),
});

/**
 * From an insert's own frame to that in which it is placed; turned to an eye, given in that frame, where it faces it.
 * @param {any} placement @param {number} frame @param {number[]|null} eye @returns {Similarity}
 */
export function ownOf(placement, frame, eye = null) {
  const { foot, baseline, up, facing, scale: size } = placeAt(placement, frame);
  /** @type {number[][]} */ let axes = [baseline, up, facing];
  if (eye && placement.facing && placement.facing !== "stays") axes = toward(axes, sub(eye, foot), placement.facing);
  const pivot = placement.pivot ?? [0, 0, 0],
    turned = { scale: size, axes, shift: foot };
  return { ...turned, shift: sub(foot, scale(wayOf(turned, pivot), size)) };
}

/** @param {number[][]} axes @param {number[]} away @param {string} how */
function toward(axes, away, how) {
  const up = axes[1];
  const turned = (/** @type {number[]} */ u, /** @type {number[]} */ ahead) => {
    const side = cross(u, ahead);
    if (Math.hypot(...side) < 1e-9) return axes;
    const right = unit(side);
    return [right, u, cross(right, u)];
  };
  if (how === "upright") return turned(up, away);
  const ahead = unit(away),
    side = cross(up, ahead);
  if (Math.hypot(...side) < 1e-9) return axes;
  return turned(cross(ahead, unit(side)), ahead);
}

/**
 * To the world from the frame in which an insert's placement is written.
 * @param {any[]} inserts @param {any} insert @param {number} frame @returns {Similarity}
 */
export function worldOf(inserts, insert, frame) {
  let world = NOWHERE,
    id = insert.parent ?? null;
  for (let deep = 0; id !== null && deep < 32; deep++) {
    const parent = inserts.find((i) => i.id === id);
    if (!parent) break;
    world = then(world, ownOf(parent.placement, frame));
    id = parent.parent ?? null;
  }
  return world;
}

/**
 * From an insert's own frame to the world.
 * @param {any[]} inserts @param {any} insert @param {number} frame @param {number[]|null} eye of the camera, world
 */
export function standsAt(inserts, insert, frame, eye = null) {
  const world = worldOf(inserts, insert, frame);
  return then(ownOf(insert.placement, frame, eye && pointBack(world, eye)), world);
}

/** Where the foot of an insert is in the world. @param {any[]} inserts @param {any} insert @param {number} frame */
export const footAt = (inserts, insert, frame) =>
  pointOf(worldOf(inserts, insert, frame), placeAt(insert.placement, frame).foot);

/** A step in the world, in the frame of what a thing hangs on. @param {any} world @param {number[]} by */
export const stepWithin = (world, by) => scale(wayBack(world, by), 1 / world.scale);
