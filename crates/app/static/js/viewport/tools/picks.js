// @ts-check
/** Places that are picked on the picture one after the other for the chosen insert: two ends of a length, or a path. */
import { told } from "../../notes.js";
import { colours } from "../colours.js";

/** @typedef {{frame: number, pixel: number[]}} Pick */

export class PicksTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** @param {number[]} at */
  down(at) {
    const { model } = this.viewport,
      { tool } = model;
    if (tool.kind !== "picks") return;
    const picks = [...tool.picks, { frame: model.frame, pixel: this.viewport.toPicture(at) }];
    model.take({ ...tool, picks });
    if (picks.length === tool.most) this.end().catch(told);
  }

  /** What was picked is done. */
  async end() {
    const { model } = this.viewport,
      { tool } = model;
    if (tool.kind !== "picks") return;
    model.putAway();
    if (tool.picks.length) await tool.done(tool.picks);
  }

  hover() {
    return "crosshair";
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { viewport } = this,
      { tool, frame } = viewport.model;
    if (tool.kind !== "picks") return;
    g.fillStyle = colours.sand;
    g.strokeStyle = colours.sand;
    g.beginPath();
    tool.picks.forEach((p, i) => {
      const [x, y] = viewport.toStage(p.pixel);
      g.globalAlpha = p.frame === frame ? 1 : 0.4;
      g.fillRect(x - 3, y - 3, 6, 6);
      if (i) g.lineTo(x, y);
      else g.moveTo(x, y);
    });
    g.stroke();
    g.globalAlpha = 1;
  }
}
