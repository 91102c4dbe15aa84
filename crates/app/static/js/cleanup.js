// @ts-check
/** Choosing tracks by a measure. No DOM; run by `node --test`. */

/** @typedef {import("./tracks.js").Track} Track */

/**
 * Tracks that a filter would take; those that are deleted already are left alone.
 * @param {{tracks: Track[], rmsOf: Map<number, number>, deleted: Set<number>, cameras: any[]}} model
 * @param {string} kind `error` above the limit in px, `short` of less than so many frames, or `astray` from the camera
 * @param {number} limit
 * @returns {number[]}
 */
export function chosenBy({ tracks, rmsOf, deleted, cameras }, kind, limit) {
  const solved = cameras.some(Boolean);
  const takes = (/** @type {Track} */ track) => {
    const rms = rmsOf.get(track.id);
    if (kind === "error") return rms !== undefined && rms > limit;
    if (kind === "short") return track.xy.length / 2 < limit;
    return kind === "astray" && solved && rms === undefined;
  };
  return tracks.filter((t) => !deleted.has(t.id) && takes(t)).map((t) => t.id);
}
