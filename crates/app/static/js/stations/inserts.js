// @ts-check
/** Inserts: what is placed, and what is to be placed. */
import { fieldValue, noNumber } from "../fields.js";
import { refusal, told } from "../notes.js";
import { formOf } from "../upload.js";
import { press } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function inserts({ model, byId }) {
  /** What is to be placed, as it was chosen last; the station is drawn anew now and then. */
  const kept = { as: "sign", stance: "", where: "surface" };
  /** What the next file that is chosen is for, instead of being placed. @type {((asset: string) => any)|null} */
  let wants = null;
  /** What the reading of the files says, where it says something. */
  let words = "";
  /** The item of the library that is being made. */
  let making = "";

  /** What a file becomes. @param {string} [kind] of the file */
  const becomes = (kind) => (kind === "model" ? "prop" : kind === "font" ? "title" : kept.as);

  const depth = () => {
    const field = byId("place-depth");
    return (field && fieldValue(field)) ?? 10;
  };

  /** @param {DOMStringMap} of a file's own button */
  const fileTool = ({ asset, kind }) => ({
    kind: /** @type {"place"} */ ("place"),
    what: becomes(kind),
    stance: kept.stance,
    asset: asset ?? "",
    where: kept.where,
    depth: depth(),
  });

  /** The next file that is chosen goes there. @param {string} text @param {(asset: string) => any} to */
  function ask(text, to) {
    wants = to;
    say(text);
    model.enter("inserts");
  }

  /** @param {HTMLElement} button @param {object} values @param {object} [maps] */
  const material = (button, values, maps = {}) => {
    const name = /** @type {HTMLElement} */ (button.closest("[data-material]")).dataset.material;
    return model.arrange({ how: "material", name, values, maps });
  };

  /** The chosen backdrop is seen within the shape of a mask, or outside of it. @param {boolean} outside */
  function cutBy(outside) {
    const mask = byId("cut-mask").value,
      soft = fieldValue(byId("cut-soft"));
    if (!mask) return say("draw the shape as a mask first, at Track");
    if (soft === null) return noNumber(byId("cut-soft"));
    return model.arrange({ how: "outline", mask, soft, outside });
  }

  /** The value whose keys are meant; nothing for the usual ones. */
  const keyValue = () => byId("key-value")?.value || null;

  /** Moves the chosen insert along the list. @param {number} by */
  const order = (by) => {
    const id = model.chosenOf("insert"),
      at = model.state.inserts.findIndex((/** @type {any} */ i) => i.id === id);
    return at < 0 ? undefined : model.edit({ edit: "order-insert", id, to: Math.max(at + by, 0) });
  };

  /** Switches something of an insert. @param {number} id @param {string} what */
  const toggle = (id, what) => {
    const insert = model.insert(id);
    return insert ? model.edit({ edit: "change-insert", insert: { ...insert, [what]: !insert[what] } }) : undefined;
  };

  /** Whether places are being picked for something. @param {string} what */
  const picking = (what) => model.tool.kind === "picks" && model.tool.what === what;

  /** Whether a tool places this file. @param {import("../state/tool.js").Tool} tool @param {HTMLElement} button */
  const places = (tool, { dataset }) => tool.kind === "place" && !tool.item && tool.asset === dataset.asset;

  function show() {
    const { tool } = model;
    press(
      "place",
      (b) => tool.kind === "place" && tool.what === b.dataset.kind && tool.stance === b.dataset.stance && !tool.asset,
    );
    press("place-file", (b) => places(tool, b));
    press("place-item", (b) => tool.kind === "place" && tool.item === b.dataset.item);
    for (const b of document.querySelectorAll('[data-act="place-item"]'))
      b.setAttribute("aria-busy", String(/** @type {HTMLElement} */ (b).dataset.item === making));
    press("choose-insert", (b) => model.chosenOf("insert") === Number(b.dataset.insert));
    if (byId("place-as")) byId("place-as").value = kept.as;
    if (byId("place-stance")) byId("place-stance").value = kept.stance;
    if (byId("place-where")) byId("place-where").value = kept.where;
    if (byId("key-value")) byId("key-value").value = model.curveOf;
    press("pull-corners", () => tool.kind === "pull");
    if (byId("pull-reading")) byId("pull-reading").textContent = (tool.kind === "pull" && tool.said) || "";
    press("between", () => picking("between"));
    press("pick-path", () => picking("path"));
    // What a file or an item is needs no saying any more once it stands.
    if (byId("file-reading")) byId("file-reading").textContent = words || (tool.kind === "place" && tool.said) || "";
  }

  /** @param {string} text */
  function say(text) {
    words = text;
    show();
  }

  /**
   * A file goes where one is asked for, replaces what the chosen insert shows, or else is placed.
   * @param {string} asset @param {() => any} place
   */
  function use(asset, place) {
    const chosen = model.chosenOf("insert");
    if (wants) return give(asset);
    if (swapping && chosen !== null) return swap(chosen, asset);
    words = "";
    return place();
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
    const { name, file, kind, reading } = await response.json(),
      said = `${file}: ${reading}`;
    say(said);
    model.dispatchEvent(new Event("stale"));
    await use(name, () => model.take({ ...fileTool(/** @type {any} */ ({ asset: name, kind })), said }));
  }

  /** @param {string} asset */
  function give(asset) {
    const to = wants;
    wants = null;
    return to?.(asset);
  }

  /** Whether the next file replaces what the chosen insert shows. */
  let swapping = false;

  /** @param {number} insert @param {string} asset */
  function swap(insert, asset) {
    swapping = false;
    return model.change("swap", { insert, asset });
  }

  /** Choices of the sheet that are no values of the insert. @param {HTMLInputElement} field */
  function heed(field) {
    const insert = model.chosenOf("insert");
    if (insert === null) return;
    const { of } = field.dataset;
    if (field.id === "hang-on")
      model
        .edit({ edit: "hang-insert", id: insert, on: field.value ? Number(field.value) : null, frame: model.frame })
        .catch(told);
    else if (field.id === "key-ease") model.arrange({ how: "ease", ease: field.value, value: keyValue() }).catch(told);
    else if (field.id === "key-value") {
      model.curveOf = field.value;
      model.select();
    } else if (of === "colour") material(field, { colour: field.value }).catch(told);
    else if (of && of !== "map")
      material(field, { [of]: field.value.trim() === "" ? null : Number(field.value) }).catch(told);
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
          where: kept.where,
          depth: depth(),
        }),
      "place-file": (button) => {
        if (wants || swapping) say("");
        return use(button.dataset.asset ?? "", () => model.toggle(fileTool(button.dataset)));
      },
      "place-item": async ({ dataset }) => {
        const { item = "", insertKind: what = "sign" } = dataset,
          { tool } = model;
        if (!wants && !swapping && tool.kind === "place" && tool.item === item) return model.putAway();
        making = item;
        say(`making the ${item.replaceAll("-", " ")}`);
        const response = await fetch(`/library/${item}`, { method: "POST" });
        // Something else was chosen meanwhile.
        if (making !== item) return undefined;
        making = "";
        if (!response.ok) return say(await refusal(response));
        const { name, file, reading } = await response.json(),
          said = `${file}: ${reading}`;
        say(said);
        const placing = { stance: kept.stance, where: kept.where, depth: depth() };
        return use(name, () => model.take({ kind: "place", what, asset: name, item, said, ...placing }));
      },
      dress: ({ dataset }) => {
        const insert = model.chosenOf("insert");
        if (insert === null) return say("choose a title or a prop first; a material dresses it");
        return model.change("dress", { insert, with: dataset.item });
      },
      "swap-file": () => {
        swapping = !swapping;
        say(swapping ? "choose the file that is to be shown instead" : "");
        model.enter("inserts");
      },
      arrange: ({ dataset }) => {
        const how = dataset.how ?? "";
        return model.arrange(/key/.test(how) ? { how, value: keyValue() } : { how });
      },
      "put-back": ({ dataset }) => model.arrange({ how: "put-back", values: [dataset.value] }),
      "put-all-back": () => model.arrange({ how: "put-back" }),
      "set-pivot": () => model.arrange({ how: "pivot", at: byId("pivot-at").value }),
      "set-size": () => {
        const is = fieldValue(byId("size-is"));
        if (is === null) return noNumber(byId("size-is"));
        return model.arrange({ how: "size", of: byId("size-of").value, is });
      },
      between: () => {
        const of = byId("size-of").value;
        return model.toggle({
          kind: "picks",
          what: "between",
          most: 2,
          picks: [],
          done: ([from, to]) => model.arrange({ how: "between", of, from, to }),
        });
      },
      "pick-path": () =>
        model.toggle({
          kind: "picks",
          what: "path",
          most: 200,
          picks: [],
          done: (through) => model.arrange({ how: "path", through }),
        }),
      "pull-corners": () => model.toggle({ kind: "pull", frames: [] }),
      cover: () => {
        const [part, fit] = [byId("cover-part").value, byId("cover-fit").value];
        ask("choose the picture for the letters", (asset) => model.arrange({ how: "cover", part, asset, fit }));
      },
      "cover-plate": () =>
        model.arrange({
          how: "cover",
          part: byId("cover-part").value,
          asset: null,
          plate: true,
          fit: byId("cover-fit").value,
        }),
      cut: () => cutBy(false),
      "cut-outside": () => cutBy(true),
      uncut: () => model.arrange({ how: "outline" }),
      uncover: () => model.arrange({ how: "cover", part: byId("cover-part").value, asset: null }),
      "own-font": () => ask("choose the font, or take one in", (asset) => model.arrange({ how: "font", asset })),
      "material-map": (button) => {
        const map = /** @type {HTMLSelectElement} */ (button.parentElement?.querySelector('[data-of="map"]')).value,
          of = /** @type {HTMLElement} */ (button.closest("[data-material]")).dataset.material;
        ask(`choose the picture for ${of}`, (asset) =>
          model.arrange({ how: "material", name: of, maps: { [map]: asset } }),
        );
      },
      "material-plain": (button) => material(button, { plain: true }),
      switch: ({ dataset }) => toggle(model.chosenOf("insert") ?? -1, dataset.value ?? ""),
      "switch-line": ({ dataset }) => toggle(Number(dataset.insert), dataset.value ?? ""),
      duplicate: async () => {
        if (await model.change("duplicate", { insert: model.chosenOf("insert") })) model.chooseNewest("insert");
      },
      "copy-to": async () => {
        const to = byId("other-shot");
        if (await model.change("copy-to", { insert: model.chosenOf("insert"), to: Number(to.value) }))
          say(`put into ${to.selectedOptions[0].textContent}`);
      },
      group: () => model.edit({ edit: "group-inserts", ids: [model.chosenOf("insert")], name: "", frame: model.frame }),
      "order-up": () => order(-1),
      "order-down": () => order(1),
      "take-out": () =>
        model.edit({
          edit: "take-out-copy",
          id: model.chosenOf("insert"),
          copy: Number(byId("copy-number").value) - 1,
        }),
      "choose-insert": (button) => model.choose({ kind: "insert", id: Number(button.dataset.insert) }),
      "remove-insert": (button) => model.edit({ edit: "remove-insert", id: Number(button.dataset.id) }),
    },
    show,
    input(target, done) {
      if (target.id === "file-in" && done) {
        const { files } = /** @type {HTMLInputElement} */ (target);
        if (files) takeIn(files).catch(told);
      }
      if (done) heed(/** @type {HTMLInputElement} */ (target));
      if (!/^place-(as|stance|where|depth)$/.test(target.id)) return;
      kept.where = byId("place-where").value;
      kept.as = byId("place-as").value;
      kept.stance = byId("place-stance").value;
      // What is in hand is what was chosen now.
      const { tool } = model;
      if (tool.kind !== "place") return;
      const free = tool.asset && /^(sign|effect|backdrop)$/.test(tool.what);
      const stance = tool.asset ? kept.stance : tool.stance;
      model.take({ ...tool, what: free ? kept.as : tool.what, stance, where: kept.where, depth: depth() });
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
