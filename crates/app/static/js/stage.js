// @ts-check
/** The stage: the plate through the camera with its overlays, or the scene from outside. */
import { across, add, centre, meetPlane, project, ray, scale } from "./camera.js";
import { Handles } from "./handles.js";
import { ramp } from "./ramp.js";
import { drawScene } from "./scene-view.js";
import { trackAt } from "./tracks.js";

const TAIL = 8;
const PICK_PX = 9;
const SURFACE_MS = 35;
const css = getComputedStyle(document.documentElement);
const colour = (/** @type {string} */ name) => css.getPropertyValue(`--${name}`).trim();

export class Stage {
  /** @param {HTMLElement} root @param {import("./model.js").Model} model @param {import("./frames.js").Frames} frames */
  constructor(root, model, frames) {
    this.root = root;
    this.model = model;
    this.frames = frames;
    this.canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("#plate"));
    this.draw2d = /** @type {CanvasRenderingContext2D} */ (this.canvas.getContext("2d"));
    this.reading = /** @type {HTMLElement} */ (root.querySelector("#tile-reading"));
    this.empty = /** @type {HTMLElement} */ (root.querySelector("#stage-empty"));
    this.view = { scale: 1, x: 0, y: 0, fitted: true };
    this.orbit = { yaw: 0.7, pitch: 0.5, zoom: 1 };
    this.held = document.createElement("canvas");
    this.heldFrame = -1;
    /** @type {ImageBitmap|null} */ this.draft = null;
    /** @type {string|null} */ this.placing = null;
    /** @type {any} */ this.surface = null;
    /** @type {any} */ this.box = null;
    this.space = false;
    this.handles = new Handles(this);
    this.pending = false;
    new ResizeObserver(() => this.resize()).observe(root);
    this.listen();
  }

  option(/** @type {string} */ name) {
    return /** @type {HTMLInputElement} */ (this.root.querySelector(`#show-${name}`)).checked;
  }

  kind() {
    return /** @type {HTMLSelectElement} */ (this.root.querySelector("#view")).value;
  }

  resize() {
    const { clientWidth: w, clientHeight: h } = this.root;
    const dense = window.devicePixelRatio || 1;
    this.canvas.width = Math.round(w * dense);
    this.canvas.height = Math.round(h * dense);
    if (this.view.fitted) this.fit();
    this.paint();
  }

  fit() {
    if (!this.model.state) return;
    const { width, height } = this.model.state;
    const { clientWidth: w, clientHeight: h } = this.root;
    const s = Math.min(w / width, h / height);
    this.view = { scale: s, x: (w - s * width) / 2, y: (h - s * height) / 2, fitted: true };
    this.orbit.zoom = 1;
    this.paint();
  }

  /** Picture px to stage px. @param {number[]} p */
  toStage([x, y]) {
    return [this.view.x + (x + 0.5) * this.view.scale, this.view.y + (y + 0.5) * this.view.scale];
  }

  /** Stage px to picture px. @param {number[]} p */
  toPicture([x, y]) {
    return [(x - this.view.x) / this.view.scale - 0.5, (y - this.view.y) / this.view.scale - 0.5];
  }

  /** World to stage px, or null. @param {number[]} p */
  worldToStage(p) {
    const camera = this.model.camera();
    const pixel = camera && project(camera, p);
    return pixel ? this.toStage(pixel) : null;
  }

  paint() {
    if (this.pending) return;
    this.pending = true;
    requestAnimationFrame(() => { this.pending = false; this.paintNow(); });
  }

  paintNow() {
    const { model, draw2d: g } = this;
    if (!model.state) return;
    const dense = window.devicePixelRatio || 1;
    g.setTransform(dense, 0, 0, dense, 0, 0);
    g.clearRect(0, 0, this.canvas.width, this.canvas.height);
    if (this.kind() !== "camera") {
      drawScene(g, this.root.clientWidth, this.root.clientHeight, model, this.kind(), this.orbit, colour);
      this.empty.hidden = model.points.length > 0;
      this.empty.textContent = "The scene can be seen from outside once the camera is solved.";
      return;
    }
    this.paintPicture(g);
    this.empty.hidden = model.tracks.length > 0 && (!model.cameras.length || !!model.camera());
    this.empty.textContent = model.tracks.length ? "This frame has no camera." : "Not tracked yet. Open the station Track and press “Track the clip”.";
    if (this.option("grid")) {
      g.save();
      g.beginPath();
      g.rect(this.view.x, this.view.y, model.state.width * this.view.scale, model.state.height * this.view.scale);
      g.clip();
      this.paintFloor(g);
      g.restore();
    }
    if (this.option("tracks")) this.paintTracks(g);
    this.handles.paint(g);
    if (this.surface?.point) this.paintTile(g);
    if (this.box) {
      g.strokeStyle = colour("bone");
      g.setLineDash([4, 3]);
      g.strokeRect(this.box.x0, this.box.y0, this.box.x1 - this.box.x0, this.box.y1 - this.box.y0);
      g.setLineDash([]);
    }
  }

  /** @param {CanvasRenderingContext2D} g */
  paintPicture(g) {
    const bitmap = this.draft ?? this.frames.now(this.model.frame);
    if (bitmap) {
      this.held.width = bitmap.width;
      this.held.height = bitmap.height;
      this.held.getContext("2d")?.drawImage(bitmap, 0, 0);
      this.heldFrame = this.model.frame;
    }
    this.canvas.dataset.shown = String(this.heldFrame);
    if (!this.held.width || this.heldFrame < 0) return;
    const { width, height } = this.model.state;
    g.imageSmoothingEnabled = this.view.scale < 3;
    g.drawImage(this.held, this.view.x, this.view.y, width * this.view.scale, height * this.view.scale);
  }

  /** @param {CanvasRenderingContext2D} g */
  paintTracks(g) {
    const { model } = this;
    const bad = model.state.width / 1280;
    g.lineWidth = 1;
    for (const track of model.tracks) {
      if (model.deleted.has(track.id)) continue;
      const here = trackAt(track, model.frame);
      if (!here) continue;
      const [x, y] = this.toStage(here);
      const rms = model.rmsOf.get(track.id);
      const off = model.cameras.length > 0 && rms === undefined;
      const picked = model.selected.has(track.id);
      // A dark edge keeps a mark readable on a plate of its own tone.
      g.globalAlpha = off && !picked ? 0.4 : 0.6;
      g.lineWidth = 3;
      g.strokeStyle = colour("stone");
      rhomb(g, x, y, picked ? 5 : 3.5);
      g.stroke();
      g.lineWidth = 1;
      g.strokeStyle = picked ? colour("sand") : off ? colour("brick") : ramp(rms === undefined ? 0.5 : rms / bad);
      const strength = off && !picked ? 0.7 : 1;
      g.globalAlpha = 0.85 * strength;
      g.beginPath();
      g.moveTo(x, y);
      for (let k = 1; k <= TAIL; k++) {
        const past = trackAt(track, model.frame - k);
        if (!past) break;
        const [px, py] = this.toStage(past);
        g.lineTo(px, py);
      }
      g.stroke();
      g.globalAlpha = strength;
      rhomb(g, x, y, picked ? 5 : 3.5);
      if (picked) { g.fillStyle = colour("sand"); g.fill(); } else g.stroke();
    }
    g.globalAlpha = 1;
  }

  /** @param {CanvasRenderingContext2D} g */
  paintFloor(g) {
    const { model } = this;
    const camera = model.camera();
    if (!camera) return;
    let origin = [0, 0, 0], normal = [0, 1, 0], dash = /** @type {number[]} */ ([]);
    if (!model.state.floor) {
      if (!model.suggested) return;
      origin = model.suggested.middle;
      normal = model.suggested.normal;
      dash = [5, 4];
    }
    const [u, v] = across(normal);
    const step = niceStep(Math.hypot(...centre(camera).map((c, i) => c - origin[i])) / 8);
    g.setLineDash(dash);
    g.lineWidth = 1;
    for (let i = -12; i <= 12; i++) {
      g.strokeStyle = i === 0 ? colour("sand") : colour("lichen");
      g.globalAlpha = i === 0 ? 0.95 : 0.6;
      this.line3(g, add(origin, add(scale(u, i * step), scale(v, -12 * step))), add(origin, add(scale(u, i * step), scale(v, 12 * step))));
      this.line3(g, add(origin, add(scale(v, i * step), scale(u, -12 * step))), add(origin, add(scale(v, i * step), scale(u, 12 * step))));
    }
    g.globalAlpha = 1;
    g.setLineDash([]);
    const foot = this.worldToStage(origin), top = this.worldToStage(add(origin, scale(normal, step)));
    if (foot && top) {
      g.strokeStyle = colour("bone");
      g.beginPath(); g.moveTo(foot[0], foot[1]); g.lineTo(top[0], top[1]); g.stroke();
      g.fillStyle = colour("bone");
      g.font = "11px JetBrains Mono, monospace";
      g.fillText(`${step} m`, top[0] + 5, top[1]);
    }
  }

  /** A straight line of the world, drawn in short pieces so that it bends with the lens. @param {CanvasRenderingContext2D} g @param {number[]} a @param {number[]} b */
  line3(g, a, b) {
    g.beginPath();
    let open = false;
    for (let i = 0; i <= 24; i++) {
      const p = this.worldToStage(add(a, scale([b[0] - a[0], b[1] - a[1], b[2] - a[2]], i / 24)));
      const far = p && (Math.abs(p[0]) > 6000 || Math.abs(p[1]) > 6000);
      if (!p || far) { open = false; continue; }
      if (open) g.lineTo(p[0], p[1]); else g.moveTo(p[0], p[1]);
      open = true;
    }
    g.stroke();
  }

  /** The square on the surface under the pointer. @param {CanvasRenderingContext2D} g */
  paintTile(g) {
    const { point, normal } = this.surface;
    const camera = this.model.camera();
    if (!camera) return;
    const [u, v] = across(normal);
    const size = 0.035 * Math.hypot(...centre(camera).map((c, i) => c - point[i]));
    const corners = [[-1, -1], [1, -1], [1, 1], [-1, 1]].map(([a, b]) => this.worldToStage(add(point, add(scale(u, a * size), scale(v, b * size)))));
    if (corners.some((c) => !c)) return;
    g.beginPath();
    corners.forEach((c, i) => (i ? g.lineTo(c[0], c[1]) : g.moveTo(c[0], c[1])));
    g.closePath();
    g.fillStyle = "rgb(157 181 154 / .45)";
    g.strokeStyle = colour("bone");
    g.lineWidth = 1;
    g.fill();
    g.stroke();
    const foot = this.worldToStage(point), top = this.worldToStage(add(point, scale(normal, size)));
    if (foot && top) { g.beginPath(); g.moveTo(foot[0], foot[1]); g.lineTo(top[0], top[1]); g.stroke(); }
  }

  /** @param {string|null} stance */
  setPlacing(stance) {
    this.placing = stance;
    this.surface = null;
    this.reading.hidden = true;
    this.canvas.style.cursor = stance ? "crosshair" : "";
    for (const b of document.querySelectorAll('[data-act="place"]')) b.setAttribute("aria-pressed", String(stance === /** @type {HTMLElement} */ (b).dataset.stance));
    this.paint();
  }

  at(/** @type {MouseEvent} */ event) {
    const box = this.canvas.getBoundingClientRect();
    return [event.clientX - box.left, event.clientY - box.top];
  }

  listen() {
    const { canvas } = this;
    canvas.addEventListener("wheel", (e) => { e.preventDefault(); this.zoom(this.at(e), Math.exp(-e.deltaY * 0.0015)); }, { passive: false });
    canvas.addEventListener("pointerdown", (e) => this.down(e));
    canvas.addEventListener("pointermove", (e) => { this.last = this.at(e); if (!e.buttons) this.hover(this.last); });
    canvas.addEventListener("pointerleave", () => { this.surface = null; this.reading.hidden = true; this.paint(); });
    for (const id of ["view", "show-tracks", "show-grid"]) this.root.querySelector(`#${id}`)?.addEventListener("change", () => this.paint());
    this.root.querySelector("#fit")?.addEventListener("click", () => this.fit());
  }

  /** @param {number[]} at @param {number} by */
  zoom([x, y], by) {
    if (this.kind() !== "camera") { this.orbit.zoom *= by; this.paint(); return; }
    const s = Math.min(Math.max(this.view.scale * by, 0.05), 40), k = s / this.view.scale;
    this.view = { scale: s, x: x - (x - this.view.x) * k, y: y - (y - this.view.y) * k, fitted: false };
    this.paint();
  }

  /** Follows a drag until the button is let go. @param {(at: number[], by: number[]) => void} move @param {() => void} [end] */
  drag(move, end) {
    let before = this.last ?? [0, 0];
    const onMove = (/** @type {PointerEvent} */ e) => { const at = this.at(e); move(at, [at[0] - before[0], at[1] - before[1]]); before = at; this.last = at; this.paint(); };
    const onUp = () => { window.removeEventListener("pointermove", onMove); window.removeEventListener("pointerup", onUp); end?.(); this.paint(); };
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", onUp);
  }

  /** @param {PointerEvent} event */
  down(event) {
    const at = this.at(event);
    this.last = at;
    this.canvas.focus();
    if (this.kind() !== "camera") {
      this.drag((_, [dx, dy]) => { this.orbit.yaw += dx * 0.008; this.orbit.pitch = Math.min(Math.max(this.orbit.pitch + dy * 0.008, -1.5), 1.5); });
      return;
    }
    if (event.button === 1 || this.space) {
      event.preventDefault();
      this.drag((_, [dx, dy]) => { this.view.x += dx; this.view.y += dy; this.view.fitted = false; });
      return;
    }
    if (event.button !== 0) return;
    if (this.placing) { this.place(at); return; }
    if (this.handles.down(at)) return;
    this.pick(at, event.shiftKey);
  }

  /** One track under the pointer, or all in a box. @param {number[]} at @param {boolean} more */
  pick(at, more) {
    const { model } = this;
    let near = null, best = PICK_PX;
    for (const track of this.option("tracks") ? model.tracks : []) {
      const p = !model.deleted.has(track.id) && trackAt(track, model.frame);
      if (!p) continue;
      const [x, y] = this.toStage(p), d = Math.hypot(x - at[0], y - at[1]);
      if (d < best) { best = d; near = track.id; }
    }
    this.box = { x0: at[0], y0: at[1], x1: at[0], y1: at[1] };
    this.drag(([x, y]) => { this.box.x1 = x; this.box.y1 = y; }, () => {
      const { x0, y0, x1, y1 } = this.box;
      this.box = null;
      if (Math.abs(x1 - x0) < 4 && Math.abs(y1 - y0) < 4) {
        // A click on nothing loses nothing; Escape lets go of a selection.
        if (near === null) return;
        if (!more) model.selected.clear();
        if (more && model.selected.has(near)) model.selected.delete(near); else model.selected.add(near);
        model.select();
        return;
      }
      if (!more) model.selected.clear();
      for (const track of model.tracks) {
        const p = !model.deleted.has(track.id) && trackAt(track, model.frame);
        if (!p) continue;
        const [x, y] = this.toStage(p);
        if (x >= Math.min(x0, x1) && x <= Math.max(x0, x1) && y >= Math.min(y0, y1) && y <= Math.max(y0, y1)) model.selected.add(track.id);
      }
      model.select();
    });
  }

  /** @param {number[]} at */
  hover(at) {
    this.canvas.style.cursor = this.placing ? "crosshair" : this.handles.over(at) ? "grab" : "";
    if (!this.placing || !this.model.camera()) return;
    const now = performance.now();
    if (this.asking || now - (this.asked ?? 0) < SURFACE_MS) return;
    this.asked = now;
    this.asking = true;
    const [x, y] = this.toPicture(at);
    this.model.get(`surface?frame=${this.model.frame}&x=${x}&y=${y}`).then((r) => r.json()).then((surface) => {
      if (!this.placing) return;
      this.surface = surface;
      this.reading.hidden = false;
      this.reading.style.left = `${at[0] + 16}px`;
      this.reading.style.top = `${at[1] + 14}px`;
      this.reading.textContent = surface.why ?? `${surface.kind} · tilt ${surface.tilt_deg.toFixed(1)} deg · fit ${surface.fit_px.toFixed(2)} px · ${surface.points} points`;
      this.paint();
    }, () => {}).finally(() => { this.asking = false; });
  }

  /** @param {number[]} at */
  async place(at) {
    const [x, y] = this.toPicture(at), stance = this.placing;
    if (await this.model.change("place", { frame: this.model.frame, x, y, stance })) {
      this.setPlacing(null);
      this.model.chosen = Math.max(...this.model.state.inserts.map((/** @type {any} */ i) => i.id));
      this.model.select();
    }
  }

  /** Where the pointer's ray meets a plane of the world. @param {number[]} at @param {number[]} on @param {number[]} normal */
  onPlane(at, on, normal) {
    const camera = this.model.camera();
    const [x, y] = this.toPicture(at);
    return camera ? meetPlane(ray(camera, x, y), on, normal) : null;
  }
}

/** @param {CanvasRenderingContext2D} g @param {number} x @param {number} y @param {number} r */
function rhomb(g, x, y, r) {
  g.beginPath();
  g.moveTo(x, y - r); g.lineTo(x + r, y); g.lineTo(x, y + r); g.lineTo(x - r, y);
  g.closePath();
}

/** 1, 2 or 5 times a power of ten. @param {number} v */
function niceStep(v) {
  const power = 10 ** Math.floor(Math.log10(Math.max(v, 1e-6)));
  const n = v / power;
  return Number(((n < 1.5 ? 1 : n < 3.5 ? 2 : n < 7.5 ? 5 : 10) * power).toPrecision(3));
}
