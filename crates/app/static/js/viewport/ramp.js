// @ts-check
/** The one ramp of quality: cividis (Nuñez, Anderton & Renslow 2018), dark blue good to light yellow bad. */

const STOPS = [
  [0, 52, 110],
  [60, 77, 107],
  [97, 102, 111],
  [125, 124, 120],
  [156, 149, 118],
  [191, 176, 105],
  [229, 206, 84],
  [254, 232, 56],
];

/** @param {number} share 0 is good, 1 is bad @returns {string} */
export function ramp(share) {
  // The darkest part is lost on dark plates; the ramp starts a little up.
  const t = Math.min(Math.max(share, 0), 1) * 0.85 + 0.15;
  const at = t * (STOPS.length - 1),
    i = Math.min(Math.floor(at), STOPS.length - 2),
    f = at - i;
  return `rgb(${STOPS[i].map((v, k) => Math.round(v + f * (STOPS[i + 1][k] - v))).join(" ")})`;
}

/** Whether the ramp is darker there than the middle of a plate. @param {number} share */
export const isDark = (share) => share < 0.35;
