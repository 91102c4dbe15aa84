// @ts-check
/** What of a lamp is drawn in the views: its cone, its rectangle, the way it shines. No DOM; run by `node --test`. */
import { add, scale } from "./camera.js";
import { NUMBER, valueAt } from "./curve.js";
import { pointOf, wayOf } from "./family.js";

/** How far its light is drawn where it meets no floor, and at most, m. */
const FREE_M = 2,
  MOST_M = 40;
const AROUND = 24;

/**
 * Lines in the world, each of places.
 * @param {any} content of the insert @param {Record<string, any>} tracks its values over time @param {number} frame
 * @param {import("./family.js").Similarity} stands to the world from its own frame, in which it shines along -Y
 * @returns {number[][][]}
 */
export function lampLines(content, tracks, frame, stands) {
  const value = (/** @type {string} */ name, /** @type {number} */ still) =>
    tracks?.[name] === undefined ? still : valueAt(NUMBER, tracks[name], frame);
  const own = (/** @type {number[]} */ p) => pointOf(stands, p);
  const from = own([0, 0, 0]),
    way = wayOf(stands, [0, -1, 0]);
  const toFloor = way[1] < -0.05 && from[1] > 0 ? from[1] / -way[1] : FREE_M;
  const far = Math.min(toFloor, MOST_M) / stands.scale;
  const ring = (/** @type {number} */ radius, /** @type {number} */ down) =>
    Array.from({ length: AROUND + 1 }, (_, k) => {
      const a = (2 * Math.PI * k) / AROUND;
      return own([radius * Math.cos(a), -down, radius * Math.sin(a)]);
    });
  if (content.form === "spot") {
    const wide = far * Math.tan((Math.min(value("cone", content.cone_deg), 170) * Math.PI) / 360);
    const edge = ring(wide, far);
    return [edge, ...[0, 6, 12, 18].map((k) => [from, edge[k]])];
  }
  if (content.form === "area") {
    const x = value("wide", content.size_m[0]) / 2,
      z = value("deep", content.size_m[1]) / 2;
    const corners = [
      [-x, 0, -z],
      [x, 0, -z],
      [x, 0, z],
      [-x, 0, z],
      [-x, 0, -z],
    ].map(own);
    return [corners, [from, add(from, scale(way, (x + z) * stands.scale))]];
  }
  // Its own size, and how high it hangs.
  const radius = Math.max(value("radius", content.radius_m), 0.04);
  return [ring(radius, 0), way[1] < -0.05 && from[1] > 0 ? [from, add(from, scale(way, toFloor))] : []];
}
