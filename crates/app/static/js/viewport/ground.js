// @ts-check
/** The scene's own geometry over any view: the floor's grid, surfaces, drawn lines, rods. */
import { add, centre, cross, meetPlane, middleOf, ray, scale, sub } from "../math/camera.js";
import { gridAfter } from "../math/datum.js";
import { colours } from "./colours.js";

/** @typedef {import("./viewport.js").Viewport} Viewport */

/** Lines of the grid on either side of the origin. */
const LINES = 12;
/** Where the picture's lower part is, of its height; and how much farther than its origin a grid may reach for it. */
const LOW = 0.75,
  MOST_HEIGHTS = 8;
/** Pieces in which a straight line is drawn, so that it bends with the lens. */
const PIECES = 24;
/** Farther outside the view nothing is drawn, px. */
const FAR_PX = 6000;
/** Half the size of a cross over a point that was left out, px. */
const CROSS_PX = 4;
const FONT = "11px JetBrains Mono, monospace",
  NAME_FONT = "12px Barlow Semi Condensed, sans-serif";

/**
 * The floor and its surfaces, or dashed those that are proposed.
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport
 */
export function paintGround(g, viewport) {
  const { model } = viewport;
  if (model.preview) paintGrid(g, viewport, gridAfter(model.preview));
  else if (model.state.floor)
    paintGrid(g, viewport, { origin: [0, 0, 0], normal: [0, 1, 0], ahead: [0, 0, -1], metre: 1 });
  else if (model.proposal) {
    g.setLineDash([5, 4]);
    if (model.proposal.floor) paintGrid(g, viewport, model.proposal);
    for (const s of model.proposal.surfaces) paintOutline(g, viewport, s.outline, colours.lichen, s.name);
    g.setLineDash([]);
  }
}

/**
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport
 * @param {{origin: number[], normal: number[], ahead: number[], metre: number}} world
 */
function paintGrid(g, viewport, { origin, normal, ahead, metre }) {
  const camera = viewport.model.camera();
  if (!camera) return;
  const right = cross(ahead, normal);
  const step = niceStep(reachOf(viewport.model, camera, origin, normal) / metre / 8),
    length = step * metre;
  g.lineWidth = 1;
  for (let i = -LINES; i <= LINES; i++) {
    g.strokeStyle = i === 0 ? colours.sand : colours.lichen;
    g.globalAlpha = i === 0 ? 0.95 : 0.4;
    const end = (/** @type {number[]} */ a, /** @type {number[]} */ b, /** @type {number} */ k) =>
      add(origin, add(scale(a, i * length), scale(b, k * LINES * length)));
    line3(g, viewport, end(right, ahead, -1), end(right, ahead, 1));
    line3(g, viewport, end(ahead, right, -1), end(ahead, right, 1));
  }
  g.globalAlpha = 1;
  paintUpright(g, viewport, origin, scale(normal, length), `${step} m`);
}

/**
 * How far a grid must reach to be seen: to its origin, or, where that lies under the camera, to the ground in the lower
 * part of the picture.
 * @param {import("../state/model.js").Model} model @param {any} camera @param {number[]} origin @param {number[]} normal
 */
function reachOf({ cameras }, camera, origin, normal) {
  // One camera for all frames, so that the grid keeps its step while the clip plays.
  const middle = cameras[cameras.length >> 1] ?? camera,
    [x, y] = middle.c,
    seen = meetPlane(ray(middle, x, LOW * 2 * y), origin, normal);
  const far = (/** @type {any} */ of, /** @type {number[]} */ p) => Math.hypot(...sub(p, centre(of)));
  return Math.max(far(camera, origin), seen ? Math.min(far(middle, seen), MOST_HEIGHTS * far(middle, origin)) : 0);
}

/** @param {CanvasRenderingContext2D} g @param {Viewport} viewport @param {number[]} at @param {number[]} up @param {string} text */
function paintUpright(g, viewport, at, up, text) {
  const foot = viewport.worldToStage(at),
    top = viewport.worldToStage(add(at, up));
  if (!foot || !top) return;
  g.strokeStyle = colours.bone;
  g.lineWidth = 1;
  g.beginPath();
  g.moveTo(foot[0], foot[1]);
  g.lineTo(top[0], top[1]);
  g.stroke();
  label(g, text, [top[0] + 5, top[1]], FONT);
}

/** Text with an edge of the other tone. @param {CanvasRenderingContext2D} g @param {string} text @param {number[]} at @param {string} font */
export function label(g, text, [x, y], font) {
  g.font = font;
  g.lineWidth = 3;
  g.strokeStyle = colours.stone;
  g.strokeText(text, x, y);
  g.fillStyle = colours.bone;
  g.fillText(text, x, y);
  g.lineWidth = 1;
}

/**
 * The surfaces, the chosen one marked.
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport
 */
export function paintSurfaces(g, viewport) {
  const { model } = viewport,
    { floor } = model.state;
  if (floor?.outline.length > 2) paintOutline(g, viewport, floor.outline, colours.lichen, "floor");
  paintLeftOut(g, viewport, floor?.left_out ?? []);
  for (const s of model.shownSurfaces()) paintLeftOut(g, viewport, s.reading?.left_out ?? []);
  for (const s of model.shownSurfaces())
    paintOutline(g, viewport, s.outline, s.id === model.chosenOf("surface") ? colours.sand : colours.lichen, s.name);
}

/**
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport @param {number[][]} outline @param {string} colour
 * @param {string} name
 */
function paintOutline(g, viewport, outline, colour, name) {
  g.strokeStyle = colour;
  g.lineWidth = 1.5;
  outline.forEach((p, i) => line3(g, viewport, p, outline[(i + 1) % outline.length]));
  g.lineWidth = 1;
  const at = viewport.worldToStage(middleOf(outline));
  if (at) label(g, name, [at[0] - 3 * name.length, at[1]], NAME_FONT);
}

/**
 * Strokes twice: broadly in the dark tone, then the core over it, so that it is seen on any plate.
 * @param {CanvasRenderingContext2D} g @param {[number, number]} widths px @param {(core: boolean) => void} stroke
 */
function edged(g, widths, stroke) {
  for (const core of [false, true]) {
    g.lineWidth = widths[Number(core)];
    g.strokeStyle = core ? colours.sand : colours.stone;
    stroke(core);
  }
}

/**
 * Points that were chosen for a plane and lie off it: crossed out.
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport @param {number[]} ids
 */
function paintLeftOut(g, viewport, ids) {
  if (!ids.length) return;
  const wanted = new Set(ids);
  g.beginPath();
  for (const p of viewport.model.points) {
    const at = wanted.has(p.id) && viewport.worldToStage(p.x);
    if (!at) continue;
    for (const k of [-1, 1]) {
      g.moveTo(at[0] - CROSS_PX, at[1] - k * CROSS_PX);
      g.lineTo(at[0] + CROSS_PX, at[1] + k * CROSS_PX);
    }
  }
  edged(g, [4, 2], () => g.stroke());
  g.lineWidth = 1;
}

/** What a drawn line runs along, as its dashes. @type {Record<string, number[]>} */
const DASHES = { upright: [], heading: [8, 3], horizon: [2, 3] };

/**
 * Lines drawn over this frame.
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport
 */
export function paintLines(g, viewport) {
  const { model } = viewport;
  for (const { role, frame, from, to, at_edge } of model.state.lines) {
    if (frame !== model.frame) continue;
    paintDrawn(g, viewport.toStage(from), viewport.toStage(to), { role, at_edge });
  }
}

/**
 * A line with its ends: square as it was drawn, round where it lies on an edge of the picture.
 * @param {CanvasRenderingContext2D} g @param {number[]} a @param {number[]} b
 * @param {{role: string, at_edge?: boolean}} line
 */
export function paintDrawn(g, a, b, { role, at_edge = false }) {
  edged(g, [3, 1], (core) => {
    g.setLineDash(core ? DASHES[role] : []);
    g.beginPath();
    g.moveTo(a[0], a[1]);
    g.lineTo(b[0], b[1]);
    g.stroke();
  });
  g.setLineDash([]);
  g.fillStyle = colours.sand;
  g.beginPath();
  for (const [x, y] of [a, b])
    if (at_edge) (g.moveTo(x + 3.5, y), g.arc(x, y, 3.5, 0, 2 * Math.PI));
    else g.rect(x - 2.5, y - 2.5, 5, 5);
  g.fill();
}

/**
 * A rod that stands on the floor, with a mark at each quarter.
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport @param {{foot: number[], height: number}} rod
 */
export function paintRod(g, viewport, { foot, height }) {
  const top = add(foot, [0, height, 0]);
  edged(g, [4, 2], () => line3(g, viewport, foot, top));
  g.fillStyle = colours.bone;
  for (let i = 0; i <= 4; i++) {
    const at = viewport.worldToStage(add(foot, [0, (height * i) / 4, 0]));
    if (at) g.fillRect(at[0] - 4, at[1] - 0.5, 8, 1);
  }
  const at = viewport.worldToStage(top);
  if (at) label(g, `${Number(height.toFixed(3))} m`, [at[0] + 7, at[1] + 3], FONT);
}

/**
 * A straight line of the world.
 * @param {CanvasRenderingContext2D} g @param {Viewport} viewport @param {number[]} a @param {number[]} b
 */
export function line3(g, viewport, a, b) {
  const way = sub(b, a);
  g.beginPath();
  let open = false;
  for (let i = 0; i <= PIECES; i++) {
    const p = viewport.worldToStage(add(a, scale(way, i / PIECES)));
    if (!p || Math.abs(p[0]) > FAR_PX || Math.abs(p[1]) > FAR_PX) {
      open = false;
      continue;
    }
    if (open) g.lineTo(p[0], p[1]);
    else g.moveTo(p[0], p[1]);
    open = true;
  }
  g.stroke();
}

/** 1, 2 or 5 times a power of ten. @param {number} v */
export function niceStep(v) {
  const power = 10 ** Math.floor(Math.log10(Math.max(v, 1e-6)));
  const n = v / power;
  return Number(((n < 1.5 ? 1 : n < 3.5 ? 2 : n < 7.5 ? 5 : 10) * power).toPrecision(3));
}
