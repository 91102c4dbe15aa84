// @ts-check
/** Solve: how good the camera is, what could be dropped, and those that are kept. */
import { compared } from "../math/compare.js";
import { dropReading, worstAbove } from "../math/worst.js";
import { colours } from "../viewport/colours.js";
import { SceneView } from "../viewport/scene-view.js";
import { focalSpan, paintFocal } from "./focal-curve.js";
import { press } from "./station.js";

/**
 * @typedef {object} Asked What the page asks of this station besides.
 * @property {(target: HTMLElement) => boolean} waitsForSensor
 * @property {() => void} comparison
 */

/**
 * @param {import("./station.js").Context} context
 * @returns {import("./station.js").Station & Asked}
 */
export function solve({ model, byId }) {
  const paths = ["top", "side"].map((kind) => ({ kind, scene: new SceneView(model, true) }));

  /** A field of the settings. @param {string} name @returns {HTMLInputElement|null} */
  const field = (name) => document.querySelector(`#solve-settings [name="${name}"]`);

  const worst = () =>
    worstAbove(
      model.points.filter((p) => !model.deleted.has(p.id)),
      Number(byId("drop-limit")?.value) || 0,
    );

  /** Dropping tells what it would do. */
  function showDrop() {
    const button = byId("drop-worst");
    if (!button) return;
    const of = worst();
    button.textContent = `Drop ${of.tracks.length} and solve on`;
    button.disabled = of.tracks.length === 0;
    byId("drop-reading").textContent = dropReading(of, model.points.length);
  }

  /** @param {number} id */
  const trackOf = (id) => model.tracks.find((k) => k.id === id);

  /** @param {number} id */
  function onFrame(id) {
    const t = trackOf(id);
    return !!t && model.frame >= t.first && model.frame < t.first + t.xy.length / 2;
  }

  /** @param {number} id */
  function goTo(id) {
    const t = trackOf(id);
    if (t) model.go(t.first + Math.floor(t.xy.length / 4));
  }

  /** The camera's path from the top and the side. */
  function showPaths() {
    for (const { kind, scene } of paths) {
      const canvas = /** @type {HTMLCanvasElement|null} */ (byId(`path-${kind}`));
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
    showFocal();
  }

  /** The focal length over the clip, where it changes or another solve is held against it. */
  function showFocal() {
    const figure = byId("focal-curve");
    if (!figure) return;
    const now = model.cameras.flatMap((c) => (c ? [{ frame: c.frame, f: c.f }] : [])),
      other = model.comparison?.frames ?? [];
    const span = focalSpan([...now, ...other]);
    figure.hidden = !now.length || (!other.length && span.high / span.low < 1.0005);
    if (!figure.hidden)
      paintFocal(byId("focal-over-time"), { now, other, span, frames: model.state.frames, at: model.frame }, colours);
  }

  /** How what is placed would come along to a compared solve. @param {any} other */
  function comesAlong(other) {
    if (other.apart) return other.apart;
    const { carried } = other;
    return carried
      ? `what is placed would move by ${carried.rms_px.toFixed(2)} px RMS, ${carried.worst_px.toFixed(2)} px at most ` +
          `(frame ${carried.worst_frame})`
      : "";
  }

  /**
   * The error of a compared solve by part of the frame, beside that of the one in use.
   * @param {(number|null)[][]|null} regions
   */
  function showRegions(regions) {
    for (const [i, cell] of [...document.querySelectorAll("#regions td")].entries()) {
      const own = /** @type {HTMLElement} */ (cell).dataset.own ?? cell.textContent ?? "";
      /** @type {HTMLElement} */ (cell).dataset.own = own;
      const other = regions?.[Math.floor(i / 3)]?.[i % 3];
      cell.textContent = regions ? `${own} / ${other === null || other === undefined ? "–" : other.toFixed(2)}` : own;
    }
  }

  function comparison() {
    const other = model.comparison,
      reading = byId("compare-reading");
    press("compare", (b) => Number(b.dataset.id) === other?.id);
    if (reading) {
      reading.hidden = !other;
      const cameras = /** @type {import("../math/camera.js").Camera[]} */ (model.cameras.filter(Boolean));
      reading.textContent = other
        ? [compared(cameras, other.frames), comesAlong(other)].filter(Boolean).join(" · ")
        : "";
    }
    for (const b of document.querySelectorAll(".use-anyway"))
      /** @type {HTMLElement} */ (b).hidden = !(
        other?.apart && b.closest(".kept")?.getAttribute("data-solve") === String(other.id)
      );
    showRegions(other?.regions ?? null);
    showPaths();
  }

  return {
    comparison,
    acts: {
      compare: (button) => model.compare(Number(button.dataset.id)),
      go: (button) => model.go(Number(button.dataset.frame)),
      "drop-worst": async () => {
        const { tracks } = worst();
        if (tracks.length && (await model.edit({ edit: "delete-tracks", tracks })))
          await model.change("jobs/refine", {});
      },
      "take-back": async () => {
        const tracks = model.again.filter((id) => model.deleted.has(id));
        if (await model.edit({ edit: "restore-tracks", tracks })) await model.change("jobs/refine", {});
      },
      "use-hint": (button) => {
        const focal = field("focal");
        if (!focal) return;
        focal.value = button.dataset.focal ?? "";
        focal.dispatchEvent(new Event("change", { bubbles: true }));
      },
    },
    show() {
      showDrop();
      comparison();
    },
    frame: showPaths,
    input(target) {
      if (target.closest("#drop")) showDrop();
    },
    click(target) {
      const reason = /** @type {HTMLElement|null} */ (target.closest("[data-reason]"));
      if (!reason) return;
      const said = model.reasons[Number(reason.dataset.reason)];
      if (said?.tracks.length) model.selected = new Set(said.tracks);
      if (said?.frames) model.go(said.frames[0]);
      else if (said?.tracks.length === 1 || (said?.tracks.length && !said.tracks.some(onFrame))) goTo(said.tracks[0]);
      model.select();
    },
    /**
     * Before a change is sent: a focal length in mm is completed by the chosen sensor, and waits where none is chosen
     * yet.
     */
    waitsForSensor(target) {
      const focal = field("focal"),
        sensor = byId("sensor");
      if (!focal || (target !== focal && target !== sensor)) return false;
      const mm = focal.value.match(/^\s*([\d.]+)\s*mm\b/);
      if (mm && sensor.value && (target === sensor || !/\bof\b/.test(focal.value)))
        focal.value = `${mm[1]} mm of ${sensor.value} mm`;
      // A sensor alone says nothing, and neither does a length in mm without one.
      return mm ? !/\bof\b/.test(focal.value) : target === sensor;
    },
  };
}
