// @ts-check
/**
 * Handles of a far picture. It stands about the camera, so a drag turns it: its bearing and its height over the horizon
 * follow the pointer, and a card is seen wider or narrower. A dome is everywhere; its handle stands in the middle.
 */
import { add, centre, ray, scale, unit } from "../../math/camera.js";
import { NUMBER, valueAt, withValue } from "../../math/curve.js";
import { bearingOf, heightOf, toward } from "../../math/far.js";
import { hullOf } from "../../math/hull.js";

/** How far off it is taken to be, in distances of the datum's unit. */
const FAR = 1e5;
/** Room that is left between a handle and the edge of the picture, px. */
const EDGE_PX = 24;
/** Where the handle of the width stands, px beside the foot, and over how many px a card grows by e. */
const ASIDE_PX = 56,
  GROWS_BY_E_PX = 150;
/** The heights and widths that a backdrop may have, degrees. */
const HIGHEST_DEG = 89,
  WIDTH_DEG = [0.1, 160];

/** The values that a drag changes: their names in recipes, and where they are written. */
const WRITTEN = /** @type {const} */ ({ bearing: "bearing_deg", rise: "height_deg", width: "width_deg" });

export class FarHandles {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** @param {any} insert @param {keyof typeof WRITTEN} name */
  now({ content, tracks = {} }, name) {
    return name in tracks ? valueAt(NUMBER, tracks[name], this.viewport.model.frame) : content[WRITTEN[name]];
  }

  /** At this frame where it changes over time, else for good. @param {any} insert @param {keyof typeof WRITTEN} name @param {number} value */
  write({ content, tracks = {} }, name, value) {
    if (name in tracks) tracks[name] = withValue(tracks[name], this.viewport.model.frame, value);
    else content[WRITTEN[name]] = value;
  }

  /** Where a direction is seen, px of the view. @param {number[]} direction */
  seen(direction) {
    const camera = this.viewport.model.camera();
    return camera && this.viewport.worldToStage(add(centre(camera), scale(direction, FAR)));
  }

  /** Where its handles are on the view; elsewhere than through the camera it has none. @param {any} insert
   * @returns {Record<string, number[]>} */
  spots(insert) {
    const { viewport } = this,
      { width, height } = viewport.model.state,
      camera = viewport.model.camera();
    if (!camera || !viewport.through()) return {};
    const dome = insert.content.spread === "dome",
      middle = bearingOf(ray(camera, width / 2, height / 2).along);
    const at = this.seen(toward(dome ? middle : this.now(insert, "bearing"), this.now(insert, "rise")));
    if (!at) return {};
    const [left, top] = viewport.toStage([0, 0]),
      [right, bottom] = viewport.toStage([width, height]),
      { w, h } = viewport.size();
    const within = (/** @type {number} */ v, /** @type {number} */ from, /** @type {number} */ to) =>
      Math.min(Math.max(v, from + EDGE_PX), to - EDGE_PX);
    const foot = [
      within(at[0], Math.max(left, 0), Math.min(right, w)),
      within(at[1], Math.max(top, 0), Math.min(bottom, h)),
    ];
    return dome ? { foot } : { foot, size: [foot[0] + ASIDE_PX, foot[1]] };
  }

  /** The outline of a card; a dome has none. @param {any} insert @returns {number[][]} */
  outline(insert) {
    if (insert.content.spread === "dome" || !this.viewport.through()) return [];
    const bearing = (this.now(insert, "bearing") * Math.PI) / 180,
      rise = Math.tan((this.now(insert, "rise") * Math.PI) / 180),
      half = Math.tan((this.now(insert, "width") * Math.PI) / 360),
      high = (2 * half) / insert.content.aspect;
    const [sin, cos] = [Math.sin(bearing), Math.cos(bearing)];
    const corners = [
      [-half, rise],
      [half, rise],
      [half, rise + high],
      [-half, rise + high],
    ].map(([x, y]) => this.seen(unit([x * cos + sin, y, x * sin - cos])));
    return corners.every((p) => p) ? hullOf(/** @type {number[][]} */ (corners)) : [];
  }

  /** Turns it by the way from one line of sight to another. @param {any} insert @param {number[]} from @param {number[]} to */
  turn(insert, from, to) {
    const height = this.now(insert, "rise") + heightOf(to) - heightOf(from);
    this.write(insert, "rise", Math.min(Math.max(height, -HIGHEST_DEG), HIGHEST_DEG));
    const bearing = this.now(insert, "bearing") + bearingOf(to) - bearingOf(from);
    this.write(insert, "bearing", ((((bearing + 180) % 360) + 360) % 360) - 180);
  }

  /** It as a drag leaves it. @param {any} began @param {string} name @param {number[]} from @param {number[]} to px of the view */
  dragged(began, name, from, to) {
    const next = structuredClone(began);
    if (name === "size") {
      const width = this.now(began, "width") * Math.exp((to[0] - from[0]) / GROWS_BY_E_PX);
      this.write(next, "width", Math.min(Math.max(width, WIDTH_DEG[0]), WIDTH_DEG[1]));
    } else {
      const [a, b] = [from, to].map((p) => this.viewport.rayAt(p)?.along);
      if (a && b) this.turn(next, a, b);
    }
    return next;
  }
}
