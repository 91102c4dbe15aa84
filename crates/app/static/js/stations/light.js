// @ts-check
/** Light: the sun is put where a shadow on the plate says that it stands. */
import { takeChosen } from "../files.js";
import { refusal, told } from "../notes.js";
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

  /** A picture by its name, an item of the library, or none. @param {string} chosen */
  async function choose(chosen) {
    const item = chosen.match(/^library:(.*)$/)?.[1];
    if (!item) return around(chosen || null);
    const response = await fetch(`/library/${item}`, { method: "POST" });
    if (!response.ok) throw new Error(await refusal(response));
    return around((await response.json()).name);
  }

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
      if (target.id === "around-picture") choose(byId("around-picture").value).catch(told);
      else if (target.id === "around-in") takeChosen(target, ({ name }) => around(name));
    },
    show() {
      press("sun-shadow", () => picking() !== null);
      const reading = byId("sun-reading");
      if (reading) reading.textContent = NEXT[picking()?.picks.length ?? -1] ?? "";
    },
  };
}
