// @ts-check
/** Values over time of what stands nowhere, the light and the finish: shown as they are at the playhead, and keyed. */
import { NUMBER, PLACE, keysOf, valueAt } from "../math/curve.js";
import { shownValue } from "../math/values.js";

/** What the fields of the light are called in its document. @type {Record<string, string>} */
const LIGHT = {
  bearing: "bearing_deg",
  height: "height_deg",
  sun: "sun",
  "sun-colour": "sun_colour",
  "sun-width": "sun_width_deg",
  "sun-shadow": "sun_shadow",
  ambient: "ambient",
  "ambient-colour": "ambient_colour",
  "floor-shadow": "floor_shadow",
};

/** @param {number[]} colour */
const written = (colour) => `#${colour.map((v) => Math.round(v).toString(16).padStart(2, "0")).join("")}`;

/** @param {import("./station.js").Context} context @returns {import("./station.js").Station} */
export function timed({ model }) {
  /** A value over time, by its form and the name of its field. @param {HTMLFormElement} form @param {string} name */
  function trackOf(form, name) {
    const { light, lens, finish } = model.state;
    if (form.classList.contains("catch-form")) {
      const surface = /** @type {HTMLInputElement} */ (form.elements.namedItem("surface")).value;
      const catcher = light.catchers?.find((/** @type {any} */ c) => String(c.surface ?? 0) === surface);
      return name === "tint" ? catcher?.tint : catcher?.numbers?.[name];
    }
    if (form.id === "light") return light[LIGHT[name] ?? name];
    if (form.id === "around") return light.surroundings?.numbers?.[name];
    if (form.id === "lens") return name === "haze-colour" ? lens.haze_colour : lens.numbers?.[name];
    return finish.numbers?.[name];
  }

  /** Fills the fields of a form that change over time. @param {HTMLFormElement} form */
  function fill(form) {
    for (const field of /** @type {NodeListOf<HTMLInputElement>} */ (form.querySelectorAll(".keyed input"))) {
      const track = trackOf(form, field.name);
      if (!keysOf(track).length || field === document.activeElement) continue;
      const many = Array.isArray(keysOf(track)[0].value);
      const now = many ? written(valueAt(PLACE, track, model.frame)) : valueAt(NUMBER, track, model.frame);
      field.value = many ? now : shownValue(Number(now));
      field.defaultValue = field.value;
      if (!many) field.dataset.full = String(now);
    }
  }

  function show() {
    if (!model.state) return;
    for (const form of /** @type {NodeListOf<HTMLFormElement>} */ (
      document.querySelectorAll("#light, #around, #finish, #lens, .catch-form")
    ))
      fill(form);
  }

  return {
    acts: {
      "key-of": (button) => {
        const station = /** @type {HTMLElement} */ (button.closest("[data-station]")),
          name = /** @type {HTMLSelectElement} */ (station.querySelector("[data-key-value]")).value;
        // Of the light, or of what stands before a colon.
        const [of, own] = name.includes(":") ? name.split(":") : [station.dataset.station, name],
          [catches, surface] = of?.split(" ") ?? [];
        const holder = surface === undefined ? of : { [catches]: Number(surface) };
        return model.change("keys", { of: holder, name: own, frame: model.frame, how: button.dataset.how });
      },
    },
    show,
    frame: show,
  };
}
