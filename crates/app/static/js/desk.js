// @ts-check
/** The tools of the stations Track and Solve: filters, strays, masks, the track's own view, dropping the worst. */
import { chosenBy } from "./cleanup.js";
import { colours } from "./colours.js";
import { focalSpan, paintFocal } from "./focal-curve.js";
import { withoutKey } from "./mask-shape.js";
import { words, worstAbove } from "./refine.js";
import { SceneView } from "./scene-view.js";
import { TrackView } from "./track-view.js";

/** @typedef {import("./mask-shape.js").Mask} Mask */

export class Desk {
  /** @param {import("./model.js").Model} model @param {(id: string) => any} byId */
  constructor(model, byId) {
    this.model = model;
    this.byId = byId;
    this.view = new TrackView(model, byId);
    this.parts = new Set([4]);
    this.paths = ["top", "side"].map((kind) => ({ kind, scene: new SceneView(model, true) }));
    /**
     * What the filter was set to; the route is drawn anew now and then.
     * @type {{kind: string, limit: string, from: string|null, to: string|null}}
     */
    this.kept = { kind: "error", limit: "0.5", from: null, to: null };
  }

  /** What the buttons do. @returns {Record<string, (button: HTMLElement) => any>} */
  acts() {
    const { model } = this;
    const selected = () => [...model.selected];
    return {
      filter: () => {
        model.selected = new Set(this.filtered());
        model.select();
      },
      lasso: () => {
        model.lasso = !model.lasso;
        model.select();
      },
      draw: (button) =>
        model.draw(model.drawing?.mode === button.dataset.mode ? null : (button.dataset.mode ?? "keep-out")),
      "remove-mask": (button) => model.edit({ edit: "remove-mask", id: Number(button.dataset.id) }),
      "copy-mask": (button) => this.copyMask(Number(button.dataset.id)),
      "unkey-mask": (button) => {
        const mask = this.mask(Number(button.dataset.id));
        return mask && model.edit({ edit: "change-mask", mask: withoutKey(mask, model.frame) });
      },
      "follow-mask": (button) => model.change("masks/follow", { mask: Number(button.dataset.id), frame: model.frame }),
      "mask-tracks": async () => {
        if (await model.change("masks/round-tracks", { tracks: selected() })) model.chooseNewestMask();
      },
      "select-stray": (button) => {
        model.selected = new Set(
          [...model.outliers.values()]
            .filter((a) => a.reason === button.dataset.why && !model.deleted.has(a.id))
            .map((a) => a.id),
        );
        model.select();
      },
      "trust-tracks": () => model.edit({ edit: "trust-tracks", tracks: selected() }),
      "doubt-tracks": () =>
        model.edit({ edit: "doubt-tracks", tracks: model.selected.size ? selected() : [...model.trusted] }),
      "drop-worst": () => this.dropWorst(),
      "take-back": async () => {
        if (await model.edit({ edit: "restore-tracks", tracks: model.again.filter((id) => model.deleted.has(id)) }))
          await model.change("jobs/refine", {});
      },
      "use-hint": (button) => {
        const field = this.field("focal");
        if (field) {
          field.value = button.dataset.focal ?? "";
          field.dispatchEvent(new Event("change", { bubbles: true }));
        }
      },
    };
  }

  /** A field of the solve's settings. @param {string} name @returns {HTMLInputElement|null} */
  field(name) {
    return document.querySelector(`[data-station="solve"] form [name="${name}"]`);
  }

  /** @param {number} id @returns {Mask|undefined} */
  mask(id) {
    return this.model.state.masks.find((/** @type {Mask} */ m) => m.id === id);
  }

  /** @param {number} id */
  async copyMask(id) {
    const mask = this.mask(id),
      { model } = this;
    if (!mask) return;
    // A little aside, so that both are seen.
    const keys = mask.keys.map((k) => ({ ...k, outline: k.outline.map(([x, y]) => [x + 24, y + 24]) }));
    if (await model.edit({ edit: "add-mask", mask: { ...mask, name: `${mask.name} copy`, keys } }))
      model.chooseNewestMask();
  }

  /** What was typed into the form of a mask. @param {HTMLElement} line */
  async changeMask(line) {
    const mask = this.mask(Number(line.dataset.mask));
    if (!mask) return;
    const field = (/** @type {string} */ name) =>
      /** @type {HTMLInputElement} */ (line.querySelector(`[name="${name}"]`));
    const [first, last] = [field("first").value, field("last").value],
      end = this.model.state.frames - 1;
    const span =
      first === "" && last === "" ? null : [first === "" ? 0 : Number(first), last === "" ? end : Number(last)];
    await this.model.edit({
      edit: "change-mask",
      mask: {
        ...mask,
        name: field("name").value,
        mode: field("mode").value,
        inverted: field("inverted").checked,
        span,
      },
    });
  }

  /** What the filter as it is set would take. */
  filtered() {
    const value = (/** @type {string} */ id) => Number(this.byId(id)?.value) || 0;
    return chosenBy(this.model, {
      kind: this.byId("filter-kind").value,
      limit: value("filter-limit"),
      from: value("filter-from"),
      to: value("filter-to"),
      parts: [...this.parts],
    });
  }

  worst() {
    return worstAbove(
      this.model.points.filter((p) => !this.model.deleted.has(p.id)),
      Number(this.byId("drop-limit")?.value) || 0,
    );
  }

  async dropWorst() {
    const { tracks } = this.worst();
    if (tracks.length && (await this.model.edit({ edit: "delete-tracks", tracks })))
      await this.model.change("jobs/refine", {});
  }

  /** Somebody changes a value of the route. @param {HTMLElement} target @param {boolean} done */
  input(target, done) {
    if (target.closest("#filter")) {
      this.kept = {
        kind: this.byId("filter-kind").value,
        limit: this.byId("filter-limit").value,
        from: this.byId("filter-from").value,
        to: this.byId("filter-to").value,
      };
      this.showFilter();
    }
    if (target.closest("#drop")) this.showDrop();
    const line = /** @type {HTMLElement|null} */ (target.closest(".mask-line"));
    if (line && done) this.changeMask(line);
  }

  /**
   * Before a change is sent: a focal length in mm is completed by the chosen sensor, and waits where none is chosen
   * yet.
   * @param {HTMLElement} target @returns {boolean} whether it waits
   */
  waitsForSensor(target) {
    const field = this.field("focal"),
      sensor = this.byId("sensor");
    if (!field || (target !== field && target !== sensor)) return false;
    const mm = field.value.match(/^\s*([\d.]+)\s*mm\b/);
    if (mm && sensor.value && (target === sensor || !/\bof\b/.test(field.value)))
      field.value = `${mm[1]} mm of ${sensor.value} mm`;
    // A sensor alone says nothing, and neither does a length in mm without one.
    return mm ? !/\bof\b/.test(field.value) : target === sensor;
  }

  /** A click in the route that is no button of an act. @param {HTMLElement} target @param {MouseEvent} event */
  click(target, event) {
    const { model } = this;
    const part = /** @type {HTMLElement|null} */ (target.closest("[data-part]"));
    if (part) {
      const n = Number(part.dataset.part);
      if (this.parts.has(n)) this.parts.delete(n);
      else this.parts.add(n);
      this.showFilter();
    }
    const reason = /** @type {HTMLElement|null} */ (target.closest("[data-reason]"));
    if (reason) {
      const said = model.reasons[Number(reason.dataset.reason)];
      if (said?.tracks.length) model.selected = new Set(said.tracks);
      if (said?.frames) model.go(said.frames[0]);
      else if (said?.tracks.length === 1 || (said?.tracks.length && !said.tracks.some((id) => this.onFrame(id))))
        this.goTo(said.tracks[0]);
      model.select();
    }
    const line = /** @type {HTMLElement|null} */ (target.closest(".mask-line"));
    if (line && !target.closest("button") && model.mask !== Number(line.dataset.mask))
      model.chooseMask(Number(line.dataset.mask));
    if (target.id === "track-error") model.go(this.view.frameAt(event));
  }

  /** @param {number} id */
  onFrame(id) {
    const t = this.model.tracks.find((k) => k.id === id);
    return !!t && this.model.frame >= t.first && this.model.frame < t.first + t.xy.length / 2;
  }

  /** @param {number} id */
  goTo(id) {
    const t = this.model.tracks.find((k) => k.id === id);
    if (t) this.model.go(t.first + Math.floor(t.xy.length / 4));
  }

  /** Fills what the route shows of the selection. */
  show() {
    const { model } = this,
      n = model.selected.size;
    const count = this.byId("selected-count");
    if (count) count.textContent = String(n);
    const enable = (/** @type {string} */ act, /** @type {boolean} */ on) => {
      for (const b of document.querySelectorAll(`[data-act="${act}"]`))
        /** @type {HTMLButtonElement} */ (b).disabled = !on;
    };
    enable("delete-tracks", n > 0);
    enable("mask-tracks", n > 0);
    enable("trust-tracks", n > 0);
    enable(
      "restore-selected",
      [...model.selected].some((id) => model.deleted.has(id)),
    );
    for (const b of document.querySelectorAll('[data-act="show-deleted"]'))
      b.setAttribute("aria-pressed", String(model.showDeleted));
    for (const b of document.querySelectorAll('[data-act="draw"]'))
      b.setAttribute("aria-pressed", String(model.drawing?.mode === /** @type {HTMLElement} */ (b).dataset.mode));
    for (const b of document.querySelectorAll('[data-act="lasso"]'))
      b.setAttribute("aria-pressed", String(model.lasso));
    for (const line of document.querySelectorAll(".mask-line"))
      line.classList.toggle("chosen", /** @type {HTMLElement} */ (line).dataset.mask === String(model.mask));
    const hint = this.byId("mask-hint");
    if (hint) hint.textContent = this.maskHint();
    this.showKeys();
    this.showFilter();
    this.showDrop();
    this.view.show();
  }

  maskHint() {
    if (this.model.drawing)
      return "Click corner by corner; the first corner or Enter closes the outline, Esc gives it up.";
    if (this.model.mask !== null)
      return "Drag the inside to move it, a corner to bend it: on another frame that sets a key. Twice on a corner makes it smooth, twice on an edge adds one, Alt and a click takes one away.";
    return "Masks count at once for the solve; track again so that points fill what is left.";
  }

  /** A key can be dropped where there is one. */
  showKeys() {
    for (const b of document.querySelectorAll('[data-act="unkey-mask"]')) {
      const mask = this.mask(Number(/** @type {HTMLElement} */ (b).dataset.id));
      /** @type {HTMLButtonElement} */ (b).disabled =
        !mask || mask.keys.length < 2 || !mask.keys.some((k) => k.frame === this.model.frame);
    }
  }

  /** A filter tells how many it takes before it takes them. */
  showFilter() {
    const kind = this.byId("filter-kind");
    if (!kind) return;
    kind.value = this.kept.kind;
    this.byId("filter-limit").value = this.kept.limit;
    if (this.kept.from !== null) this.byId("filter-from").value = this.kept.from;
    if (this.kept.to !== null) this.byId("filter-to").value = this.kept.to;
    this.byId("filter-one").hidden = !["error", "short"].includes(kind.value);
    this.byId("filter-two").hidden = !["span", "whole"].includes(kind.value);
    this.byId("filter-part").hidden = kind.value !== "region";
    for (const b of document.querySelectorAll("[data-part]"))
      b.setAttribute("aria-pressed", String(this.parts.has(Number(/** @type {HTMLElement} */ (b).dataset.part))));
    const n = this.filtered().length,
      button = this.byId("filter-select");
    button.textContent = `Select ${n} track${n === 1 ? "" : "s"}`;
    button.disabled = n === 0;
  }

  /** Dropping tells what it would do. */
  showDrop() {
    const button = this.byId("drop-worst");
    if (!button) return;
    const of = this.worst();
    button.textContent = `Drop ${of.tracks.length} and solve on`;
    button.disabled = of.tracks.length === 0;
    this.byId("drop-reading").textContent = words(of, this.model.points.length);
  }

  /** The camera's path from the top and the side. */
  showPaths() {
    for (const { kind, scene } of this.paths) {
      const canvas = /** @type {HTMLCanvasElement|null} */ (this.byId(`path-${kind}`));
      const g = canvas?.getContext("2d");
      if (!canvas || !g || !canvas.clientWidth) continue;
      const dense = window.devicePixelRatio || 1,
        w = canvas.clientWidth,
        h = canvas.clientHeight;
      canvas.width = w * dense;
      canvas.height = h * dense;
      g.setTransform(dense, 0, 0, dense, 0, 0);
      g.clearRect(0, 0, w, h);
      scene.paint(g, kind, w, h);
    }
    this.showFocal();
  }

  /** The focal length over the clip, where it changes or another solve is held against it. */
  showFocal() {
    const { model } = this,
      figure = this.byId("focal-curve");
    if (!figure) return;
    const now = model.cameras.flatMap((c) => (c ? [{ frame: c.frame, f: c.f }] : [])),
      other = model.rival?.frames ?? [];
    const span = focalSpan([...now, ...other]);
    figure.hidden = !now.length || (!other.length && span.high / span.low < 1.0005);
    if (!figure.hidden)
      paintFocal(
        this.byId("focal-over-time"),
        { now, other, span, frames: model.state.frames, at: model.frame },
        colours,
      );
  }

  /** The frame changed. */
  frame() {
    this.showPaths();
    this.showKeys();
    if (this.byId("filter-kind")?.value === "region") this.showFilter();
    if (this.view.id !== null) this.view.show();
  }
}
