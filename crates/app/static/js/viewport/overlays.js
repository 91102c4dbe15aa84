// @ts-check
/** What is drawn over the plate: tracks, the tile. */
import { across, add, centre, scale } from "../math/camera.js";
import { hullOf } from "../math/hull.js";
import { colours } from "./colours.js";
import { isDark, ramp } from "./ramp.js";
import { trackAt } from "../math/tracks.js";

const TAIL = 8;

/** @param {CanvasRenderingContext2D} g @param {import("./viewport.js").Viewport} viewport */
export function paintTracks(g, viewport) {
  const { model } = viewport;
  const bad = model.state.width / 1280;
  // Small views get small marks, or they would hide the picture.
  const size = Math.min(Math.max(4.1 * Math.sqrt(viewport.view.scale), 2), 4.5);
  for (const track of model.tracks) {
    const gone = model.deleted.has(track.id);
    if (gone && !model.showDeleted) continue;
    const here = trackAt(track, model.frame);
    if (!here) continue;
    const [x, y] = viewport.toStage(here);
    if (gone) {
      paintDeleted(g, x, y, size, model.selected.has(track.id));
      continue;
    }
    const rms = model.rmsOf.get(track.id);
    const outlier = model.outliers.get(track.id)?.reason ?? null;
    const off = model.cameras.length > 0 && rms === undefined;
    const picked = model.selected.has(track.id);
    const share = rms === undefined ? 0.5 : rms / bad;
    // An edge of the other tone keeps a mark readable on a plate of its own.
    g.globalAlpha = off && !picked ? 0.4 : 0.6;
    g.lineWidth = size < 3 ? 2 : 3;
    g.strokeStyle = !off && !picked && isDark(share) ? colours.bone : colours.stone;
    mark(g, x, y, picked ? 1.4 * size : size, outlier);
    g.stroke();
    g.lineWidth = 1;
    g.strokeStyle = picked
      ? colours.sand
      : off
        ? outlier === "far"
          ? colours.lichen
          : outlier === "short"
            ? colours.dust
            : colours.brick
        : ramp(share);
    const strength = off && !picked ? 0.7 : 1;
    g.globalAlpha = 0.85 * strength;
    g.beginPath();
    g.moveTo(x, y);
    for (let k = 1; k <= TAIL; k++) {
      const past = trackAt(track, model.frame - k);
      if (!past) break;
      const [px, py] = viewport.toStage(past);
      g.lineTo(px, py);
    }
    g.stroke();
    g.globalAlpha = strength;
    mark(g, x, y, picked ? 1.4 * size : size, outlier);
    if (picked) {
      g.fillStyle = colours.sand;
      g.fill();
    } else g.stroke();
  }
  g.globalAlpha = 1;
}

/**
 * A track that was deleted: struck out, without a tail.
 * @param {CanvasRenderingContext2D} g
 * @param {number} x
 * @param {number} y
 * @param {number} size
 * @param {boolean} picked
 */
function paintDeleted(g, x, y, size, picked) {
  g.globalAlpha = picked ? 1 : 0.75;
  for (const [width, colour] of /** @type {[number, string][]} */ ([
    [3, colours.stone],
    [1, picked ? colours.sand : colours.dust],
  ])) {
    g.lineWidth = width;
    g.strokeStyle = colour;
    g.beginPath();
    g.moveTo(x - 1.5 * size, y);
    g.lineTo(x + 1.5 * size, y);
    g.stroke();
  }
}

/**
 * Where points would land, instead of the tracks.
 * @param {CanvasRenderingContext2D} g
 * @param {import("./viewport.js").Viewport} viewport
 * @param {number[][]} points
 */
export function paintLook(g, viewport, points) {
  for (const [width, colour] of /** @type {[number, string][]} */ ([
    [3, colours.stone],
    [1, colours.lichen],
  ])) {
    g.lineWidth = width;
    g.strokeStyle = colour;
    for (const p of points) {
      const [x, y] = viewport.toStage(p);
      rhomb(g, x, y, 3.5);
      g.stroke();
    }
  }
}

/**
 * The square on the surface under the pointer.
 * @param {CanvasRenderingContext2D} g
 * @param {import("./viewport.js").Viewport} viewport
 */
export function paintTile(g, viewport) {
  const { point, normal, outline = [] } = viewport.model.surface;
  const camera = viewport.model.camera();
  if (!camera) return;
  const [u, v] = across(normal);
  const size = 0.035 * Math.hypot(...centre(camera).map((c, i) => c - point[i]));
  const corners = [
    [-1, -1],
    [1, -1],
    [1, 1],
    [-1, 1],
  ].map(([a, b]) => viewport.worldToStage(add(point, add(scale(u, a * size), scale(v, b * size)))));
  const seen = corners.filter((c) => c !== null);
  if (seen.length < corners.length) return;
  g.beginPath();
  seen.forEach((c, i) => (i ? g.lineTo(c[0], c[1]) : g.moveTo(c[0], c[1])));
  g.closePath();
  g.fillStyle = "rgb(157 181 154 / .45)";
  g.strokeStyle = colours.bone;
  g.lineWidth = 1;
  g.fill();
  g.stroke();
  const foot = viewport.worldToStage(point),
    top = viewport.worldToStage(add(point, scale(normal, size)));
  if (foot && top) {
    g.beginPath();
    g.moveTo(foot[0], foot[1]);
    g.lineTo(top[0], top[1]);
    g.stroke();
  }
  // The thing itself, at its true size.
  const shape = outline.map((/** @type {number[]} */ p) => viewport.worldToStage(p));
  if (shape.length < 3 || shape.some((/** @type {any} */ p) => !p)) return;
  g.strokeStyle = colours.sand;
  g.beginPath();
  hullOf(shape).forEach((c, i) => (i ? g.lineTo(c[0], c[1]) : g.moveTo(c[0], c[1])));
  g.closePath();
  g.stroke();
}

/**
 * The mark of a track; what does not follow the camera has another shape for each reason.
 * @param {CanvasRenderingContext2D} g
 * @param {number} x
 * @param {number} y
 * @param {number} r
 * @param {string|null} why
 */
function mark(g, x, y, r, why) {
  g.beginPath();
  if (why === "independent-motion") {
    g.moveTo(x - r, y + r);
    g.lineTo(x, y - r);
    g.lineTo(x + r, y + r);
  } else if (why === "image-static") g.rect(x - 0.8 * r, y - 0.8 * r, 1.6 * r, 1.6 * r);
  else if (why === "partial-inlier") {
    g.moveTo(x, y - r);
    g.lineTo(x + r, y);
    g.lineTo(x, y + r);
  } else {
    rhomb(g, x, y, why === "far" ? 0.7 * r : r);
    return;
  }
  g.closePath();
}

/** @param {CanvasRenderingContext2D} g @param {number} x @param {number} y @param {number} r */
function rhomb(g, x, y, r) {
  g.beginPath();
  g.moveTo(x, y - r);
  g.lineTo(x + r, y);
  g.lineTo(x, y + r);
  g.lineTo(x - r, y);
  g.closePath();
}
