// @ts-check
/** Handles of the chosen insert: move in its surface, turn, lift, scale; drafts while they move. */
import { add, centre, cross, dot, scale, sub, unit } from "./camera.js";
import { colours } from "./colours.js";
import { note, refusal } from "./notes.js";

const GRAB_PX = 11;
/** Where the handle of an axis that points at the viewer is put, px from the foot. */
const END_ON_PX = 48;
/** A surface seen flatter than this (sine of the angle) gives no depth to the pointer. */
const EDGE_ON = 0.08;

export class Handles {
  /** @param {import("./stage.js").Stage} stage */
  constructor(stage) {
    this.stage = stage;
    this.asking = false;
  }

  inserts() {
    const all = this.stage.model.state?.inserts ?? [];
    const { moving } = this.stage.model;
    return moving ? all.map((/** @type {any} */ i) => (i.id === moving.id ? moving : i)) : all;
  }

  /** Where the handles of an insert are in the world. @param {any} insert */
  places(insert) {
    const p = insert.placement,
      camera = this.stage.model.camera();
    const n = unit(p.normal),
      foot = add(p.foot, scale(n, p.lift_m));
    // A constant size on the screen, so that handles can be grabbed at any distance.
    const reach = camera ? (0.11 * Math.hypot(...sub(centre(camera), foot)) * 900) / camera.f : 1;
    const seed = Math.abs(n[1]) > 0.8 ? [0, 0, 1] : [0, -1, 0];
    const zero = unit(sub(seed, scale(n, dot(seed, n)))),
      side = cross(n, zero);
    const a = (p.turn_deg * Math.PI) / 180;
    const ahead = add(scale(zero, Math.cos(a)), scale(side, Math.sin(a)));
    return {
      n,
      foot,
      reach,
      ahead,
      right: cross(n, ahead),
      turn: add(foot, scale(ahead, reach)),
      size: add(foot, scale(cross(n, ahead), reach)),
      lift: add(foot, scale(n, 1.25 * reach)),
    };
  }

  /**
   * Where the handles of an insert are on the stage. An axis that points at the viewer has no length there; its
   * handle stands above the foot then, so that it can still be grabbed.
   * @param {any} places @returns {Record<string, number[]>}
   */
  spots(places) {
    const { stage } = this,
      foot = stage.worldToStage(places.foot);
    if (!foot) return {};
    const spots = /** @type {Record<string, number[]>} */ ({ foot });
    for (const [name, aside] of /** @type {[string, number[]][]} */ ([
      ["turn", [-END_ON_PX, 0]],
      ["size", [END_ON_PX, 0]],
      ["lift", [0, -END_ON_PX]],
    ])) {
      const p = stage.worldToStage(places[name]);
      if (p)
        spots[name] =
          Math.hypot(p[0] - foot[0], p[1] - foot[1]) < 2 * GRAB_PX ? [foot[0] + aside[0], foot[1] + aside[1]] : p;
    }
    return spots;
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { stage } = this;
    if (!stage.model.camera()) return;
    const { sand, bone } = colours;
    for (const insert of this.inserts()) {
      const at = this.spots(this.places(insert)),
        chosen = insert.id === stage.model.chosen,
        { foot } = at;
      if (!foot) continue;
      if (chosen) {
        g.strokeStyle = bone;
        g.lineWidth = 1;
        for (const name of /** @type {const} */ (["turn", "size", "lift"])) {
          const p = at[name];
          if (!p) continue;
          g.beginPath();
          g.moveTo(foot[0], foot[1]);
          g.lineTo(p[0], p[1]);
          g.stroke();
          g.fillStyle = colours.stone;
          g.beginPath();
          if (name === "turn") g.arc(p[0], p[1], 5, 0, 7);
          else g.rect(p[0] - 4, p[1] - 4, 8, 8);
          g.fill();
          g.stroke();
          g.fillStyle = bone;
          g.font = "11px Barlow Semi Condensed, sans-serif";
          g.fillText(name, p[0] + 8, p[1] + 4);
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

  /** @param {number[]} at */
  over(at) {
    const { stage } = this;
    if (!stage.model.camera()) return null;
    for (const insert of this.inserts()) {
      const places = this.places(insert),
        spots = this.spots(places);
      const names = insert.id === stage.model.chosen ? ["turn", "size", "lift", "foot"] : ["foot"];
      for (const name of names) {
        const p = spots[name];
        if (p && Math.hypot(p[0] - at[0], p[1] - at[1]) < GRAB_PX) return { insert, name, places };
      }
    }
    return null;
  }

  /** Begins a drag if a handle is there. @param {number[]} at */
  down(at) {
    const grabbed = this.over(at);
    if (!grabbed) return false;
    const { stage } = this,
      { insert, name, places } = grabbed;
    stage.model.chosen = insert.id;
    stage.model.select();
    const began = structuredClone(insert);
    const first = stage.onPlane(at, places.foot, places.n);
    const sight = stage.rayAt(at);
    const edge = !first || !sight || Math.abs(dot(unit(sight.along), places.n)) < EDGE_ON;
    const total = [0, 0];
    stage.drag(
      (now, by) => {
        total[0] += by[0];
        total[1] += by[1];
        const next = structuredClone(began),
          p = next.placement;
        if (name === "lift") p.lift_m = began.placement.lift_m + this.along(places, places.n, total);
        else if (edge) this.dragEdgeOn(name, p, began.placement, places, total);
        else {
          const hit = stage.onPlane(now, places.foot, places.n);
          if (!hit) return;
          if (name === "foot") p.foot = add(began.placement.foot, sub(hit, first));
          const a = sub(first, places.foot),
            b = sub(hit, places.foot);
          if (name === "turn")
            p.turn_deg = began.placement.turn_deg + (Math.atan2(dot(cross(a, b), places.n), dot(a, b)) * 180) / Math.PI;
          if (name === "size")
            p.scale = began.placement.scale * clampScale(dot(b, places.right) / Math.max(dot(a, places.right), 1e-6));
        }
        stage.model.moving = next;
        this.sketch();
      },
      () => this.drop(began),
    );
    return true;
  }

  /**
   * Edge-on there is no depth to be read from the pointer: a thing moves along the axis that lies across
   * the view, and turns and grows by the way that the pointer goes.
   * @param {string} name @param {any} next @param {any} began @param {any} places @param {number[]} total
   */
  dragEdgeOn(name, next, began, places, total) {
    const { stage } = this,
      foot = stage.worldToStage(places.foot);
    const reach = (/** @type {number[]} */ axis) => {
      const end = stage.worldToStage(add(places.foot, scale(axis, places.reach)));
      return end && foot ? Math.hypot(end[0] - foot[0], end[1] - foot[1]) : 0;
    };
    if (name === "foot") {
      const axis = reach(places.right) >= reach(places.ahead) ? places.right : places.ahead;
      next.foot = add(began.foot, scale(axis, this.along(places, axis, total)));
    }
    if (name === "turn") next.turn_deg = began.turn_deg + total[0] * 0.5;
    if (name === "size") next.scale = began.scale * clampScale(Math.exp((total[0] - total[1]) / 150));
  }

  /**
   * Metres along an axis for a pull on the screen.
   * @param {any} places
   * @param {number[]} direction
   * @param {number[]} pull
   */
  along(places, direction, pull) {
    const foot = this.stage.worldToStage(places.foot),
      top = this.stage.worldToStage(add(places.foot, scale(direction, places.reach)));
    if (!foot || !top) return 0;
    const axis = [top[0] - foot[0], top[1] - foot[1]],
      length = Math.hypot(axis[0], axis[1]);
    // Seen end-on the axis has no direction on the screen; up is away then.
    if (length < 12) return (-pull[1] / 90) * places.reach;
    return ((pull[0] * axis[0] + pull[1] * axis[1]) / (length * length)) * places.reach;
  }

  /** A draft of the frame, one at a time. */
  async sketch() {
    const { model } = this.stage;
    if (this.asking || !model.moving) return;
    this.asking = true;
    const insert = model.moving,
      { frame } = model;
    try {
      const response = await fetch(model.url("draft"), {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify({ frame, insert }),
      });
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
    const { model } = this.stage,
      insert = model.moving;
    if (insert && JSON.stringify(insert) !== JSON.stringify(began)) await model.edit({ edit: "change-insert", insert });
    model.moving = null;
    model.touch();
  }
}

const clampScale = (/** @type {number} */ by) => Math.min(Math.max(by, 0.05), 20);
