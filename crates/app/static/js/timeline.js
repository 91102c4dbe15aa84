// @ts-check
/** Lanes that measure, and the playhead. */
import { colours as c } from "./colours.js";
import { counts } from "./tracks.js";
import { ramp } from "./ramp.js";

const LEFT = 92,
  RIGHT = 14,
  RULER = 20;

export class Timeline {
  /**
   * @param {HTMLElement} root
   * @param {import("./model.js").Model} model
   * @param {import("./frames.js").Frames} frames
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
    const lane = (
      /** @type {string} */ name,
      /** @type {number} */ top,
      /** @type {number} */ height,
      /** @type {string} */ top_value,
    ) => {
      g.fillStyle = c.dust;
      g.fillText(name, 12, top + height / 2 - (top_value ? 7 : 0));
      if (top_value) {
        g.fillStyle = c.lichen;
        g.fillText(top_value, 12, top + height / 2 + 7);
      }
      g.strokeStyle = c.line;
      g.beginPath();
      g.moveTo(LEFT, top + height + 0.5);
      g.lineTo(w - RIGHT, top + height + 0.5);
      g.stroke();
    };
    const { masks } = model.state,
      shown = masks.slice(-3),
      room = shown.length ? 8 * shown.length + 4 : 0;
    const rest = h - RULER - 22 - room,
      error = [RULER + 2, rest * 0.55],
      number = [RULER + 4 + rest * 0.55, rest * 0.4];
    // Error of each frame, as an area.
    const solved = model.cameras.filter(Boolean);
    const rival = model.rival?.frames ?? [];
    const most = Math.max(0.2, ...solved.map((k) => /** @type {any} */ (k).rms), ...rival.map((k) => k.rms)) * 1.1;
    lane("error", error[0], error[1], solved.length ? `${(most / 1.1).toFixed(2)} px` : "");
    for (const k of solved) {
      const camera = /** @type {any} */ (k),
        height = (camera.rms / most) * error[1];
      g.fillStyle = ramp(camera.rms / (model.state.width / 1280));
      g.fillRect(this.xOf(camera.frame) - cell / 2, error[0] + error[1] - height, cell + 0.4, height);
    }
    // How firmly each frame is held, as a line: what the adjustment leaves open.
    if (solved.some((k) => /** @type {any} */ (k).slip > 0)) {
      g.strokeStyle = c.lichen;
      g.beginPath();
      solved.forEach((k, i) => {
        const camera = /** @type {any} */ (k),
          y = error[0] + error[1] - Math.min(camera.slip / most, 1) * error[1];
        if (i) g.lineTo(this.xOf(camera.frame), y);
        else g.moveTo(this.xOf(camera.frame), y);
      });
      g.stroke();
    }
    // A solve that is compared with it, as a line.
    if (rival.length) {
      g.strokeStyle = c.bone;
      g.lineWidth = 1;
      g.beginPath();
      rival.forEach((k, i) => {
        const y = error[0] + error[1] - (k.rms / most) * error[1];
        if (i && k.frame === rival[i - 1].frame + 1) g.lineTo(this.xOf(k.frame), y);
        else g.moveTo(this.xOf(k.frame), y);
      });
      g.stroke();
    }
    // Number of tracks, as a band.
    const top = Math.max(1, ...this.counts);
    lane("tracks", number[0], number[1], this.model.tracks.length ? String(top) : "");
    g.fillStyle = c.lichen;
    g.globalAlpha = 0.5;
    this.counts.forEach((v, f) => {
      const height = (v / top) * number[1];
      g.fillRect(this.xOf(f) - cell / 2, number[0] + number[1] - height, cell + 0.4, height);
    });
    g.globalAlpha = 1;
    // Masks: their spans as lines, their keys as rhombs.
    if (shown.length) {
      const from = number[0] + number[1] + 4;
      lane("masks", from, room - 4, "");
      shown.forEach((/** @type {import("./mask-shape.js").Mask} */ mask, /** @type {number} */ i) => {
        const y = from + 4 + 8 * i,
          [a, b] = mask.span ?? [0, n - 1];
        g.strokeStyle = g.fillStyle = mask.id === model.mask ? c.sand : c.bone;
        g.globalAlpha = mask.id === model.mask ? 1 : 0.6;
        g.beginPath();
        g.moveTo(this.xOf(Math.min(a, n - 1)) - cell / 2, y);
        g.lineTo(this.xOf(Math.min(b, n - 1)) + cell / 2, y);
        g.stroke();
        for (const { frame } of mask.keys) {
          const x = this.xOf(frame);
          if (frame < n) {
            g.beginPath();
            g.moveTo(x, y - 3.5);
            g.lineTo(x + 3.5, y);
            g.lineTo(x, y + 3.5);
            g.lineTo(x - 3.5, y);
            g.fill();
          }
        }
        g.globalAlpha = 1;
      });
    }
    // Frames that are ready to play.
    lane("ready", h - 16, 10, "");
    g.fillStyle = c.sand;
    for (let f = 0; f < n; f++) if (this.frames.ready(f)) g.fillRect(this.xOf(f) - cell / 2, h - 12, cell + 0.4, 4);
  }
}
