// @ts-check
/**
 * Values that may change over time: one value, or a curve through keys. The server reads the same (core, scene/anim);
 * both are held to e2e/golden/placements.json. No DOM; run by `node --test`.
 */
import { fromAxis, inverse, times, toAxis } from "./rotation.js";

/**
 * @template T
 * @typedef {{frame: number, value: T, ease: "hold"|"linear"|"smooth"|"leaves"|"lands"|"rests"}} Key
 */
/**
 * @template T
 * @typedef {T|{keys: Key<T>[]}} Animated
 */
/**
 * What can lie between two values: the step from one to another, and the value to which a step leads.
 * @template T
 * @typedef {{step: (from: T, to: T) => number[], stepped: (from: T, by: number[]) => T}} Kind
 */

/** @type {Kind<number>} */
export const NUMBER = { step: (a, b) => [b - a, 0, 0], stepped: (a, by) => a + by[0] };
/** @type {Kind<number[]>} */
export const PLACE = { step: (a, b) => a.map((v, i) => b[i] - v), stepped: (a, by) => a.map((v, i) => v + by[i]) };
/** @type {Kind<number[]>} */
export const ROTATION = { step: (a, b) => toAxis(times(inverse(a), b)), stepped: (a, by) => times(a, fromAxis(by)) };

/** The keys of a value; none where it stays. @param {any} value @returns {Key<any>[]} */
export const keysOf = (value) => (value && Array.isArray(value.keys) ? value.keys : []);

/**
 * The value at a time, frames.
 * @template T
 * @param {Kind<T>} kind @param {Animated<T>} value @param {number} frame @returns {T}
 */
export function valueAt(kind, value, frame) {
  /** @type {Key<T>[]} */
  const keys = keysOf(value);
  if (!keys.length) return /** @type {T} */ (value);
  const after = keys.findIndex((k) => k.frame > frame);
  if (after === 0) return keys[0].value;
  if (after < 0) return keys[keys.length - 1].value;
  const a = keys[after - 1],
    b = keys[after],
    t = (frame - a.frame) / (b.frame - a.frame);
  const between = (/** @type {T} */ from, /** @type {T} */ to, part = t) =>
    kind.stepped(
      from,
      kind.step(from, to).map((v) => v * part),
    );
  if (a.ease === "hold") return a.value;
  if (a.ease === "linear") return between(a.value, b.value);
  if (a.ease === "leaves") return between(a.value, b.value, t * t);
  if (a.ease === "lands") return between(a.value, b.value, t * (2 - t));
  if (a.ease === "rests") return between(a.value, b.value, t * t * (3 - 2 * t));
  const third = (b.frame - a.frame) / 3;
  const by = (/** @type {number} */ i, /** @type {number} */ k) => tangent(kind, keys, i).map((v) => v * k);
  const c = kind.stepped(a.value, by(after - 1, third)),
    d = kind.stepped(b.value, by(after, -third));
  const [e, f, g] = [between(a.value, c), between(c, d), between(d, b.value)];
  return between(between(e, f), between(f, g));
}

/**
 * Change per frame at a key, none at the ends.
 * @template T
 * @param {Kind<T>} kind @param {Key<T>[]} keys @param {number} i @returns {number[]}
 */
function tangent(kind, keys, i) {
  if (i === 0 || i === keys.length - 1) return [0, 0, 0];
  const [before, key, after] = [keys[i - 1], keys[i], keys[i + 1]];
  const [h0, h1] = [key.frame - before.frame, after.frame - key.frame];
  const [d0, d1] = [kind.step(before.value, key.value), kind.step(key.value, after.value)];
  return d0.map((v, k) => {
    const [p, q] = [v / h0, d1[k] / h1];
    if (p * q <= 0) return 0;
    const [w0, w1] = [2 * h1 + h0, h1 + 2 * h0];
    return (w0 + w1) / (w0 / p + w1 / q);
  });
}

/**
 * The value made another: at a time where it changes, else for good.
 * @template T
 * @param {Animated<T>} value @param {number} frame @param {T} to @returns {Animated<T>}
 */
export function withValue(value, frame, to) {
  const keys = keysOf(value);
  if (!keys.length) return to;
  const ease = keys.find((k) => k.frame === frame)?.ease ?? "smooth";
  const others = keys.filter((k) => k.frame !== frame);
  return { keys: [...others, { frame, value: to, ease }].sort((a, b) => a.frame - b.frame) };
}
