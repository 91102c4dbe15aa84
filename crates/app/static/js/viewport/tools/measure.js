// @ts-check
/** Measuring: a click is one end, the next the other; the reading stands between them. */
import { told } from "../../notes.js";
import { colours } from "../colours.js";
import { label, line3 } from "../ground.js";

export class MeasureTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
    /** @type {{frame: number, x: number, y: number}|null} */ this.first = null;
  }

  /** @param {number[]} at */
  down(at) {
    const { viewport } = this,
      { model } = viewport,
      [x, y] = viewport.toPicture(at),
      here = { frame: model.frame, x, y };
    if (!this.first) {
      this.first = here;
      model.touch();
      return;
    }
    const { first } = this;
    this.first = null;
    this.measure(first, here).catch(told);
  }

  /** @param {Sighting} a @param {Sighting} b */
  async measure(a, b) {
    const { model } = this.viewport;
    model.measures.push(await reading(model, a, b));
    model.touch();
  }

  hover() {
    return "crosshair";
  }

  leave() {
    this.first = null;
  }

  /** @param {CanvasRenderingContext2D} g */
  paint(g) {
    const { viewport, first } = this;
    if (!first || first.frame !== viewport.model.frame) return;
    const [x, y] = viewport.toStage([first.x, first.y]);
    g.fillStyle = colours.sand;
    g.fillRect(x - 3, y - 3, 6, 6);
  }
}

/** @typedef {{frame: number, x: number, y: number}} Sighting a pixel of a frame */

/** @param {import("../../state/model.js").Model} model @param {Sighting} a @param {Sighting} b */
async function reading(model, a, b) {
  const query = new URLSearchParams(
    Object.entries({ frame: a.frame, x: a.x, y: a.y, to_frame: b.frame, to_x: b.x, to_y: b.y }).map(([k, v]) => [
      k,
      String(v),
    ]),
  );
  return { ...(await (await model.get(`measure?${query}`)).json()), ends: [a, b] };
}

/** Reads everything anew in a world that was laid anew. @param {import("../../state/model.js").Model} model */
export async function measureAnew(model) {
  const before = model.measures,
    fresh = await Promise.allSettled(before.map((m) => reading(model, m.ends[0], m.ends[1])));
  if (model.measures !== before) return;
  model.measures = fresh.flatMap((r) => (r.status === "fulfilled" ? [r.value] : []));
  model.touch();
}

/** What was measured so far. @param {CanvasRenderingContext2D} g @param {import("../viewport.js").Viewport} viewport */
export function paintMeasures(g, viewport) {
  for (const m of viewport.model.measures) {
    g.strokeStyle = colours.sand;
    g.lineWidth = 1.5;
    line3(g, viewport, m.from, m.to);
    const a = viewport.worldToStage(m.from),
      b = viewport.worldToStage(m.to);
    if (!a || !b) continue;
    label(g, m.text, [(a[0] + b[0]) / 2 + 6, (a[1] + b[1]) / 2 - 6], "12px JetBrains Mono, monospace");
  }
}
