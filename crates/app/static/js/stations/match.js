// @ts-check
/** Match: what is placed is drawn towards the plate, and gets the plate's blur and grain. */
import { enable, press } from "./station.js";
import { colourOf, plateColour } from "../picked.js";

/** What is clicked next, by how much was. */
const NEXT = ["click a place of it on the picture", "click the place of the plate that it should look like"];

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function match({ model, byId, frames }) {
  const insert = () => model.insert(model.chosenOf("insert"));
  const picking = () => (model.tool.kind === "picks" && model.tool.what === "likeness" ? model.tool : null);

  /** @param {boolean} follows */
  const draw = (follows) => model.change("jobs/draw", { insert: insert()?.id, follows });

  /** Whether the plate is being looked at. @param {string} kind */
  const active = (kind) => document.querySelector(`.job[data-kind="${kind}"] progress`) !== null;

  /** How the chosen one stands. @param {any} one @param {boolean} is */
  const reading = (one, is) =>
    is
      ? `${one.name || one.content.kind}${one.drawn ? ", drawn to the plate" : ""}`
      : "choose one first, on the picture";

  /** The first place should look like the second. @param {any[]} picks */
  async function like([one, other]) {
    const id = insert()?.id;
    if (id === undefined || !other) return;
    const from = pictureColour(one.pixel),
      to = await plateColour(model, other.frame, other.pixel);
    if (from && to) await model.change("match/colour", { insert: id, from, to });
  }

  /** The colour of the finished picture about a place. @param {number[]} pixel */
  function pictureColour(pixel) {
    const bitmap = frames.bitmaps.get(model.frame) ?? frames.shown?.bitmap;
    return bitmap ? colourOf(bitmap, model.state.width, pixel) : null;
  }

  return {
    acts: {
      "draw-towards": () => draw(false),
      "draw-follow": () => draw(true),
      "draw-let-go": () => model.change("match/let-go", { insert: insert()?.id }),
      "match-dropper": () =>
        model.toggle({ kind: "picks", what: "likeness", most: NEXT.length, picks: [], done: (picks) => like(picks) }),
      "measure-plate": () => model.change("jobs/measure", {}),
      "match-use-look": () =>
        model.change("looks/use", { name: byId("match-look").value, insert: model.chosenOf("insert") }),
    },
    show() {
      const one = insert(),
        is = !!one && !/^(marker|lamp)$/.test(one.content.kind);
      for (const act of ["match-dropper", "match-use-look"]) enable(act, is);
      for (const act of ["draw-towards", "draw-follow"]) enable(act, is && !active("draw"));
      enable("draw-let-go", is && !!one.drawn);
      enable("measure-plate", !active("measure"));
      press("match-dropper", () => picking() !== null);
      const line = byId("match-chosen");
      if (!line) return;
      const next = NEXT[picking()?.picks.length ?? -1];
      line.textContent = next ?? reading(one, is);
    },
  };
}
