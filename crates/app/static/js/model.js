// @ts-check
/** What the page knows of its shot, and word when it changes. */
import { note, refusal } from "./notes.js";
import { readTracks } from "./tracks.js";

/** @typedef {import("./camera.js").Camera} Camera */

export class Model extends EventTarget {
  /** @param {number} shot */
  constructor(shot) {
    super();
    this.shot = shot;
    /** @type {any} */ this.state = null;
    /** @type {import("./tracks.js").Track[]} */ this.tracks = [];
    /** @type {Map<number, number>} */ this.rmsOf = new Map();
    /** @type {(Camera|undefined)[]} */ this.cameras = [];
    /**
     * @type {{id: number, x: number[], rms: number, views: number, parallax: number, spread: number[]}[]}
     */
    this.points = [];
    /** @type {any} */ this.suggested = null;
    /** @type {Set<number>} */ this.selected = new Set();
    /** @type {Set<number>} */ this.deleted = new Set();
    /** Whether deleted tracks are shown, to be picked and restored. */ this.showDeleted = false;
    this.frame = 0;
    /** @type {number|null} */ this.chosen = null;
    this.heldTracks = null;
    /** The solve that was fetched last, and its name. @type {{key: string, solve: any}|null} */ this.heldScene = null;
    this.loading = 0;
    /** @type {Promise<void>} */ this.latest = Promise.resolve();
    /**
     * A kept solve that is compared with the one in use.
     * @type {{id: number, rms: number, frames: {frame: number, rms: number, f: number}[], path: number[][], regions:
     * (number|null)[][], carried: any, apart: string|null}|null}
     */
    this.rival = null;
    /** Where points would land on a frame. @type {{frame: number, points: number[][]}|null} */ this.look = null;
    /** The surface under the pointer. @type {any} */ this.surface = null;
    /** The insert that is being dragged, as it is now. @type {any} */ this.moving = null;
    /** Its rough picture. @type {{frame: number, bitmap: ImageBitmap}|null} */ this.draft = null;
    /** What a click in the picture would place. @type {string|null} */ this.placing = null;
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
    /** The outline that is being drawn. @type {{mode: string, corners: number[][]}|null} */ this.drawing = null;
    /** The chosen mask. @type {number|null} */ this.mask = null;
    /** It, while it is dragged. @type {any} */ this.movingMask = null;
    /** A frame as the tracker sees it. @type {{frame: number, bitmap: ImageBitmap}|null} */ this.seen = null;
    /** Whether a drag goes round tracks instead of over them. */ this.lasso = false;
    this.space = false;
    /** Changes that were asked for, each after the one before. @type {Promise<any>} */ this.changes =
      Promise.resolve();
    /** The revision that the next change begins from. @type {number|null} */ this.head = null;
    /** Whether the camera is of the tracks in use. */ this.own = true;
  }

  /** Begins to draw a mask, or ends it. @param {string|null} mode */
  draw(mode) {
    this.drawing = mode ? { mode, corners: [] } : null;
    if (mode) this.mask = null;
    this.select();
  }

  /** @param {number|null} id */
  chooseMask(id) {
    this.mask = id;
    this.select();
  }

  /** Chooses the mask that was drawn last. */
  chooseNewestMask() {
    this.chooseMask(Math.max(...this.state.masks.map((/** @type {any} */ m) => m.id)));
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

  /** @param {string|null} stance */
  place(stance) {
    this.placing = stance;
    this.dispatchEvent(new Event("placing"));
  }

  /** @param {string} path */
  url(path) {
    return `/shots/${this.shot}/${path}`;
  }

  /** @param {string} path */
  async get(path) {
    const response = await fetch(this.url(path));
    if (!response.ok) throw new Error(await refusal(response));
    return response;
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
    const suggested = state.solve === null || state.floor ? null : await (await this.get("floor")).json();
    // A newer loading has begun meanwhile; what it brings is the later state.
    if (turn !== this.loading) return;
    if (state.tracks !== this.heldTracks) this.selected.clear();
    this.heldTracks = state.tracks;
    this.heldScene = { key: state.scene, solve };
    this.state = state;
    this.head = state.revision;
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
    this.suggested = suggested;
    // A solve is not compared with itself.
    if (solve.frames.length === 0 || this.rival?.id === state.solve) this.rival = null;
    this.frame = Math.min(this.frame, state.frames - 1);
    if (!this.insert(this.chosen)) this.chosen = null;
    if (!state.masks.some((/** @type {any} */ m) => m.id === this.mask)) this.mask = null;
    this.dispatchEvent(new Event("loaded"));
  }

  camera() {
    return this.cameras[this.frame];
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
    this.rival = this.rival?.id === id ? null : await (await this.get(`solves/${id}`)).json();
    this.dispatchEvent(new Event("rival"));
  }

  /**
   * Does one piece of work after another, in the order in which they were asked for.
   * @template T
   * @param {() => Promise<T>} work
   * @returns {Promise<T>}
   */
  inOrder(work) {
    const done = this.changes.then(work);
    this.changes = done.catch(() => {});
    return done;
  }

  /** Sends a change; the answer is the route drawn anew. @param {string} path @param {object} body */
  change(path, body) {
    return this.send(this.url(path), "application/json", (revision) => JSON.stringify({ revision, ...body }));
  }

  /** Sends the fields of a form. @param {string} address @param {URLSearchParams} fields @param {Element|null} form */
  sendFields(address, fields, form) {
    return this.send(
      address,
      "application/x-www-form-urlencoded",
      (revision) => {
        if (fields.has("revision")) fields.set("revision", String(revision));
        return fields.toString();
      },
      form,
    );
  }

  /**
   * One change is one request, made when the one before it is answered: it begins from the revision that came of that.
   * @param {string} address @param {string} kind @param {(revision: number) => string} body
   * @param {Element|null} [form] what is answered
   */
  send(address, kind, body, form = null) {
    return this.inOrder(async () => {
      const response = await fetch(address, {
        method: "POST",
        headers: { "content-type": kind },
        body: body(this.head ?? this.state.revision),
      }).catch(() => null);
      if (!response) {
        note("Fennik does not answer. Is it still running? What was saved is kept.");
        return false;
      }
      if (!response.ok) {
        note(await refusal(response));
        // Another window may have been at work: what comes next begins from what it left.
        await this.load().catch(() => {});
        this.dispatchEvent(new Event("stale"));
        return false;
      }
      const html = await response.text();
      if (!html) return true;
      const revision = /data-revision="(\d+)"/.exec(html);
      if (revision) this.head = Number(revision[1]);
      this.dispatchEvent(new CustomEvent("route", { detail: { html, form } }));
      await this.load();
      return true;
    });
  }

  /** @param {object} edit */
  edit(edit) {
    return this.change("edit", { edit });
  }
}
