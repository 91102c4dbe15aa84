// @ts-check
/** Turning the datum by dragging: across for the heading, up and down for the tilt; Shift rolls, Alt raises. */
import { centre } from "../../math/camera.js";
import { told } from "../../notes.js";

/** Degrees for each px of a drag. */
const TURN_A_PX = 0.05;
/** A px raises by this part of the camera's height. */
const RAISE_A_PX = 0.002;

export class TurnTool {
  /** @param {import("../viewport.js").Viewport} viewport */
  constructor(viewport) {
    this.viewport = viewport;
  }

  /** @param {number[]} at @param {PointerEvent} event */
  down(at, event) {
    const { viewport } = this,
      { model } = viewport,
      { shiftKey, altKey } = event;
    const camera = model.camera(),
      height = camera ? Math.abs(centre(camera)[1]) : 1;
    viewport.drag(
      ([x, y]) => {
        const [dx, dy] = [x - at[0], y - at[1]];
        const turn = shiftKey ? [0, 0, -dx * TURN_A_PX] : altKey ? [0, 0, 0] : [dy * TURN_A_PX, dx * TURN_A_PX, 0];
        // The world sinks under a floor that is raised.
        const shift = altKey ? [0, dy * RAISE_A_PX * height, 0] : [0, 0, 0];
        model.preview = { turn, shift, factor: 1 };
      },
      () => {
        const { preview } = model;
        if (!preview) return;
        const { turn: turn_deg, shift: shift_m } = preview;
        model.change("datum", { action: "nudge", turn_deg, shift_m }).catch(told);
      },
    );
  }

  hover() {
    return "move";
  }
}
