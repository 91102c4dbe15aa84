// @ts-check
/**
 * Fields for numbers: they show three decimals and keep what is stored, take units and sums, and step with the arrow
 * keys.
 */
import { note } from "./notes.js";
import { readValue, shownValue } from "./math/values.js";

/**
 * The value of a field in its usual unit: what is stored while nobody typed, else what was typed; null where that is
 * none.
 * @param {HTMLInputElement} field
 */
export function fieldValue(field) {
  if (field.value === field.defaultValue && field.dataset.full !== undefined) return Number(field.dataset.full);
  return readValue(field.value, field.dataset.measure ?? "plain");
}

/** Notes that a field holds no number. @param {HTMLInputElement} field */
export function noNumber(field) {
  const name = (field.closest("label")?.firstChild?.textContent ?? "").trim().replace(/,.*/, "");
  const units = { length: "in m, cm, mm, ft or in", angle: "in deg or rad", plain: "without a unit" }[
    field.dataset.measure ?? "plain"
  ];
  note(`“${field.value}” is no number for ${name || "this"}; write it ${units}, or as a sum like 2.4 + 0.1.`);
  field.focus();
}

/** The fields of a form as they are to be sent; null where one holds no number. @param {HTMLFormElement} form */
export function formValues(form) {
  const values = new URLSearchParams();
  for (const [name, value] of new FormData(form)) {
    const field = form.elements.namedItem(name);
    if (field instanceof HTMLInputElement && field.classList.contains("num")) {
      const number = fieldValue(field);
      if (number === null) {
        noNumber(field);
        return null;
      }
      values.set(name, String(number));
    } else {
      values.set(name, String(value));
    }
  }
  return values;
}

/** Arrow keys step, Shift steps tenfold. @param {HTMLElement} root */
export function heedArrows(root) {
  root.addEventListener("keydown", (event) => {
    const field = event.target;
    if (!(field instanceof HTMLInputElement) || !field.classList.contains("num") || !/^Arrow(Up|Down)$/.test(event.key))
      return;
    event.preventDefault();
    const now = fieldValue(field);
    if (now === null) {
      noNumber(field);
      return;
    }
    const step = Number(field.dataset.step ?? 1) * (event.shiftKey ? 10 : 1) * (event.key === "ArrowUp" ? 1 : -1);
    // Sums of steps come out as they are written.
    field.value = shownValue(Number((now + step).toPrecision(12)));
    field.dispatchEvent(new Event("change", { bubbles: true }));
  });
}
