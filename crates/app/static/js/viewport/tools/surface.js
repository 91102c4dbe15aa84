// @ts-check
/** The chosen surface: its corners are dragged in its plane, its middle along its normal. */
import { add, dot, meetPlane, middleOf, scale, sub } from "../../math/camera.js";
import { contains } from "../../math/outline.js";
import { told } from "../../notes.js";
import { colours } from "../colours.js";
import { marksSurfaces } from "../shown.js";

const GRAB_PX = 10;
/** A surface seen flatter than this (sine of the angle) gives no depth to the pointer. */
const EDGE_ON = 0.05;

export class SurfaceEditor {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** The chosen surface as it is shown, where it can be changed. */
  chosen() {
    const { model } = this.viewport,
      id = model.chosenOf("surface");
    return id !== null && marksSurfaces(model) ? model.shownSurfaces().find((s) => s.id === id) : null;
  }

  /** Its corners on the view. @param {any} surface @returns {(number[]|null)[]} */
  corners(surface) {
    return surface.outline.map((/** @type {number[]} */ p) => this.viewport.worldToStage(p));
  }

  /** The corner or the middle under the pointer. @param {number[]} at @returns {number|"middle"|null} */
  grip(at) {
    const surface = this.chosen();
    if (!surface) return null;
    const near = (/** @type {number[]|null} */ p) => p && Math.hypot(p[0] - at[0], p[1] - at[1]) < GRAB_PX;
    const corner = this.corners(surface).findIndex(near);
    if (corner >= 0) return corner;
    return near(this.viewport.worldToStage(middleOf(surface.outline))) ? "middle" : null;
  }

  /** Whether something here can be taken hold of or chosen. @param {number[]} at */
  under(at) {
    return this.grip(at) !== null;
  }

  /** The surface whose outline is under the pointer, the smallest first. @param {number[]} at */
  surfaceAt(at) {
    const { model } = this.viewport;
    if (!marksSurfaces(model) || !this.viewport.option("surfaces")) return null;
    const size = (/** @type {number[][]} */ c) =>
      Math.abs(c.reduce((s, p, i) => s + p[0] * c[(i + 1) % c.length][1] - c[(i + 1) % c.length][0] * p[1], 0));
    const under = model.shownSurfaces().flatMap((s) => {
      const corners = this.corners(s);
      const whole = corners.every((c) => c !== null) ? /** @type {number[][]} */ (corners) : null;
      return whole && contains(whole, at) ? [{ s, size: size(whole) }] : [];
    });
    return under.sort((a, b) => a.size - b.size)[0]?.s ?? null;
  }

  /** @param {number[]} at @returns {boolean} whether it is about a surface */
  down(at) {
    const grip = this.grip(at),
      surface = this.chosen();
    if (grip === null || !surface) return false;
    const { viewport } = this,
      { model } = viewport,
      { point, normal } = surface;
    const start = middleOf(surface.outline);
    viewport.drag(
      (to) => {
        const sight = viewport.rayAt(to);
        if (!sight) return;
        if (grip === "middle") {
          // The place on the normal nearest to the sight.
          const d = sight.along,
            w = sub(start, sight.from),
            b = dot(normal, d),
            dd = dot(d, d);
          const by = (b * dot(d, w) - dd * dot(normal, w)) / (dd - b * b || 1e-9);
          const shift = scale(normal, by);
          model.movingSurface = {
            ...surface,
            point: add(point, shift),
            outline: surface.outline.map((/** @type {number[]} */ p) => add(p, shift)),
            reading: null,
          };
          return;
        }
        if (Math.abs(dot(normal, sight.along)) / Math.hypot(...sight.along) < EDGE_ON) return;
        const met = meetPlane(sight, point, normal);
        if (!met) return;
        const outline = surface.outline.map((/** @type {number[]} */ p, /** @type {number} */ i) =>
          i === grip ? met : p,
        );
        model.movingSurface = { ...surface, outline };
      },
      () => {
        const moved = model.movingSurface;
        if (!moved) return;
        model
          .edit({ edit: "change-surface", surface: moved })
          .catch(told)
          .finally(() => {
            model.movingSurface = null;
            model.touch();
          });
      },
    );
    return true;
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const surface = this.chosen();
    if (!surface) return;
    g.fillStyle = colours.stone;
    g.strokeStyle = colours.sand;
    g.lineWidth = 1;
    for (const p of this.corners(surface)) {
      if (!p) continue;
      g.beginPath();
      g.rect(p[0] - 4, p[1] - 4, 8, 8);
      g.fill();
      g.stroke();
    }
    const middle = this.viewport.worldToStage(middleOf(surface.outline)),
      out = this.viewport.worldToStage(add(middleOf(surface.outline), scale(surface.normal, this.reach(surface))));
    if (!middle) return;
    if (out) {
      g.beginPath();
      g.moveTo(middle[0], middle[1]);
      g.lineTo(out[0], out[1]);
      g.stroke();
    }
    g.beginPath();
    g.arc(middle[0], middle[1], 5, 0, 7);
    g.fill();
    g.stroke();
  }

  /** How long its normal is drawn, world. @param {any} surface */
  reach(surface) {
    const middle = middleOf(surface.outline);
    return 0.3 * Math.max(...surface.outline.map((/** @type {number[]} */ p) => Math.hypot(...sub(p, middle))));
  }
}
