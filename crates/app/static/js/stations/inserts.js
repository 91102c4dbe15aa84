// @ts-check
/** Inserts: what is placed, and what is to be placed. */
import { refusal, told } from "../notes.js";
import { formOf } from "../upload.js";
import { press } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function inserts({ model, byId }) {
  /** What is to be placed, as it was chosen last; the station is drawn anew now and then. */
  const kept = { as: "sign", stance: "" };
  /** What the reading of the files says, where it says something. */
  let words = "";

  /** @param {DOMStringMap} of a file's own button */
  const fileTool = ({ asset, model: isModel }) => ({
    kind: /** @type {"place"} */ ("place"),
    what: isModel === "true" ? "prop" : kept.as,
    stance: kept.stance,
    asset: asset ?? "",
  });

  /** Whether a tool places this file. @param {import("../state/tool.js").Tool} tool @param {HTMLElement} button */
  const places = (tool, { dataset }) => tool.kind === "place" && tool.asset === dataset.asset;

  function show() {
    const { tool } = model;
    press(
      "place",
      (b) => tool.kind === "place" && tool.what === b.dataset.kind && tool.stance === b.dataset.stance && !tool.asset,
    );
    press("place-file", (b) => places(tool, b));
    press("choose-insert", (b) => model.chosenOf("insert") === Number(b.dataset.insert));
    if (byId("place-as")) byId("place-as").value = kept.as;
    if (byId("place-stance")) byId("place-stance").value = kept.stance;
    if (words && byId("file-reading")) byId("file-reading").textContent = words;
  }

  /** @param {string} text */
  function say(text) {
    words = text;
    show();
  }

  /** Takes files in, and takes what came of them in hand. @param {FileList} list */
  async function takeIn(list) {
    if (!list.length) return;
    say(`taking in ${list[0].name}`);
    const response = await fetch("/files", { method: "POST", body: formOf(list) });
    if (!response.ok) {
      say(await refusal(response));
      return;
    }
    const { name, file, kind, reading } = await response.json();
    say(`${file}: ${reading}`);
    model.dispatchEvent(new Event("stale"));
    const chosen = model.chosenOf("insert");
    if (swapping && chosen !== null) await swap(chosen, name);
    else model.take(fileTool(/** @type {any} */ ({ asset: name, model: String(kind === "model") })));
  }

  /** Whether the next file replaces what the chosen insert shows. */
  let swapping = false;

  /** @param {number} insert @param {string} asset */
  function swap(insert, asset) {
    swapping = false;
    return model.change("swap", { insert, asset });
  }

  heedDrops((list) => takeIn(list).catch(told));
  return {
    acts: {
      place: ({ dataset }) =>
        model.toggle({
          kind: "place",
          what: dataset.kind ?? "title",
          stance: dataset.stance ?? "standing",
          asset: "",
        }),
      "place-file": (button) => {
        const chosen = model.chosenOf("insert");
        if (swapping && chosen !== null) return swap(chosen, button.dataset.asset ?? "");
        return model.toggle(fileTool(button.dataset));
      },
      "swap-file": () => {
        swapping = !swapping;
        say(swapping ? "choose the file that is to be shown instead" : "");
        model.enter("inserts");
      },
      keys: ({ dataset }) => {
        const insert = model.chosenOf("insert");
        return insert === null
          ? undefined
          : model.change("keys", { insert, frame: model.frame, action: dataset.action });
      },
      "choose-insert": (button) => model.choose({ kind: "insert", id: Number(button.dataset.insert) }),
      "remove-insert": (button) => model.edit({ edit: "remove-insert", id: Number(button.dataset.id) }),
    },
    show,
    input(target, done) {
      if (target.id === "file-in" && done) {
        const { files } = /** @type {HTMLInputElement} */ (target);
        if (files) takeIn(files).catch(told);
      }
      if (target.id !== "place-as" && target.id !== "place-stance") return;
      kept.as = byId("place-as").value;
      kept.stance = byId("place-stance").value;
      // What is in hand is what was chosen now.
      const { tool } = model;
      if (tool.kind === "place" && tool.asset)
        model.take({ ...tool, what: tool.what === "prop" ? "prop" : kept.as, stance: kept.stance });
    },
  };
}

/** Files may be dropped anywhere on the page. @param {(list: FileList) => void} take */
function heedDrops(take) {
  const carries = (/** @type {DragEvent} */ event) => event.dataTransfer?.types.includes("Files");
  document.addEventListener("dragover", (event) => {
    if (carries(event)) event.preventDefault();
  });
  document.addEventListener("drop", (event) => {
    if (!event.dataTransfer || !carries(event)) return;
    event.preventDefault();
    take(event.dataTransfer.files);
  });
}
