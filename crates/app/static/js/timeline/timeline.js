// @ts-check
/** Lanes that measure, and the playhead. */
import { counts } from "../math/tracks.js";
import { colours as c } from "../viewport/colours.js";
import { told } from "../notes.js";
import { lanesAt } from "./lanes.js";

/** @typedef {{insert: number, what: "key"|"first"|"last", frame: number, x: number, y: number}} Grip */

const LEFT = 112,
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
    /** Keys and ends of the chosen insert that can be dragged. @type {Grip[]} */ this.grips = [];
    /** What is dragged, and to which frame. @type {{grip: Grip, to: number}|null} */ this.dragged = null;
    this.canvas.addEventListener("pointermove", (e) => {
      if (!e.buttons) this.canvas.style.cursor = this.gripAt(e) ? "ew-resize" : "";
    });
    this.canvas.addEventListener("pointerdown", (e) => {
      const grip = this.gripAt(e);
      if (grip) {
        this.drag(grip, e);
        return;
      }
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

  /** @param {MouseEvent} event */
  gripAt(event) {
    const box = this.canvas.getBoundingClientRect(),
      [px, py] = [event.clientX - box.left, event.clientY - box.top];
    return this.grips.find((k) => Math.abs(k.x - px) < 6 && Math.abs(k.y - py) < 6) ?? null;
  }

  /** Drags a key or an end of the span to another frame; with Alt a key is set there once more. @param {Grip} grip @param {PointerEvent} e */
  drag(grip, e) {
    const to = (/** @type {PointerEvent} */ event) => {
      const x = event.clientX - this.canvas.getBoundingClientRect().left;
      return Math.min(Math.max(Math.round(this.frameAt(x)), 0), this.model.state.frames - 1);
    };
    const move = (/** @type {PointerEvent} */ event) => {
      this.dragged = { grip, to: to(event) };
      this.paint();
    };
    const up = (/** @type {PointerEvent} */ event) => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
      const moved = this.dragged;
      this.dragged = null;
      this.paint();
      // A press that moved nothing goes there.
      if (!moved || moved.to === grip.frame) this.model.go(grip.frame);
      else this.dropped(grip, moved.to, event.altKey).catch(told);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
  }

  /** @param {Grip} grip @param {number} to @param {boolean} again */
  dropped(grip, to, again) {
    const { model } = this,
      insert = model.insert(grip.insert);
    if (grip.what === "key") {
      const arrange = { how: again ? "copy-key" : "move-key", to };
      return model.change("arrange", { insert: grip.insert, frame: grip.frame, arrange });
    }
    const span = { fade_in: 0, fade_out: 0, ...insert.span, [grip.what]: to };
    return model.edit({ edit: "change-insert", insert: { ...insert, span } });
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
    if (this.dragged) {
      const at = Math.round(this.xOf(this.dragged.to)) + 0.5;
      g.strokeStyle = c.sand;
      g.beginPath();
      g.moveTo(at, RULER);
      g.lineTo(at, h);
      g.stroke();
      g.fillStyle = c.sand;
      g.font = "11px JetBrains Mono, monospace";
      g.fillText(String(this.dragged.to), at + 4, RULER + 8);
    }
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
    this.grips = [];
    const grips = (
      /** @type {any} */ thing,
      /** @type {number} */ y,
      /** @type {number[]|null} */ spanned,
      /** @type {number[]} */ keys,
    ) => {
      if (thing.locked) return;
      const grip = (/** @type {"key"|"first"|"last"} */ what, /** @type {number} */ frame, aside = 0) =>
        this.grips.push({ insert: thing.id, what, frame, x: this.xOf(frame) + aside, y });
      for (const frame of keys) grip("key", frame);
      if (!spanned) return;
      const end = model.state.frames - 1;
      grip("first", Math.min(Math.max(spanned[0], 0), end), -cell / 2);
      grip("last", Math.min(Math.max(spanned[1], 0), end), cell / 2);
    };
    const rest = Math.max(h - RULER - 4 - fixed - GAP * lanes.length, 0);
    let top = RULER + 2;
    for (const { lane, px } of lanes) {
      const height = px || (rest * lane.weight) / weights;
      const scale = lane.paint({ ...known, g, top, height, x: (f) => this.xOf(f), cell, grips });
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
