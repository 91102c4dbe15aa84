// @ts-check
/** Placing: the tile lies on the surface under the pointer, and a click puts an insert there. */

/** Time between two questions for the surface. */
const SURFACE_MS = 35;
/** Where its line of text stands, px from the pointer. */
const READING_PX = [16, 14];

export class PlaceTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
    this.asking = false;
    this.asked = 0;
    /** Where the pointer is, while that is not asked for yet. @type {number[]|null} */ this.next = null;
  }

  /** @param {number[]} at */
  async down(at) {
    const { model } = this.viewport,
      { tool } = model,
      [x, y] = this.viewport.toPicture(at);
    if (tool.kind !== "place") return;
    if (!(await model.change("place", this.wish(tool, x, y)))) return;
    model.putAway();
    model.justPlaced = true;
    model.chooseNewest("insert");
  }

  /** @param {any} tool @param {number} x @param {number} y */
  wish(tool, x, y) {
    const { model } = this.viewport,
      asset = tool.asset || null,
      where = tool.where ?? "surface";
    const put = { where, depth_m: tool.depth ?? 10, points: where === "points" ? [...model.selected] : [] };
    return { kind: tool.what, asset, frame: model.frame, x, y, stance: tool.stance || null, put };
  }

  /** @param {number[]} at */
  hover(at) {
    this.next = at;
    if (this.viewport.model.camera()) this.askOn();
    return "crosshair";
  }

  /** Asks for where the pointer is now, one question at a time: where it comes to rest is always asked for. */
  askOn() {
    if (this.asking || !this.next) return;
    const wait = this.asked + SURFACE_MS - performance.now();
    this.asking = true;
    new Promise((go) => (wait > 0 ? setTimeout(go, wait) : go(null)))
      .then(() => {
        const at = this.next;
        this.next = null;
        this.asked = performance.now();
        return at ? this.ask(at) : undefined;
      })
      .catch(() => {})
      .finally(() => {
        this.asking = false;
        this.askOn();
      });
  }

  /** @param {number[]} at */
  async ask(at) {
    const { viewport } = this,
      { model } = viewport,
      [x, y] = viewport.toPicture(at);
    const { tool } = model;
    if (tool.kind !== "place") return;
    const response = await fetch(model.url("tile"), {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify(this.wish(tool, x, y)),
    });
    if (!response.ok) return;
    const surface = await response.json();
    // It may be put away by now.
    if (model.tool !== tool) return;
    model.surface = surface;
    viewport.reading.hidden = false;
    viewport.reading.style.left = `${at[0] + READING_PX[0]}px`;
    viewport.reading.style.top = `${at[1] + READING_PX[1]}px`;
    viewport.reading.textContent = surface.why ?? words(surface);
    model.touch();
  }

  /** Takes the tile away. */
  leave() {
    const { viewport } = this;
    this.next = null;
    viewport.reading.hidden = true;
    if (!viewport.model.surface) return;
    viewport.model.surface = null;
    viewport.model.touch();
  }
}

/** @param {{kind: string, name: string, tilt_deg: number, fit_px: number|null, support: number}} spot */
function words({ kind, name, tilt_deg, fit_px, support }) {
  if (kind === "far") return "far off · follows the turn of the camera";
  if (name === "in the air" || name === "at the point") return name;
  const fit = fit_px === null ? "laid by hand" : `fit ${fit_px.toFixed(2)} px · ${support} points`;
  return `${name} · tilt ${tilt_deg.toFixed(1)} deg · ${fit}`;
}
