// @ts-check
/**
 * Where an insert stands: the sums of the server's `Anchor` and `Placement`. No DOM; run by `node --test`.
 */
import { add, cross, dot, scale, sub, unit } from "./camera.js";
import { NUMBER, PLACE, ROTATION, keysOf, valueAt } from "./curve.js";
import { turned } from "./rotation.js";

/** Cosine of the tilt below which a surface is a wall rather than a floor. */
const FLOOR_TILT = 0.8;

/**
 * @typedef {{foot: any, normal: number[], turn: any, lift_m: any}} Anchor
 * @typedef {{anchor: Anchor, scale: any, stance: string}} Placement
 */

/** Axes of a surface in the world: along it, its normal, towards the reader. @param {number[]} normal */
export function surfaceAxes(normal) {
  const n = unit(normal),
    reference = Math.abs(n[1]) > FLOOR_TILT ? [0, 0, 1] : [0, -1, 0];
  const toward = unit(sub(reference, scale(n, dot(reference, n))));
  return { right: cross(n, toward), normal: n, toward };
}

/**
 * Where it is at a frame: its foot, lifted, its axes (baseline, up, towards the reader) and its size.
 * @param {Placement} placement @param {number} frame
 */
export function placeAt({ anchor, scale: size, stance }, frame) {
  const { right, normal, toward } = surfaceAxes(anchor.normal),
    turn = valueAt(ROTATION, anchor.turn, frame);
  const inWorld = (/** @type {number[]} */ v) => {
    const [x, y, z] = turned(turn, v);
    return add(add(scale(right, x), scale(normal, y)), scale(toward, z));
  };
  const lies = stance === "lying";
  return {
    foot: add(valueAt(PLACE, anchor.foot, frame), scale(normal, valueAt(NUMBER, anchor.lift_m, frame))),
    normal,
    baseline: inWorld([1, 0, 0]),
    up: inWorld(lies ? [0, 0, -1] : [0, 1, 0]),
    facing: inWorld(lies ? [0, 1, 0] : [0, 0, 1]),
    scale: valueAt(NUMBER, size, frame),
  };
}

/** Everything of an insert that may change over time, by name. @param {any} insert @returns {[string, any][]} */
export function tracksOf({ placement: { anchor, scale: size }, opacity = 1, tracks = {} }) {
  return [
    ["place", anchor.foot],
    ["turn", anchor.turn],
    ["lift", anchor.lift_m],
    ["scale", size],
    ["opacity", opacity],
    ...Object.entries(tracks),
  ];
}

/** Whether anything of an insert changes over time. @param {any} insert */
export const changes = (insert) => tracksOf(insert).some(([, v]) => keysOf(v).length > 0);

/** Frames on which something of an insert is keyed; of one value where it is named. @param {any} insert @param {string} [name] @returns {number[]} */
export function keyedFrames(insert, name = "") {
  const wanted = tracksOf(insert).filter(([n]) => !name || n === name);
  const all = wanted.flatMap(([, v]) => keysOf(v).map((/** @type {any} */ k) => k.frame));
  return [...new Set(all)].sort((a, b) => a - b);
}
