// @ts-check
/** Reads a track run (see docs/formats.md). No DOM; run by `node --test`. */

/** @typedef {{id: number, first: number, xy: Float32Array}} Track */

/** @param {ArrayBuffer} buffer @returns {Track[]} */
export function readTracks(buffer) {
  const words = new Uint32Array(buffer, 8);
  const floats = new Float32Array(buffer, 8);
  let at = 4 + words[3];
  const count = words[at++];
  const tracks = [];
  for (let i = 0; i < count; i++) {
    const [id, first, length] = words.subarray(at, at + 3);
    at += 3;
    tracks.push({ id, first, xy: floats.subarray(at, at + 2 * length) });
    at += 2 * length;
  }
  return tracks;
}

/** Where a track is at a frame, or null. @param {Track} track @param {number} frame */
export function trackAt(track, frame) {
  const i = frame - track.first;
  // What is no number marks a frame on which the point was out of sight.
  return i >= 0 && 2 * i < track.xy.length && !Number.isNaN(track.xy[2 * i])
    ? [track.xy[2 * i], track.xy[2 * i + 1]]
    : null;
}

/** Number of tracks on each frame. @param {Track[]} tracks @param {number} frames */
export function counts(tracks, frames) {
  const n = new Uint32Array(frames);
  for (const t of tracks)
    for (let f = t.first; f < t.first + t.xy.length / 2 && f < frames; f++)
      if (!Number.isNaN(t.xy[2 * (f - t.first)])) n[f]++;
  return n;
}
