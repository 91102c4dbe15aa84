// @ts-check
/** What is far off, and directions by their bearing and their height over the horizon, degrees. No DOM; run by `node --test`. */

/** A unit direction; bearing 0 is ahead (-Z), to the right positive. @param {number} bearing @param {number} height */
export function toward(bearing, height) {
  const [b, h] = [(bearing * Math.PI) / 180, (height * Math.PI) / 180];
  return [Math.sin(b) * Math.cos(h), Math.sin(h), -Math.cos(b) * Math.cos(h)];
}

/** @param {number[]} direction */
export const bearingOf = ([x, , z]) => (Math.atan2(x, -z) * 180) / Math.PI;

/** @param {number[]} direction */
export const heightOf = ([x, y, z]) => (Math.atan2(y, Math.hypot(x, z)) * 180) / Math.PI;

/** Whether an insert goes with the camera instead of standing somewhere. @param {any} insert */
export const isFar = (insert) => insert.content.kind === "backdrop";
