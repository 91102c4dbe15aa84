// @ts-check
/** What dropping the worst tracks would do. No DOM; run by `node --test`. */

/**
 * Tracks above a limit, and the error over all sightings before and without them, px.
 * @param {{id: number, rms: number, views: number}[]} points @param {number} limit
 */
export function worstAbove(points, limit) {
  const rms = (/** @type {{rms: number, views: number}[]} */ list) => {
    const n = list.reduce((s, p) => s + p.views, 0);
    return n ? Math.sqrt(list.reduce((s, p) => s + p.rms * p.rms * p.views, 0) / n) : 0;
  };
  const worst = points.filter((p) => p.rms > limit);
  return { tracks: worst.map((p) => p.id), before: rms(points), after: rms(points.filter((p) => p.rms <= limit)) };
}

/** @param {{tracks: number[], before: number, after: number}} of @param {number} total */
export function dropReading({ tracks, before, after }, total) {
  if (!tracks.length) return "no track is worse than that";
  return `${tracks.length} of ${total} tracks go · ${before.toFixed(3)} px now, ${after.toFixed(3)} px without them`;
}
