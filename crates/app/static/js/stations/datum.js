// @ts-check
/** Datum: floor, origin and scale from selected tracks, turns and shifts by what is typed. */
import { fieldValue, noNumber } from "../fields.js";
import { enable } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function datum({ model, byId }) {
  /** What fields say; null, and noted, where one is no number. @param {string[]} ids @returns {number[]|null} */
  function typed(ids) {
    const fields = ids.map(byId).filter(Boolean),
      values = fields.map(fieldValue),
      wrong = values.indexOf(null);
    if (wrong < 0) return /** @type {number[]} */ (values);
    noNumber(fields[wrong]);
    return null;
  }

  return {
    acts: {
      "suggest-floor": () => model.change("datum", { action: "suggest-floor" }),
      floor: () => model.change("datum", { action: "floor", points: [...model.selected] }),
      origin: () => model.change("datum", { action: "origin", point: [...model.selected][0] }),
      scale: () => {
        const distance = typed(["distance"]);
        return distance
          ? model.change("datum", { action: "scale", points: [...model.selected], distance_m: distance[0] })
          : undefined;
      },
      flip: () => model.change("datum", { action: "flip" }),
      // Turns and shifts the world by what is typed, which is then back at none.
      nudge: () => {
        const axes = ["x", "y", "z"],
          turn = typed(axes.map((k) => `turn-${k}`)),
          shift = typed(axes.map((k) => `shift-${k}`));
        if (!turn || !shift) return undefined;
        for (const field of document.querySelectorAll("[id^=turn-], [id^=shift-]"))
          /** @type {HTMLInputElement} */ (field).value = /** @type {HTMLInputElement} */ (field).defaultValue;
        return model.change("datum", { action: "nudge", turn_deg: turn, shift_m: shift.length ? shift : [0, 0, 0] });
      },
    },
    show() {
      const n = model.selected.size;
      enable("floor", model.own && n >= 3);
      enable("origin", model.own && n === 1);
      enable("scale", model.own && n === 2);
    },
  };
}
