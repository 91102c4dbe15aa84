// @ts-check
/** A rod of a known height stands on whatever is under the pointer; a click leaves one there. */
import { meetPlane, ray, sub } from "../../math/camera.js";
import { contains } from "../../math/outline.js";

/** @typedef {import("./measure.js").Sighting} Sighting */
/** @typedef {{seen: Sighting, foot: number[], height: number}} Rod */

export class RodTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** Where it would stand. @param {number[]} at @returns {Rod|null} */
  rodAt(at) {
    const { viewport } = this,
      { model } = viewport,
      [x, y] = viewport.toPicture(at),
      seen = { frame: model.frame, x, y },
      foot = footOf(seen, model);
    return foot && model.tool.kind === "rod" ? { seen, foot, height: model.tool.height } : null;
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

/**
 * The nearest place that a sighting meets: of a surface within its outline, or of the floor.
 * @param {Sighting} seen @param {import("../../state/model.js").Model} model
 * @returns {number[]|null} world; null where there is nothing to stand on
 */
export function footOf({ frame, x, y }, model) {
  const camera = model.cameras[frame];
  if (!camera) return null;
  const sight = ray(camera, x, y),
    met = [];
  if (model.state.floor) met.push(meetPlane(sight, [0, 0, 0], [0, 1, 0]));
  for (const surface of model.state.surfaces) {
    const place = meetPlane(sight, surface.point, surface.normal);
    if (place && within(place, surface)) met.push(place);
  }
  const far = (/** @type {number[]} */ p) => Math.hypot(...sub(p, sight.from));
  return (
    met
      .filter((p) => p !== null)
      .sort((a, b) => far(a) - far(b))
      .at(0) ?? null
  );
}

/** Whether a place of a surface's plane lies in its outline. @param {number[]} place @param {any} surface */
function within(place, { normal, outline }) {
  // Seen along the axis that the normal is nearest to, nothing of the plane lies over another part of it.
  const most = normal.reduce(
    (/** @type {number} */ best, /** @type {number} */ v, /** @type {number} */ i) =>
      Math.abs(v) > Math.abs(normal[best]) ? i : best,
    0,
  );
  const flat = (/** @type {number[]} */ p) => p.filter((_, i) => i !== most);
  return contains(outline.map(flat), flat(place));
}

/**
 * Stands all rods where they were seen, in a world that was laid anew.
 * @param {import("../../state/model.js").Model} model
 */
export function standAnew(model) {
  model.rods = model.rods.flatMap((rod) => {
    const foot = footOf(rod.seen, model);
    return foot ? [{ ...rod, foot }] : [];
  });
}
