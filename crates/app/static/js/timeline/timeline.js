// @ts-check
/** Lanes that measure, and the playhead. */
import { counts } from "../math/tracks.js";
import { colours as c } from "../viewport/colours.js";
import { lanesAt } from "./lanes.js";

const LEFT = 92,
  RIGHT = 14,
  RULER = 20,
  /** Between two lanes. */ GAP = 4;

export class Timeline {
  /**
   * @param {HTMLElement} root
   * @param {import("../state/model.js").Model} model
   * @param {import("../state/frames.js").Frames} frames
   */
  constructor(root, model, frames) {
    this.model = model;
    this.frames = frames;
    this.canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("#lanes"));
    this.g = /** @type {CanvasRenderingContext2D} */ (this.canvas.getContext("2d"));
    this.counts = new Uint32Array(0);
    /** The lanes without the playhead: they change seldom, the playhead with every frame. */
    this.lanes = document.createElement("canvas");
    this.stale = true;
    new ResizeObserver(() => this.lanesChanged()).observe(this.canvas);
    this.canvas.addEventListener("pointerdown", (e) => {
      const scrub = (/** @type {PointerEvent} */ event) =>
        model.go(this.frameAt(event.clientX - this.canvas.getBoundingClientRect().left));
      const up = () => {
        window.removeEventListener("pointermove", scrub);
        window.removeEventListener("pointerup", up);
      };
      window.addEventListener("pointermove", scrub);
      window.addEventListener("pointerup", up);
      scrub(e);
    });
  }

  loaded() {
    const live = this.model.tracks.filter((t) => !this.model.deleted.has(t.id));
    this.counts = counts(live, this.model.state.frames);
    this.lanesChanged();
  }

  /** @param {number} x */
  frameAt(x) {
    const span = this.canvas.clientWidth - LEFT - RIGHT;
    return ((x - LEFT) / Math.max(span, 1)) * this.model.state.frames - 0.5;
  }

  /** @param {number} frame */
  xOf(frame) {
    return LEFT + ((frame + 0.5) / this.model.state.frames) * (this.canvas.clientWidth - LEFT - RIGHT);
  }

  /** Has the lanes drawn anew with the next painting. */
  lanesChanged() {
    this.stale = true;
    this.paint();
  }

  paint() {
    if (this.pending || !this.model.state) return;
    this.pending = true;
    requestAnimationFrame(() => {
      this.pending = false;
      this.paintNow();
    });
  }

  paintNow() {
    const { canvas, g, lanes, model } = this;
    const dense = window.devicePixelRatio || 1,
      w = canvas.clientWidth,
      h = canvas.clientHeight;
    const wide = Math.round(w * dense),
      high = Math.round(h * dense);
    if (!wide || !high) return;
    if (canvas.width !== wide || canvas.height !== high) {
      for (const each of [canvas, lanes]) {
        each.width = wide;
        each.height = high;
      }
      this.stale = true;
    }
    if (this.stale) {
      this.stale = false;
      const to = /** @type {CanvasRenderingContext2D} */ (lanes.getContext("2d"));
      to.setTransform(dense, 0, 0, dense, 0, 0);
      to.clearRect(0, 0, w, h);
      this.paintLanes(to, w, h);
    }
    g.setTransform(1, 0, 0, 1, 0, 0);
    g.clearRect(0, 0, wide, high);
    g.drawImage(lanes, 0, 0);
    g.setTransform(dense, 0, 0, dense, 0, 0);
    const x = Math.round(this.xOf(model.frame)) + 0.5;
    g.strokeStyle = c.bone;
    g.beginPath();
    g.moveTo(x, 0);
    g.lineTo(x, h);
    g.stroke();
    g.fillStyle = c.bone;
    g.fillRect(x - 3, 0, 6, 4);
  }

  /** @param {CanvasRenderingContext2D} g @param {number} w @param {number} h */
  paintLanes(g, w, h) {
    const { model } = this;
    const n = model.state.frames,
      cell = Math.max((w - LEFT - RIGHT) / n, 0.5);
    g.font = "11px JetBrains Mono, monospace";
    g.textBaseline = "middle";
    // Ruler.
    g.fillStyle = c.dust;
    g.strokeStyle = c.line;
    const every = [1, 5, 10, 25, 50, 100, 250, 500, 1000, 5000].find((s) => s * cell > 52) ?? 10000;
    for (let f = 0; f < n; f += every) {
      const x = Math.round(this.xOf(f)) + 0.5;
      g.fillText(String(f), x + 4, 10);
      g.beginPath();
      g.moveTo(x, 4);
      g.lineTo(x, RULER);
      g.stroke();
    }
    this.paintEach(g, w, h, cell);
  }

  /**
   * The lanes of the open station, one under the other.
   * @param {CanvasRenderingContext2D} g @param {number} w @param {number} h @param {number} cell
   */
  paintEach(g, w, h, cell) {
    const { model } = this,
      known = { model, counts: this.counts, ready: (/** @type {number} */ f) => this.frames.ready(f) };
    const lanes = lanesAt(model.station)
      .map((lane) => ({ lane, px: lane.px?.(known) ?? 0 }))
      .filter(({ lane, px }) => lane.weight > 0 || px > 0);
    const fixed = lanes.reduce((sum, { px }) => sum + px, 0),
      weights = lanes.reduce((sum, { lane }) => sum + lane.weight, 0);
    const rest = Math.max(h - RULER - 4 - fixed - GAP * lanes.length, 0);
    let top = RULER + 2;
    for (const { lane, px } of lanes) {
      const height = px || (rest * lane.weight) / weights;
      const scale = lane.paint({ ...known, g, top, height, x: (f) => this.xOf(f), cell });
      const tall = height > 24;
      g.fillStyle = c.dust;
      g.fillText(lane.name, 12, top + height / 2 - (scale && tall ? 7 : 0));
      g.fillStyle = c.lichen;
      g.fillText(scale, tall ? 12 : 58, top + height / 2 + (tall ? 7 : 0));
      g.strokeStyle = c.line;
      g.beginPath();
      g.moveTo(LEFT, top + height + 0.5);
      g.lineTo(w - RIGHT, top + height + 0.5);
      g.stroke();
      top += height + GAP;
    }
  }
}
