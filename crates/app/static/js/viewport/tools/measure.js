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

  /** @param {{frame: number, x: number, y: number}} a @param {{frame: number, x: number, y: number}} b */
  async measure(a, b) {
    const { model } = this.viewport;
    const query = new URLSearchParams(
      Object.entries({ frame: a.frame, x: a.x, y: a.y, to_frame: b.frame, to_x: b.x, to_y: b.y }).map(([k, v]) => [
        k,
        String(v),
      ]),
    );
    model.measures.push(await (await model.get(`measure?${query}`)).json());
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
