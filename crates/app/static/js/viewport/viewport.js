// @ts-check
/** A view of the shot: the plate through the camera with its overlays, or the scene from outside. */
import { colours } from "./colours.js";
import { meetPlane, project, ray } from "../math/camera.js";
import { isFar } from "../math/far.js";
import { trackAt } from "../math/tracks.js";
import { marksLines, shownAt } from "./shown.js";
import { paintGround, paintLines, paintRod, paintSurfaces } from "./ground.js";
import { paintLook, paintTile, paintTracks } from "./overlays.js";
import { pointsAtPicture } from "../state/tool.js";
import { SceneView } from "./scene-view.js";
import { Handles } from "./tools/handles.js";
import { CornersTool } from "./tools/corners.js";
import { LineTool } from "./tools/line.js";
import { MaskEditor } from "./tools/mask.js";
import { MeasureTool, paintMeasures } from "./tools/measure.js";
import { OutlineTool } from "./tools/outline.js";
import { PicksTool } from "./tools/picks.js";
import { PlaceTool } from "./tools/place.js";
import { PullTool } from "./tools/pull.js";
import { RodTool } from "./tools/rod.js";
import { SelectTool } from "./tools/select.js";
import { SurfaceEditor } from "./tools/surface.js";
import { TurnTool } from "./tools/turn.js";

/** Room round what is moved clear of the sheet, px. */
const CLEAR_PX = 24;
/** How near to the line between before and after it is taken hold of, px. */
const WIPE_PX = 7;
/** How far the scale of the plate may go, px of the view to a picture px. */
const SCALES = [0.05, 40];

/**
 * What the pointer does in a view while a tool is in hand.
 * @typedef {object} PointerTool
 * @property {(at: number[], event: PointerEvent) => void} down
 * @property {(at: number[]) => string} hover the cursor to show
 * @property {(g: CanvasRenderingContext2D) => void} [paint]
 * @property {() => void} [leave] the pointer or the tool goes
 */

export class Viewport {
  /**
   * @param {HTMLElement} root
   * @param {import("../state/model.js").Model} model
   * @param {import("../state/frames.js").Frames} frames
   */
  constructor(root, model, frames) {
    this.root = root;
    this.model = model;
    this.frames = frames;
    this.pane = /** @type {HTMLElement} */ (root.querySelector(".pane"));
    this.canvas = /** @type {HTMLCanvasElement} */ (root.querySelector("canvas"));
    this.draw2d = /** @type {CanvasRenderingContext2D} */ (this.canvas.getContext("2d"));
    this.reading = /** @type {HTMLElement} */ (root.querySelector(".tile-reading"));
    this.empty = /** @type {HTMLElement} */ (root.querySelector(".view-empty"));
    this.view = { scale: 1, x: 0, y: 0, fitted: true };
    this.scene = new SceneView(model);
    this.handles = new Handles(this);
    this.masks = new MaskEditor(this);
    this.surfaces = new SurfaceEditor(this);
    const select = new SelectTool(this);
    /** @type {Record<import("../state/tool.js").Tool["kind"], PointerTool>} */
    this.tools = {
      select,
      lasso: select,
      place: new PlaceTool(this),
      pull: new PullTool(this),
      picks: new PicksTool(this),
      outline: new OutlineTool(this),
      line: new LineTool(this),
      rod: new RodTool(this),
      corners: new CornersTool(this),
      measure: new MeasureTool(this),
      turn: new TurnTool(this),
    };
    /** The size of the view as it was last drawn for, px. */ this.known = [0, 0];
    /** The breadth that the picture was fitted into, px. */ this.fittedInto = 0;
    /** The size of the picture that was fitted. */ this.fittedPicture = "";
    /** How the picture was moved to be clear of the sheet. @type {{from: number, to: number}|null} */ this.cleared =
      null;
    this.hovered = false;
    this.pending = false;
    new ResizeObserver(() => this.resize()).observe(this.pane);
    this.listen();
  }

  /** What a click does here: outside the picture a tool for the picture is none. */
  tool() {
    const { kind } = this.model.tool;
    return this.through() || kind === "lasso" ? this.tools[kind] : this.tools.select;
  }

  /** @param {"tracks"|"grid"|"surfaces"|"firm"|"points"|"path"} name */
  option(name) {
    if (name === "tracks" || name === "grid" || name === "surfaces") return shownAt(this.model, name);
    return /** @type {HTMLInputElement} */ (this.root.querySelector(`[name="show-${name}"]`)).checked;
  }

  kind() {
    return /** @type {HTMLSelectElement} */ (this.root.querySelector('[name="view"]')).value;
  }

  through() {
    return this.kind() === "camera";
  }

  size() {
    return { w: this.pane.clientWidth, h: this.pane.clientHeight };
  }

  /** Window or panes have another size. */
  resize() {
    const { w, h } = this.size();
    if (w === this.known[0] && h === this.known[1]) return;
    this.known = [w, h];
    this.sizeCanvas();
    if (this.view.fitted) this.fitPicture();
  }

  sizeCanvas() {
    const [w, h] = this.known,
      dense = window.devicePixelRatio || 1;
    this.canvas.width = Math.round(w * dense);
    this.canvas.height = Math.round(h * dense);
    this.paint();
  }

  /** The shot was loaded: a picture of another size is fitted anew. */
  loaded() {
    const { width, height } = this.model.state;
    if (this.view.fitted && this.fittedPicture !== `${width}x${height}`) this.fit();
  }

  fitPicture() {
    if (!this.model.state) return;
    const { width, height } = this.model.state,
      { w, h } = this.size();
    this.cleared = null;
    this.fittedInto = w;
    this.fittedPicture = `${width}x${height}`;
    const s = Math.min(w / width, h / height);
    this.view = { scale: s, x: (w - s * width) / 2, y: (h - s * height) / 2, fitted: true };
  }

  /** The sheet has taken room from the view, or given it back: the picture stays as it is. */
  settle() {
    const { w, h } = this.size();
    // What was fitted into less room may have all of it.
    if (this.view.fitted && w > this.fittedInto) this.fitPicture();
    this.known = [w, h];
    this.sizeCanvas();
  }

  /**
   * What is chosen is moved into the room that the sheet leaves, as far as need be, and back when the sheet goes.
   * @param {boolean} stands whether there is a sheet
   */
  clear(stands) {
    if (!this.model.state || !this.through()) return;
    // What was moved for another thing goes back first, unless somebody has moved it since.
    if (this.cleared && this.view.x === this.cleared.to) this.view.x = this.cleared.from;
    this.cleared = null;
    const across = stands ? this.chosenPlaces().map((p) => p[0]) : [];
    // What is broader than the room is shown from its left.
    const by = Math.min(Math.max(...across) + CLEAR_PX - this.size().w, Math.min(...across) - CLEAR_PX);
    if (across.length && by > 0) {
      const from = this.view.x;
      this.view.x -= by;
      this.cleared = { from, to: this.view.x };
    }
    this.paint();
  }

  /** Where what is chosen lies, px of the view. @returns {number[][]} */
  chosenPlaces() {
    const { model } = this,
      insert = model.insert(model.chosenOf("insert")),
      mask = this.masks.chosen();
    if (mask) return this.masks.corners(mask);
    if (insert)
      return isFar(insert) ? [] : Object.values(this.handles.spotsOf(insert)).concat(this.handles.outline(insert));
    const one = model.selected.size === 1 && model.tracks.find((t) => model.selected.has(t.id));
    const at = one && trackAt(one, model.frame);
    return at ? [this.toStage(at)] : [];
  }

  fit() {
    this.fitPicture();
    this.scene.fit();
    this.paint();
  }

  /** The selected points and what is chosen, world. @returns {number[][]} */
  chosenInWorld() {
    const { model } = this,
      insert = model.insert(model.chosenOf("insert")),
      surface = model.state.surfaces.find((/** @type {any} */ s) => s.id === model.chosenOf("surface"));
    const points = model.points.filter((p) => model.selected.has(p.id)).map((p) => p.x);
    if (insert && !isFar(insert)) points.push(...this.handles.takesUp(insert));
    return surface ? points.concat(surface.outline) : points;
  }

  /** Moves and zooms to what is chosen, or to all where nothing is. */
  fitChosen() {
    const places = this.chosenInWorld();
    if (!places.length) {
      this.fit();
      return;
    }
    if (!this.through()) this.scene.fitTo(places, this.kind());
    else {
      const seen = places.flatMap((p) => {
        const camera = this.model.camera(),
          at = camera && project(camera, p);
        return at ? [at] : [];
      });
      if (!seen.length) return;
      const { w, h } = this.size(),
        [xs, ys] = [seen.map((p) => p[0]), seen.map((p) => p[1])];
      const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
      const fit = 0.6 * Math.min(w / Math.max(x1 - x0, 60), h / Math.max(y1 - y0, 60));
      const s = Math.min(Math.max(fit, SCALES[0]), SCALES[1]);
      this.view = {
        scale: s,
        x: w / 2 - s * ((x0 + x1) / 2 + 0.5),
        y: h / 2 - s * ((y0 + y1) / 2 + 0.5),
        fitted: false,
      };
    }
    this.paint();
  }

  /** Picture px to px of the view. @param {number[]} p */
  toStage([x, y]) {
    return [this.view.x + (x + 0.5) * this.view.scale, this.view.y + (y + 0.5) * this.view.scale];
  }

  /** Px of the view to picture px. @param {number[]} p */
  toPicture([x, y]) {
    return [(x - this.view.x) / this.view.scale - 0.5, (y - this.view.y) / this.view.scale - 0.5];
  }

  /** World to px of the view, or null where the camera does not see it. @param {number[]} p */
  worldToStage(p) {
    if (!this.through()) return this.scene.frame ? this.scene.toStage(p) : null;
    const camera = this.model.overlayCamera();
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
    const { model, draw2d: g } = this,
      { w, h } = this.size();
    if (!model.state || !w) return;
    const dense = window.devicePixelRatio || 1;
    g.setTransform(dense, 0, 0, dense, 0, 0);
    g.clearRect(0, 0, this.canvas.width, this.canvas.height);
    if (this.through()) this.paintThrough(g);
    else {
      this.scene.paint(g, this.kind(), w, h, {
        firm: this.option("firm"),
        points: this.option("points"),
        path: this.option("path"),
        size: Number(/** @type {HTMLSelectElement} */ (this.root.querySelector('[name="point-size"]')).value),
      });
      this.empty.hidden = model.points.length > 0;
      this.empty.textContent = "The scene can be seen from outside once the camera is solved.";
    }
    // While it plays nothing stands over the picture.
    if (model.playing) return;
    if (this.option("surfaces")) paintSurfaces(g, this);
    for (const rod of model.rod ? [...model.rods, model.rod] : model.rods) paintRod(g, this, rod);
    this.surfaces.paint(g);
    this.handles.paint(g);
    paintMeasures(g, this);
    if (model.surface?.point) paintTile(g, this);
    this.tool().paint?.(g);
  }

  /** @param {CanvasRenderingContext2D} g */
  paintThrough(g) {
    const { model } = this;
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
      paintGround(g, this);
      g.restore();
    }
    if (model.look?.frame === model.frame) paintLook(g, this, model.look.points);
    else if (this.option("tracks")) paintTracks(g, this);
    if (marksLines(model)) paintLines(g, this);
    this.masks.paint(g);
  }

  /** @param {CanvasRenderingContext2D} g */
  paintPicture(g) {
    const exact = this.frames.now(this.model.frame);
    const seen = this.model.seen?.frame === this.model.frame ? this.model.seen.bitmap : null;
    const bitmap = seen ?? this.model.draftAt(this.model.frame, !!exact) ?? exact;
    const shown = this.frames.shown;
    this.canvas.dataset.shown = String(shown?.frame ?? -1);
    const whole = bitmap && bitmap === this.frames.bitmaps.get(this.model.frame);
    this.canvas.dataset.quality = whole ? "exact" : "draft";
    if (!bitmap && !shown) return;
    const { width, height } = this.model.state;
    g.imageSmoothingEnabled = this.view.scale < 3;
    const draw = (/** @type {ImageBitmap} */ picture) =>
      g.drawImage(picture, this.view.x, this.view.y, width * this.view.scale, height * this.view.scale);
    const { matte } = this.model;
    draw(matte?.frame === this.model.frame ? matte.bitmap : (bitmap ?? /** @type {any} */ (shown).bitmap));
    const before = this.wipeX() === null ? null : this.model.before.at(this.model.frame);
    this.canvas.dataset.wipe = String(before !== null);
    if (before) this.paintBefore(g, () => draw(before));
  }

  /** Where the line between before and after stands, px of the view; null without one. */
  wipeX() {
    const { wipe, state } = this.model;
    return wipe === null || !this.through() ? null : this.view.x + wipe * state.width * this.view.scale;
  }

  /** The frame as it was filmed, on the left of the line. @param {CanvasRenderingContext2D} g @param {() => void} draw */
  paintBefore(g, draw) {
    const x = this.wipeX() ?? 0,
      high = this.model.state.height * this.view.scale;
    g.save();
    g.beginPath();
    g.rect(this.view.x, this.view.y, x - this.view.x, high);
    g.clip();
    draw();
    g.restore();
    for (const [width, colour] of /** @type {[number, string][]} */ ([
      [3, colours.stone],
      [1, colours.bone],
    ])) {
      g.lineWidth = width;
      g.strokeStyle = colour;
      g.beginPath();
      g.moveTo(x, this.view.y);
      g.lineTo(x, this.view.y + high);
      g.stroke();
    }
  }

  /** Another tool is in hand. */
  toolChanged() {
    this.leave();
    this.canvas.style.cursor = this.through() && pointsAtPicture(this.model.tool) ? "crosshair" : "";
    this.paint();
  }

  /** The pointer or the tool goes. */
  leave() {
    for (const tool of Object.values(this.tools)) tool.leave?.();
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
      if (!e.buttons) canvas.style.cursor = this.onWipe(this.last) ? "ew-resize" : this.tool().hover(this.last);
    });
    canvas.addEventListener("pointerleave", () => {
      this.hovered = false;
      this.leave();
    });
    canvas.addEventListener("dblclick", (e) => this.masks.twice(this.at(e)));
    this.root.querySelector(".strip")?.addEventListener("change", () => this.chooseKind());
    this.root.querySelector('[data-view-act="fit"]')?.addEventListener("click", () => this.fit());
    this.root.querySelector('[data-view-act="fit-chosen"]')?.addEventListener("click", () => this.fitChosen());
    this.chooseKind();
  }

  /** Overlays of the plate have no meaning from outside. */
  chooseKind() {
    for (const label of this.root.querySelectorAll(".strip label[data-outside], .strip label[data-through]"))
      /** @type {HTMLElement} */ (label).hidden = this.through() !== label.hasAttribute("data-through");
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
   * @param {(at: number[], by: number[], event: PointerEvent) => void} move
   * @param {() => void} [end]
   */
  drag(move, end) {
    let before = this.last ?? [0, 0];
    const onMove = (/** @type {PointerEvent} */ e) => {
      const at = this.at(e);
      move(at, [at[0] - before[0], at[1] - before[1]], e);
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
    } else if (event.button === 0 && this.onWipe(at)) {
      const wide = this.model.state.width * this.view.scale;
      this.drag(([x]) => this.model.wipeAt((x - this.view.x) / wide));
    } else if (event.button === 0) this.tool().down(at, event);
  }

  /** Whether a place lies on the line between before and after. @param {number[]} at */
  onWipe(at) {
    const x = this.wipeX();
    return x !== null && Math.abs(at[0] - x) < WIPE_PX;
  }

  /** @param {number} dx @param {number} dy */
  pan(dx, dy) {
    if (this.through()) {
      this.view.x += dx;
      this.view.y += dy;
      this.view.fitted = false;
    } else this.scene.shift = [this.scene.shift[0] + dx, this.scene.shift[1] + dy];
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
