// @ts-check
/** A surface dragged out over a flat part of the plate: its corners are those of the drag. */
import { colours } from "../colours.js";
import { told } from "../../notes.js";

/** A drag smaller than this was a click, px. */
const LEAST_PX = 12;

export class CornersTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
    /** Two opposite corners, px of the view. @type {number[][]|null} */ this.box = null;
  }

  /** @param {number[]} at */
  down(at) {
    const { viewport } = this,
      { model } = viewport;
    const box = (this.box = [at, at]);
    viewport.drag(
      (to) => {
        box[1] = to;
      },
      () => {
        this.box = null;
        if (Math.min(Math.abs(box[1][0] - at[0]), Math.abs(box[1][1] - at[1])) < LEAST_PX) return;
        this.lay(box).catch(told);
      },
    );
  }

  /** @param {number[][]} box */
  async lay([[ax, ay], [bx, by]]) {
    const { viewport } = this,
      { model } = viewport;
    const corners = [
      [ax, ay],
      [bx, ay],
      [bx, by],
      [ax, by],
    ].map((p) => viewport.toPicture(p));
    if (!(await model.change("datum", { action: "corners", frame: model.frame, corners }))) return;
    model.putAway();
    model.chooseNewest("surface");
  }

  hover() {
    return "crosshair";
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    if (!this.box) return;
    const [[ax, ay], [bx, by]] = this.box;
    g.strokeStyle = colours.bone;
    g.lineWidth = 1;
    g.strokeRect(ax, ay, bx - ax, by - ay);
  }
}
