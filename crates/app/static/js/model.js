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
    /** @type {Set<number>} */ this.rejected = new Set();
    /** @type {(Camera|undefined)[]} */ this.cameras = [];
    /** @type {{id: number, x: number[], rms: number}[]} */ this.points = [];
    /** @type {any} */ this.suggested = null;
    /** @type {Set<number>} */ this.selected = new Set();
    /** @type {Set<number>} */ this.deleted = new Set();
    this.frame = 0;
    /** @type {number|null} */ this.chosen = null;
    this.heldTracks = null;
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

  async load() {
    this.state = await (await this.get("state")).json();
    this.deleted = new Set(this.state.deleted);
    if (this.state.tracks !== this.heldTracks) {
      this.heldTracks = this.state.tracks;
      this.selected.clear();
      const response = await this.get("tracks");
      this.tracks = response.status === 200 ? readTracks(await response.arrayBuffer()) : [];
    }
    this.cameras = [];
    this.points = [];
    this.rmsOf.clear();
    this.rejected.clear();
    this.suggested = null;
    if (this.state.solve !== null) {
      const solve = await (await this.get("solve")).json();
      for (const camera of solve.frames) this.cameras[camera.frame] = camera;
      this.points = solve.points;
      for (const p of solve.points) this.rmsOf.set(p.id, p.rms);
      this.rejected = new Set(solve.rejected);
      if (!this.state.floor) this.suggested = await (await this.get("floor")).json();
    }
    this.frame = Math.min(this.frame, this.state.frames - 1);
    if (!this.insert(this.chosen)) this.chosen = null;
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

  /** Sends a change; the answer is the route drawn anew. @param {string} path @param {object} body */
  async change(path, body) {
    const response = await fetch(this.url(path), {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify({ revision: this.state.revision, ...body }),
    });
    if (!response.ok) {
      note(await refusal(response));
      if (response.status === 409) this.dispatchEvent(new Event("stale"));
      return false;
    }
    this.dispatchEvent(new CustomEvent("route", { detail: await response.text() }));
    await this.load();
    return true;
  }

  /** @param {object} edit */
  edit(edit) {
    return this.change("edit", { edit });
  }
}
