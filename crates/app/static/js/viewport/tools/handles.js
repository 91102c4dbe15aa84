// @ts-check
/**
 * Handles of the chosen insert: move in its surface, turn, lift, scale; drafts while they move. What is moved comes to
 * rest by itself on edges, in line with other things and at straight angles; Shift frees it.
 */
import { add, centre, cross, dot, scale, sub, unit } from "../../math/camera.js";
import { NUMBER, PLACE, ROTATION, valueAt, withValue } from "../../math/curve.js";
import { isFar } from "../../math/far.js";
import { pointOf, standsAt, stepWithin, wayOf, worldOf } from "../../math/family.js";
import { holds, hullOf } from "../../math/hull.js";
import { lampLines } from "../../math/lamp.js";
import { placeAt, surfaceAxes } from "../../math/placement.js";
import { fromAxis, times, turned } from "../../math/rotation.js";
import { rest, settle, straighten } from "../../math/snap.js";
import { colours } from "../colours.js";
import { label } from "../ground.js";
import { marksInserts } from "../shown.js";
import { FarHandles } from "./far.js";
import { GRAB_PX } from "./grab.js";
import { WayHandles } from "./way.js";
import { note, refusal } from "../../notes.js";

/** Length of a handle: px of the picture, and of a view from outside, which is smaller. */
const HANDLE_PX = 99,
  OUTSIDE_PX = 60;
/** A draft that took longer is followed by smaller ones, and a small one that took less by whole ones. */
const SLOW_MS = 90,
  QUICK_MS = 22;
/** Where the handle of an axis that points at the viewer is put, px from the foot. */
const END_ON_PX = 48;
/** Edge-on, how far a pull of one px turns, radians, and over how many px a thing grows by e. */
const TURN_A_PX = Math.PI / 360,
  GROWS_BY_E_PX = 150;
/** A surface seen flatter than this (sine of the angle) gives no depth to the pointer. */
const EDGE_ON = 0.08;

export class Handles {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
    this.far = new FarHandles(viewport);
    this.way = new WayHandles(this);
    this.asking = false;
    /** Whether drafts are asked for half as wide and high. */ this.half = false;
    /** Lines that say why a thing came to rest. @type {number[][][]} */
    this.marks = [];
  }

  inserts() {
    const all = this.viewport.model.state?.inserts ?? [];
    const { moving } = this.viewport.model;
    return moving ? all.map((/** @type {any} */ i) => (i.id === moving.id ? moving : i)) : all;
  }

  /** Those that are marked here: all where things are placed, else the chosen one. */
  marked() {
    const { model } = this.viewport,
      all = marksInserts(model);
    // What is far off is chosen in the list: it may be all over the picture.
    const there = (/** @type {any} */ i) => all && !isFar(i);
    return this.inserts().filter((/** @type {any} */ i) => there(i) || i.id === model.chosenOf("insert"));
  }

  /**
   * How long handles are in the world: of a constant size on the screen, so that they can be grabbed at any distance.
   * @param {number[]} foot @param {any} camera
   */
  reach(foot, camera) {
    const outside = this.viewport.through() ? null : this.viewport.scene.frame;
    if (outside) return OUTSIDE_PX / (outside.size * this.viewport.scene.zoom);
    return camera ? (HANDLE_PX * Math.hypot(...sub(centre(camera), foot))) / camera.f : 1;
  }

  /** Where it is in the world: its corners, and where its way leads. @param {any} insert @returns {number[][]} */
  takesUp(insert) {
    const { model } = this.viewport,
      camera = model.camera(),
      stands = standsAt(this.inserts(), insert, model.frame, camera && centre(camera)),
      shape = model.shapes.get(insert.id) ?? [];
    const { foot, lift } = this.places(insert),
      way = this.way.frames(insert).map((f) => this.way.footAt(insert, f));
    return [foot, ...(shape.length ? [] : [lift]), ...shape.map((p) => pointOf(stands, p)), ...way];
  }

  /** Where the handles of an insert are in the world. @param {any} insert */
  places(insert) {
    const { model } = this.viewport,
      camera = model.camera();
    const world = worldOf(this.inserts(), insert, model.frame),
      own = placeAt(insert.placement, model.frame);
    const foot = pointOf(world, own.foot),
      n = wayOf(world, own.normal),
      baseline = wayOf(world, own.baseline);
    const reach = this.reach(foot, camera);
    // Turned in the surface, whatever it leans.
    const right = unit(sub(baseline, scale(n, dot(baseline, n)))),
      ahead = cross(right, n);
    return {
      world,
      n,
      foot,
      reach,
      ahead,
      right,
      turn: add(foot, scale(ahead, reach)),
      size: add(foot, scale(right, reach)),
      lift: add(foot, scale(n, 1.25 * reach)),
    };
  }

  /** Where its handles are on the view. @param {any} insert @returns {Record<string, number[]>} */
  spotsOf(insert) {
    return isFar(insert) ? this.far.spots(insert) : this.spots(this.places(insert));
  }

  /**
   * Where the handles of an insert are on the viewport. An axis that points at the viewer has no length there; its
   * handle stands above the foot then, so that it can still be grabbed.
   * @param {any} places @returns {Record<string, number[]>}
   */
  spots(places) {
    const { viewport } = this,
      foot = viewport.worldToStage(places.foot);
    if (!foot) return {};
    const spots = /** @type {Record<string, number[]>} */ ({ foot });
    for (const [name, aside] of /** @type {[string, number[]][]} */ ([
      ["turn", [-END_ON_PX, 0]],
      ["size", [END_ON_PX, 0]],
      ["lift", [0, -END_ON_PX]],
    ])) {
      const p = viewport.worldToStage(places[name]);
      if (p)
        spots[name] =
          Math.hypot(p[0] - foot[0], p[1] - foot[1]) < 2 * GRAB_PX ? [foot[0] + aside[0], foot[1] + aside[1]] : p;
    }
    return spots;
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { viewport } = this;
    if (!viewport.model.camera()) return;
    const { sand, bone } = colours;
    this.paintMarks(g);
    for (const insert of this.marked()) {
      const chosen = insert.id === viewport.model.chosenOf("insert");
      const at = this.spotsOf(insert),
        { foot } = at;
      if (insert.content.kind === "lamp") this.paintLamp(g, insert, chosen);
      if (chosen) {
        this.way.paint(g, insert);
        const outline = this.outline(insert);
        g.strokeStyle = sand;
        g.globalAlpha = 0.7;
        g.beginPath();
        outline.forEach((p, i) => (i ? g.lineTo(p[0], p[1]) : g.moveTo(p[0], p[1])));
        if (outline.length) g.closePath();
        g.stroke();
        g.globalAlpha = 1;
      }
      if (!foot) continue;
      if (chosen && !insert.locked) {
        for (const name of /** @type {const} */ (["turn", "size", "lift"])) {
          const p = at[name];
          if (!p) continue;
          // Seen on what is as light as itself as well.
          for (const [tone, width] of /** @type {const} */ ([
            [colours.stone, 3],
            [bone, 1],
          ])) {
            g.strokeStyle = tone;
            g.lineWidth = width;
            g.beginPath();
            g.moveTo(foot[0], foot[1]);
            g.lineTo(p[0], p[1]);
            g.stroke();
          }
          g.fillStyle = colours.stone;
          g.beginPath();
          if (name === "turn") g.arc(p[0], p[1], 5, 0, 7);
          else g.rect(p[0] - 4, p[1] - 4, 8, 8);
          g.fill();
          g.stroke();
          label(g, name, [p[0] + 8, p[1] + 4], "11px Barlow Semi Condensed, sans-serif");
        }
      }
      g.beginPath();
      g.moveTo(foot[0], foot[1] - 9);
      g.lineTo(foot[0] + 7, foot[1] + 4);
      g.lineTo(foot[0] - 7, foot[1] + 4);
      g.closePath();
      g.strokeStyle = sand;
      g.fillStyle = chosen ? sand : "rgb(24 22 20 / .6)";
      g.fill();
      g.stroke();
    }
  }

  /** How a lamp shines. @param {CanvasRenderingContext2D} g @param {any} insert @param {boolean} chosen */
  paintLamp(g, insert, chosen) {
    const { model } = this.viewport,
      camera = model.camera(),
      stands = standsAt(this.inserts(), insert, model.frame, camera && centre(camera));
    for (const line of lampLines(insert.content, insert.tracks, model.frame, stands)) {
      const seen = line.map((p) => this.viewport.worldToStage(p));
      // Dark beneath, so that it is seen on a bright plate as well.
      for (const [tone, width] of /** @type {const} */ ([
        [colours.stone, 3],
        [chosen ? colours.sand : colours.bone, 1],
      ])) {
        g.strokeStyle = tone;
        g.lineWidth = width;
        g.globalAlpha = chosen ? 0.9 : 0.5;
        g.beginPath();
        seen.forEach((p, i) => {
          if (!p) return;
          if (i && seen[i - 1]) g.lineTo(p[0], p[1]);
          else g.moveTo(p[0], p[1]);
        });
        g.stroke();
      }
    }
    g.globalAlpha = 1;
    g.lineWidth = 1;
  }

  /** @param {CanvasRenderingContext2D} g */
  paintMarks(g) {
    g.strokeStyle = colours.lichen;
    g.lineWidth = 1;
    for (const line of this.marks) {
      const [a, b] = line.map((p) => this.viewport.worldToStage(p));
      if (!a || !b) continue;
      g.beginPath();
      g.moveTo(a[0], a[1]);
      g.lineTo(b[0], b[1]);
      g.stroke();
    }
  }

  /** @param {number[]} at */
  over(at) {
    const { viewport } = this;
    if (!viewport.model.camera()) return null;
    for (const insert of this.marked()) {
      const spots = this.spotsOf(insert);
      const names = insert.id === viewport.model.chosenOf("insert") ? ["turn", "size", "lift", "foot"] : ["foot"];
      for (const name of names) {
        const p = spots[name];
        if (p && Math.hypot(p[0] - at[0], p[1] - at[1]) < GRAB_PX) return { insert, name, places: this.places(insert) };
      }
    }
    // The thing itself is as good as its foot: the chosen one first, then the one that is in front.
    const body = this.bodyAt(at);
    return body && { insert: body, name: "foot", places: this.places(body) };
  }

  /** The outline of what an insert takes up, px of the view. @param {any} insert @returns {number[][]} */
  outline(insert) {
    if (isFar(insert)) return this.far.outline(insert);
    const { viewport } = this,
      { model } = viewport,
      camera = model.camera(),
      shape = model.shapes.get(insert.id) ?? [];
    const stands = standsAt(this.inserts(), insert, model.frame, camera && centre(camera));
    const seen = shape.map((p) => viewport.worldToStage(pointOf(stands, p)));
    // What reaches behind the camera has no outline.
    return seen.length > 2 && seen.every((p) => p) ? hullOf(/** @type {number[][]} */ (seen)) : [];
  }

  /** The thing under the pointer. @param {number[]} at @returns {any} */
  bodyAt(at) {
    const { viewport } = this,
      { model } = viewport,
      camera = model.camera();
    if (!camera || !marksInserts(model)) return null;
    /** @type {any[]} */ const all = this.inserts();
    const under = all.filter((i) => !i.hidden && holds(this.outline(i), at));
    const far = (/** @type {any} */ i) => Math.hypot(...sub(centre(camera), this.places(i).foot));
    const chosen = under.find((i) => i.id === model.chosenOf("insert")),
      near = under.filter((i) => !isFar(i));
    return chosen ?? near.sort((a, b) => far(a) - far(b))[0] ?? null;
  }

  /**
   * Moves the chosen thing in its surface by px of the picture.
   * @param {number} dx @param {number} dy
   */
  nudge(dx, dy) {
    const { viewport } = this,
      { model } = viewport,
      insert = model.insert(model.chosenOf("insert"));
    if (!insert || insert.locked) return;
    const s = viewport.through() ? viewport.view.scale : 1,
      next = isFar(insert) ? this.farMoved(insert, dx * s, dy * s) : this.moved(insert, dx * s, dy * s);
    if (next) model.edit({ edit: "change-insert", insert: next }).catch(() => {});
  }

  /** A far picture turned by px of the view. @param {any} insert @param {number} dx @param {number} dy */
  farMoved(insert, dx, dy) {
    const { foot } = this.far.spots(insert);
    return foot && this.far.dragged(insert, "foot", foot, [foot[0] + dx, foot[1] + dy]);
  }

  /** A thing moved in its surface by px of the view. @param {any} insert @param {number} dx @param {number} dy */
  moved(insert, dx, dy) {
    const { viewport } = this,
      places = this.places(insert),
      at = viewport.worldToStage(places.foot);
    if (!at) return null;
    const hit = viewport.onPlane([at[0] + dx, at[1] + dy], places.foot, places.n),
      from = viewport.onPlane(at, places.foot, places.n);
    if (!hit || !from) return null;
    const next = structuredClone(insert);
    this.set(next.placement, "foot", stepWithin(places.world, sub(hit, from)));
    return next;
  }

  /** Begins a drag if a handle is there. @param {number[]} at */
  down(at) {
    const key = this.way.keyAt(at);
    if (key) {
      this.way.pull(key, at);
      return true;
    }
    const grabbed = this.over(at);
    if (!grabbed) return false;
    const { viewport } = this,
      { insert, name, places } = grabbed;
    viewport.model.choose({ kind: "insert", id: insert.id });
    // What is locked can be chosen, not moved.
    if (insert.locked) return true;
    const began = structuredClone(insert);
    if (isFar(insert)) {
      viewport.drag(
        (now) => {
          viewport.model.moving = this.far.dragged(began, name, at, now);
          this.sketch();
        },
        () => this.drop(began),
      );
      return true;
    }
    const first = viewport.onPlane(at, places.foot, places.n);
    const sight = viewport.rayAt(at);
    const edge = !first || !sight || Math.abs(dot(unit(sight.along), places.n)) < EDGE_ON;
    const total = [0, 0],
      others = this.others(insert);
    viewport.drag(
      (now, by, { shiftKey: free }) => {
        total[0] += by[0];
        total[1] += by[1];
        this.marks = [];
        const next = structuredClone(began),
          p = next.placement;
        if (name === "lift") {
          const up = this.along(places, places.n, total);
          this.set(p, "lift", (free ? up : this.settled(places, insert, up, others)) / places.world.scale);
        } else if (edge) this.dragEdgeOn(name, p, places, total);
        else {
          const hit = viewport.onPlane(now, places.foot, places.n);
          if (!hit) return;
          const a = sub(first, places.foot),
            b = sub(hit, places.foot);
          if (name === "foot") {
            const at = add(places.foot, sub(hit, first)),
              to = free ? at : this.rested(places, at, others);
            this.set(p, "foot", stepWithin(places.world, sub(to, places.foot)));
          }
          if (name === "turn") {
            const by = Math.atan2(dot(cross(a, b), places.n), dot(a, b));
            this.set(p, "turn", by + (free ? 0 : this.straightened(places, by, others)));
          }
          if (name === "size") this.set(p, "size", dot(b, places.right) / Math.max(dot(a, places.right), 1e-6));
        }
        viewport.model.moving = next;
        this.sketch();
      },
      () => {
        this.marks = [];
        this.drop(began);
      },
    );
    return true;
  }

  /** What a thing may come to rest by: other things, and the edges of surfaces. @param {any} insert */
  others(insert) {
    const { model } = this.viewport;
    /** @type {any[]} */ const all = this.inserts();
    const seen = all.filter((i) => i.id !== insert.id && i.parent !== insert.id && !i.hidden);
    const there = seen.filter((i) => !isFar(i)).map((i) => this.places(i));
    const edges = model.shownSurfaces().flatMap((/** @type {any} */ s) => {
      /** @type {number[][]} */ const corners = s.outline ?? [];
      return corners.map((c, i) => [c, corners[(i + 1) % corners.length]]);
    });
    return { feet: there.map((p) => p.foot), baselines: there.map((p) => p.right), edges };
  }

  /** @param {any} places @param {number[]} at @param {ReturnType<Handles["others"]>} others */
  rested({ n, right, ahead }, at, others) {
    const { viewport } = this;
    const found = rest({ at, normal: n, right, ahead }, others, (from, to) => {
      const a = viewport.worldToStage(from),
        b = viewport.worldToStage(to);
      return a && b ? Math.hypot(a[0] - b[0], a[1] - b[1]) : Infinity;
    });
    this.marks = found.marks;
    return found.at;
  }

  /** @param {any} places @param {number} by radians @param {ReturnType<Handles["others"]>} others */
  straightened({ n, right }, by, others) {
    return straighten(turned(fromAxis(scale(n, by)), right), n, surfaceAxes(n).right, others.baselines);
  }

  /** @param {any} places @param {any} insert @param {number} up metres @param {ReturnType<Handles["others"]>} others */
  settled({ n, foot, world, reach }, insert, up, others) {
    const { viewport } = this,
      lift = valueAt(NUMBER, insert.placement.anchor.lift_m, viewport.model.frame) * world.scale,
      on = sub(foot, scale(n, lift));
    const a = viewport.worldToStage(foot),
      b = viewport.worldToStage(add(foot, scale(n, reach)));
    const metrePx = a && b ? Math.hypot(a[0] - b[0], a[1] - b[1]) / reach : 0;
    const levels = others.feet.map((f) => dot(sub(f, on), n));
    return settle(lift + up, levels, metrePx) - lift;
  }

  /**
   * Edge-on there is no depth to be read from the pointer: a thing moves along the axis that lies across
   * the view, and turns and grows by the way that the pointer goes.
   * @param {string} name @param {any} placement @param {any} places @param {number[]} total
   */
  dragEdgeOn(name, placement, places, total) {
    const { viewport } = this,
      foot = viewport.worldToStage(places.foot);
    const reach = (/** @type {number[]} */ axis) => {
      const end = viewport.worldToStage(add(places.foot, scale(axis, places.reach)));
      return end && foot ? Math.hypot(end[0] - foot[0], end[1] - foot[1]) : 0;
    };
    if (name === "foot") {
      const axis = reach(places.right) >= reach(places.ahead) ? places.right : places.ahead;
      this.set(placement, "foot", stepWithin(places.world, scale(axis, this.along(places, axis, total))));
    }
    if (name === "turn") this.set(placement, "turn", total[0] * TURN_A_PX);
    if (name === "size") this.set(placement, "size", Math.exp((total[0] - total[1]) / GROWS_BY_E_PX));
  }

  /**
   * Changes one thing of where an insert stands: at this frame where it changes over time, else for good.
   * @param {any} placement @param {"foot"|"turn"|"lift"|"size"} what
   * @param {any} by metres in the world, radians about the normal, metres, times
   */
  set(placement, what, by) {
    const { frame } = this.viewport.model,
      { anchor } = placement;
    if (what === "foot") anchor.foot = withValue(anchor.foot, frame, add(valueAt(PLACE, anchor.foot, frame), by));
    if (what === "lift") anchor.lift_m = withValue(anchor.lift_m, frame, valueAt(NUMBER, anchor.lift_m, frame) + by);
    if (what === "turn") {
      const now = valueAt(ROTATION, anchor.turn, frame);
      anchor.turn = withValue(anchor.turn, frame, times(fromAxis([0, by, 0]), now));
    }
    if (what === "size") {
      const now = valueAt(NUMBER, placement.scale, frame);
      placement.scale = withValue(placement.scale, frame, now * clampScale(by));
    }
  }

  /**
   * Metres along an axis for a pull on the screen.
   * @param {any} places
   * @param {number[]} direction
   * @param {number[]} pull
   */
  along(places, direction, pull) {
    const foot = this.viewport.worldToStage(places.foot),
      top = this.viewport.worldToStage(add(places.foot, scale(direction, places.reach)));
    if (!foot || !top) return 0;
    const axis = [top[0] - foot[0], top[1] - foot[1]],
      length = Math.hypot(axis[0], axis[1]);
    // Seen end-on the axis has no direction on the screen; up is away then.
    if (length < 12) return (-pull[1] / 90) * places.reach;
    return ((pull[0] * axis[0] + pull[1] * axis[1]) / (length * length)) * places.reach;
  }

  /** A draft of the frame, one at a time. */
  async sketch() {
    const { model } = this.viewport;
    if (this.asking || !model.moving) return;
    this.asking = true;
    const insert = model.moving,
      began = performance.now(),
      { frame } = model;
    try {
      const response = await fetch(model.url("draft"), {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify({ frame, insert, half: this.half }),
      });
      // Where much stands, half as many pixels follow the hand.
      const took = performance.now() - began;
      this.half = this.half ? took > QUICK_MS : took > SLOW_MS;
      if (!response.ok) {
        note(await refusal(response));
        return;
      }
      const bitmap = await createImageBitmap(await response.blob());
      if (model.moving) model.putDraft({ frame, bitmap });
      else bitmap.close();
    } finally {
      this.asking = false;
      if (model.moving && model.moving !== insert) this.sketch();
    }
  }

  /** @param {any} began */
  async drop(began) {
    const { model } = this.viewport,
      insert = model.moving;
    if (insert && JSON.stringify(insert) !== JSON.stringify(began)) await model.edit({ edit: "change-insert", insert });
    model.moving = null;
    model.touch();
  }
}

const clampScale = (/** @type {number} */ by) => Math.min(Math.max(by, 0.05), 20);
