// @ts-check
/** A rod of a known height stands on the floor wherever one points; a click leaves one there. */

export class RodTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** Where it would stand. @param {number[]} at */
  rodAt(at) {
    const { viewport } = this,
      { tool, state } = viewport.model;
    const foot = state.floor && viewport.onPlane(at, [0, 0, 0], [0, 1, 0]);
    return foot && tool.kind === "rod" ? { foot, height: tool.height } : null;
  }

  /** @param {number[]} at */
  down(at) {
    const rod = this.rodAt(at);
    if (!rod) return;
    this.viewport.model.rods.push(rod);
    this.viewport.model.touch();
  }

  /** @param {number[]} at */
  hover(at) {
    this.viewport.model.rod = this.rodAt(at);
    this.viewport.model.touch();
    return "crosshair";
  }

  leave() {
    if (!this.viewport.model.rod) return;
    this.viewport.model.rod = null;
    this.viewport.model.touch();
  }
}
