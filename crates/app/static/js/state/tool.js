// @ts-check
/** What a click in the picture does, and what is chosen: one thing of several, by its kind. */

/**
 * @typedef {{kind: "select"}} Select picks tracks, grabs handles and masks
 * @typedef {{kind: "lasso"}} Lasso the same; a drag goes round tracks instead of over them
 * @typedef {{kind: "place", what: string, stance: string, asset: string, item?: string, said?: string, where?: string,
 * depth?: number}} Place puts an insert on the surface under the pointer, in the air, on points, or far away; an item of
 * the library by its name there
 * @typedef {{kind: "pull", frames: {frame: number, at: number[][]}[], said?: string}} Pull
 * pulls the corners of a card onto the picture, and says how well they fit
 * @typedef {{kind: "picks", what: string, most: number, picks: {frame: number, pixel: number[]}[],
 * done: (picks: any[]) => Promise<any>}} Picks picks places of the picture one after the other
 * @typedef {{kind: "outline", mode: string, corners: number[][]}} Outline draws a mask corner by corner
 * @typedef {{kind: "line", role: string}} Line draws along an upright, a level edge or the horizon
 * @typedef {{kind: "rod", height: number}} Rod stands a rod where one points
 * @typedef {{kind: "corners"}} Corners drags a surface out over the plate
 * @typedef {{kind: "turn"}} Turn turns, tilts, rolls and raises the datum by dragging
 * @typedef {{kind: "measure"}} Measure measures from one place to the next
 * @typedef {Select|Lasso|Place|Pull|Picks|Outline|Line|Rod|Corners|Turn|Measure} Tool
 */

/** @type {Select} */
export const SELECT = Object.freeze({ kind: "select" });

/**
 * @typedef {{kind: "insert"|"mask"|"surface"|"holdout", id: number}} Chosen
 */

/** @param {Chosen|null} a @param {Chosen|null} b */
export const same = (a, b) => a?.kind === b?.kind && a?.id === b?.id;

/** Whether a tool is about a place in the picture that it is given. @param {Tool} tool */
export const pointsAtPicture = (tool) => !/^(select|lasso)$/.test(tool.kind);
