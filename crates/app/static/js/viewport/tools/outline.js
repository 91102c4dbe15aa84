// @ts-check
/** Drawing a mask corner by corner. */
import { colours } from "../colours.js";
import { paintCorner } from "./mask.js";

const CLOSE_PX = 9;

export class OutlineTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
    /** Whether what was drawn is on its way; a further click on its first corner is the same wish. */
    this.closing = false;
  }

  /** The corners so far, full-resolution px. @returns {number[][]} */
  corners() {
    const { tool } = this.viewport.model;
    return tool.kind === "outline" ? tool.corners : [];
  }

  /** One corner more; the first one closes it. @param {number[]} at */
  down(at) {
    if (this.closing) return;
    const { viewport } = this,
      corners = this.corners(),
      first = corners.length ? viewport.toStage(corners[0]) : null;
    if (first && corners.length > 2 && Math.hypot(first[0] - at[0], first[1] - at[1]) < CLOSE_PX) {
      this.close();
      return;
    }
    corners.push(viewport.toPicture(at));
    viewport.model.touch();
  }

  hover() {
    this.viewport.paint();
    return "crosshair";
  }

  /** Twice on a place closes it there; the second of the two clicks set no corner of its own. */
  twice() {
    if (this.closing) return;
    this.corners().pop();
    return this.close();
  }

  async close() {
    const { model } = this.viewport,
      { tool, frame } = model;
    if (this.closing || tool.kind !== "outline" || tool.corners.length < 3) return;
    const keys = [{ frame, outline: tool.corners }];
    const holds = tool.mode === "holdout";
    const mask = {
      id: 0,
      name: "",
      mode: holds ? "shape" : tool.mode,
      keys,
      smooth: [],
      by_hand: [frame],
      inverted: false,
      span: null,
      ...(holds ? { feather_px: 2 } : {}),
    };
    this.closing = true;
    const done = await model.edit({ edit: holds ? "draw-holdout" : "add-mask", mask }).finally(() => {
      this.closing = false;
    });
    if (!done) return;
    model.putAway();
    model.chooseNewest(holds ? "holdout" : "mask");
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { viewport } = this,
      corners = this.corners(),
      line = corners.map((p) => viewport.toStage(p));
    if (viewport.last && viewport.hovered) line.push(viewport.last);
    for (const [width, colour] of /** @type {[number, string][]} */ ([
      [3, colours.stone],
      [1, colours.bone],
    ])) {
      g.lineWidth = width;
      g.strokeStyle = colour;
      g.beginPath();
      line.forEach(([x, y], i) => (i ? g.lineTo(x, y) : g.moveTo(x, y)));
      g.stroke();
    }
    line.slice(0, corners.length).forEach((p, i) => paintCorner(g, p, false, i === 0 && corners.length > 2));
  }
}
