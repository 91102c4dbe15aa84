// @ts-check
/** The lanes: each measures something over the frames and says its scale. */
import { NUMBER, PLACE, ROTATION, keysOf, valueAt } from "../math/curve.js";
import { keyedFrames, tracksOf } from "../math/placement.js";
import { toAxis } from "../math/rotation.js";
import { colours as c } from "../viewport/colours.js";
import { ramp } from "../viewport/ramp.js";

/**
 * What a lane is drawn with: where it begins and how high it is, where frames are, and the breadth of one, px.
 * @typedef {{g: CanvasRenderingContext2D, top: number, height: number, x: (frame: number) => number, cell: number,
 * model: import("../state/model.js").Model, counts: Uint32Array, ready: (frame: number) => boolean,
 * grips?: (thing: any, y: number, spanned: number[]|null, keys: number[]) => void}} Room
 *
 * @typedef {object} Lane
 * @property {string} name
 * @property {number} weight how much of the height it takes, beside the others; 0 for one of a fixed height
 * @property {(room: Omit<Room, "g"|"top"|"height"|"x"|"cell">) => number} [px] its height where that is fixed
 * @property {(room: Room) => string} paint draws it and tells its scale
 */

/** Least error that the lane of errors spans, px. */
const LEAST_ERROR_PX = 0.2;
/** Lines of spans that are shown at most. */
const MOST_SPANS = 3;
const SPAN_PX = 8;

/** Error of each frame as an area; how firmly frames are held, and a compared solve, as lines. @type {Lane} */
const error = {
  name: "error",
  weight: 55,
  paint({ g, top, height, x, cell, model }) {
    const solved = /** @type {import("../math/camera.js").Camera[]} */ (model.cameras.filter(Boolean));
    const other = model.comparison?.frames ?? [];
    const most = Math.max(LEAST_ERROR_PX, ...solved.map((k) => k.rms), ...other.map((k) => k.rms)) * 1.1;
    const y = (/** @type {number} */ v) => top + height - Math.min(v / most, 1) * height;
    for (const k of solved) {
      g.fillStyle = ramp(k.rms / (model.state.width / 1280));
      g.fillRect(x(k.frame) - cell / 2, y(k.rms), cell + 0.4, top + height - y(k.rms));
    }
    // What the adjustment leaves open.
    if (solved.some((k) => k.slip > 0))
      line(
        g,
        solved.map((k) => ({ frame: k.frame, v: k.slip })),
        x,
        y,
        c.lichen,
      );
    line(
      g,
      other.map((k) => ({ frame: k.frame, v: k.rms })),
      x,
      y,
      c.bone,
    );
    return solved.length ? `${(most / 1.1).toFixed(2)} px` : "";
  },
};

/** Number of tracks, as a band. @type {Lane} */
const tracks = {
  name: "tracks",
  weight: 40,
  paint({ g, top, height, x, cell, model, counts }) {
    const most = Math.max(1, ...counts);
    g.fillStyle = c.lichen;
    g.globalAlpha = 0.5;
    counts.forEach((v, f) => {
      const high = (v / most) * height;
      g.fillRect(x(f) - cell / 2, top + height - high, cell + 0.4, high);
    });
    g.globalAlpha = 1;
    return model.tracks.length ? String(most) : "";
  },
};

/**
 * A lane of things with spans as lines and keys as rhombs.
 * @param {"mask"|"insert"|"holdout"} kind
 * @param {(thing: any, all: [number, number]) => {spanned: number[]|null, keys: number[]}} of
 * @returns {Lane}
 */
function spans(kind, of) {
  const name = `${kind}s`;
  return {
    name,
    weight: 0,
    px: ({ model }) => spansPx(model.state[name].length),
    paint(room) {
      const { model } = room;
      const id = model.chosenOf(kind),
        all = model.state[name].map((/** @type {any} */ t) => withShape(t, model.state.masks));
      // The chosen one is always among those that are shown.
      const chosen = all.filter((/** @type {any} */ t) => t.id === id),
        others = all.filter((/** @type {any} */ t) => t.id !== id).slice(-(MOST_SPANS - chosen.length));
      [...chosen, ...others].forEach((/** @type {any} */ thing, /** @type {number} */ i) => {
        const { spanned, keys } = of(thing, [0, model.state.frames - 1]);
        span(room, i, spanned, keys, thing.id === id);
        if (thing.id === id && kind === "insert") room.grips?.(thing, room.top + 4 + SPAN_PX * i, spanned, keys);
      });
      return "";
    },
  };
}

/** A holdout with the keys of the shape that it is told by. @param {any} thing @param {any[]} masks */
const withShape = (thing, masks) =>
  thing.mask === undefined ? thing : { ...thing, shape: masks.find((m) => m.id === thing.mask)?.keys };

const masks = spans("mask", (mask, all) => ({
  spanned: mask.span ?? all,
  keys: mask.keys.map((/** @type {any} */ k) => k.frame),
}));

/** Those that are hidden have no span. */
const inserts = spans("insert", (insert, all) => ({
  spanned: insert.hidden ? null : [insert.span?.first ?? all[0], insert.span?.last ?? all[1]],
  keys: keyedFrames(insert),
}));

/** What stands in front: its span, and the keys of its shape, or of how much of it counts. */
const holdouts = spans("holdout", (holdout, all) => ({
  spanned: holdout.hidden ? null : (holdout.span ?? all),
  keys: [...new Set([...shapeKeys(holdout), ...frames(holdout.strength)])],
}));

/** @param {any} holdout @returns {number[]} */
const shapeKeys = (holdout) => (holdout.shape ?? []).map((/** @type {any} */ k) => k.frame);

/** Frames of the keys of a value. @param {any} track @returns {number[]} */
const frames = (track) => keysOf(track).map((k) => k.frame);

/**
 * Values over time of what stands nowhere, each on a line of its own.
 * @param {string} name
 * @param {(state: any) => any[]} of what holds them
 * @returns {Lane}
 */
function keysOfAll(name, of) {
  const keyed = (/** @type {any} */ state) =>
    of(state)
      .flatMap((holder) => Object.entries(holder ?? {}))
      .filter(([, track]) => track?.keys?.length);
  return {
    name,
    weight: 0,
    px: ({ model }) => spansPx(keyed(model.state).length),
    paint(room) {
      const all = keyed(room.model.state);
      all.slice(0, MOST_SPANS).forEach(([, track], i) => span(room, i, null, frames(track), false));
      const [first] = all;
      return first
        ? first[0].replace(/_deg$/, "").replaceAll("_", " ") + (all.length > 1 ? ` +${all.length - 1}` : "")
        : "";
    },
  };
}

const lightKeys = keysOfAll("keys", ({ light }) => [
  light,
  light.surroundings?.numbers,
  ...(light.catchers ?? []).flatMap((/** @type {any} */ c) => [c.numbers, { tint: c.tint }]),
]);
const lensKeys = keysOfAll("keys", ({ lens }) => [lens.numbers, { haze: lens.haze_colour }]);
const finishKeys = keysOfAll("keys", ({ finish }) => [finish.numbers]);

/** The value of the chosen insert whose curve is shown: its track, and what it is of. @param {import("../state/model.js").Model} model */
function curveShown(model) {
  const insert = model.insert(model.chosenOf("insert"));
  if (!insert) return null;
  const wanted = { x: "place", y: "place", z: "place", lean: "turn" }[model.curveOf] ?? model.curveOf;
  const tracks = tracksOf(insert).filter(([, v]) => keysOf(v).length > 1);
  return tracks.find(([name]) => name === wanted) ?? (model.curveOf ? null : (tracks[0] ?? null));
}

/** Numbers of a value of a track at a frame. @param {string} name @param {any} track @param {number} frame */
function numbersAt(name, track, frame) {
  if (name === "turn") return toAxis(valueAt(ROTATION, track, frame)).map((v) => (v * 180) / Math.PI);
  const many = Array.isArray(keysOf(track)[0]?.value);
  return many ? valueAt(PLACE, track, frame) : [valueAt(NUMBER, track, frame)];
}

/** The curve of a value of the chosen insert over time. @type {Lane} */
const curve = {
  name: "curve",
  weight: 0,
  px: ({ model }) => (curveShown(model) ? 40 : 0),
  paint({ g, top, height, x, model }) {
    const shown = curveShown(model);
    if (!shown) return "";
    const [name, track] = shown;
    const frames = [...Array(model.state.frames).keys()],
      values = frames.map((f) => numbersAt(name, track, f)),
      all = values.flat(),
      [low, high] = [Math.min(...all), Math.max(...all)];
    const y = (/** @type {number} */ v) => top + 3 + (1 - (v - low) / Math.max(high - low, 1e-9)) * (height - 6);
    values[0].forEach((/** @type {number} */ _, /** @type {number} */ k) => {
      const list = frames.map((frame) => ({ frame, v: values[frame][k] }));
      line(g, list, x, y, [c.sand, c.lichen, c.bone][k]);
    });
    for (const { frame } of keysOf(track)) {
      if (frame < 0 || frame >= model.state.frames) continue;
      g.fillStyle = c.sand;
      for (const v of numbersAt(name, track, frame)) g.fillRect(x(frame) - 2, y(v) - 2, 4, 4);
    }
    return `${name} ${low.toFixed(2)}…${high.toFixed(2)}`;
  },
};

/** Frames that are ready to play. @type {Lane} */
const ready = {
  name: "ready",
  weight: 0,
  px: () => 14,
  paint({ g, top, height, x, cell, model, ready: is }) {
    g.fillStyle = c.sand;
    let n = 0;
    for (let f = 0; f < model.state.frames; f++)
      if (is(f)) {
        n++;
        g.fillRect(x(f) - cell / 2, top + height - 4, cell + 0.4, 4);
      }
    return `${n}`;
  },
};

/** Which lanes stand at which station. @type {Record<string, Lane[]>} */
const AT_STATION = {
  footage: [ready],
  track: [tracks, masks, ready],
  solve: [error, tracks, ready],
  datum: [error, ready],
  inserts: [error, inserts, curve, ready],
  light: [inserts, lightKeys, ready],
  holdouts: [holdouts, inserts, ready],
  match: [inserts, lensKeys, ready],
  finish: [finishKeys, ready],
  deliver: [inserts, ready],
};
const NO_STATION = [error, tracks, masks, inserts, ready];

/** @param {string|null} station */
export const lanesAt = (station) => AT_STATION[station ?? ""] ?? NO_STATION;

/** @param {number} count */
const spansPx = (count) => (count ? SPAN_PX * Math.min(count, MOST_SPANS) + 4 : 0);

/**
 * A line through values of frames, broken where one is missing.
 * @param {CanvasRenderingContext2D} g @param {{frame: number, v: number}[]} list
 * @param {(frame: number) => number} x @param {(v: number) => number} y @param {string} colour
 */
function line(g, list, x, y, colour) {
  g.strokeStyle = colour;
  g.lineWidth = 1;
  g.beginPath();
  list.forEach((k, i) => {
    if (i && k.frame === list[i - 1].frame + 1) g.lineTo(x(k.frame), y(k.v));
    else g.moveTo(x(k.frame), y(k.v));
  });
  g.stroke();
}

/**
 * A span as a line, keys as rhombs on it.
 * @param {Room} room @param {number} i @param {number[]|null} spanned @param {number[]} keys @param {boolean} chosen
 */
function span({ g, top, x, cell, model }, i, spanned, keys, chosen) {
  const y = top + 4 + SPAN_PX * i,
    end = model.state.frames - 1;
  g.strokeStyle = g.fillStyle = chosen ? c.sand : c.bone;
  g.globalAlpha = chosen ? 1 : 0.6;
  if (spanned) {
    g.beginPath();
    g.moveTo(x(Math.min(spanned[0], end)) - cell / 2, y);
    g.lineTo(x(Math.min(spanned[1], end)) + cell / 2, y);
    g.stroke();
  }
  for (const frame of keys.filter((f) => f >= 0 && f <= end)) {
    g.beginPath();
    g.moveTo(x(frame), y - 3.5);
    g.lineTo(x(frame) + 3.5, y);
    g.lineTo(x(frame), y + 3.5);
    g.lineTo(x(frame) - 3.5, y);
    g.fill();
  }
  g.globalAlpha = 1;
}
