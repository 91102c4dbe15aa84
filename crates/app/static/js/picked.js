// @ts-check
/** Colours that are picked on a picture. */

/**
 * The colour of a frame about a place of the shot's picture, `width` px across: the mean of nine pixels, 0 to 255.
 * @param {ImageBitmap} bitmap @param {number} width @param {number[]} pixel
 */
export function colourOf(bitmap, width, [x, y]) {
  const scale = bitmap.width / width,
    canvas = new OffscreenCanvas(3, 3),
    g = /** @type {OffscreenCanvasRenderingContext2D} */ (canvas.getContext("2d"));
  g.drawImage(bitmap, Math.round(x * scale) - 1, Math.round(y * scale) - 1, 3, 3, 0, 0, 3, 3);
  const { data } = g.getImageData(0, 0, 3, 3);
  return [0, 1, 2].map((k) => [...Array(9).keys()].reduce((sum, i) => sum + data[4 * i + k], 0) / 9);
}

/**
 * The same of the plate.
 * @param {import("./state/model.js").Model} model @param {number} frame @param {number[]} pixel
 * @returns {Promise<number[]|null>}
 */
export async function plateColour(model, frame, pixel) {
  const response = await fetch(model.url(`plate/${frame + model.state.trim.first}`));
  if (!response.ok) return null;
  const bitmap = await createImageBitmap(await response.blob());
  const colour = colourOf(bitmap, model.state.width, pixel);
  bitmap.close();
  return colour.map(Math.round);
}
