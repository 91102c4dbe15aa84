// @ts-check
/** Masks over the picture: moved as a whole or by a corner, keyed by being moved on another frame. */
import { colours } from "../colours.js";
import { marksMasks } from "../shown.js";
import {
  alongAt,
  bounding,
  contains,
  countsOn,
  featherAt,
  fromLine,
  outlineAt,
  pieces,
  placesOf,
  withCorner,
  withFeather,
  withKey,
  withoutCorner,
} from "../../math/outline.js";

const GRAB_PX = 9;

/** @typedef {import("../../math/outline.js").Mask} Mask */

export class MaskEditor {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** All masks, the one that is being dragged as it is now. @returns {Mask[]} */
  masks() {
    const { state, movingMask } = this.viewport.model;
    return (state?.masks ?? []).map((/** @type {Mask} */ m) => (m.id === movingMask?.id ? movingMask : m));
  }

  /** @returns {Mask|null} */
  chosen() {
    return this.masks().find((m) => m.id === this.viewport.model.chosenMask()) ?? null;
  }

  /** Corners on the stage. @param {Mask} mask */
  corners(mask) {
    return outlineAt(mask, this.viewport.model.frame).map((p) => this.viewport.toStage(p));
  }

  /** All places round on the stage, each with the corner that it follows. @param {Mask} mask */
  places(mask) {
    const { viewport } = this,
      { frame } = viewport.model,
      places = placesOf(outlineAt(mask, frame), alongAt(mask, frame));
    return places.map(({ at, of }) => ({ at: viewport.toStage(at), of }));
  }

  /** The same without their corners. @param {Mask} mask */
  round(mask) {
    return this.places(mask).map((p) => p.at);
  }

  /** The corner behind which an edge lies under the pointer, -1 for none. @param {Mask} mask @param {number[]} at */
  edgeUnder(mask, at) {
    const places = this.places(mask),
      next = (/** @type {number} */ k) => places[(k + 1) % places.length].at;
    return places.find((p, k) => fromLine(at, p.at, next(k)) < GRAB_PX)?.of ?? -1;
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { model } = this.viewport;
    for (const mask of this.masks()) {
      const is = mask.id === model.chosenMask();
      if (is ? model.playing : !this.isShown(mask)) continue;
      this.paintOne(g, this.corners(mask), mask, is);
    }
  }

  /** Whether a mask that is not chosen stands over the picture. @param {Mask} mask */
  isShown(mask) {
    const { model } = this.viewport;
    return marksMasks(model) && countsOn(mask, model.frame);
  }

  /** @param {CanvasRenderingContext2D} g @param {number[][]} at @param {Mask} mask @param {boolean} is */
  paintOne(g, at, mask, is) {
    const hatches = mask.mode !== "shape",
      out = (mask.mode === "keep-out") !== mask.inverted,
      counts = countsOn(mask, this.viewport.model.frame);
    const path = new Path2D(),
      seen = new Path2D();
    const known = alongAt(mask, this.viewport.model.frame);
    const places = known ? this.round(mask) : at,
      bounds = bounding(places);
    pieces(places, known ? [] : mask.smooth).forEach(({ a, b, c, d }, i) => {
      if (!i) path.moveTo(a[0], a[1]);
      path.bezierCurveTo(c[0], c[1], d[0], d[1], b[0], b[1]);
      if (!bounds[i]) return;
      if (!i || !bounds[i - 1]) seen.moveTo(a[0], a[1]);
      seen.bezierCurveTo(c[0], c[1], d[0], d[1], b[0], b[1]);
    });
    path.closePath();
    if (!bounds.includes(false)) seen.closePath();
    g.save();
    // What is left out is hatched: inside of a keep-out, outside of a keep-in.
    const hatched = new Path2D(path);
    if (!out)
      hatched.rect(
        this.viewport.view.x,
        this.viewport.view.y,
        this.viewport.model.state.width * this.viewport.view.scale,
        this.viewport.model.state.height * this.viewport.view.scale,
      );
    g.clip(hatched, "evenodd");
    g.strokeStyle = colours.stone;
    g.globalAlpha = counts ? 0.55 : 0.2;
    g.lineWidth = 1;
    g.beginPath();
    const { w, h } = this.viewport.size();
    for (let k = -h; k < w; k += 7) {
      g.moveTo(k, h);
      g.lineTo(k + h, 0);
    }
    if (hatches) g.stroke();
    g.restore();
    for (const [width, colour] of /** @type {[number, string][]} */ ([
      [3, colours.stone],
      [1, is ? colours.sand : colours.bone],
    ])) {
      g.lineWidth = width;
      g.strokeStyle = colour;
      g.setLineDash(counts ? [] : [4, 4]);
      g.stroke(seen);
    }
    g.setLineDash([]);
    if (!is) return;
    at.forEach((p, i) => {
      const reach = 0.5 * featherAt(mask, i) * this.viewport.view.scale;
      if (reach > 3) {
        g.strokeStyle = colours.bone;
        g.lineWidth = 1;
        g.setLineDash([2, 3]);
        g.beginPath();
        g.arc(p[0], p[1], reach, 0, 7);
        g.stroke();
        g.setLineDash([]);
      }
      paintCorner(g, p, !!mask.smooth[i], false);
    });
  }

  /** What of a mask lies under the pointer. @param {number[]} at */
  under(at) {
    const chosen = this.chosen();
    if (chosen) {
      const corners = this.corners(chosen),
        i = corners.findIndex((c) => Math.hypot(c[0] - at[0], c[1] - at[1]) < GRAB_PX);
      if (i >= 0) return { mask: chosen, corner: i };
      const edge = this.edgeUnder(chosen, at);
      if (edge >= 0) return { mask: chosen, edge };
      if (contains(this.round(chosen), at)) return { mask: chosen, inside: true };
    }
    for (const mask of this.masks()) {
      if (!this.isShown(mask)) continue;
      const edge = this.edgeUnder(mask, at);
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
    const { model } = this.viewport;
    const found = this.under(at);
    if (!found || (event.shiftKey && !("corner" in found))) return false;
    if (event.altKey && found.corner !== undefined) {
      this.save(withoutCorner(found.mask, found.corner));
      return true;
    }
    if (model.chosenMask() !== found.mask.id) {
      const held = model.state.holdouts.find((/** @type {any} */ h) => h.by === "mask" && h.mask === found.mask.id);
      const byIt = held && model.station === "holdouts";
      model.choose(byIt ? { kind: "holdout", id: held.id } : { kind: "mask", id: found.mask.id });
      return true;
    }
    if (event.shiftKey && found.corner !== undefined) return this.pullFeather(found.mask, found.corner);
    const began = found.mask,
      { frame } = model,
      outline = outlineAt(began, frame),
      total = [0, 0];
    this.viewport.drag(
      (_, by) => {
        total[0] += by[0] / this.viewport.view.scale;
        total[1] += by[1] / this.viewport.view.scale;
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

  /** With Shift, dragging away from a corner makes the edge fade over as much there. @param {Mask} mask @param {number} i */
  pullFeather(mask, i) {
    const { model } = this.viewport,
      corner = this.corners(mask)[i];
    this.viewport.drag(
      ([x, y]) => {
        const away = Math.hypot(x - corner[0], y - corner[1]) / this.viewport.view.scale;
        model.movingMask = withFeather(mask, i, 2 * away);
      },
      async () => {
        if (model.movingMask) await this.save(model.movingMask);
        model.movingMask = null;
        model.touch();
      },
    );
    return true;
  }

  /**
   * Twice on a corner makes it smooth or straight, twice on an edge adds a corner.
   * @param {number[]} at
   */
  twice(at) {
    if (!this.viewport.through()) return;
    const { model } = this.viewport;
    if (model.tool.kind === "outline") {
      /** @type {import("./outline.js").OutlineTool} */ (this.viewport.tools.outline).twice();
      return;
    }
    const found = this.under(at);
    if (!found || found.mask.id !== model.chosenMask()) return;
    const { mask } = found;
    if (found.corner !== undefined) {
      const smooth = mask.keys[0].outline.map((_, i) => (i === found.corner ? !mask.smooth[i] : !!mask.smooth[i]));
      this.save({ ...mask, smooth });
    } else if (found.edge !== undefined) this.save(withCorner(mask, found.edge));
  }

  /** @param {Mask} mask */
  save(mask) {
    return this.viewport.model.edit({ edit: "change-mask", mask });
  }
}

/**
 * A corner: square, or round where it is smooth.
 * @param {CanvasRenderingContext2D} g
 * @param {number[]} p
 * @param {boolean} round
 * @param {boolean} full
 */
export function paintCorner(g, [x, y], round, full) {
  g.beginPath();
  if (round) g.arc(x, y, 4.5, 0, 7);
  else g.rect(x - 4, y - 4, 8, 8);
  g.fillStyle = full ? colours.sand : colours.stone;
  g.strokeStyle = colours.sand;
  g.lineWidth = 1;
  g.fill();
  g.stroke();
}
