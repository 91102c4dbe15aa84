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
export function timed({ model, byId }) {
  /** A value over time, by the name of its field. @param {string} form @param {string} name */
  function trackOf(form, name) {
    const { light, lens, finish } = model.state;
    if (form === "light") return light[LIGHT[name] ?? name];
    if (form === "lens") return name === "haze-colour" ? lens.haze_colour : lens.numbers?.[name];
    return finish.numbers?.[name];
  }

  /** Fills the fields of a form that change over time. @param {string} id */
  function fill(id) {
    const form = byId(id);
    if (!form) return;
    for (const field of form.querySelectorAll(".keyed input")) {
      const track = trackOf(id, field.name);
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
    fill("light");
    fill("finish");
    fill("lens");
  }

  return {
    acts: {
      "key-of": (button) => {
        const station = /** @type {HTMLElement} */ (button.closest("[data-station]")),
          name = /** @type {HTMLSelectElement} */ (station.querySelector("[data-key-value]")).value;
        return model.change("keys", { of: station.dataset.station, name, frame: model.frame, how: button.dataset.how });
      },
    },
    show,
    frame: show,
  };
}
