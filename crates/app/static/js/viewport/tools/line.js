// @ts-check
/**
 * Drawing along an upright, a level edge or the horizon: press at one end, release at the other. The line then moves onto
 * the edge that it runs along; with Alt it stays as it was drawn.
 */
import { paintDrawn } from "../ground.js";
import { told } from "../../notes.js";

/** A drag shorter than this was a click, px. */
const LEAST_PX = 8;

export class LineTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
    /** The line while it is drawn, px of the view. @type {number[][]|null} */ this.line = null;
  }

  /** @param {number[]} at @param {PointerEvent} event */
  down(at, { altKey }) {
    const { viewport } = this,
      { model } = viewport,
      { tool } = model;
    if (tool.kind !== "line") return;
    const line = (this.line = [at, at]);
    viewport.drag(
      (to) => {
        line[1] = to;
      },
      () => {
        this.line = null;
        if (Math.hypot(line[1][0] - at[0], line[1][1] - at[1]) < LEAST_PX) return;
        const [from, to] = line.map((p) => viewport.toPicture(p));
        const drawn = { role: tool.role, frame: model.frame, from, to };
        model.change("datum", { action: "line", line: drawn, to_edge: !altKey }).catch(told);
      },
    );
  }

  hover() {
    return "crosshair";
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { tool } = this.viewport.model;
    if (this.line && tool.kind === "line") paintDrawn(g, this.line[0], this.line[1], { role: tool.role });
  }
}
