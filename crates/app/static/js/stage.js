// @ts-check
/** A view of the stage: the plate through the camera with its overlays, or the scene from outside. */
import { meetPlane, project, ray } from "./camera.js";
import { colours } from "./colours.js";
import { Handles } from "./handles.js";
import { contains } from "./mask-shape.js";
import { MaskTool } from "./masks.js";
import { paintFloor, paintLook, paintTile, paintTracks } from "./overlays.js";
import { SceneView } from "./scene-view.js";
import { trackAt } from "./tracks.js";

const PICK_PX = 9;
const SURFACE_MS = 35;
/** How far the scale of the plate may go, stage px to a picture px. */
const SCALES = [0.05, 40];

export class Stage {
  /**
   * @param {HTMLElement} root
   * @param {import("./model.js").Model} model
   * @param {import("./frames.js").Frames} frames
   */
  constructor(root, model, frames) {
    this.root = root;
    this.model = model;
    this.frames = frames;
    this.canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("canvas"));
    this.draw2d = /** @type {CanvasRenderingContext2D} */ (this.canvas.getContext("2d"));
    this.reading = /** @type {HTMLElement} */ (root.querySelector(".tile-reading"));
    this.empty = /** @type {HTMLElement} */ (root.querySelector(".stage-empty"));
    this.view = { scale: 1, x: 0, y: 0, fitted: true };
    this.scene = new SceneView(model);
    /** @type {string|null} */ this.placing = null;
    /** @type {any} */ this.box = null;
    this.handles = new Handles(this);
    this.masks = new MaskTool(this);
    this.hovered = false;
    this.pending = false;
    new ResizeObserver(() => this.resize()).observe(root);
    this.listen();
  }

  option(/** @type {string} */ name) {
    return /** @type {HTMLInputElement} */ (this.root.querySelector(`[name="show-${name}"]`)).checked;
  }

  kind() {
    return /** @type {HTMLSelectElement} */ (this.root.querySelector('[name="view"]')).value;
  }

  through() {
    return this.kind() === "camera";
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
    this.scene.fit();
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

  /** World to stage px, or null where the camera does not see it. @param {number[]} p */
  worldToStage(p) {
    if (!this.through()) return this.scene.frame ? this.scene.toStage(p) : null;
    const camera = this.model.camera();
    const pixel = camera && project(camera, p);
    return pixel ? this.toStage(pixel) : null;
  }

  /** The line of sight under the pointer in the world, or null without a camera. @param {number[]} at */
  rayAt(at) {
    if (!this.through()) return this.scene.frame ? this.scene.rayAt(at) : null;
    const camera = this.model.camera();
    const [x, y] = this.toPicture(at);
    return camera ? ray(camera, x, y) : null;
  }

  paint() {
    if (this.pending) return;
    this.pending = true;
    requestAnimationFrame(() => {
      this.pending = false;
      this.paintNow();
    });
  }

  paintNow() {
    const { model, draw2d: g } = this;
    if (!model.state || !this.root.clientWidth) return;
    const dense = window.devicePixelRatio || 1;
    g.setTransform(dense, 0, 0, dense, 0, 0);
    g.clearRect(0, 0, this.canvas.width, this.canvas.height);
    if (this.through()) {
      this.paintPicture(g);
      this.empty.hidden = model.tracks.length ? !model.cameras.length || !!model.camera() : model.working;
      this.empty.textContent = model.tracks.length
        ? "This frame has no camera."
        : "Not tracked yet. Open the station Track and press “Track the clip”.";
      if (this.option("grid")) {
        g.save();
        g.beginPath();
        g.rect(this.view.x, this.view.y, model.state.width * this.view.scale, model.state.height * this.view.scale);
        g.clip();
        paintFloor(g, this);
        g.restore();
      }
      if (model.look?.frame === model.frame) paintLook(g, this, model.look.points);
      else if (this.option("tracks")) paintTracks(g, this);
      this.masks.paint(g);
    } else {
      this.scene.paint(g, this.kind(), this.root.clientWidth, this.root.clientHeight, this.option("firm"));
      this.empty.hidden = model.points.length > 0;
      this.empty.textContent = "The scene can be seen from outside once the camera is solved.";
    }
    this.handles.paint(g);
    if (model.surface?.point) paintTile(g, this);
    if (this.box) {
      g.strokeStyle = colours.bone;
      g.setLineDash([4, 3]);
      if (model.lasso) {
        g.beginPath();
        this.box.path.forEach((/** @type {number[]} */ p, /** @type {number} */ i) =>
          i ? g.lineTo(p[0], p[1]) : g.moveTo(p[0], p[1]),
        );
        g.stroke();
      } else g.strokeRect(this.box.x0, this.box.y0, this.box.x1 - this.box.x0, this.box.y1 - this.box.y0);
      g.setLineDash([]);
    }
  }

  /** @param {CanvasRenderingContext2D} g */
  paintPicture(g) {
    const exact = this.frames.now(this.model.frame);
    const seen = this.model.seen?.frame === this.model.frame ? this.model.seen.bitmap : null;
    const bitmap = seen ?? this.model.draftAt(this.model.frame, !!exact) ?? exact;
    const shown = this.frames.shown;
    this.canvas.dataset.shown = String(shown?.frame ?? -1);
    if (!bitmap && !shown) return;
    const { width, height } = this.model.state;
    g.imageSmoothingEnabled = this.view.scale < 3;
    g.drawImage(
      bitmap ?? /** @type {any} */ (shown).bitmap,
      this.view.x,
      this.view.y,
      width * this.view.scale,
      height * this.view.scale,
    );
  }

  /** @param {string|null} stance */
  setPlacing(stance) {
    if (stance === this.placing) return;
    this.placing = stance;
    this.leave();
    this.canvas.style.cursor = stance ? "crosshair" : "";
  }

  /** Takes the tile away. */
  leave() {
    this.reading.hidden = true;
    if (this.model.surface) {
      this.model.surface = null;
      this.model.touch();
    }
  }

  at(/** @type {MouseEvent} */ event) {
    const box = this.canvas.getBoundingClientRect();
    return [event.clientX - box.left, event.clientY - box.top];
  }

  listen() {
    const { canvas } = this;
    canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        this.zoom(this.at(e), Math.exp(-e.deltaY * 0.0015));
      },
      { passive: false },
    );
    canvas.addEventListener("pointerdown", (e) => this.down(e));
    canvas.addEventListener("pointermove", (e) => {
      this.last = this.at(e);
      this.hovered = true;
      if (!e.buttons) this.hover(this.last);
    });
    canvas.addEventListener("pointerleave", () => {
      this.hovered = false;
      this.leave();
    });
    this.root.querySelector(".stage-menu")?.addEventListener("change", () => this.chooseKind());
    this.root.querySelector('[data-view-act="fit"]')?.addEventListener("click", () => this.fit());
    this.chooseKind();
  }

  /** Overlays of the plate have no meaning from outside. */
  chooseKind() {
    for (const input of this.root.querySelectorAll(".stage-menu label"))
      /** @type {HTMLElement} */ (input).hidden = this.through() !== !input.hasAttribute("data-outside");
    this.leave();
    this.paint();
  }

  /** @param {number[]} at @param {number} by */
  zoom([x, y], by) {
    if (!this.through()) {
      this.scene.zoomAt([x, y], by);
      this.paint();
      return;
    }
    const s = Math.min(Math.max(this.view.scale * by, SCALES[0]), SCALES[1]),
      k = s / this.view.scale;
    this.view = { scale: s, x: x - (x - this.view.x) * k, y: y - (y - this.view.y) * k, fitted: false };
    this.paint();
  }

  /**
   * Follows a drag until the button is let go.
   * @param {(at: number[], by: number[]) => void} move
   * @param {() => void} [end]
   */
  drag(move, end) {
    let before = this.last ?? [0, 0];
    const onMove = (/** @type {PointerEvent} */ e) => {
      const at = this.at(e);
      move(at, [at[0] - before[0], at[1] - before[1]]);
      before = at;
      this.last = at;
      this.model.touch();
    };
    const onUp = () => {
      window.removeEventListener("pointermove", onMove);
      window.removeEventListener("pointerup", onUp);
      window.removeEventListener("pointercancel", onUp);
      end?.();
      this.model.touch();
    };
    window.addEventListener("pointermove", onMove);
    window.addEventListener("pointerup", onUp);
    window.addEventListener("pointercancel", onUp);
  }

  /** @param {PointerEvent} event */
  down(event) {
    const at = this.at(event);
    this.last = at;
    this.canvas.focus();
    if (event.button === 1 || this.model.space) {
      event.preventDefault();
      this.drag((_, [dx, dy]) => this.pan(dx, dy));
      return;
    }
    if (event.button !== 0) return;
    if (this.placing && this.through()) {
      this.place(at);
      return;
    }
    if (this.through() && this.model.drawing) {
      this.masks.down(at, event);
      return;
    }
    if (this.handles.down(at)) return;
    if (this.through() && this.masks.down(at, event)) return;
    const turns = this.kind() === "free" && !event.shiftKey;
    this.pick(at, event.shiftKey, turns);
  }

  /** @param {number} dx @param {number} dy */
  pan(dx, dy) {
    if (this.through()) {
      this.view.x += dx;
      this.view.y += dy;
      this.view.fitted = false;
    } else this.scene.shift = [this.scene.shift[0] + dx, this.scene.shift[1] + dy];
  }

  /** Where the tracks that can be seen here are, stage px. @returns {{id: number, x: number, y: number}[]} */
  marks() {
    const { model } = this;
    if (!this.through())
      return model.points
        .filter((p) => !model.deleted.has(p.id))
        .map((p) => {
          const [x, y] = this.scene.toStage(p.x);
          return { id: p.id, x, y };
        });
    if (!this.option("tracks")) return [];
    return model.tracks.flatMap((track) => {
      const p = (model.showDeleted || !model.deleted.has(track.id)) && trackAt(track, model.frame);
      if (!p) return [];
      const [x, y] = this.toStage(p);
      return [{ id: track.id, x, y }];
    });
  }

  /**
   * One track under the pointer, or all in a box; the free view turns instead.
   * @param {number[]} at
   * @param {boolean} more
   * @param {boolean} turns
   */
  pick(at, more, turns) {
    const { model } = this;
    let near = /** @type {number|null} */ (null),
      best = PICK_PX;
    for (const { id, x, y } of this.marks()) {
      const d = Math.hypot(x - at[0], y - at[1]);
      if (d < best) {
        best = d;
        near = id;
      }
    }
    const box = { x0: at[0], y0: at[1], x1: at[0], y1: at[1], path: [at] };
    if (!turns) this.box = box;
    this.drag(
      ([x, y], [dx, dy]) => {
        box.x1 = x;
        box.y1 = y;
        box.path.push([x, y]);
        if (turns) this.scene.orbit(dx, dy);
      },
      () => {
        const { x0, y0, x1, y1 } = box;
        this.box = null;
        const still = Math.abs(x1 - x0) < 4 && Math.abs(y1 - y0) < 4;
        if (still && (!model.lasso || box.path.length < 8)) {
          // A click on nothing loses nothing; Escape lets go of a selection.
          if (near === null) return;
          model.mask = null;
          if (!more) model.selected.clear();
          if (more && model.selected.has(near)) model.selected.delete(near);
          else model.selected.add(near);
          model.select();
          return;
        }
        if (turns) return;
        if (!more) model.selected.clear();
        for (const { id, x, y } of this.marks()) {
          const inside = model.lasso
            ? contains(box.path, [x, y])
            : x >= Math.min(x0, x1) && x <= Math.max(x0, x1) && y >= Math.min(y0, y1) && y <= Math.max(y0, y1);
          if (inside) model.selected.add(id);
        }
        model.select();
      },
    );
  }

  /** @param {number[]} at */
  hover(at) {
    const placing = this.placing && this.through();
    if (this.model.drawing) this.paint();
    const mask = this.through() && !placing && !this.model.drawing ? this.masks.under(at) : null;
    this.canvas.style.cursor =
      placing || (this.model.drawing && this.through()) ? "crosshair" : this.handles.over(at) || mask ? "grab" : "";
    if (!placing || !this.model.camera()) return;
    const now = performance.now();
    if (this.asking || now - (this.asked ?? 0) < SURFACE_MS) return;
    this.asked = now;
    this.asking = true;
    const [x, y] = this.toPicture(at);
    this.model
      .get(`surface?frame=${this.model.frame}&x=${x}&y=${y}`)
      .then((r) => r.json())
      .then(
        (surface) => {
          if (!this.placing) return;
          this.model.surface = surface;
          this.reading.hidden = false;
          this.reading.style.left = `${at[0] + 16}px`;
          this.reading.style.top = `${at[1] + 14}px`;
          this.reading.textContent =
            surface.why ??
            (surface.kind === "far"
              ? "far off · follows the turn of the camera"
              : `${surface.kind} · tilt ${surface.tilt_deg.toFixed(1)} deg · fit ${surface.fit_px.toFixed(2)} px · ${surface.points} points`);
          this.model.touch();
        },
        () => {},
      )
      .finally(() => {
        this.asking = false;
      });
  }

  /** @param {number[]} at */
  async place(at) {
    const [x, y] = this.toPicture(at),
      stance = this.placing;
    if (await this.model.change("place", { frame: this.model.frame, x, y, stance })) {
      this.model.place(null);
      this.model.chosen = Math.max(...this.model.state.inserts.map((/** @type {any} */ i) => i.id));
      this.model.select();
    }
  }

  /**
   * Where the pointer's ray meets a plane of the world.
   * @param {number[]} at
   * @param {number[]} on
   * @param {number[]} normal
   */
  onPlane(at, on, normal) {
    const sight = this.rayAt(at);
    return sight && meetPlane(sight, on, normal);
  }
}
