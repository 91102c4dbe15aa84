// @ts-check
/** The way that the chosen thing goes over time, drawn in the views; its keys can be pulled there. */
import { add, sub } from "../../math/camera.js";
import { PLACE, valueAt, withValue } from "../../math/curve.js";
import { footAt, stepWithin, wayOf, worldOf } from "../../math/family.js";
import { keyedFrames } from "../../math/placement.js";
import { colours } from "../colours.js";
import { marksInserts } from "../shown.js";
import { GRAB_PX } from "./grab.js";

export class WayHandles {
  /** @param {import("./handles.js").Handles} handles */
  constructor(handles) {
    this.handles = handles;
    this.viewport = handles.viewport;
  }

  /** Where a thing goes over time, as far as it moves. @param {CanvasRenderingContext2D} g @param {any} insert */
  paint(g, insert) {
    const { viewport } = this,
      frames = this.frames(insert);
    if (frames.length < 2) return;
    const [first, last] = [frames[0], frames[frames.length - 1]],
      step = Math.max(1, (last - first) / 120);
    g.strokeStyle = colours.sand;
    g.lineWidth = 1;
    g.setLineDash([3, 3]);
    g.beginPath();
    let drawn = false;
    for (let f = first; f <= last + 1e-9; f += step) {
      const at = viewport.worldToStage(this.footAt(insert, f));
      if (!at) drawn = false;
      else if (drawn) g.lineTo(at[0], at[1]);
      else g.moveTo(at[0], at[1]);
      drawn = !!at;
    }
    g.stroke();
    g.setLineDash([]);
    for (const f of frames) {
      const at = viewport.worldToStage(this.footAt(insert, f));
      if (!at) continue;
      g.fillStyle = f === viewport.model.frame ? colours.sand : colours.stone;
      g.beginPath();
      g.moveTo(at[0], at[1] - 5);
      g.lineTo(at[0] + 5, at[1]);
      g.lineTo(at[0], at[1] + 5);
      g.lineTo(at[0] - 5, at[1]);
      g.closePath();
      g.fill();
      g.stroke();
    }
  }

  /** Where it has keys of its place. @param {any} insert */
  frames(insert) {
    return keyedFrames(insert, "place");
  }

  /** @param {any} insert @param {number} frame */
  footAt(insert, frame) {
    return footAt(this.handles.inserts(), insert, frame);
  }

  /** A key of the chosen thing's way under the pointer, other than that of this frame. @param {number[]} at */
  keyAt(at) {
    const { model } = this.viewport,
      insert = model.insert(model.chosenOf("insert"));
    if (!insert || !marksInserts(model)) return null;
    const frames = this.frames(insert);
    if (frames.length < 2) return null;
    for (const frame of frames) {
      const p = this.viewport.worldToStage(this.footAt(insert, frame));
      if (p && frame !== model.frame && Math.hypot(p[0] - at[0], p[1] - at[1]) < GRAB_PX) return { insert, frame };
    }
    return null;
  }

  /** Pulls a key of the way in the surface of the thing. @param {{insert: any, frame: number}} key @param {number[]} at */
  pull({ insert, frame }, at) {
    const { viewport } = this,
      { model } = viewport,
      world = worldOf(this.handles.inserts(), insert, frame),
      foot = this.footAt(insert, frame);
    const normal = wayOf(world, insert.placement.anchor.normal),
      first = viewport.onPlane(at, foot, normal);
    if (!first) return;
    viewport.drag(
      (now) => {
        const hit = viewport.onPlane(now, foot, normal);
        if (!hit) return;
        const next = structuredClone(insert),
          { anchor } = next.placement,
          by = stepWithin(world, sub(hit, first));
        anchor.foot = withValue(anchor.foot, frame, add(valueAt(PLACE, anchor.foot, frame), by));
        model.moving = next;
        this.handles.sketch();
      },
      () => this.handles.drop(insert),
    );
  }
}
