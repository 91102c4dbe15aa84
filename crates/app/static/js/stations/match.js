// @ts-check
/** Match: what is placed is drawn towards the plate, and gets the plate's blur and grain. */
import { busy, enable, press } from "./station.js";
import { colourOf, plateColour } from "../picked.js";

/** What is clicked next, by how much was. */
const NEXT = ["click a place of it on the picture", "click the place of the plate that it should look like"];

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function match({ model, byId, frames }) {
  const insert = () => model.insert(model.chosenOf("insert"));
  const picking = () => (model.tool.kind === "picks" && model.tool.what === "likeness" ? model.tool : null);

  /** What is being looked at on the plate, and since when; that takes seconds. @type {{ act: string, since: number }|null} */
  let looking = null;
  /** What came of it, of the chosen insert. @type {{ insert: number|null, text: string }|null} */
  let outcome = null;

  /** @param {boolean} follows */
  const draw = (follows) =>
    look(follows ? "draw-follow" : "draw-towards", () => model.change("match/draw", { insert: insert()?.id, follows }));

  /** Looks at the plate, says so meanwhile, and what came of it. @param {string} act @param {() => Promise<any>} ask */
  async function look(act, ask) {
    if (looking) return;
    const before = model.state.revision;
    const [id, since] = [model.chosenOf("insert"), performance.now()];
    looking = { act, since };
    outcome = null;
    const ticks = setInterval(() => station.show?.(), 1000);
    station.show?.();
    try {
      const done = await ask();
      const seconds = Math.max(1, Math.round((performance.now() - since) / 1000));
      const found = model.state.revision === before ? "found as it was before" : "found";
      outcome = done ? { insert: id, text: `${found}, after ${seconds} s` } : null;
    } finally {
      clearInterval(ticks);
      looking = null;
      station.show?.();
    }
  }

  /** What is being done, or was found, or how the chosen one stands. @param {any} one @param {boolean} is */
  function reading(one, is) {
    if (looking) {
      const seconds = Math.round((performance.now() - looking.since) / 1000);
      return `looking at the plate on several frames, ${seconds} s`;
    }
    const stands = is
      ? `${one.name || one.content.kind}${one.drawn ? ", drawn to the plate" : ""}`
      : "choose one first, on the picture";
    return outcome && outcome.insert === model.chosenOf("insert") ? `${stands}; ${outcome.text}` : stands;
  }

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

  /** @type {import("./station.js").Station} */
  const station = {
    acts: {
      "draw-towards": () => draw(false),
      "draw-follow": () => draw(true),
      "draw-let-go": () => model.change("match/let-go", { insert: insert()?.id }),
      "match-dropper": () =>
        model.toggle({ kind: "picks", what: "likeness", most: NEXT.length, picks: [], done: (picks) => like(picks) }),
      "measure-plate": () => look("measure-plate", () => model.change("lens/measure", {})),
      "match-use-look": () =>
        model.change("looks/use", { name: byId("match-look").value, insert: model.chosenOf("insert") }),
    },
    show() {
      const one = insert(),
        is = !!one && !/^(marker|lamp)$/.test(one.content.kind);
      for (const act of ["draw-towards", "draw-follow", "match-dropper", "match-use-look"]) enable(act, is && !looking);
      enable("draw-let-go", is && !!one.drawn && !looking);
      enable("measure-plate", !looking);
      for (const act of ["draw-towards", "draw-follow", "measure-plate"]) busy(act, looking?.act === act);
      press("match-dropper", () => picking() !== null);
      const line = byId("match-chosen");
      if (!line) return;
      const next = NEXT[picking()?.picks.length ?? -1];
      line.textContent = next ?? reading(one, is);
    },
  };
  return station;
}
