// @ts-check
/** The sheet: all about the one thing that is chosen; it stands only while something is. */
import { changes } from "../math/placement.js";
import { told } from "../notes.js";
import { TrackView } from "./track-view.js";

export class Sheet {
  /**
   * @param {import("../state/model.js").Model} model
   * @param {import("../viewport/viewport.js").Viewport[]} views
   * @param {(id: string) => any} byId
   */
  constructor(model, views, byId) {
    this.model = model;
    this.views = views;
    this.byId = byId;
    this.tracks = new TrackView(model, byId);
    /** Whether somebody folded it away. */ this.folded = false;
    /** Whether the pointer is down: the stage must not change under it. */ this.pressed = false;
    /** The part that was asked for last. */ this.wanted = "";
    /** What stood last and was moved into sight. */ this.shown = "";
    /** Which groups are unfolded, by their ids. @type {Map<string, boolean>} */ this.folds = new Map();
    window.addEventListener("pointerdown", () => (this.pressed = true), true);
    for (const kind of ["pointerup", "pointercancel"])
      window.addEventListener(
        kind,
        () => {
          this.pressed = false;
          // What the release chooses is chosen by then.
          setTimeout(() => this.lay());
        },
        true,
      );
    model.addEventListener("shaped", () => this.lay());
    byId("track-error").addEventListener("click", (/** @type {MouseEvent} */ e) => model.go(this.tracks.frameAt(e)));
  }

  /** The one selected track, or null. */
  track() {
    const { selected } = this.model;
    return selected.size === 1 ? [...selected][0] : null;
  }

  /** The part that tells of what is chosen, or nothing. */
  name() {
    const { chosen, frame } = this.model;
    if (!chosen) return "";
    if (chosen.kind === "holdout") {
      const one = this.model.state?.holdouts.find((/** @type {any} */ h) => h.id === chosen.id);
      return `sheet/holdout-${chosen.id}-at-${one?.strength?.keys ? frame : 0}`;
    }
    if (chosen.kind !== "insert") return `sheet/${chosen.kind}-${chosen.id}`;
    const insert = this.model.insert(chosen.id);
    // What does not move shows the same on every frame.
    return `sheet/insert-${chosen.id}-at-${insert && changes(insert) ? frame : 0}`;
  }

  fold() {
    this.folded = !this.folded;
    this.lay();
  }

  /** Shows what is chosen now. */
  show() {
    const name = this.name();
    this.tracks.show(name ? null : this.track());
    if (name !== this.wanted) {
      this.wanted = name;
      this.fetch(name).catch(told);
    }
    this.showKeys();
    this.lay();
  }

  /** @param {string} name */
  async fetch(name) {
    const body = this.byId("sheet-body");
    if (!name) {
      body.replaceChildren();
      return;
    }
    const html = await (await this.model.get(name)).text();
    // Something else may be chosen by now.
    if (name !== this.wanted) return;
    // What was unfolded for one thing is so for the next.
    for (const fold of body.querySelectorAll("details[id]"))
      this.folds.set(fold.id, /** @type {HTMLDetailsElement} */ (fold).open);
    body.innerHTML = html;
    for (const [id, open] of this.folds) this.byId(id)?.toggleAttribute("open", open);
    globalThis.htmx.process(body);
    this.typeText();
    this.showKeys();
    this.lay();
    // What stations fill in of the selection stands here as well.
    this.model.dispatchEvent(new Event("sheet"));
  }

  /** What was just placed is typed over. */
  typeText() {
    const text = this.byId("sheet-body").querySelector('textarea[name="text"]');
    if (!this.model.justPlaced || !text) return;
    this.model.justPlaced = false;
    text.closest("details")?.setAttribute("open", "");
    text.focus();
    text.select();
  }

  /** Whether it stands: while something is chosen, but not in the way of what is being drawn or placed. */
  stands() {
    const free = /^(select|lasso|pull|picks)$/.test(this.model.tool.kind);
    return free && !this.folded && (this.name() !== "" || this.tracks.id !== null);
  }

  /**
   * It takes its room from the stage, where the picture stays as it is; what it is about stays in sight. Nothing moves
   * while the pointer is down.
   */
  lay() {
    if (this.pressed) return;
    const sheet = this.byId("sheet"),
      stands = this.stands();
    if (sheet.hidden === stands) {
      sheet.hidden = !stands;
      this.byId("bench").classList.toggle("with-sheet", stands);
      if (stands && this.tracks.id !== null) this.tracks.show(this.track());
      for (const view of this.views) view.settle();
    }
    // Once for each thing: whoever looks elsewhere after that is left to it.
    const now = stands ? this.about() : "";
    if (now === this.shown) return;
    this.shown = now;
    for (const view of this.views) view.clear(stands);
  }

  /** What it is about, whatever the frame; a thing whose outline is not known yet is looked at once more when it is. */
  about() {
    const { chosen, shapes } = this.model;
    if (chosen?.kind === "insert" && !shapes.has(chosen.id)) return `insert ${chosen.id}, not seen yet`;
    return chosen ? `${chosen.kind} ${chosen.id}` : `track ${this.tracks.id}`;
  }

  /** A key of a mask can be dropped where there is one. */
  showKeys() {
    for (const b of document.querySelectorAll('[data-act="unkey-mask"]')) {
      const id = Number(/** @type {HTMLElement} */ (b).dataset.id),
        mask = this.model.state?.masks.find((/** @type {any} */ m) => m.id === id);
      /** @type {HTMLButtonElement} */ (b).disabled =
        !mask || mask.keys.length < 2 || !mask.keys.some((/** @type {any} */ k) => k.frame === this.model.frame);
    }
  }

  /** The frame changed. */
  frame() {
    this.show();
  }
}
