// @ts-check
/** Choosing tracks by a measure. No DOM; run by `node --test`. */
import { trackAt } from "./tracks.js";

/**
 * @typedef {import("./tracks.js").Track} Track
 * @typedef {{kind: string, limit: number, from: number, to: number, parts: number[]}} Filter
 */

/** Reasons for which a track is not used that say that it goes another way than the camera makes it go. */
const OTHER_MOTION = new Set(["independent-motion", "image-static", "partial-inlier"]);

/**
 * Tracks that a filter would take; those that are deleted already are left alone.
 *
 * Kinds: `error` above the limit in px; `short` of less than so many frames; `span` seen on any of the frames, `whole`
 * on all of them; `region` in one of the parts (0 to 8, row by row) on the current frame; `outliers` to the
 * camera; `unused` by the solve, for whatever reason.
 * @param {{tracks: Track[], rmsOf: Map<number, number>, outliers: Map<number, {reason: string}>, deleted: Set<number>,
 * cameras: any[], frame: number, state: any}} model
 * @param {Filter} filter
 * @returns {number[]}
 */
export function chosenBy(
  { tracks, rmsOf, outliers, deleted, cameras, frame, state },
  { kind, limit, from, to, parts },
) {
  const solved = cameras.some(Boolean);
  const third = (/** @type {number} */ v, /** @type {number} */ size) =>
    Math.min(Math.max(Math.floor((3 * (v + 0.5)) / size), 0), 2);
  const takes = (/** @type {Track} */ track) => {
    const rms = rmsOf.get(track.id),
      last = track.first + track.xy.length / 2 - 1;
    if (kind === "error") return rms !== undefined && rms > limit;
    if (kind === "short") return track.xy.length / 2 < limit;
    if (kind === "span") return track.first <= to && last >= from;
    if (kind === "whole") return track.first <= from && last >= to;
    if (kind === "region") {
      const at = trackAt(track, frame);
      return !!at && parts.includes(3 * third(at[1], state.height) + third(at[0], state.width));
    }
    if (kind === "outliers") return OTHER_MOTION.has(outliers.get(track.id)?.reason ?? "");
    return kind === "unused" && solved && rms === undefined;
  };
  return tracks.filter((t) => !deleted.has(t.id) && takes(t)).map((t) => t.id);
}
