// @ts-check
/** What a click in the picture does, and what is chosen: one thing of several, by its kind. */

/**
 * @typedef {{kind: "select"}} Select picks tracks, grabs handles and masks
 * @typedef {{kind: "lasso"}} Lasso the same; a drag goes round tracks instead of over them
 * @typedef {{kind: "place", what: string, stance: string}} Place puts an insert on the surface under the pointer
 * @typedef {{kind: "outline", mode: string, corners: number[][]}} Outline draws a mask corner by corner
 * @typedef {Select|Lasso|Place|Outline} Tool
 */

/** @type {Select} */
export const SELECT = Object.freeze({ kind: "select" });

/**
 * @typedef {{kind: "insert", id: number}|{kind: "mask", id: number}} Chosen
 */

/** @param {Chosen|null} a @param {Chosen|null} b */
export const same = (a, b) => a?.kind === b?.kind && a?.id === b?.id;
