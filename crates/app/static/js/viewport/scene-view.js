// @ts-check
/** The scene from outside, drawn in parallel projection: from the top, front, side or freely turned. */
import { add, centre, dot, scale } from "../math/camera.js";
import { footAt } from "../math/family.js";
import { isFar } from "../math/far.js";
import { ellipse } from "../math/spread.js";
import { colours } from "./colours.js";
import { PointsLayer } from "./points-layer.js";
import { ramp } from "./ramp.js";

/** Share of the points at each end that may lie outside the picture, so that a few far ones don't shrink the rest. */
const OUTSIDE = 0.06;

/** How the fixed views are turned: about the upright, and up. @type {Record<string, number[]>} */
const FIXED = { top: [0, Math.PI / 2], front: [0, 0], side: [Math.PI / 2, 0] };

/** The world's own axes. */
const WORLD = { right: [1, 0, 0], up: [0, 1, 0], near: [0, 0, 1] };

export class SceneView {
  /**
   * @param {import("../state/model.js").Model} model
   * @param {boolean} [path] whether the camera's path fills the view rather than the scene
   */
  constructor(model, path = false) {
    this.model = model;
    this.path = path;
    this.yaw = 0.7;
    this.pitch = 0.5;
    this.zoom = 1;
    this.shift = [0, 0];
    /**
     * How the view was laid, and what for.
     * @type {{kind: string, about: number[], size: number, w: number, h: number, points: object[]|null}|null}
     */
    this.frame = null;
    this.layer = new PointsLayer();
  }

  /** Moves and zooms so that some places fill the view. @param {number[][]} places @param {string} kind */
  fitTo(places, kind) {
    if (!this.frame || !places.length) return;
    const { right, up } = this.axes(kind),
      { size, w, h } = this.frame,
      middle = this.middle(right, up);
    const ends = (/** @type {number[]} */ axis) => {
      const all = places.map((p) => p[0] * axis[0] + p[1] * axis[1] + p[2] * axis[2]);
      return [Math.min(...all), Math.max(...all)];
    };
    const [x0, x1] = ends(right),
      [y0, y1] = ends(up);
    const zoom = (0.6 * Math.min(w / Math.max(x1 - x0, 1e-3 * w), h / Math.max(y1 - y0, 1e-3 * h))) / size;
    this.zoom = Math.min(Math.max(x1 - x0 + y1 - y0 > 0 ? zoom : 6, 0.02), 200);
    this.shift = [-((x0 + x1) / 2 - middle[0]) * size * this.zoom, ((y0 + y1) / 2 - middle[1]) * size * this.zoom];
  }

  fit() {
    this.zoom = 1;
    this.shift = [0, 0];
    // What was placed since is seen as well.
    if (this.frame) this.frame.points = null;
  }

  /** Where things stand, world. */
  placed() {
    const { state, frame } = this.model,
      /** @type {any[]} */ inserts = state?.inserts ?? [];
    return inserts.filter((i) => !i.hidden && !isFar(i)).map((i) => footAt(inserts, i, frame));
  }

  /** Turns by a drag of the pointer, px. @param {number} dx @param {number} dy */
  orbit(dx, dy) {
    this.yaw += dx * 0.008;
    this.pitch = Math.min(Math.max(this.pitch + dy * 0.008, -1.5), 1.5);
  }

  /** Zooms and keeps what is under the pointer there. @param {number[]} at @param {number} by */
  zoomAt([x, y], by) {
    const next = Math.min(Math.max(this.zoom * by, 0.02), 200),
      k = next / this.zoom;
    const { w, h } = this.frame ?? { w: 0, h: 0 };
    this.shift = [x - w / 2 - (x - w / 2 - this.shift[0]) * k, y - h / 2 - (y - h / 2 - this.shift[1]) * k];
    this.zoom = next;
  }

  /** Axes of the view in the world: right, up, towards the viewer. @param {string} kind */
  axes(kind) {
    const [yaw, pitch] = FIXED[kind] ?? [this.yaw, this.pitch];
    const [cy, sy, cp, sp] = [Math.cos(yaw), Math.sin(yaw), Math.cos(pitch), Math.sin(pitch)];
    return { right: [cy, 0, -sy], up: [-sp * sy, cp, -sp * cy], near: [cp * sy, sp, cp * cy] };
  }

  /** Fits the points, the camera path and what is placed into the canvas. @param {string} kind @param {number} w @param {number} h */
  lay(kind, w, h) {
    const { model } = this,
      last = this.frame;
    // While it plays or turns nothing of this changes, and sorting all points for every frame would cost.
    if (last && last.kind === kind && last.w === w && last.h === h && last.points === model.points) return;
    const eyes = model.cameras.flatMap((c) => (c ? [centre(c)] : []));
    const all = this.path ? eyes : model.points.map((p) => p.x).concat(eyes);
    const placed = this.placed();
    const spread = (/** @type {number[]} */ axis) => {
      const s = all.map((p) => dot(p, axis)).sort((a, b) => a - b);
      const outside = this.path ? 0 : OUTSIDE;
      const ends = s.length
        ? [s[Math.floor(s.length * outside)], s[Math.floor((s.length - 1) * (1 - outside))]]
        : [0, 1];
      const stand = this.path ? [] : placed.map((p) => dot(p, axis));
      return [Math.min(ends[0], ...stand), Math.max(ends[1], ...stand)];
    };
    // A view that turns is fitted for every way it may be turned.
    const { right, up, near } = kind === "free" ? WORLD : this.axes(kind);
    const [xs, ys, zs] = [right, up, near].map(spread),
      half = (/** @type {number[]} */ [low, high]) => (low + high) / 2,
      breadth = (/** @type {number[]} */ [low, high]) => Math.max(high - low, 1e-6);
    const round = Math.hypot(breadth(xs), breadth(ys), breadth(zs)),
      size = kind === "free" ? (0.9 * Math.min(w, h)) / round : 0.8 * Math.min(w / breadth(xs), h / breadth(ys));
    const about = add(add(scale(right, half(xs)), scale(up, half(ys))), scale(near, half(zs)));
    this.frame = { kind, about, size, w, h, points: model.points };
  }

  /** The middle of the view along its axes. @param {number[]} right @param {number[]} up */
  middle(right, up) {
    const { about } = /** @type {any} */ (this.frame);
    return [dot(about, right), dot(about, up)];
  }

  /** World to stage px. @param {number[]} p */
  toStage(p) {
    const { kind, size, w, h } = /** @type {any} */ (this.frame),
      { right, up } = this.axes(kind),
      middle = this.middle(right, up);
    const u = p[0] * right[0] + p[1] * right[1] + p[2] * right[2] - middle[0],
      v = p[0] * up[0] + p[1] * up[1] + p[2] * up[2] - middle[1];
    return [w / 2 + this.shift[0] + u * size * this.zoom, h / 2 + this.shift[1] - v * size * this.zoom];
  }

  /** The line of sight under the pointer, from far in front of everything. @param {number[]} at */
  rayAt([x, y]) {
    const { kind, size, w, h } = /** @type {any} */ (this.frame),
      { right, up, near } = this.axes(kind),
      middle = this.middle(right, up);
    const u = (x - w / 2 - this.shift[0]) / (size * this.zoom) + middle[0],
      v = -(y - h / 2 - this.shift[1]) / (size * this.zoom) + middle[1];
    const on = add(scale(right, u), scale(up, v));
    return { from: add(on, scale(near, 1e4)), along: scale(near, -1) };
  }

  /**
   * @param {CanvasRenderingContext2D} g
   * @param {string} kind
   * @param {number} w
   * @param {number} h
   * @param {{firm?: boolean, points?: boolean, path?: boolean, size?: number}} [show] `firm`: how far each place may be
   * off
   */
  paint(g, kind, w, h, { firm = false, points = true, path = true, size = 2 } = {}) {
    const { model } = this;
    this.lay(kind, w, h);
    if (!model.cameras.some(Boolean)) return;
    if (model.state.floor) this.paintFloor(g);
    if (firm) this.paintFirmness(g);
    if (points) {
      this.layer.paint(g, model, this.placing(), w, h, size);
      this.paintSelected(g, size);
    }
    if (path) this.paintCameras(g);
  }

  /** Where the view puts the world: px for each unit to the right and up, and where its middle lies. */
  placing() {
    const { kind, size, w, h } = /** @type {any} */ (this.frame),
      { right, up } = this.axes(kind),
      middle = this.middle(right, up),
      scale = size * this.zoom;
    return {
      right,
      up,
      scale,
      x: w / 2 + this.shift[0] - middle[0] * scale,
      y: h / 2 + this.shift[1] + middle[1] * scale,
    };
  }

  /** The selected are found again in every view. @param {CanvasRenderingContext2D} g @param {number} size */
  paintSelected(g, size) {
    const { model } = this;
    if (!model.selected.size) return;
    g.fillStyle = colours.sand;
    const reach = size + 2;
    for (const p of model.points) {
      if (!model.selected.has(p.id)) continue;
      const [x, y] = this.toStage(p.x);
      g.fillRect(x - reach, y - reach, 2 * reach, 2 * reach);
    }
  }

  /** @param {CanvasRenderingContext2D} g */
  paintFloor(g) {
    const { size, w } = /** @type {any} */ (this.frame);
    const step = 10 ** Math.round(Math.log10(w / (size * this.zoom) / 8));
    g.strokeStyle = colours.line;
    g.lineWidth = 1;
    for (let i = -10; i <= 10; i++) {
      for (const [a, b] of [
        [
          [i, -10],
          [i, 10],
        ],
        [
          [-10, i],
          [10, i],
        ],
      ]) {
        const [ax, ay] = this.toStage([a[0] * step, 0, a[1] * step]),
          [bx, by] = this.toStage([b[0] * step, 0, b[1] * step]);
        g.beginPath();
        g.moveTo(ax, ay);
        g.lineTo(bx, by);
        g.stroke();
      }
    }
    const [x, y] = this.toStage([0, 0, 0]);
    g.fillStyle = colours.dust;
    g.font = "11px JetBrains Mono, monospace";
    g.fillText(`grid ${Number(step.toPrecision(3))} m`, x + 6, y - 6);
  }

  /** Two deviations of every place, drawn where they can be seen at all. @param {CanvasRenderingContext2D} g */
  paintFirmness(g) {
    const { model } = this,
      { size, w, h } = /** @type {any} */ (this.frame),
      scale = 2 * size * this.zoom;
    const { right, up } = this.axes(/** @type {any} */ (this.frame).kind);
    const spot = (
      /** @type {number[]} */ at,
      /** @type {number[]} */ spread,
      /** @type {string} */ colour,
      /** @type {number} */ least,
    ) => {
      const { long, short, turn } = ellipse(spread, right, up),
        [x, y] = this.toStage(at);
      if (!(long * scale > least) || x < -200 || y < -200 || x > w + 200 || y > h + 200) return;
      g.strokeStyle = colour;
      g.beginPath();
      // A point at the end of the world is a line that leaves the picture; longer than that it need not be.
      g.ellipse(x, y, Math.min(long * scale, 2000), Math.max(Math.min(short * scale, 2000), 0.5), -turn, 0, 7);
      g.stroke();
    };
    g.lineWidth = 1;
    g.globalAlpha = 0.5;
    for (const p of model.points) spot(p.x, p.spread, ramp((p.rms * 1280) / model.state.width), 1.5);
    g.globalAlpha = 0.8;
    model.cameras.forEach((c, i) => {
      if (c && i % 5 === 0) spot(centre(c), c.spread, colours.sand, 1);
    });
    g.globalAlpha = 1;
  }

  /**
   * The path, broken where frames have no camera, and the view of the current frame.
   * @param {CanvasRenderingContext2D} g
   */
  paintCameras(g) {
    const { model } = this;
    g.strokeStyle = colours.bone;
    g.lineWidth = 1;
    g.beginPath();
    let open = false;
    for (const camera of model.cameras) {
      if (!camera) {
        open = false;
        continue;
      }
      const [x, y] = this.toStage(centre(camera));
      if (open) g.lineTo(x, y);
      else g.moveTo(x, y);
      open = true;
    }
    g.stroke();
    if (model.comparison?.path.length) {
      g.setLineDash([4, 3]);
      g.strokeStyle = colours.sand;
      g.beginPath();
      model.comparison.path.forEach((p, i) => {
        const [x, y] = this.toStage(p);
        if (i) g.lineTo(x, y);
        else g.moveTo(x, y);
      });
      g.stroke();
      g.setLineDash([]);
      g.strokeStyle = colours.bone;
    }
    const camera = model.camera();
    if (!camera) return;
    const eye = centre(camera),
      [x, y] = this.toStage(eye),
      { size, w } = /** @type {any} */ (this.frame),
      reach = Math.min(46, w / 7) / (size * this.zoom);
    const { width, height } = model.state;
    const corners = [
      [0, 0],
      [width, 0],
      [width, height],
      [0, height],
    ].map(([px, py]) => {
      const u = (px - camera.c[0]) / camera.f,
        v = (py - camera.c[1]) / camera.f;
      return this.toStage(
        add(
          eye,
          [0, 1, 2].map((i) => reach * (camera.r[0][i] * u + camera.r[1][i] * v + camera.r[2][i])),
        ),
      );
    });
    g.beginPath();
    corners.forEach((c, i) => {
      const next = corners[(i + 1) % 4];
      g.moveTo(x, y);
      g.lineTo(c[0], c[1]);
      g.lineTo(next[0], next[1]);
    });
    g.stroke();
    g.fillStyle = colours.bone;
    g.fillRect(x - 3, y - 3, 6, 6);
  }
}
