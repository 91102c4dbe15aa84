// @ts-check
/** Match: what is placed is drawn towards the plate, and gets the plate's blur and grain. */
import { enable, press } from "./station.js";
import { plateColour } from "./holdouts.js";

/** What is clicked next, by how much was. */
const NEXT = ["click a place of it on the picture", "click the place of the plate that it should look like"];

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function match({ model, byId }) {
  const insert = () => model.insert(model.chosenOf("insert"));
  const picking = () => (model.tool.kind === "picks" && model.tool.what === "likeness" ? model.tool : null);

  /** @param {boolean} follows */
  const draw = (follows) => model.change("match/draw", { insert: insert()?.id, follows });

  /** The first place should look like the second. @param {any[]} picks */
  async function like([one, other]) {
    const id = insert()?.id;
    if (id === undefined || !other) return;
    const from = pictureColour(one.pixel),
      to = await plateColour(model, other.frame, other.pixel);
    if (from && to) await model.change("match/colour", { insert: id, from, to });
  }

  /** The colour of the finished picture about a place, the mean of nine pixels. @param {number[]} pixel */
  function pictureColour([x, y]) {
    const { frames } = /** @type {any} */ (globalThis).fennik,
      bitmap = frames.bitmaps.get(model.frame) ?? frames.shown?.bitmap;
    if (!bitmap) return null;
    const scale = bitmap.width / model.state.width,
      canvas = new OffscreenCanvas(3, 3),
      g = /** @type {OffscreenCanvasRenderingContext2D} */ (canvas.getContext("2d"));
    g.drawImage(bitmap, Math.round(x * scale) - 1, Math.round(y * scale) - 1, 3, 3, 0, 0, 3, 3);
    const { data } = g.getImageData(0, 0, 3, 3);
    return [0, 1, 2].map((k) => [...Array(9).keys()].reduce((sum, i) => sum + data[4 * i + k], 0) / 9);
  }

  return {
    acts: {
      "draw-towards": () => draw(false),
      "draw-follow": () => draw(true),
      "draw-let-go": () => model.change("match/let-go", { insert: insert()?.id }),
      "match-dropper": () =>
        model.toggle({ kind: "picks", what: "likeness", most: NEXT.length, picks: [], done: (picks) => like(picks) }),
      "measure-plate": () => model.change("lens/measure", {}),
      "match-use-look": () =>
        model.change("looks/use", { name: byId("match-look").value, insert: model.chosenOf("insert") }),
    },
    show() {
      const one = insert(),
        is = !!one && !/^(marker|lamp)$/.test(one.content.kind);
      for (const act of ["draw-towards", "draw-follow", "match-dropper", "match-use-look"]) enable(act, is);
      enable("draw-let-go", is && !!one.drawn);
      press("match-dropper", () => picking() !== null);
      const reading = byId("match-chosen");
      if (!reading) return;
      const next = NEXT[picking()?.picks.length ?? -1];
      reading.textContent =
        next ??
        (is
          ? `${one.name || one.content.kind}${one.drawn ? ", drawn to the plate" : ""}`
          : "choose one first, on the picture");
    },
  };
}
