// @ts-check
/** What the page knows of its shot, and word when it changes. */
import { Api } from "../api.js";
import { readTracks } from "../math/tracks.js";
import { Before } from "./before.js";
import { SELECT, same } from "./tool.js";

/** @typedef {import("../math/camera.js").Camera} Camera */

export class Model extends EventTarget {
  /** @param {number} shot @param {number} revision that the page was made from */
  constructor(shot, revision) {
    super();
    this.shot = shot;
    this.api = new Api(shot, revision);
    /** @type {any} */ this.state = null;
    /** @type {import("../math/tracks.js").Track[]} */ this.tracks = [];
    /** @type {Map<number, number>} */ this.rmsOf = new Map();
    /** @type {(Camera|undefined)[]} */ this.cameras = [];
    /**
     * @type {{id: number, x: number[], rms: number, views: number, parallax: number, spread: number[]}[]}
     */
    this.points = [];
    /**
     * The datum that is proposed, while no floor is laid.
     * @type {{origin: number[], normal: number[], ahead: number[], metre: number, floor: boolean, surfaces: any[]}|null}
     */
    this.proposal = null;
    /** Corners of what each insert takes up, in its own frame, by its id. @type {Map<number, number[][]>} */
    this.shapes = new Map();
    /** Whether the chosen insert was placed just now. */ this.justPlaced = false;
    /** What the shapes were made from. */ this.shaped = "";
    /** The value whose curve stands in the timeline, of the chosen insert. */ this.curveOf = "";
    /** The frame whose camera draws grid and inserts while the lock is off. @type {number|null} */ this.held = null;
    /**
     * What is about to be done to the datum, while it is typed or dragged.
     * @type {{turn: number[], shift: number[], factor: number}|null}
     */
    this.preview = null;
    /** Rods that stand in the scene. @type {import("../viewport/tools/rod.js").Rod[]} */ this.rods = [];
    /** The rod under the pointer. @type {import("../viewport/tools/rod.js").Rod|null} */ this.rod = null;
    /** What was measured. @type {any[]} */ this.measures = [];
    /** The surface that is being dragged, as it is now. @type {any} */ this.movingSurface = null;
    /** @type {Set<number>} */ this.selected = new Set();
    /** @type {Set<number>} */ this.deleted = new Set();
    /** Whether deleted tracks are shown, to be picked and restored. */ this.showDeleted = false;
    this.frame = 0;
    /** The insert or mask that the sheet is about. @type {import("./tool.js").Chosen|null} */ this.chosen = null;
    /** What a click in the picture does. @type {import("./tool.js").Tool} */ this.tool = SELECT;
    /** The station that is open. @type {string|null} */ this.station = null;
    /** Whether frames are being played. */ this.playing = false;
    this.heldTracks = null;
    /** The solve that was fetched last, and its name. @type {{key: string, solve: any}|null} */ this.heldScene = null;
    this.loading = 0;
    /** @type {Promise<void>} */ this.latest = Promise.resolve();
    /**
     * A kept solve that is compared with the one in use.
     * @type {{id: number, rms: number, frames: {frame: number, rms: number, f: number}[], path: number[][], regions:
     * (number|null)[][], carried: any, apart: string|null}|null}
     */
    this.comparison = null;
    /** Where points would land on a frame. @type {{frame: number, points: number[][]}|null} */ this.look = null;
    /** The surface under the pointer. @type {any} */ this.surface = null;
    /** The insert that is being dragged, as it is now. @type {any} */ this.moving = null;
    /** Its rough picture. @type {{frame: number, bitmap: ImageBitmap}|null} */ this.draft = null;
    /** Whether a job of this shot is under way. */ this.working = false;
    /**
     * Why tracks are not used.
     * @type {Map<number, {id: number, reason: string, error_px: number|null}>}
     */
    this.outliers = new Map();
    /** Tracks that are used anyway. @type {Set<number>} */ this.trusted = new Set();
    /** Deleted tracks that agree with the camera. @type {number[]} */ this.again = [];
    /** What the reasons of the verdict speak of. @type {{frames: number[]|null, tracks: number[]}[]} */ this.reasons =
      [];
    /** The mask that is being dragged, as it is now. @type {any} */ this.movingMask = null;
    /** A frame as the tracker sees it. @type {{frame: number, bitmap: ImageBitmap}|null} */ this.seen = null;
    /** What stands in front, as it is looked at. @type {{frame: number, bitmap: ImageBitmap}|null} */ this.matte =
      null;
    /** Frames as they were filmed. */ this.before = new Before(this);
    /** Where the line between before and after stands, of the picture's width; null without one. @type {number|null} */
    this.wipe = null;
    this.space = false;
    /** Whether the camera is of the tracks in use. */ this.own = true;
  }

  /** Takes a tool in hand. @param {import("./tool.js").Tool} tool */
  take(tool) {
    this.tool = tool;
    if (tool.kind === "outline") this.chosen = null;
    this.dispatchEvent(new Event("tool"));
    this.select();
  }

  /** Puts the tool away. */
  putAway() {
    this.take(SELECT);
  }

  /** Takes the tool, or puts it away where it is in hand already. @param {import("./tool.js").Tool} tool */
  toggle(tool) {
    // What was done with it so far makes it no other tool.
    const bare = (/** @type {any} */ { corners, picks, frames, said, ...what }) => JSON.stringify(what);
    if (bare(this.tool) === bare(tool)) this.putAway();
    else this.take(tool);
  }

  /** @param {import("./tool.js").Chosen|null} chosen */
  choose(chosen) {
    if (same(this.chosen, chosen)) return;
    this.chosen = chosen;
    this.select();
  }

  /** The mask that is drawn on: the chosen one, or that of the chosen holdout. @returns {number|null} */
  chosenMask() {
    const held = this.chosenOf("holdout"),
      holdout = held === null ? null : this.state?.holdouts.find((/** @type {any} */ h) => h.id === held);
    return holdout?.by === "mask" ? holdout.mask : this.chosenOf("mask");
  }

  /** @param {{frame: number, bitmap: ImageBitmap}|null} matte */
  putMatte(matte) {
    this.matte?.bitmap.close();
    this.matte = matte;
    this.touch();
  }

  /** Puts the line between before and after somewhere, or takes it away. @param {number|null} at */
  wipeAt(at) {
    this.wipe = at === null ? null : Math.min(Math.max(at, 0.02), 0.98);
    this.dispatchEvent(new Event("wipe"));
    this.select();
  }

  /** The surfaces as they are shown: the one that is being dragged as it is now. @returns {any[]} */
  shownSurfaces() {
    const { movingSurface: moving } = this;
    return this.state.surfaces.map((/** @type {any} */ s) => (s.id === moving?.id ? moving : s));
  }

  /** The id of what is chosen, if it is of a kind. @param {import("./tool.js").Chosen["kind"]} kind */
  chosenOf(kind) {
    return this.chosen?.kind === kind ? this.chosen.id : null;
  }

  /** All things of a kind. @param {import("./tool.js").Chosen["kind"]} kind @returns {any[]} */
  all(kind) {
    const { inserts, masks, surfaces, holdouts } = this.state;
    return { insert: inserts, mask: masks, surface: surfaces, holdout: holdouts }[kind];
  }

  /** Chooses what was added last. @param {import("./tool.js").Chosen["kind"]} kind */
  chooseNewest(kind) {
    const all = this.all(kind);
    this.choose({ kind, id: Math.max(...all.map((/** @type {any} */ m) => m.id)) });
  }

  /** The station that is open. @param {string|null} name */
  enter(name) {
    if (name === this.station) return;
    this.station = name;
    this.dispatchEvent(new Event("station"));
  }

  /** @param {string} path */
  url(path) {
    return this.api.url(path);
  }

  /** @param {string} path */
  get(path) {
    return this.api.get(path);
  }

  /** Word that the views are to be painted anew. */
  touch() {
    this.dispatchEvent(new Event("touched"));
  }

  /** @param {{frame: number, bitmap: ImageBitmap}|null} draft */
  putDraft(draft) {
    this.draft?.bitmap.close();
    this.draft = draft;
    this.touch();
  }

  /**
   * The rough picture, while something is dragged and until a better one of the frame is there.
   * @param {number} frame @param {boolean} better
   */
  draftAt(frame, better) {
    if (this.draft && !this.moving && (better || this.draft.frame !== frame)) this.putDraft(null);
    return this.draft?.frame === frame ? this.draft.bitmap : null;
  }

  /** Fetches everything anew; of several loadings at a time the last one counts, and all wait for it. */
  async load() {
    const turn = ++this.loading;
    const work = this.fetchAll(turn);
    this.latest = work;
    await work;
    if (turn !== this.loading) await this.latest;
  }

  /** Puts what it fetched in place at once, so that no view is drawn from half of it. @param {number} turn */
  async fetchAll(turn) {
    const state = await (await this.get("state")).json();
    let tracks = this.tracks;
    if (state.tracks !== this.heldTracks) {
      const response = await this.get("tracks");
      tracks = response.status === 200 ? readTracks(await response.arrayBuffer()) : [];
    }
    const held = state.solve !== null && this.heldScene?.key === state.scene ? (this.heldScene?.solve ?? null) : null;
    const solve =
      held ??
      (state.solve === null
        ? { frames: [], points: [], outliers: [], again: [], reasons: [] }
        : await (await this.get("solve")).json());
    const proposal = state.solve === null || state.floor ? null : await (await this.get("proposal")).json();
    // A newer loading has begun meanwhile; what it brings is the later state.
    if (turn !== this.loading) return;
    if (state.tracks !== this.heldTracks) this.selected.clear();
    this.heldTracks = state.tracks;
    const laidAnew = this.heldScene !== null && this.heldScene.key !== state.scene;
    this.heldScene = { key: state.scene, solve };
    this.state = state;
    this.api.head = state.revision;
    this.own = solve.own ?? true;
    this.tracks = tracks;
    this.deleted = new Set(state.deleted);
    this.trusted = new Set(state.trusted);
    this.cameras = [];
    for (const camera of solve.frames) this.cameras[camera.frame] = camera;
    this.points = solve.points;
    this.rmsOf = new Map(solve.points.map((/** @type {any} */ p) => [p.id, p.rms]));
    this.outliers = new Map(solve.outliers.map((/** @type {any} */ a) => [a.id, a]));
    this.again = solve.again;
    this.reasons = solve.reasons;
    this.proposal = proposal;
    // A solve is not compared with itself.
    if (solve.frames.length === 0 || this.comparison?.id === state.solve) this.comparison = null;
    this.frame = Math.min(this.frame, state.frames - 1);
    if (!this.isThere(this.chosen)) this.chosen = null;
    this.preview = null;
    if (laidAnew) this.dispatchEvent(new Event("laid-anew"));
    this.dispatchEvent(new Event("loaded"));
  }

  camera() {
    return this.cameras[this.frame];
  }

  /** The camera that overlays are drawn by: that of the frame, but while the lock is off that of the frame on which it
   * was let off. */
  overlayCamera() {
    return this.cameras[this.held ?? this.frame];
  }

  /** Lets the lock off on this frame, or takes it up again. @param {boolean} off */
  lockOff(off) {
    const held = off && this.camera() ? this.frame : null;
    if (held === this.held) return;
    this.held = held;
    this.dispatchEvent(new Event("lock"));
  }

  /** @param {import("./tool.js").Chosen|null} chosen */
  isThere(chosen) {
    return !chosen || this.all(chosen.kind).some((/** @type {any} */ thing) => thing.id === chosen.id);
  }

  /** @param {number|null} id */
  insert(id) {
    return this.state?.inserts.find((/** @type {any} */ i) => i.id === id) ?? null;
  }

  /** @param {number} frame */
  go(frame) {
    // Somebody may know where to go before it is known what there is; the loading keeps it within the clip.
    if (!this.state) {
      this.frame = Math.max(Math.round(frame) || 0, 0);
      return;
    }
    const next = Math.min(Math.max(Math.round(frame), 0), this.state.frames - 1);
    if (next === this.frame) return;
    this.frame = next;
    this.dispatchEvent(new Event("frame"));
  }

  select() {
    this.dispatchEvent(new Event("selection"));
  }

  /** The frame with the largest error, or null without a camera. */
  worst() {
    let worst = null;
    for (const c of this.cameras) if (c && (!worst || c.rms > worst.rms)) worst = c;
    return worst ? worst.frame : null;
  }

  /** Compares a kept solve with the one in use, or ends comparing. @param {number} id */
  async compare(id) {
    this.comparison = this.comparison?.id === id ? null : await (await this.get(`solves/${id}`)).json();
    this.dispatchEvent(new Event("comparison"));
  }

  /**
   * Sends a change; the answer is the parts of the page that look otherwise.
   * @param {string} path
   * @param {object} body
   */
  change(path, body) {
    return this.send(this.url(path), "application/json", (revision) => JSON.stringify({ revision, ...body }));
  }

  /** Sends the fields of a form. @param {string} address @param {URLSearchParams} fields @param {Element|null} form */
  sendFields(address, fields, form) {
    return this.send(
      address,
      "application/x-www-form-urlencoded",
      (revision) => {
        fields.set("revision", String(revision));
        return fields.toString();
      },
      form,
    );
  }

  /**
   * @param {string} address @param {string} kind @param {(revision: number) => string} body
   * @param {Element|null} [form] what is answered
   */
  send(address, kind, body, form = null) {
    return this.api.inOrder(async () => {
      const answer = await this.api.post(address, kind, body);
      if (!answer) {
        // Another window may have been at work: what comes next begins from what it left.
        await this.load().catch(() => {});
        this.dispatchEvent(new Event("stale"));
        return false;
      }
      if (!answer.html) return true;
      this.dispatchEvent(new CustomEvent("parts", { detail: { html: answer.html, form } }));
      await this.load();
      return true;
    });
  }

  /** Asks for the corners of what is placed, where that changed. */
  async askShapes() {
    const now = JSON.stringify(
      this.state.inserts.map((/** @type {any} */ i) => [i.id, i.content, i.placement.stance, i.tracks, i.flipped]),
    );
    if (now === this.shaped) return;
    this.shaped = now;
    const all = await (await this.get(`shapes?frame=${this.frame}`)).json();
    this.shapes = new Map(all.map((/** @type {any} */ s) => [s.insert, s.hull]));
    this.dispatchEvent(new Event("shaped"));
    this.touch();
  }

  /**
   * Does something with the chosen insert at the playhead; tells what there is to be told.
   * @param {object} arrange @returns {Promise<string|null>} what was said; null where it was refused
   */
  async arrange(arrange) {
    const insert = this.chosenOf("insert");
    if (insert === null) return null;
    this.api.said = "";
    const done = await this.change("arrange", { insert, frame: this.frame, arrange });
    return done ? this.api.said : null;
  }

  /** @param {object} edit */
  edit(edit) {
    return this.change("edit", { edit });
  }
}
