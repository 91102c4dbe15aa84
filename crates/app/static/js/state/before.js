// @ts-check
/** The frame as it was filmed, beside the finished one, while the line between the two stands over the picture. */

export class Before {
  /** @param {import("./model.js").Model} model */
  constructor(model) {
    this.model = model;
    /** @type {{frame: number, bitmap: ImageBitmap}|null} */ this.held = null;
    /** What is on its way. */ this.wanted = -1;
    for (const event of ["frame", "wipe", "loaded"]) model.addEventListener(event, () => this.ask());
  }

  /** The frame that is asked for, where it is there. @param {number} frame */
  at(frame) {
    return this.held?.frame === frame ? this.held.bitmap : null;
  }

  async ask() {
    const { model } = this,
      { frame } = model;
    if (model.wipe === null || this.wanted === frame || !model.state) return;
    this.wanted = frame;
    const response = await fetch(model.url(`plate/${frame + model.state.trim.first}`)).catch(() => null);
    const bitmap = response?.ok ? await createImageBitmap(await response.blob()).catch(() => null) : null;
    if (this.wanted === frame) this.wanted = -1;
    if (!bitmap) return;
    this.held?.bitmap.close();
    this.held = { frame, bitmap };
    model.touch();
    if (model.frame !== frame) this.ask();
  }
}
