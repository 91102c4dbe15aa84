// @ts-check
/** Datum: what is proposed, by points, by the picture, by values; and the surfaces. */
import { fieldValue, noNumber } from "../fields.js";
import { enable, press } from "./station.js";

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function datum({ model, byId }) {
  /** What becomes of what is placed, as it was chosen last. */
  let follow = "picture";

  /** What fields say; null, and noted, where one is no number. @param {string[]} ids @returns {number[]|null} */
  function typed(ids) {
    const fields = ids.map(byId).filter(Boolean),
      values = fields.map(fieldValue),
      wrong = values.indexOf(null);
    if (wrong < 0) return /** @type {number[]} */ (values);
    noNumber(fields[wrong]);
    return null;
  }

  /** What is typed for turns, shifts and size is seen on the grid at once. */
  function preview() {
    const read = (/** @type {string[]} */ ids) => ids.map((id) => (byId(id) ? fieldValue(byId(id)) : 0));
    const axes = ["x", "y", "z"],
      turn = read(axes.map((k) => `turn-${k}`)),
      shift = read(axes.map((k) => `shift-${k}`)),
      [factor] = read(["scale-by"]);
    const whole = [...turn, ...shift, factor].every((v) => v !== null);
    const none = [...turn, ...shift].every((v) => v === 0) && factor === 1;
    model.preview =
      whole && !none
        ? {
            turn: /** @type {number[]} */ (turn),
            shift: /** @type {number[]} */ (shift),
            factor: /** @type {number} */ (factor),
          }
        : null;
    model.touch();
  }

  /** @param {object} what */
  const lay = (what) => model.change("datum", { follow, ...what });

  /** Does something with the one number of a field. @param {string} id @param {(value: number) => any} act */
  function withOne(id, act) {
    const value = typed([id]);
    return value ? act(value[0]) : undefined;
  }

  /** Changes the chosen surface. @param {object} how */
  const change = (how) => lay({ action: "change", surface: model.chosenOf("surface"), ...how });

  const selected = () => [...model.selected];

  /** @param {boolean} more */
  const scale = (more) =>
    withOne("distance", (distance_m) => {
      const [from, to] = selected();
      return lay({ action: "scale", from, to, distance_m, more });
    });

  return {
    acts: {
      "take-datum": (button) => lay({ action: "take", floor: Number(button.dataset.floor) }),
      floor: () => lay({ action: "floor", points: selected() }),
      surface: () => lay({ action: "surface", points: selected() }),
      origin: () => lay({ action: "origin", at: selected() }),
      heading: () => {
        const [from, to] = selected();
        return lay({ action: "heading", from, to });
      },
      scale: () => scale(false),
      "scale-more": () => scale(true),
      "forget-distance": (button) => lay({ action: "forget-distance", index: Number(button.dataset.index) }),
      line: (button) => model.toggle({ kind: "line", role: button.dataset.role ?? "upright" }),
      "forget-line": () => lay({ action: "forget-line", index: model.state.lines.length - 1 }),
      "upright-by-lines": () => lay({ action: "upright-by-lines" }),
      "heading-by-lines": () => lay({ action: "heading-by-lines" }),
      rod: () => withOne("rod", (height) => model.toggle({ kind: "rod", height })),
      corners: () => model.toggle({ kind: "corners" }),
      measure: () => model.toggle({ kind: "measure" }),
      turn: () => model.toggle({ kind: "turn" }),
      "choose-surface": (button) => model.choose({ kind: "surface", id: Number(button.dataset.surface) }),
      "remove-surface": (button) => model.edit({ edit: "remove-surface", id: Number(button.dataset.id) }),
      "push-surface": () => withOne("push", (by_m) => change({ change: "push", by_m })),
      "square-surface": () => change({ change: "square", to: byId("against").value }),
      "hinge-surface": () =>
        withOne("hinge", (angle_deg) => change({ change: "hinge", to: byId("against").value, angle_deg })),
      flip: () => lay({ action: "flip" }),
      "up-axis": (button) => lay({ action: "up-axis", axis: button.dataset.axis }),
      "reset-datum": (button) => lay({ action: "reset", part: button.dataset.part }),
      "scale-by": () => withOne("scale-by", (factor) => lay({ action: "scale-by", factor })),
      "camera-height": () => withOne("camera-height", (height_m) => lay({ action: "camera-height", height_m })),
      "pan-height": () => withOne("pan-height", (height_m) => lay({ action: "camera-height", height_m })),
      // Turns and shifts the world by what is typed, which is then back at none.
      nudge: () => {
        const axes = ["x", "y", "z"],
          turn = typed(axes.map((k) => `turn-${k}`)),
          shift = typed(axes.map((k) => `shift-${k}`));
        if (!turn || !shift) return undefined;
        for (const field of document.querySelectorAll("[id^=turn-], [id^=shift-]"))
          /** @type {HTMLInputElement} */ (field).value = /** @type {HTMLInputElement} */ (field).defaultValue;
        return lay({ action: "nudge", turn_deg: turn, shift_m: shift.length ? shift : [0, 0, 0] });
      },
    },
    input(target, done) {
      if (target.closest("#by-values")) preview();
      if (target.id === "follow") follow = /** @type {HTMLSelectElement} */ (target).value;
      const form = /** @type {HTMLElement|null} */ (target.closest(".surface-form"));
      if (!form || !done || !/^(name|kind)$/.test(/** @type {HTMLInputElement} */ (target).name)) return;
      const field = (/** @type {string} */ name) =>
        /** @type {HTMLInputElement} */ (form.querySelector(`[name="${name}"]`)).value;
      change({ change: "rename", name: field("name"), kind: field("kind") });
    },
    show() {
      const n = model.selected.size,
        { tool } = model;
      for (const act of ["floor", "surface"]) enable(act, model.own && n >= 3);
      enable("origin", model.own && n >= 1);
      for (const act of ["heading", "scale", "scale-more"]) enable(act, model.own && n === 2);
      press("line", (b) => tool.kind === "line" && tool.role === b.dataset.role);
      press("rod", () => tool.kind === "rod");
      press("turn", () => tool.kind === "turn");
      press("measure", () => tool.kind === "measure");
      press("corners", () => tool.kind === "corners");
      press("choose-surface", (b) => Number(b.dataset.surface) === model.chosenOf("surface"));
      const choice = byId("follow");
      if (choice) choice.value = follow;
    },
  };
}
