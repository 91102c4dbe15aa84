// @ts-check
/** The four corners of a card, pulled onto places of the picture: on one frame, or on a second as well. */
import { told } from "../../notes.js";
import { pointOf, standsAt } from "../../math/family.js";
import { colours } from "../colours.js";

const GRAB_PX = 14;

export class PullTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** The corners of the chosen card as it stands, px of the picture: lower left, lower right, upper right, upper left. */
  asItStands() {
    const { model } = this.viewport,
      insert = model.insert(model.chosenOf("insert"));
    /** @type {number[][]} */ const shape = (insert && model.shapes.get(insert.id)) ?? [];
    if (!shape.length) return null;
    const ends = [0, 1].map((k) => shape.map((p) => p[k])),
      [x0, x1] = [Math.min(...ends[0]), Math.max(...ends[0])],
      [y0, y1] = [Math.min(...ends[1]), Math.max(...ends[1])],
      z = Math.max(...shape.map((p) => p[2]));
    const stands = standsAt(model.state.inserts, insert, model.frame);
    const seen = [
      [x0, y0, z],
      [x1, y0, z],
      [x1, y1, z],
      [x0, y1, z],
    ].map((p) => this.viewport.worldToStage(pointOf(stands, p)));
    return seen.every((p) => p) ? seen.map((p) => this.viewport.toPicture(/** @type {number[]} */ (p))) : null;
  }

  /** The corners on this frame: as they were pulled, else as the card stands. */
  corners() {
    const { tool, frame } = this.viewport.model;
    if (tool.kind !== "pull") return null;
    return tool.frames.find((f) => f.frame === frame)?.at ?? this.asItStands();
  }

  /** @param {number[]} at @param {number[][]|null} corners */
  nearest(at, corners) {
    const far = (corners ?? []).map((c) => {
      const p = this.viewport.toStage(c);
      return Math.hypot(p[0] - at[0], p[1] - at[1]);
    });
    const least = Math.min(...far, Infinity);
    return least < GRAB_PX ? far.indexOf(least) : -1;
  }

  /** @param {number[]} at */
  down(at) {
    const { viewport } = this,
      { model } = viewport,
      corners = this.corners(),
      k = this.nearest(at, corners);
    if (k < 0 || !corners) return;
    const now = corners.map((c) => [...c]);
    viewport.drag(
      (to) => {
        now[k] = viewport.toPicture(to);
        this.keep(now);
      },
      () => this.fit().catch(told),
    );
  }

  /** @param {number[][]} at */
  keep(at) {
    const { model } = this.viewport,
      { tool, frame } = model;
    if (tool.kind !== "pull") return;
    const others = tool.frames.filter((f) => f.frame !== frame);
    // Two frames tell all that there is to be told.
    tool.frames = [...others.slice(-1), { frame, at }];
  }

  async fit() {
    const { model } = this.viewport,
      { tool } = model;
    if (tool.kind !== "pull") return;
    const said = await model.arrange({ how: "corners", frames: tool.frames });
    // The sheet is drawn anew after each fit, and takes it from here.
    if (said !== null) tool.said = said;
    model.select();
  }

  /** @param {number[]} at */
  hover(at) {
    return this.nearest(at, this.corners()) < 0 ? "crosshair" : "grab";
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const corners = this.corners()?.map((c) => this.viewport.toStage(c));
    if (!corners) return;
    g.strokeStyle = colours.sand;
    g.fillStyle = colours.stone;
    g.lineWidth = 1;
    g.beginPath();
    corners.forEach((c, i) => (i ? g.lineTo(c[0], c[1]) : g.moveTo(c[0], c[1])));
    g.closePath();
    g.stroke();
    for (const [x, y] of corners) {
      g.beginPath();
      g.rect(x - 5, y - 5, 10, 10);
      g.fill();
      g.stroke();
    }
  }
}
