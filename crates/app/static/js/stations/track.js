// @ts-check
/** Track: which tracks are selected, deleted, used anyway; and looking first. */
import { chosenBy } from "../math/filter.js";
import { Look } from "./look.js";
import { enable, press } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station & {look: Look}} */
export function track({ model, byId }) {
  const look = new Look(model, byId),
    /** Parts of the frame that the filter takes. */ parts = new Set([4]);
  /**
   * What the filter was set to; the station is drawn anew now and then.
   * @type {{kind: string, limit: string, from: string|null, to: string|null}}
   */
  let kept = { kind: "error", limit: "0.5", from: null, to: null };
  const selected = () => [...model.selected];

  /** What the filter as it is set would take. */
  function filtered() {
    const value = (/** @type {string} */ id) => Number(byId(id)?.value) || 0;
    return chosenBy(model, {
      kind: byId("filter-kind").value,
      limit: value("filter-limit"),
      from: value("filter-from"),
      to: value("filter-to"),
      parts: [...parts],
    });
  }

  /** A filter tells how many it takes before it takes them. */
  function showFilter() {
    const kind = byId("filter-kind");
    if (!kind) return;
    kind.value = kept.kind;
    byId("filter-limit").value = kept.limit;
    if (kept.from !== null) byId("filter-from").value = kept.from;
    if (kept.to !== null) byId("filter-to").value = kept.to;
    byId("filter-one").hidden = !["error", "short"].includes(kind.value);
    byId("filter-two").hidden = !["span", "whole"].includes(kind.value);
    byId("filter-part").hidden = kind.value !== "region";
    for (const b of document.querySelectorAll("[data-region]"))
      b.setAttribute("aria-pressed", String(parts.has(Number(/** @type {HTMLElement} */ (b).dataset.region))));
    const n = filtered().length,
      button = byId("filter-select");
    button.textContent = `Select ${n} track${n === 1 ? "" : "s"}`;
    button.disabled = n === 0;
  }

  async function deleteTracks() {
    const tracks = selected();
    model.selected.clear();
    await model.edit({ edit: "delete-tracks", tracks });
  }

  return {
    look,
    acts: {
      look: () => look.toggle(),
      see: () => look.toggleSeen(),
      filter: () => {
        model.selected = new Set(filtered());
        model.select();
      },
      lasso: () => model.toggle({ kind: "lasso" }),
      "delete-tracks": deleteTracks,
      "restore-tracks": () => model.edit({ edit: "restore-tracks", tracks: [...model.deleted] }),
      "restore-selected": () =>
        model.edit({ edit: "restore-tracks", tracks: selected().filter((id) => model.deleted.has(id)) }),
      "show-deleted": () => {
        model.showDeleted = !model.showDeleted;
        model.select();
      },
      "select-outliers": (button) => {
        const of = [...model.outliers.values()].filter((a) => a.reason === button.dataset.why);
        model.selected = new Set(of.filter((a) => !model.deleted.has(a.id)).map((a) => a.id));
        model.select();
      },
      "trust-tracks": () => model.edit({ edit: "trust-tracks", tracks: selected() }),
      "doubt-tracks": () =>
        model.edit({ edit: "doubt-tracks", tracks: model.selected.size ? selected() : [...model.trusted] }),
      "mask-tracks": async () => {
        if (await model.change("masks/round-tracks", { tracks: selected() })) model.chooseNewest("mask");
      },
    },
    show() {
      const n = model.selected.size,
        count = byId("selected-count");
      if (count) count.textContent = String(n);
      for (const act of ["delete-tracks", "mask-tracks", "trust-tracks"]) enable(act, n > 0);
      enable(
        "restore-selected",
        selected().some((id) => model.deleted.has(id)),
      );
      press("show-deleted", () => model.showDeleted);
      press("lasso", () => model.tool.kind === "lasso");
      showFilter();
      look.show();
    },
    frame() {
      if (byId("filter-kind")?.value === "region") showFilter();
      look.ask();
    },
    input(target, done) {
      if (target.closest("#filter")) {
        const value = (/** @type {string} */ id) => byId(id).value;
        kept = {
          kind: value("filter-kind"),
          limit: value("filter-limit"),
          from: value("filter-from"),
          to: value("filter-to"),
        };
        showFilter();
      }
      if (!done && target.closest("#track-settings")) look.ask();
    },
    click(target) {
      const part = /** @type {HTMLElement|null} */ (target.closest("[data-region]"));
      if (!part) return;
      const n = Number(part.dataset.region);
      if (parts.has(n)) parts.delete(n);
      else parts.add(n);
      showFilter();
    },
  };
}
