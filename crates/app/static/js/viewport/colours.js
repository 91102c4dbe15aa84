// @ts-check
/** The palette of the style sheet, read once. */
const css = getComputedStyle(document.documentElement);
const named = (/** @type {string} */ name) => css.getPropertyValue(`--${name}`).trim();

export const colours = {
  stone: named("stone"),
  line: named("line"),
  bone: named("bone"),
  dust: named("dust"),
  sand: named("sand"),
  lichen: named("lichen"),
  brick: named("brick"),
};
