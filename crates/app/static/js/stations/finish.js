// @ts-check
/** Finish: what is done over all, looks that are kept, and the line between before and after. */
import { takeChosen } from "../files.js";
import { note, told } from "../notes.js";
import { press } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function finish({ model, byId }) {
  /** @param {string|null} asset */
  const table = (asset) => model.change("finish/table", { asset });

  async function keep() {
    const name = byId("look-name").value.trim();
    if (!name) return note("Give the look a name first.");
    if (await model.change("looks", { name })) note(`Kept as “${name}”: it can be used on any shot.`);
  }

  return {
    acts: {
      "finish-off": () => model.change("finish/switch", { off: !model.state.finish.off }),
      wipe: () => model.wipeAt(model.wipe === null ? 0.5 : null),
      "keep-look": keep,
      "use-look": () => model.change("looks/use", { name: byId("look-kept").value }),
      "use-look-on-insert": () => {
        const insert = model.chosenOf("insert");
        if (insert === null) return note("Choose an insert first, at Inserts or on the picture.");
        return model.change("looks/use", { name: byId("look-kept").value, insert });
      },
    },
    show() {
      press("wipe", () => model.wipe !== null);
    },
    input(target, done) {
      if (!done) return;
      if (target.id === "finish-table") table(byId("finish-table").value || null).catch(told);
      else if (target.id === "table-in")
        takeChosen(target, ({ name, kind }) => {
          if (kind !== "table") throw new Error("That is no table of colours; choose a .cube file.");
          return table(name);
        });
    },
  };
}
