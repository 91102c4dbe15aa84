// @ts-check
/** What is drawn over the picture: it follows the open station, and can be switched for each. */

/** What each station shows at first. @type {Record<string, {tracks: boolean, grid: boolean}>} */
const AT_FIRST = {
  footage: { tracks: false, grid: false },
  track: { tracks: true, grid: false },
  solve: { tracks: true, grid: false },
  // Floor, origin and scale are picked from tracks.
  datum: { tracks: true, grid: true },
  inserts: { tracks: false, grid: false },
  light: { tracks: false, grid: false },
  deliver: { tracks: false, grid: false },
};
const NO_STATION = { tracks: true, grid: true };

/** What a person switched at a station, over what it shows at first. @type {Record<string, object>} */
const switched = {};

/** @typedef {import("../state/model.js").Model} Model */

/**
 * Whether something is drawn now.
 * @param {Model} model @param {"tracks"|"grid"} what
 */
export function shownAt(model, what) {
  if (model.playing) return false;
  // Whoever places something wants to see what it would stand on.
  if (what === "grid" && model.tool.kind === "place") return true;
  return switchedAt(model)[what];
}

/** What the switches of the open station say. @param {Model} model @returns {{tracks: boolean, grid: boolean}} */
export function switchedAt({ station }) {
  return { ...(AT_FIRST[station ?? ""] ?? NO_STATION), ...switched[station ?? ""] };
}

/** Switches something for the open station. @param {Model} model @param {"tracks"|"grid"} what @param {boolean} on */
export function switchShown({ station }, what, on) {
  switched[station ?? ""] = { ...switched[station ?? ""], [what]: on };
}

/** Whether the marks of inserts stand over the picture: where they are placed and lit. @param {Model} model */
export function marksInserts({ station, playing }) {
  return !playing && (station === null || station === "inserts" || station === "light");
}

/** Whether the outlines of masks stand over the picture: where tracks are looked for. @param {Model} model */
export function marksMasks({ station, playing, tool }) {
  return !playing && (station === null || station === "track" || station === "solve" || tool.kind === "outline");
}
