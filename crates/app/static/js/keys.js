// @ts-check
/** What keys do; the list of them stands in the page's help. */
import { told } from "./notes.js";

const typing = (/** @type {EventTarget|null} */ t) =>
  t instanceof HTMLElement &&
  /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName) &&
  /** @type {HTMLInputElement} */ (t).type !== "checkbox";

/** Whether a field holds what is not sent yet: there Ctrl+Z is about the text. */
const halfTyped = (/** @type {EventTarget|null} */ t) =>
  (t instanceof HTMLInputElement || t instanceof HTMLTextAreaElement) &&
  t.type !== "checkbox" &&
  t.value !== t.defaultValue;

const isSummary = (/** @type {EventTarget|null} */ t) => t instanceof HTMLElement && t.tagName === "SUMMARY";

/**
 * @param {{model: import("./state/model.js").Model, views: import("./viewport/viewport.js").Viewport[],
 * playback: import("./state/playback.js").Playback, sheet: import("./sheet/sheet.js").Sheet,
 * acts: Record<string, (button: any) => any>, byId: (id: string) => any, arrange: (panes: string) => void}} on
 */
export function heedKeys({ model, views, playback, sheet, acts, byId, arrange }) {
  let panned = false;
  for (const v of views)
    v.canvas.addEventListener("pointerdown", () => {
      panned = true;
    });

  /** Alt and an arrow move the chosen thing by px of the picture. @param {KeyboardEvent} e @param {number} dx @param {number} dy */
  const nudge = (e, dx, dy) => {
    const by = e.shiftKey ? 10 : 1;
    if (e.altKey) views[0].handles.nudge(by * dx, by * dy);
  };

  /** @type {Record<string, (event: KeyboardEvent) => void>} */
  const keys = {
    ArrowLeft: (e) => (e.altKey ? nudge(e, -1, 0) : model.go(model.frame - (e.shiftKey ? 10 : 1))),
    ArrowRight: (e) => (e.altKey ? nudge(e, 1, 0) : model.go(model.frame + (e.shiftKey ? 10 : 1))),
    ArrowUp: (e) => nudge(e, 0, -1),
    ArrowDown: (e) => nudge(e, 0, 1),
    Home: () => model.go(0),
    End: () => model.go(model.state.frames - 1),
    w: () => byId("worst").click(),
    f: () => {
      for (const v of views) v.fit();
    },
    g: () => {
      for (const v of views) v.fitChosen();
    },
    v: () => arrange({ one: "beside", beside: "three", above: "three" }[String(byId("panes").value)] ?? "one"),
    d: () => model.toggle({ kind: "measure" }),
    k: (e) => {
      if (!e.repeat) model.lockOff(true);
    },
    s: () => sheet.fold(),
    t: () => model.toggle({ kind: "place", what: "title", stance: "", asset: "" }),
    l: () => model.toggle({ kind: "lasso" }),
    m: () => model.toggle({ kind: "outline", mode: "keep-out", corners: [] }),
    Enter: () => {
      if (model.tool.kind === "picks") {
        /** @type {import("./viewport/tools/picks.js").PicksTool} */ (views[0].tools.picks).end().catch(told);
        return;
      }
      /** @type {import("./viewport/tools/outline.js").OutlineTool} */ (views[0].tools.outline).close().catch(told);
    },
    "?": () => byId("help").showModal(),
    Delete: (e) => {
      const { chosen } = model;
      if (e.shiftKey && chosen?.kind === "insert") {
        model.arrange({ how: "forget-key" }).catch(told);
        return;
      }
      if (chosen?.kind === "mask") model.edit({ edit: "remove-mask", id: chosen.id }).catch(told);
      else if (chosen?.kind === "holdout") model.edit({ edit: "remove-holdout", id: chosen.id }).catch(told);
      else if (chosen?.kind === "surface") model.edit({ edit: "remove-surface", id: chosen.id }).catch(told);
      else if (model.selected.size) acts["delete-tracks"](null).catch(told);
      else if (chosen) model.edit({ edit: "remove-insert", id: chosen.id }).catch(told);
    },
    Escape: () => {
      if (model.tool.kind !== "select") model.putAway();
      else if (model.chosen && model.chosen.kind !== "insert") model.choose(null);
      else {
        model.selected.clear();
        model.chosen = null;
        model.measures = [];
        model.rods = [];
        model.select();
      }
    },
  };

  document.addEventListener("keydown", (event) => {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && !halfTyped(event.target)) {
      event.preventDefault();
      byId(event.shiftKey ? "redo" : "undo").click();
      return;
    }
    // Out of a field, what was typed in it stays.
    if (event.key === "Escape" && typing(event.target)) /** @type {HTMLElement} */ (event.target).blur();
    if (typing(event.target) || event.ctrlKey || event.metaKey || byId("help").open) return;
    if (event.key === " ") {
      if (event.target instanceof HTMLButtonElement || isSummary(event.target)) return;
      event.preventDefault();
      if (!event.repeat) {
        model.space = true;
        panned = false;
      }
      return;
    }
    // Enter presses what has the focus, but where an outline is being drawn.
    if (event.key === "Enter" && !/^(outline|picks)$/.test(model.tool.kind)) return;
    const act = keys[event.key] ?? keys[event.key.toLowerCase()];
    if (!act || (isSummary(event.target) && (event.key.startsWith("Arrow") || event.key === "Enter"))) return;
    event.preventDefault();
    act(event);
  });
  // A window that is left does not hear the release.
  window.addEventListener("blur", () => model.lockOff(false));
  document.addEventListener("keyup", (event) => {
    if (event.key.toLowerCase() === "k") model.lockOff(false);
    if (event.key !== " " || !model.space) return;
    model.space = false;
    if (!panned) playback.toggle();
  });
}
