// @ts-check
/** The masks of the analysis: their lines at Track, and the sheet of the chosen one. */
import { fieldValue, noNumber } from "../fields.js";
import { withoutKey } from "../math/outline.js";
import { note } from "../notes.js";
import { press } from "./station.js";

/** @typedef {import("../math/outline.js").Mask} Mask */

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function masks({ model, byId }) {
  /** @param {HTMLElement} button @returns {Mask|undefined} */
  const maskOf = (button) => model.state.masks.find((/** @type {Mask} */ m) => m.id === Number(button.dataset.id));

  /** @param {Mask} mask */
  async function copy(mask) {
    // A little aside, so that both are seen.
    const aside = (/** @type {number[][]} */ places) => places.map(([x, y]) => [x + 24, y + 24]);
    const keys = mask.keys.map((k) => ({
      ...k,
      outline: aside(k.outline),
      ...(k.along && { along: k.along.map(aside) }),
    }));
    if (await model.edit({ edit: "add-mask", mask: { ...mask, name: `${mask.name} copy`, keys } }))
      model.chooseNewest("mask");
  }

  /** What was typed into the sheet of a mask. @param {HTMLElement} form */
  async function change(form) {
    const mask = model.state.masks.find((/** @type {Mask} */ m) => m.id === Number(form.dataset.mask));
    if (!mask) return;
    const field = (/** @type {string} */ name) =>
      /** @type {HTMLInputElement|null} */ (form.querySelector(`[name="${name}"]`));
    const feather = /** @type {HTMLInputElement} */ (field("feather")),
      feather_px = fieldValue(feather);
    if (feather_px === null) return noNumber(feather);
    const corners = (field("feathers")?.value ?? "")
      .split(/[\s,;]+/)
      .filter(Boolean)
      .map(Number);
    if (corners.some((v) => !Number.isFinite(v))) return note("Write one number a corner, parted by blanks.");
    const edge = { feather_px, corner_feathers_px: corners };
    const mode = field("mode");
    // The sheet of a holdout shows no more of its shape.
    if (!mode) return model.edit({ edit: "change-mask", mask: { ...mask, ...edge } });
    const [first, last] = ["first", "last"].map((name) => field(name)?.value ?? ""),
      end = model.state.frames - 1;
    const span =
      first === "" && last === "" ? null : [first === "" ? 0 : Number(first), last === "" ? end : Number(last)];
    const typed = { name: field("name")?.value, mode: mode.value, inverted: !!field("inverted")?.checked, span };
    await model.edit({ edit: "change-mask", mask: { ...mask, ...typed, ...edge } });
  }

  return {
    acts: {
      draw: (button) => model.toggle({ kind: "outline", mode: button.dataset.mode ?? "keep-out", corners: [] }),
      "choose-mask": (button) => model.choose({ kind: "mask", id: Number(button.dataset.mask) }),
      "remove-mask": (button) => model.edit({ edit: "remove-mask", id: Number(button.dataset.id) }),
      "copy-mask": (button) => {
        const mask = maskOf(button);
        return mask && copy(mask);
      },
      "unkey-mask": (button) => {
        const mask = maskOf(button);
        return mask && model.edit({ edit: "change-mask", mask: withoutKey(mask, model.frame) });
      },
      "follow-mask": (button) => model.change("jobs/follow", { mask: Number(button.dataset.id), frame: model.frame }),
      "stand-mask": (button) => model.change("stand-mask", { mask: Number(button.dataset.id), frame: model.frame }),
    },
    show() {
      const { tool } = model;
      press("draw", (b) => tool.kind === "outline" && tool.mode === b.dataset.mode);
      press("choose-mask", (b) => model.chosenOf("mask") === Number(b.dataset.mask));
      const hint = byId("mask-hint");
      if (hint)
        hint.textContent =
          tool.kind === "outline"
            ? "Click corner by corner; the first corner or Enter closes the outline, Esc gives it up."
            : "Masks count at once for the solve; track again so that points fill what is left.";
    },
    input(target, done) {
      const form = /** @type {HTMLElement|null} */ (target.closest(".mask-form"));
      if (form && done) change(form);
    },
  };
}
