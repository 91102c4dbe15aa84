// @ts-check
/** Mounts the page of a shot. */
import { heedKeys } from "./keys.js";
import { heedNews } from "./news.js";
import { told } from "./notes.js";
import { Parts } from "./parts.js";
import { Sheet } from "./sheet/sheet.js";
import { Frames } from "./state/frames.js";
import { Model } from "./state/model.js";
import { Playback } from "./state/playback.js";
import { datum } from "./stations/datum.js";
import { finish } from "./stations/finish.js";
import { footage } from "./stations/footage.js";
import { holdouts } from "./stations/holdouts.js";
import { inserts } from "./stations/inserts.js";
import { light } from "./stations/light.js";
import { masks } from "./stations/masks.js";
import { match } from "./stations/match.js";
import { solve } from "./stations/solve.js";
import { timed } from "./stations/timed.js";
import { toneCurves } from "./stations/tone-curves.js";
import { track } from "./stations/track.js";
import { Timeline } from "./timeline/timeline.js";
import { switchedAt, switchShown } from "./viewport/shown.js";
import { measureAnew } from "./viewport/tools/measure.js";
import { standAnew } from "./viewport/tools/rod.js";
import { Viewport } from "./viewport/viewport.js";

const byId = (/** @type {string} */ id) => /** @type {any} */ (document.getElementById(id));
const bench = byId("bench");
const model = new Model(Number(bench.dataset.shot), Number(bench.dataset.revision));
let source = "";
const frames = new Frames(address, () => {
  paint();
  timeline.lanesChanged();
});
// While a thing is dragged its drafts come first.
frames.waits = () => model.moving !== null;
frames.runs = () => model.playing;
const views = [byId("view-1"), byId("view-2"), byId("view-3")].map((root) => new Viewport(root, model, frames));
const timeline = new Timeline(byId("timeline"), model, frames);
const playback = new Playback(model, frames, (reading) => {
  byId("play-reading").textContent = reading;
});
const context = { model, byId, frames };
const [tracking, solving] = [track(context), solve(context)];
/** @type {import("./stations/station.js").Station[]} */
const stations = [
  footage(context),
  tracking,
  masks(context),
  solving,
  datum(context),
  inserts(context),
  light(context),
  holdouts(context),
  match(context),
  finish(context),
  timed(context),
  toneCurves(),
];
/**
 * What the buttons of stations and sheet do, by their `data-act`.
 * @type {Record<string, (button: HTMLElement) => any>}
 */
const acts = Object.assign({}, ...stations.map((s) => s.acts ?? {}));
const parts = new Parts(document.body, model, { drawn: showSelection, typing: () => tracking.look.ask() });
const sheet = new Sheet(model, views, byId);

function paint() {
  for (const v of views) v.paint();
}

/** Finished frames where something is placed or graded, the plate else. */
function composites() {
  const placed = model.state.solve !== null && model.state.inserts.length > 0;
  return (placed || model.state.graded) && byId("show-inserts").checked;
}

/** While the lock is off what is placed is drawn as the camera of one frame sees it. */
const held = () => (model.held === null ? "" : `&held=${model.held}`);

/** @param {number} frame @param {boolean} quick */
function address(frame, quick) {
  return composites()
    ? model.url(`picture/${frame}?key=${model.state.picture}${quick ? "&quick=true" : ""}${held()}`)
    : model.url(`plate/${frame + model.state.trim.first}`);
}

function refreshFrames() {
  const now = composites()
    ? `picture ${model.state.picture} ${model.state.frames}${held()}`
    : `plate ${model.state.trim.first} ${model.state.frames}`;
  if (now === source) return;
  source = now;
  frames.reset(model.state.frames);
}

/** What the camera of this frame reads. */
function cameraReading() {
  const camera = model.camera();
  if (camera) return ` · ${camera.rms.toFixed(2)} px · ${camera.n} points`;
  return model.cameras.length ? " · no camera" : "";
}

/** @param {boolean} [typed] whether a number that is being typed stays */
function showFrame(typed = false) {
  if (!typed) byId("frame").value = String(model.frame);
  byId("frame-reading").textContent = `of ${model.state.frames - 1}${cameraReading()}`;
  paint();
  timeline.paint();
}

/** Stations fill what they show of the selection. */
function fillStations() {
  for (const s of stations) s.show?.();
}

/** Fills all that tells of the selection, the tool, and what is chosen. */
function showSelection() {
  fillStations();
  sheet.show();
  showOverlays();
  timeline.lanesChanged();
  paint();
}

/** The switches of the overlays say what stands over the picture at the open station. */
function showOverlays() {
  const shown = switchedAt(model);
  for (const what of /** @type {const} */ (["tracks", "grid", "surfaces"]))
    for (const box of document.querySelectorAll(`[name="show-${what}"]`))
      /** @type {HTMLInputElement} */ (box).checked = shown[what];
}

model.addEventListener("laid-anew", () => {
  standAnew(model);
  measureAnew(model).catch(told);
});
model.addEventListener("loaded", () => {
  byId("frame").max = String(model.state.frames - 1);
  for (const v of views) v.loaded();
  refreshFrames();
  timeline.loaded();
  /** @type {HTMLButtonElement} */ (byId("worst")).disabled = model.worst() === null;
  // News of a job may come while somebody types a frame.
  showFrame(document.activeElement === byId("frame"));
  showSelection();
  model.askShapes().catch(told);
});
model.addEventListener("frame", () => {
  showFrame();
  for (const s of stations) s.frame?.();
  sheet.frame();
});
model.addEventListener("selection", showSelection);
model.addEventListener("sheet", fillStations);
model.addEventListener("tool", () => {
  for (const v of views) v.toolChanged();
});
model.addEventListener("station", () => {
  if (!model.state) return;
  // Canvases of a station have no size before it is open.
  for (const s of stations) s.show?.();
  showOverlays();
  timeline.lanesChanged();
  paint();
});
model.addEventListener("comparison", () => {
  solving.comparison();
  timeline.lanesChanged();
});
model.addEventListener("touched", paint);
model.addEventListener("playing", () => {
  byId("play").textContent = model.playing ? "Pause" : "Play";
  paint();
});

document.addEventListener("click", (/** @type {MouseEvent} */ event) => {
  const target = /** @type {HTMLElement} */ (event.target);
  const button = /** @type {HTMLElement|null} */ (target.closest("[data-act]"));
  if (button) Promise.resolve(acts[button.dataset.act ?? ""]?.(button)).catch(told);
  else for (const s of stations) s.click?.(target, event);
});
// A focal length in mm waits for its sensor before it is sent.
byId("route").addEventListener(
  "change",
  (/** @type {Event} */ event) => {
    if (solving.waitsForSensor(/** @type {HTMLElement} */ (event.target))) event.stopPropagation();
  },
  true,
);
for (const kind of ["input", "change"])
  bench.addEventListener(kind, (/** @type {Event} */ event) => {
    for (const s of stations) s.input?.(/** @type {HTMLElement} */ (event.target), kind === "change");
  });
bench.addEventListener("change", (/** @type {Event} */ event) => {
  const box = /** @type {HTMLInputElement} */ (event.target),
    what = /^show-(tracks|grid|surfaces)$/.exec(box.name ?? "")?.[1];
  if (!what) return;
  switchShown(model, /** @type {keyof import("./viewport/shown.js").Shown} */ (what), box.checked);
  showOverlays();
  paint();
});

byId("play").addEventListener("click", () => playback.toggle());
byId("back").addEventListener("click", () => model.go(model.frame - 1));
byId("forward").addEventListener("click", () => model.go(model.frame + 1));
byId("frame").addEventListener("change", () => model.go(Number(byId("frame").value) || 0));
byId("worst").addEventListener("click", () => {
  const worst = model.worst();
  if (worst !== null) model.go(worst);
});
byId("show-inserts").addEventListener("change", () => {
  refreshFrames();
  paint();
});
/** Lays the panes out: how many, and how. @param {string} panes */
function arrange(panes) {
  const count = { one: 1, beside: 2, above: 2, three: 3, row: 3 }[panes] ?? 1;
  views.forEach((v, i) => (v.root.hidden = i >= count));
  byId("panes").value = panes;
  /** @type {HTMLElement} */ (document.querySelector(".views")).dataset.panes = panes;
}
byId("panes").addEventListener("change", () => arrange(byId("panes").value));
model.addEventListener("lock", () => {
  refreshFrames();
  byId("lock-reading").hidden = model.held === null;
  paint();
});
byId("help-open").addEventListener("click", () => byId("help").showModal());

heedKeys({ model, views, playback, sheet, acts, byId, arrange });
heedNews(model, parts, {
  decoded: () => {
    source = "";
  },
  working: paint,
  byId,
});
parts.openStation(byId("route").dataset.open);

globalThis.fennik = { model, stage: views[0], views, frames, timeline, sheet };
model.load().catch(told);
