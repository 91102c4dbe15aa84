// @ts-check
/** What is drawn over the picture: it follows the open station, and can be switched for each. */

/** @typedef {{tracks: boolean, grid: boolean, surfaces: boolean}} Shown */

/** What each station shows at first. @type {Record<string, Shown>} */
const AT_FIRST = {
  footage: { tracks: false, grid: false, surfaces: false },
  track: { tracks: true, grid: false, surfaces: false },
  solve: { tracks: true, grid: false, surfaces: false },
  datum: { tracks: false, grid: true, surfaces: true },
  inserts: { tracks: false, grid: false, surfaces: false },
  light: { tracks: false, grid: false, surfaces: false },
  holdouts: { tracks: false, grid: false, surfaces: false },
  match: { tracks: false, grid: false, surfaces: false },
  finish: { tracks: false, grid: false, surfaces: false },
  deliver: { tracks: false, grid: false, surfaces: false },
};
const NO_STATION = { tracks: true, grid: true, surfaces: true };

/** What a person switched at a station, over what it shows at first. @type {Record<string, object>} */
const switched = {};

/** @typedef {import("../state/model.js").Model} Model */

/**
 * Whether something is drawn now.
 * @param {Model} model @param {keyof Shown} what
 */
export function shownAt(model, what) {
  if (model.playing) return false;
  // Whoever places something wants to see what it would stand on.
  if (what !== "tracks" && model.tool.kind === "place") return true;
  return switchedAt(model)[what];
}

/** What the switches of the open station say. @param {Model} model @returns {Shown} */
export function switchedAt({ station }) {
  const first = AT_FIRST[station ?? ""] ?? NO_STATION;
  // Floor, origin and scale are picked from tracks while that is what is done.
  const picked = station === "datum" && !!document.querySelector("#by-points[open]");
  return { ...first, tracks: first.tracks || picked, ...switched[station ?? ""] };
}

/** Switches something for the open station. @param {Model} model @param {keyof Shown} what @param {boolean} on */
export function switchShown({ station }, what, on) {
  switched[station ?? ""] = { ...switched[station ?? ""], [what]: on };
}

/** Whether the marks of inserts stand over the picture: where they are placed and lit. @param {Model} model */
export function marksInserts({ station, playing }) {
  return !playing && (station === null || station === "inserts" || station === "light" || station === "match");
}

/** Whether the outlines of masks stand over the picture: where tracks are looked for. @param {Model} model */
export function marksMasks({ station, playing, tool }) {
  const drawn = ["track", "solve", "holdouts"];
  return !playing && (station === null || drawn.includes(station) || tool.kind === "outline");
}

/** Whether drawn lines stand over the picture: where the datum is laid. @param {Model} model */
export function marksLines({ station, playing }) {
  return !playing && (station === null || station === "datum");
}

/** Whether surfaces can be taken hold of: where they are laid. @param {Model} model */
export function marksSurfaces({ station, playing }) {
  return !playing && (station === null || station === "datum");
}
