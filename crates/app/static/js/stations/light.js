// @ts-check
/** Light: the sun is put where a shadow on the plate says that it stands. */
import { takeIn } from "../files.js";
import { told } from "../notes.js";
import { press } from "./station.js";

/** What is clicked next, by how much was. */
const NEXT = [
  "click the foot of an upright thing",
  "click the tip of its shadow on the floor",
  "click its top, for the height; or press Enter, which keeps the height",
];

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function light({ model, byId }) {
  const picking = () => (model.tool.kind === "picks" && model.tool.what === "shadow" ? model.tool : null);
  /** @param {string|null} asset */
  const around = (asset) => model.change("surroundings", { asset });

  return {
    acts: {
      "hide-around": () => {
        const { light } = model.state,
          { surroundings: now } = light;
        return model.edit({ edit: "light", light: { ...light, surroundings: { ...now, hidden: !now.hidden } } });
      },
      "sun-shadow": () =>
        model.toggle({
          kind: "picks",
          what: "shadow",
          most: NEXT.length,
          picks: [],
          done: async ([foot, tip, top]) => tip && model.change("sun", { foot, tip, top: top ?? null }),
        }),
    },
    input(target, done) {
      if (!done) return;
      if (target.id === "around-picture") around(byId("around-picture").value || null).catch(told);
      else if (target.id === "around-in") {
        const list = /** @type {HTMLInputElement} */ (target).files;
        if (list?.length)
          takeIn(list)
            .then(({ name }) => around(name))
            .catch(told);
      }
    },
    show() {
      press("sun-shadow", () => picking() !== null);
      const reading = byId("sun-reading");
      if (reading) reading.textContent = NEXT[picking()?.picks.length ?? -1] ?? "";
    },
  };
}
