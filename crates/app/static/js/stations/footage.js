// @ts-check
/** Footage: a trim can begin and end at the playhead. */

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function footage({ model }) {
  return {
    click(target) {
      const button = /** @type {HTMLElement|null} */ (target.closest("[data-trim]"));
      const field = button?.closest("form")?.elements.namedItem(button.dataset.trim ?? "");
      if (button && field instanceof HTMLInputElement)
        field.value = String(model.frame + Number(button.dataset.offset));
    },
  };
}
