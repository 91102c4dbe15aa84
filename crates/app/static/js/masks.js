// @ts-check
/**
 * Masks on the stage: drawn corner by corner, moved as a whole or by a corner, keyed by being moved on another frame.
 */
import { colours } from "./colours.js";
import { contains, countsOn, fromLine, outlineAt, pieces, withCorner, withKey, withoutCorner } from "./mask-shape.js";

const GRAB_PX = 9;

/** @typedef {import("./mask-shape.js").Mask} Mask */

export class MaskTool {
  /** @param {import("./stage.js").Stage} stage */
  constructor(stage) {
    this.stage = stage;
    stage.canvas.addEventListener("dblclick", (e) => this.twice(stage.at(e)));
  }

  /** All masks, the one that is being dragged as it is now. @returns {Mask[]} */
  masks() {
    const { state, movingMask } = this.stage.model;
    return (state?.masks ?? []).map((/** @type {Mask} */ m) => (m.id === movingMask?.id ? movingMask : m));
  }

  /** @returns {Mask|null} */
  chosen() {
    return this.masks().find((m) => m.id === this.stage.model.mask) ?? null;
  }

  /** Corners on the stage. @param {Mask} mask */
  corners(mask) {
    return outlineAt(mask, this.stage.model.frame).map((p) => this.stage.toStage(p));
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { model } = this.stage;
    for (const mask of this.masks()) {
      const is = mask.id === model.mask;
      if (!is && !countsOn(mask, model.frame)) continue;
      this.paintOne(g, this.corners(mask), mask, is);
    }
    const { drawing } = model;
    if (!drawing) return;
    const line = drawing.corners.map((/** @type {number[]} */ p) => this.stage.toStage(p));
    if (this.stage.last && this.stage.hovered) line.push(this.stage.last);
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
    line
      .slice(0, drawing.corners.length)
      .forEach((p, i) => this.corner(g, p, false, i === 0 && drawing.corners.length > 2));
  }

  /** @param {CanvasRenderingContext2D} g @param {number[][]} at @param {Mask} mask @param {boolean} is */
  paintOne(g, at, mask, is) {
    const out = (mask.mode === "keep-out") !== mask.inverted,
      counts = countsOn(mask, this.stage.model.frame);
    const path = new Path2D();
    pieces(at, mask.smooth).forEach(({ a, b, c, d }, i) => {
      if (!i) path.moveTo(a[0], a[1]);
      path.bezierCurveTo(c[0], c[1], d[0], d[1], b[0], b[1]);
    });
    path.closePath();
    g.save();
    // What is left out is hatched: inside of a keep-out, outside of a keep-in.
    const hatched = new Path2D(path);
    if (!out)
      hatched.rect(
        this.stage.view.x,
        this.stage.view.y,
        this.stage.model.state.width * this.stage.view.scale,
        this.stage.model.state.height * this.stage.view.scale,
      );
    g.clip(hatched, "evenodd");
    g.strokeStyle = colours.stone;
    g.globalAlpha = counts ? 0.55 : 0.2;
    g.lineWidth = 1;
    g.beginPath();
    const { clientWidth: w, clientHeight: h } = this.stage.root;
    for (let k = -h; k < w; k += 7) {
      g.moveTo(k, h);
      g.lineTo(k + h, 0);
    }
    g.stroke();
    g.restore();
    for (const [width, colour] of /** @type {[number, string][]} */ ([
      [3, colours.stone],
      [1, is ? colours.sand : colours.bone],
    ])) {
      g.lineWidth = width;
      g.strokeStyle = colour;
      g.setLineDash(counts ? [] : [4, 4]);
      g.stroke(path);
    }
    g.setLineDash([]);
    if (is) at.forEach((p, i) => this.corner(g, p, !!mask.smooth[i], false));
  }

  /**
   * A corner: square, or round where it is smooth.
   * @param {CanvasRenderingContext2D} g
   * @param {number[]} p
   * @param {boolean} round
   * @param {boolean} full
   */
  corner(g, [x, y], round, full) {
    g.beginPath();
    if (round) g.arc(x, y, 4.5, 0, 7);
    else g.rect(x - 4, y - 4, 8, 8);
    g.fillStyle = full ? colours.sand : colours.stone;
    g.strokeStyle = colours.sand;
    g.lineWidth = 1;
    g.fill();
    g.stroke();
  }

  /** What of a mask lies under the pointer. @param {number[]} at */
  under(at) {
    const chosen = this.chosen();
    if (chosen) {
      const corners = this.corners(chosen),
        i = corners.findIndex((c) => Math.hypot(c[0] - at[0], c[1] - at[1]) < GRAB_PX);
      if (i >= 0) return { mask: chosen, corner: i };
      const edge = corners.findIndex((c, k) => fromLine(at, c, corners[(k + 1) % corners.length]) < GRAB_PX);
      if (edge >= 0) return { mask: chosen, edge };
      if (contains(corners, at)) return { mask: chosen, inside: true };
    }
    for (const mask of this.masks()) {
      if (!countsOn(mask, this.stage.model.frame)) continue;
      const corners = this.corners(mask),
        edge = corners.findIndex((c, k) => fromLine(at, c, corners[(k + 1) % corners.length]) < GRAB_PX);
      if (edge >= 0) return { mask, edge };
    }
    return null;
  }

  /**
   * A click or the begin of a drag; whether it was meant for a mask.
   * @param {number[]} at
   * @param {PointerEvent} event
   */
  down(at, event) {
    const { model } = this.stage;
    if (model.drawing) {
      this.draw(at);
      return true;
    }
    const found = this.under(at);
    if (!found || (event.shiftKey && !("corner" in found))) return false;
    if (event.altKey && found.corner !== undefined) {
      this.save(withoutCorner(found.mask, found.corner));
      return true;
    }
    if (model.mask !== found.mask.id) {
      model.chooseMask(found.mask.id);
      return true;
    }
    const began = found.mask,
      { frame } = model,
      outline = outlineAt(began, frame),
      total = [0, 0];
    this.stage.drag(
      (_, by) => {
        total[0] += by[0] / this.stage.view.scale;
        total[1] += by[1] / this.stage.view.scale;
        const moved = outline.map((p, i) =>
          found.corner === undefined || found.corner === i ? [p[0] + total[0], p[1] + total[1]] : p,
        );
        model.movingMask = withKey(began, frame, moved);
      },
      async () => {
        const mask = model.movingMask;
        if (mask && (total[0] || total[1])) await this.save(mask);
        model.movingMask = null;
        model.touch();
      },
    );
    return true;
  }

  /** One corner more of the outline that is being drawn; the first one closes it. @param {number[]} at */
  draw(at) {
    const { model } = this.stage;
    if (!model.drawing) return;
    const { corners } = model.drawing,
      first = corners.length ? this.stage.toStage(corners[0]) : null;
    if (first && corners.length > 2 && Math.hypot(first[0] - at[0], first[1] - at[1]) < GRAB_PX) {
      this.close();
      return;
    }
    corners.push(this.stage.toPicture(at));
    model.touch();
  }

  async close() {
    const { model } = this.stage,
      { drawing, frame } = model;
    if (!drawing || drawing.corners.length < 3) return;
    const mask = {
      id: 0,
      name: "",
      mode: drawing.mode,
      keys: [{ frame, outline: drawing.corners }],
      smooth: [],
      inverted: false,
      span: null,
    };
    if (await model.edit({ edit: "add-mask", mask })) {
      model.draw(null);
      model.chooseNewestMask();
    }
  }

  /**
   * Twice on a corner makes it smooth or straight, twice on an edge adds a corner, twice while drawing closes.
   * @param {number[]} at
   */
  twice(at) {
    if (!this.stage.through()) return;
    const { model } = this.stage;
    if (model.drawing) {
      model.drawing.corners.pop();
      this.close();
      return;
    }
    const found = this.under(at);
    if (!found || found.mask.id !== model.mask) return;
    const { mask } = found;
    if (found.corner !== undefined) {
      const smooth = mask.keys[0].outline.map((_, i) => (i === found.corner ? !mask.smooth[i] : !!mask.smooth[i]));
      this.save({ ...mask, smooth });
    } else if (found.edge !== undefined) this.save(withCorner(mask, found.edge));
  }

  /** @param {Mask} mask */
  save(mask) {
    return this.stage.model.edit({ edit: "change-mask", mask });
  }
}
