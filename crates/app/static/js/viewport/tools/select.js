// @ts-check
/** Selecting: tracks by a click, a box or a lasso; handles and masks by taking hold of them. */
import { centre, dot, sub } from "../../math/camera.js";
import { contains } from "../../math/outline.js";
import { trackAt } from "../../math/tracks.js";
import { note } from "../../notes.js";
import { colours } from "../colours.js";

const PICK_PX = 9;
/** A drag shorter than this was a click, px. */
const CLICK_PX = 4;
/** Corners of a lasso below which it was a click. */
const LEAST_PATH = 8;

export class SelectTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
    /** @type {{x0: number, y0: number, x1: number, y1: number, path: number[][]}|null} */ this.box = null;
    /** What a click took last, and where. @type {{at: number[], id: number}|null} */ this.picked = null;
  }

  /** Where the tracks that can be seen here are, px of the view. @returns {{id: number, x: number, y: number}[]} */
  marks() {
    const { viewport } = this,
      { model } = viewport;
    if (!viewport.through())
      return model.points
        .filter((p) => !model.deleted.has(p.id))
        .map((p) => {
          const [x, y] = viewport.scene.toStage(p.x);
          return { id: p.id, x, y };
        });
    if (!viewport.option("tracks")) return [];
    return model.tracks.flatMap((track) => {
      const p = (model.showDeleted || !model.deleted.has(track.id)) && trackAt(track, model.frame);
      if (!p) return [];
      const [x, y] = viewport.toStage(p);
      return [{ id: track.id, x, y }];
    });
  }

  /** @param {number[]} at @param {PointerEvent} event */
  down(at, event) {
    const { viewport } = this;
    if (viewport.handles.down(at) || viewport.surfaces.down(at)) return;
    if (viewport.through() && viewport.masks.down(at, event)) return;
    this.pick(at, event.shiftKey, viewport.kind() === "free" && !event.shiftKey);
  }

  /** @param {number[]} at */
  hover(at) {
    const { viewport } = this;
    if (viewport.surfaces.under(at)) return "grab";
    return viewport.handles.over(at) || (viewport.through() && viewport.masks.under(at)) ? "grab" : "";
  }

  /**
   * One track under the pointer, or all in a box; the free view turns instead.
   * @param {number[]} at
   * @param {boolean} more
   * @param {boolean} turns
   */
  pick(at, more, turns) {
    const { viewport } = this;
    const near = this.nearest(at);
    const box = { x0: at[0], y0: at[1], x1: at[0], y1: at[1], path: [at] };
    if (!turns) this.box = box;
    viewport.drag(
      ([x, y], [dx, dy]) => {
        box.x1 = x;
        box.y1 = y;
        box.path.push([x, y]);
        if (turns) viewport.scene.orbit(dx, dy);
      },
      () => {
        this.box = null;
        const lasso = viewport.model.tool.kind === "lasso";
        const still = Math.abs(box.x1 - box.x0) < CLICK_PX && Math.abs(box.y1 - box.y0) < CLICK_PX;
        if (still && (!lasso || box.path.length < LEAST_PATH)) this.click(near, more, at);
        else if (!turns) this.takeInside(box, lasso, more);
      },
    );
  }

  /**
   * The track nearest to the pointer; another click on the same place offers the next one there, from near to far.
   * @param {number[]} at @returns {number|null}
   */
  nearest(at) {
    const here = this.marks()
      .map(({ id, x, y }) => ({ id, d: Math.hypot(x - at[0], y - at[1]) }))
      .filter(({ d }) => d < PICK_PX)
      .sort((a, b) => a.d - b.d);
    if (!here.length) return null;
    const same = this.picked && Math.hypot(this.picked.at[0] - at[0], this.picked.at[1] - at[1]) < CLICK_PX;
    if (!same || here.length < 2 || this.picked === null) {
      this.picked = { at, id: here[0].id };
      return here[0].id;
    }
    const deep = here.map(({ id }) => id).sort((a, b) => this.depth(a) - this.depth(b)),
      next = deep[(deep.indexOf(this.picked.id) + 1) % deep.length];
    this.picked = { at, id: next };
    note(`${deep.indexOf(next) + 1} of ${deep.length} here, from near to far; another click takes the next.`);
    return next;
  }

  /** How far away a track lies in this view; those without a place come last. @param {number} id */
  depth(id) {
    const { viewport } = this,
      point = viewport.model.points.find((p) => p.id === id),
      camera = viewport.model.camera();
    if (!point) return Infinity;
    if (!viewport.through()) return -dot(viewport.scene.axes(viewport.kind()).near, point.x);
    return camera ? Math.hypot(...sub(centre(camera), point.x)) : Infinity;
  }

  /** @param {number|null} near @param {boolean} more @param {number[]} at */
  click(near, more, at) {
    const { model } = this.viewport;
    if (near === null) {
      const surface = this.viewport.surfaces.surfaceAt(at);
      if (surface) model.choose({ kind: "surface", id: surface.id });
      // A click on nothing loses nothing; Escape lets go of a selection.
      return;
    }
    model.chosen = null;
    if (!more) model.selected.clear();
    if (more && model.selected.has(near)) model.selected.delete(near);
    else model.selected.add(near);
    model.select();
  }

  /**
   * @param {{x0: number, y0: number, x1: number, y1: number, path: number[][]}} box @param {boolean} lasso
   * @param {boolean} more
   */
  takeInside({ x0, y0, x1, y1, path }, lasso, more) {
    const { model } = this.viewport;
    if (!more) model.selected.clear();
    for (const { id, x, y } of this.marks()) {
      const inside = lasso
        ? contains(path, [x, y])
        : x >= Math.min(x0, x1) && x <= Math.max(x0, x1) && y >= Math.min(y0, y1) && y <= Math.max(y0, y1);
      if (inside) model.selected.add(id);
    }
    model.select();
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    if (!this.box) return;
    const { x0, y0, x1, y1, path } = this.box;
    g.strokeStyle = colours.bone;
    g.lineWidth = 1;
    g.setLineDash([4, 3]);
    if (this.viewport.model.tool.kind === "lasso") {
      g.beginPath();
      path.forEach((p, i) => (i ? g.lineTo(p[0], p[1]) : g.moveTo(p[0], p[1])));
      g.stroke();
    } else g.strokeRect(x0, y0, x1 - x0, y1 - y0);
    g.setLineDash([]);
  }
}
