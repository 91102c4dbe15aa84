// @ts-check
/** Mounts the workbench. */
import { compared } from "./compare.js";
import { Desk } from "./desk.js";
import { fieldValue, noNumber } from "./fields.js";
import { Frames } from "./frames.js";
import { Look } from "./look.js";
import { Model } from "./model.js";
import { told } from "./notes.js";
import { Route } from "./route.js";
import { Stage } from "./stage.js";
import { Timeline } from "./timeline.js";

const byId = (/** @type {string} */ id) => /** @type {any} */ (document.getElementById(id));
const model = new Model(Number(byId("bench").dataset.shot));
let source = "";
const frames = new Frames(address, () => {
  paint();
  timeline.lanesChanged();
});
const stages = [byId("stage"), byId("stage-2")].map((root) => new Stage(root, model, frames));
const [stage] = stages;
const look = new Look(model, byId);
const desk = new Desk(model, byId);
const timeline = new Timeline(byId("timeline"), model, frames);

function paint() {
  for (const s of stages) s.paint();
}

/** Composites where something is placed, the plate else. */
function composites() {
  return model.state.solve !== null && model.state.inserts.length > 0 && byId("show-inserts").checked;
}

/** @param {number} frame @param {boolean} quick */
function address(frame, quick) {
  return composites()
    ? model.url(`picture/${frame}?key=${model.state.picture}${quick ? "&quick=true" : ""}`)
    : model.url(`plate/${frame + model.state.trim.first}`);
}

function refreshFrames() {
  const now = composites()
    ? `picture ${model.state.picture} ${model.state.frames}`
    : `plate ${model.state.trim.first} ${model.state.frames}`;
  if (now !== source) {
    source = now;
    frames.reset(model.state.frames);
  }
}

/** @param {boolean} [typed] whether a number that is being typed stays */
function showFrame(typed = false) {
  const camera = model.camera();
  if (!typed) byId("frame").value = String(model.frame);
  byId("frame-reading").textContent =
    `of ${model.state.frames - 1}${camera ? ` · ${camera.rms.toFixed(2)} px · ${camera.n} points` : model.cameras.length ? " · no camera" : ""}`;
  paint();
  timeline.paint();
}

function showSelection() {
  const n = model.selected.size;
  const enable = (/** @type {string} */ act, /** @type {boolean} */ on) => {
    for (const b of document.querySelectorAll(`[data-act="${act}"]`))
      /** @type {HTMLButtonElement} */ (b).disabled = !on;
  };
  enable("floor", model.own && n >= 3);
  enable("origin", model.own && n === 1);
  enable("scale", model.own && n === 2);
  showChosen();
  showPlacing();
  desk.show();
  showRival();
  look.show();
  paint();
}

/** The form of what is chosen, in sight. */
let shownChosen = /** @type {number|null} */ (null);
function showChosen() {
  for (const form of document.querySelectorAll(".title-form")) {
    const on = /** @type {HTMLElement} */ (form).dataset.insert === String(model.chosen);
    form.classList.toggle("chosen", on);
    if (on && shownChosen !== model.chosen) form.scrollIntoView({ block: "nearest" });
  }
  shownChosen = model.chosen;
}

function showPlacing() {
  for (const b of document.querySelectorAll('[data-act="place"]'))
    b.setAttribute("aria-pressed", String(model.placing === /** @type {HTMLElement} */ (b).dataset.stance));
  for (const s of stages) s.setPlacing(model.placing);
}

model.addEventListener("loaded", () => {
  byId("frame").max = String(model.state.frames - 1);
  for (const s of stages) if (s.view.fitted) s.fit();
  refreshFrames();
  timeline.loaded();
  /** @type {HTMLButtonElement} */ (byId("worst")).disabled = model.worst() === null;
  // News of a job may come while somebody types a frame.
  showFrame(document.activeElement === byId("frame"));
  showSelection();
});
model.addEventListener("frame", () => {
  showFrame();
  desk.frame();
  look.ask();
});
model.addEventListener("selection", showSelection);
model.addEventListener("rival", showRival);
model.addEventListener("touched", paint);
model.addEventListener("placing", showPlacing);

// --- the route ---------------------------------------------------------------

const route = new Route(byId("route"), model, { drawn: showSelection, typing: () => look.ask() });
const value = (/** @type {string} */ id) => Number(byId(id)?.value) || 0;
/** What fields say; null, and noted, where one is no number. @param {string[]} ids @returns {number[]|null} */
function typed(ids) {
  const fields = ids.map(byId).filter(Boolean),
    values = fields.map(fieldValue),
    wrong = values.indexOf(null);
  if (wrong < 0) return /** @type {number[]} */ (values);
  noNumber(fields[wrong]);
  return null;
}

/** Turns and shifts the world by what is typed, which is then back at none. */
function nudge() {
  const axes = ["x", "y", "z"],
    turn = typed(axes.map((k) => `turn-${k}`)),
    shift = typed(axes.map((k) => `shift-${k}`));
  if (!turn || !shift) return undefined;
  for (const field of document.querySelectorAll("[id^=turn-], [id^=shift-]"))
    /** @type {HTMLInputElement} */ (field).value = /** @type {HTMLInputElement} */ (field).defaultValue;
  return model.change("datum", { action: "nudge", turn_deg: turn, shift_m: shift.length ? shift : [0, 0, 0] });
}

function scale() {
  const distance = typed(["distance"]);
  return distance
    ? model.change("datum", { action: "scale", points: [...model.selected], distance_m: distance[0] })
    : undefined;
}

/** What the buttons of the route do. @type {Record<string, (button: HTMLElement) => any>} */
const acts = {
  look: () => look.toggle(),
  see: () => look.toggleSeen(),
  ...desk.acts(),
  compare: (button) => model.compare(Number(button.dataset.id)),
  "delete-tracks": () => deleteTracks(),
  "restore-tracks": () => model.edit({ edit: "restore-tracks", tracks: [...model.deleted] }),
  "restore-selected": () =>
    model.edit({ edit: "restore-tracks", tracks: [...model.selected].filter((id) => model.deleted.has(id)) }),
  "show-deleted": () => {
    model.showDeleted = !model.showDeleted;
    model.select();
  },
  "suggest-floor": () => model.change("datum", { action: "suggest-floor" }),
  floor: () => model.change("datum", { action: "floor", points: [...model.selected] }),
  origin: () => model.change("datum", { action: "origin", point: [...model.selected][0] }),
  scale,
  nudge,
  go: (button) => model.go(Number(button.dataset.frame)),
  flip: () => model.change("datum", { action: "flip" }),
  place: (button) =>
    model.place(model.placing === button.dataset.stance ? null : (button.dataset.stance ?? "standing")),
  "remove-insert": (button) => model.edit({ edit: "remove-insert", id: Number(button.dataset.id) }),
};

function showRival() {
  const { rival } = model,
    reading = byId("compare-reading");
  for (const b of document.querySelectorAll('[data-act="compare"]'))
    b.setAttribute("aria-pressed", String(Number(/** @type {HTMLElement} */ (b).dataset.id) === rival?.id));
  if (reading) {
    reading.hidden = !rival;
    reading.textContent = rival
      ? [
          compared(
            model.cameras.filter(Boolean).map((c) => /** @type {any} */ (c)),
            rival.frames,
          ),
          comesAlong(rival),
        ]
          .filter(Boolean)
          .join(" · ")
      : "";
  }
  for (const b of document.querySelectorAll(".use-anyway"))
    /** @type {HTMLElement} */ (b).hidden = !(
      rival?.apart && b.closest(".kept")?.getAttribute("data-solve") === String(rival.id)
    );
  showRegions(rival?.regions ?? null);
  desk.showPaths();
  timeline.lanesChanged();
}

/** How what is placed would come along to a compared solve. @param {any} rival */
function comesAlong(rival) {
  if (rival.apart) return rival.apart;
  return rival.carried
    ? `what is placed would move by ${rival.carried.rms_px.toFixed(2)} px RMS, ${rival.carried.worst_px.toFixed(2)} px at most (frame ${rival.carried.worst_frame})`
    : "";
}

// A focal length in mm waits for its sensor before it is sent.
byId("route").addEventListener(
  "change",
  (/** @type {Event} */ event) => {
    if (desk.waitsForSensor(/** @type {HTMLElement} */ (event.target))) event.stopPropagation();
  },
  true,
);
for (const kind of ["input", "change"])
  byId("route").addEventListener(kind, (/** @type {Event} */ event) => {
    const target = /** @type {HTMLElement} */ (event.target);
    desk.input(target, kind === "change");
    if (kind === "input" && target.closest("#track-settings")) look.ask();
  });

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

async function deleteTracks() {
  const tracks = [...model.selected];
  model.selected.clear();
  await model.edit({ edit: "delete-tracks", tracks });
}

byId("route").addEventListener("click", (/** @type {MouseEvent} */ event) => {
  const target = /** @type {HTMLElement} */ (event.target);
  const button = /** @type {HTMLElement|null} */ (target.closest("[data-act]"));
  if (button) Promise.resolve(acts[button.dataset.act ?? ""]?.(button)).catch(told);
  desk.click(target, event);
  const trim = /** @type {HTMLElement|null} */ (target.closest("[data-trim]"));
  if (trim)
    /** @type {HTMLInputElement} */ (trim.closest("form")?.elements.namedItem(trim.dataset.trim ?? "")).value = String(
      model.frame + Number(trim.dataset.offset),
    );
  const form = /** @type {HTMLElement|null} */ (target.closest("[data-act]") ? null : target.closest(".title-form"));
  if (form && model.chosen !== Number(form.dataset.insert)) {
    model.chosen = Number(form.dataset.insert);
    model.select();
  }
});

// --- jobs --------------------------------------------------------------------

const news = new EventSource("/events");
// A job may have ended before word of it could be heard.
news.onopen = () => {
  if (document.querySelector(".job progress")) {
    source = "";
    route.reload().catch(told);
  }
};
news.onmessage = (event) => {
  const { job, left_s } = JSON.parse(event.data);
  if (job.shot !== model.shot) return;
  const active = job.state === "running" || job.state === "waiting";
  const percent = job.total ? Math.floor((100 * job.done) / job.total) : 0;
  const words =
    job.kind === "solve" || job.kind === "refine"
      ? `${job.message} · ${percent} %`
      : `${job.message} frame ${job.done} of ${job.total} · ${percent} %`;
  const line = words + (left_s !== null && active ? ` · ${left_s} s left` : "");
  byId("running").textContent = active ? `${job.kind}: ${line}` : "";
  if (model.working !== active) {
    model.working = active;
    paint();
  }
  const box = document.querySelector(`.job[data-job="${job.id}"]`);
  const reading = box?.querySelector(".job-reading");
  if (active && box && reading) {
    reading.textContent = line;
    /** @type {HTMLProgressElement} */ (box.querySelector("progress")).value = percent;
  } else if (!active || !box) {
    if (job.kind === "decode" && !active) {
      source = "";
    }
    route.reload().catch(told);
  }
};

// --- playing -----------------------------------------------------------------

let playing = false,
  began = 0,
  from = 0,
  shown = 0,
  dropped = 0;

function play(/** @type {boolean} */ on) {
  playing = on;
  byId("play").textContent = on ? "Pause" : "Play";
  if (!on) return;
  if (model.frame >= model.state.frames - 1) model.go(0);
  began = performance.now();
  from = model.frame;
  shown = 0;
  dropped = 0;
  requestAnimationFrame(tick);
}

function tick(/** @type {number} */ time) {
  if (!playing) return;
  const [per, s] = model.state.rate;
  const due = from + Math.floor(((time - began) / 1000) * (per / s));
  const next = Math.min(due, model.state.frames - 1);
  if (next > model.frame) {
    // What is not decoded yet is waited for: the clock stands until it is there.
    if (frames.now(model.frame + 1) || frames.failed.has(model.frame + 1)) {
      dropped += next - model.frame - 1;
      shown++;
      model.go(next);
    } else {
      began = time;
      from = model.frame;
    }
    const seconds = Math.max((time - began) / 1000, 1e-3);
    byId("play-reading").textContent = `${((model.frame - from) / seconds).toFixed(1)} fps · ${dropped} dropped`;
  }
  if (model.frame >= model.state.frames - 1) play(false);
  else requestAnimationFrame(tick);
}

byId("play").addEventListener("click", () => play(!playing));
byId("back").addEventListener("click", () => model.go(model.frame - 1));
byId("forward").addEventListener("click", () => model.go(model.frame + 1));
byId("frame").addEventListener("change", () => model.go(value("frame")));
byId("worst").addEventListener("click", () => {
  const w = model.worst();
  if (w !== null) model.go(w);
});
byId("show-inserts").addEventListener("change", () => {
  refreshFrames();
  paint();
});
byId("two-views").addEventListener("click", () => {
  const on = byId("stage-2").hidden;
  byId("stage-2").hidden = !on;
  byId("two-views").setAttribute("aria-pressed", String(on));
  document.querySelector(".stages")?.classList.toggle("two", on);
});
byId("help-open").addEventListener("click", () => byId("help").showModal());

// --- keys --------------------------------------------------------------------

const typing = (/** @type {EventTarget|null} */ t) =>
  t instanceof HTMLElement &&
  /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName) &&
  /** @type {HTMLInputElement} */ (t).type !== "checkbox";
let panned = false;
for (const s of stages)
  s.canvas.addEventListener("pointerdown", () => {
    panned = true;
  });

/** @type {Record<string, (event: KeyboardEvent) => void>} */
const keys = {
  ArrowLeft: (e) => model.go(model.frame - (e.shiftKey ? 10 : 1)),
  ArrowRight: (e) => model.go(model.frame + (e.shiftKey ? 10 : 1)),
  Home: () => model.go(0),
  End: () => model.go(model.state.frames - 1),
  w: () => byId("worst").click(),
  f: () => {
    for (const s of stages) s.fit();
  },
  v: () => byId("two-views").click(),
  t: () => model.place(model.placing ? null : "standing"),
  l: () => {
    model.lasso = !model.lasso;
    model.select();
  },
  m: () => model.draw(model.drawing ? null : "keep-out"),
  Enter: () => {
    stages[0].masks.close().catch(told);
  },
  "?": () => byId("help").showModal(),
  Delete: () => {
    if (model.mask !== null) model.edit({ edit: "remove-mask", id: model.mask }).catch(told);
    else if (model.selected.size) deleteTracks().catch(told);
    else if (model.chosen !== null) model.edit({ edit: "remove-insert", id: model.chosen }).catch(told);
  },
  Escape: () => {
    if (model.drawing) model.draw(null);
    else if (model.mask !== null) model.chooseMask(null);
    else if (model.placing) model.place(null);
    else {
      model.selected.clear();
      model.chosen = null;
      model.select();
    }
  },
};

document.addEventListener("keydown", (event) => {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && !typing(event.target)) {
    event.preventDefault();
    byId(event.shiftKey ? "redo" : "undo").click();
    return;
  }
  if (typing(event.target) || event.ctrlKey || event.metaKey || byId("help").open) return;
  if (event.key === " ") {
    if (
      event.target instanceof HTMLButtonElement ||
      (event.target instanceof HTMLElement && event.target.tagName === "SUMMARY")
    )
      return;
    event.preventDefault();
    if (!event.repeat) {
      model.space = true;
      panned = false;
    }
    return;
  }
  if (event.key === "Enter" && !model.drawing) return;
  const act = keys[event.key] ?? keys[event.key.toLowerCase()];
  if (
    act &&
    !(
      event.target instanceof HTMLElement &&
      event.target.tagName === "SUMMARY" &&
      (event.key.startsWith("Arrow") || event.key === "Enter")
    )
  ) {
    event.preventDefault();
    act(event);
  }
});
document.addEventListener("keyup", (event) => {
  if (event.key !== " " || !model.space) return;
  model.space = false;
  if (!panned) play(!playing);
});

globalThis.fennik = { model, stage, stages, frames, timeline };
model.load().catch(told);
