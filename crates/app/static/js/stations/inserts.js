// @ts-check
/** Inserts: what is placed, and what is to be placed. */
import { press } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function inserts({ model }) {
  return {
    acts: {
      place: ({ dataset }) =>
        model.toggle({ kind: "place", what: dataset.kind ?? "title", stance: dataset.stance ?? "standing" }),
      "choose-insert": (button) => model.choose({ kind: "insert", id: Number(button.dataset.insert) }),
      "remove-insert": (button) => model.edit({ edit: "remove-insert", id: Number(button.dataset.id) }),
    },
    show() {
      const { tool } = model;
      press("place", (b) => tool.kind === "place" && tool.what === b.dataset.kind && tool.stance === b.dataset.stance);
      press("choose-insert", (b) => model.chosenOf("insert") === Number(b.dataset.insert));
    },
  };
}
