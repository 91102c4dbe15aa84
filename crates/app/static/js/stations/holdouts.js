// @ts-check
/** Holdouts: what passes in front of what is placed. */
import { takeChosen } from "../files.js";
import { told } from "../notes.js";
import { plateColour } from "../picked.js";
import { press } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function holdouts({ model, byId }) {
  /** How the matte is looked at; the station is drawn anew now and then. */
  let view = "";
  /** The file that is chosen as a matte. */
  let file = "";
  /** What the matte was asked for. */
  let asked = "";

  /** @param {number|null} id */
  const find = (id) => model.state?.holdouts.find((/** @type {any} */ h) => h.id === id) ?? null;
  const chosen = () => find(model.chosenOf("holdout"));

  /** Holds out what something tells, and shows it. @param {object} by */
  async function hold(by) {
    if (await model.change("hold-out", { frame: model.frame, ...by })) model.chooseNewest("holdout");
  }

  /** @param {any} holdout */
  const change = (holdout) => model.edit({ edit: "change-holdout", holdout });

  /** Moves the chosen one along the list. @param {number} by */
  function order(by) {
    const one = chosen(),
      at = one ? model.state.holdouts.indexOf(one) : -1;
    return at < 0 ? undefined : model.edit({ edit: "order-holdout", id: one.id, to: Math.max(at + by, 0) });
  }

  /** Its strength has a key here, or loses it. @param {string} how */
  const key = (how) =>
    model.change("keys", { of: { holdout: model.chosenOf("holdout") }, name: "strength", frame: model.frame, how });

  /** The colour under a place of the plate goes to the chosen key. @param {{frame: number, pixel: number[]}} pick */
  async function colourAt({ frame, pixel }) {
    const one = chosen(),
      colour = await plateColour(model, frame, pixel);
    if (one?.by === "key" && colour) await change({ ...one, key: { ...one.key, colour } });
  }

  /** Asks for the matte of this frame, where it is looked at. */
  async function askMatte() {
    const shows = view && model.station === "holdouts" && !model.playing;
    const wanted = shows ? `${model.url(`matte/${model.frame}`)}?view=${view}&of=${model.state.picture}` : "";
    if (wanted === asked) return;
    asked = wanted;
    if (!wanted) return model.putMatte(null);
    const { frame } = model,
      response = await fetch(wanted);
    const bitmap = response.ok ? await createImageBitmap(await response.blob()) : null;
    if (asked === wanted) model.putMatte(bitmap && { frame, bitmap });
    else bitmap?.close();
  }

  return {
    acts: {
      "choose-holdout": (b) => model.choose({ kind: "holdout", id: Number(b.dataset.holdout) }),
      "remove-holdout": (b) => model.edit({ edit: "remove-holdout", id: Number(b.dataset.id) }),
      "hide-holdout": (b) => {
        const one = find(Number(b.dataset.holdout));
        return one && change({ ...one, hidden: !one.hidden });
      },
      "hold-movers": async () => {
        if (await model.change("holdouts/round-tracks", { tracks: [...model.selected] })) model.chooseNewest("holdout");
      },
      "hold-key": () => hold({ key: byId("hold-key").value }),
      "hold-surface": () => hold({ surface: Number(byId("hold-surface").value) }),
      "hold-mask": () => hold({ mask: Number(byId("hold-mask").value) }),
      "hold-file": () => hold({ asset: byId("hold-file").value }),
      "order-holdout-up": () => order(-1),
      "order-holdout-down": () => order(1),
      "key-holdout": () => key("key"),
      "unkey-holdout": () => key("forget-key"),
      "pick-key": () =>
        model.toggle({
          kind: "picks",
          what: "key",
          most: 1,
          picks: [],
          done: async ([pick]) => pick && colourAt(pick),
        }),
    },
    show() {
      const { tool } = model;
      press("choose-holdout", (b) => model.chosenOf("holdout") === Number(b.dataset.holdout));
      press("pick-key", () => tool.kind === "picks" && tool.what === "key");
      if (byId("matte-view")) byId("matte-view").value = view;
      if (byId("hold-file") && file) byId("hold-file").value = file;
      const hint = byId("holdout-hint");
      if (hint)
        hint.textContent =
          tool.kind === "outline"
            ? "Click corner by corner; the first corner or Enter closes the outline, Esc gives it up."
            : "Each meets those above it: it adds, subtracts, or crosses.";
      askMatte().catch(told);
    },
    frame() {
      askMatte().catch(told);
    },
    input(target, done) {
      if (!done) return;
      if (target.id === "matte-view") {
        view = byId("matte-view").value;
        askMatte().catch(told);
      } else if (target.id === "hold-file") file = byId("hold-file").value;
      else if (target.id === "matte-in") takeChosen(target, ({ name }) => hold({ asset: name }));
    },
  };
}
