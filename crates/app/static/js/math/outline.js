// @ts-check
/** Sums with masks: outlines between keys, round corners, what lies inside. No DOM; run by `node --test`. */

/**
 * @typedef {{frame: number, outline: number[][], along?: number[][][]}} Key its corners and, where more is known, the places
 * on the way from each of them to the next one
 * @typedef {{id: number, name: string, mode: "keep-out"|"keep-in"|"shape", keys: Key[], smooth: boolean[], by_hand?: number[], inverted: boolean,
 * span: number[]|null, feather_px?: number, corner_feathers_px?: number[]}} Mask
 */

/** @param {Mask} mask @param {number} frame */
export function countsOn(mask, frame) {
  return !mask.span || (frame >= mask.span[0] && frame <= mask.span[1]);
}

/**
 * The corners at a frame: straight on between keys, held outside them.
 * @param {Mask} mask
 * @param {number} frame
 * @returns {number[][]}
 */
export function outlineAt(mask, frame) {
  const after = mask.keys.findIndex((k) => k.frame > frame);
  if (after === 0) return mask.keys[0].outline;
  if (after < 0) return mask.keys[mask.keys.length - 1].outline;
  const a = mask.keys[after - 1],
    b = mask.keys[after],
    t = (frame - a.frame) / (b.frame - a.frame);
  return a.outline.map((p, i) => [p[0] + t * (b.outline[i][0] - p[0]), p[1] + t * (b.outline[i][1] - p[1])]);
}

/**
 * What lies between the corners at a frame, where more is known than them: on a key of that kind, and where one is held.
 * @param {Mask} mask
 * @param {number} frame
 * @returns {number[][][]|null}
 */
export function alongAt({ keys }, frame) {
  const last = keys[keys.length - 1],
    held = Math.min(Math.max(frame, keys[0].frame), last.frame),
    along = keys.find((k) => k.frame === held)?.along;
  return along?.length ? along : null;
}

/**
 * All places round, each with the corner that it follows.
 * @param {number[][]} corners
 * @param {number[][][]|null} along
 * @returns {{at: number[], of: number}[]}
 */
export const placesOf = (corners, along) =>
  corners.flatMap((corner, of) => [corner, ...(along?.[of] ?? [])].map((at) => ({ at, of })));

/** A place as what it is told by: two that are nearer to each other than can be seen are one. @param {number[]} p */
const spot = (p) => p.map((v) => Math.round(v * 1024)).join();

/**
 * Of each edge of a polygon, from a place to the next, whether it bounds it: one that is there twice, in to a hole and out
 * again, does not.
 * @param {number[][]} places
 */
export function bounding(places) {
  const edges = places.map((p, k) => [p, places[(k + 1) % places.length]].map(spot).sort().join(" ")),
    counts = new Map();
  for (const edge of edges) counts.set(edge, (counts.get(edge) ?? 0) + 1);
  return edges.map((edge) => counts.get(edge) % 2 === 1);
}

/**
 * Which of the places between a corner and the next lie on the line itself, not on a way that comes back to where it left.
 * @param {number[]} corner
 * @param {number[][]} row
 */
function onLine(corner, row) {
  const seen = new Map([[spot(corner), -1]]),
    is = row.map(() => true);
  row.forEach((p, k) => {
    const from = seen.get(spot(p));
    if (from === undefined) seen.set(spot(p), k);
    else is.fill(false, from + 1, k + 1);
  });
  return row.map((_, k) => k).filter((k) => is[k]);
}

/**
 * What lies between corners, gone along with them as they go from one place to another: each place the more with a corner
 * the nearer it is to it.
 * @param {number[][][]} along
 * @param {number[][]} from
 * @param {number[][]} to
 */
const goneAlong = (along, from, to) =>
  along.map((row, i) => {
    const ends = [i, (i + 1) % from.length],
      by = ends.map((k) => [to[k][0] - from[k][0], to[k][1] - from[k][1]]);
    return row.map((p) => {
      const [a, b] = ends.map((k) => Math.hypot(p[0] - from[k][0], p[1] - from[k][1])),
        t = a + b ? a / (a + b) : 0;
      return [0, 1].map((x) => p[x] + by[0][x] + t * (by[1][x] - by[0][x]));
    });
  });

/**
 * The mask with its outline at a frame, set by hand; a key that is there is replaced. What was known between the corners
 * goes along with them.
 * @param {Mask} mask
 * @param {number} frame
 * @param {number[][]} outline
 * @returns {Mask}
 */
export function withKey(mask, frame, outline) {
  const known = alongAt(mask, frame),
    along = known && { along: goneAlong(known, outlineAt(mask, frame), outline) };
  const keys = mask.keys.filter((k) => k.frame !== frame).concat({ frame, outline, ...along });
  const by_hand = [...new Set([...(mask.by_hand ?? []), frame])].sort((a, b) => a - b);
  return { ...mask, keys: keys.sort((a, b) => a.frame - b.frame), by_hand };
}

/** The mask without its key at a frame; the last key stays. @param {Mask} mask @param {number} frame @returns {Mask} */
export function withoutKey(mask, frame) {
  if (mask.keys.length < 2) return mask;
  const keys = mask.keys.filter((k) => k.frame !== frame);
  return { ...mask, keys, by_hand: (mask.by_hand ?? []).filter((f) => f !== frame) };
}

/**
 * The mask with one corner more, between corner `i` and the next, on every key.
 * @param {Mask} mask
 * @param {number} i
 * @returns {Mask}
 */
export function withCorner(mask, i) {
  const smooth = mask.keys[0].outline.map((_, k) => !!mask.smooth[k]);
  const keys = mask.keys.map(({ frame, outline, along }) => {
    const row = along?.[i] ?? [],
      a = outline[i],
      b = outline[(i + 1) % outline.length],
      on = onLine(a, row),
      half = on.length ? on[Math.floor(on.length / 2)] : row.length,
      between = row[half] ?? [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2],
      rows = along && [...along.slice(0, i), row.slice(0, half), row.slice(half + 1), ...along.slice(i + 1)];
    return {
      frame,
      outline: [...outline.slice(0, i + 1), between, ...outline.slice(i + 1)],
      ...(rows && { along: rows }),
    };
  });
  return {
    ...mask,
    keys,
    smooth: [...smooth.slice(0, i + 1), smooth[i] && smooth[(i + 1) % smooth.length], ...smooth.slice(i + 1)],
    ...withFeathers(mask, (all) => [
      ...all.slice(0, i + 1),
      (all[i] + all[(i + 1) % all.length]) / 2,
      ...all.slice(i + 1),
    ]),
  };
}

/** How much more than the rest each corner fades, changed. @param {Mask} mask @param {(all: number[]) => number[]} change */
function withFeathers(mask, change) {
  if (!mask.corner_feathers_px?.length) return {};
  return { corner_feathers_px: change(mask.keys[0].outline.map((_, k) => mask.corner_feathers_px?.[k] ?? 0)) };
}

/** Over how many px the edge fades at a corner. @param {Mask} mask @param {number} i */
export const featherAt = (mask, i) => Math.max((mask.feather_px ?? 0) + (mask.corner_feathers_px?.[i] ?? 0), 0);

/** The mask whose edge fades over so many px at a corner. @param {Mask} mask @param {number} i @param {number} px */
export function withFeather(mask, i, px) {
  const all = mask.keys[0].outline.map((_, k) => mask.corner_feathers_px?.[k] ?? 0);
  all[i] = Math.round(10 * (Math.max(px, 0) - (mask.feather_px ?? 0))) / 10;
  return { ...mask, corner_feathers_px: all };
}

/** The mask without corner `i`; three stay. @param {Mask} mask @param {number} i @returns {Mask} */
export function withoutCorner(mask, i) {
  if (mask.keys[0].outline.length <= 3) return mask;
  const smooth = mask.keys[0].outline.map((_, k) => !!mask.smooth[k]).filter((_, k) => k !== i);
  return {
    ...mask,
    smooth,
    ...withFeathers(mask, (all) => all.filter((_, k) => k !== i)),
    keys: mask.keys.map(({ frame, outline, along }) => {
      // The line stays: the corner becomes one of the places between its neighbours.
      const before = (i + outline.length - 1) % outline.length,
        rows = along?.map((row, k) => (k === before ? [...row, outline[i], ...along[i]] : row));
      return {
        frame,
        outline: outline.filter((_, k) => k !== i),
        ...(rows && { along: rows.filter((_, k) => k !== i) }),
      };
    }),
  };
}

/**
 * The pieces of the shape, each from a corner to the next with its two control points.
 * @param {number[][]} corners
 * @param {boolean[]} smooth
 */
export function pieces(corners, smooth) {
  const n = corners.length;
  return corners.map((a, i) => {
    const b = corners[(i + 1) % n],
      before = corners[(i + n - 1) % n],
      behind = corners[(i + 2) % n];
    const by = (
      /** @type {number[]} */ at,
      /** @type {number[]} */ from,
      /** @type {number[]} */ to,
      /** @type {number} */ k,
    ) => [at[0] + k * (to[0] - from[0]), at[1] + k * (to[1] - from[1])];
    return {
      a,
      b,
      c: smooth[i] ? by(a, before, b, 1 / 6) : by(a, a, b, 1 / 3),
      d: smooth[(i + 1) % n] ? by(b, behind, a, 1 / 6) : by(b, b, a, 1 / 3),
    };
  });
}

/** Whether a point lies inside a polygon, by the even-odd rule. @param {number[][]} polygon @param {number[]} p */
export function contains(polygon, [x, y]) {
  let inside = false;
  polygon.forEach((a, i) => {
    const b = polygon[(i + 1) % polygon.length];
    if (a[1] > y !== b[1] > y && x < ((b[0] - a[0]) * (y - a[1])) / (b[1] - a[1]) + a[0]) inside = !inside;
  });
  return inside;
}

/** Distance of a point from a stretch of line. @param {number[]} p @param {number[]} a @param {number[]} b */
export function fromLine(p, a, b) {
  const [ux, uy] = [b[0] - a[0], b[1] - a[1]],
    length = ux * ux + uy * uy;
  const t = length ? Math.min(Math.max(((p[0] - a[0]) * ux + (p[1] - a[1]) * uy) / length, 0), 1) : 0;
  return Math.hypot(p[0] - a[0] - t * ux, p[1] - a[1] - t * uy);
}
