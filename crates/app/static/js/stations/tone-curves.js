// @ts-check
/** Curves of tones as they look, over the fields that hold their places: the places are dragged up and down. */
import { fieldValue } from "../fields.js";
import { PLACES, toneAt } from "../math/tone-curve.js";
import { shownValue } from "../math/values.js";

const SVG = "http://www.w3.org/2000/svg";
/** What each curve is of, by how its fields begin. @type {Record<string, string>} */
const CURVES = { curve: "all", "curve-red": "red", "curve-green": "green", "curve-blue": "blue" };
/** The box that it is drawn in, and room about it. */
const SIDE = 100;
const ROOM = 6;

/** @param {string} name @param {Record<string, string | number>} [attributes] */
function drawn(name, attributes = {}) {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, String(value));
  return element;
}

/** @param {HTMLElement} fold @param {string} curve @returns {HTMLInputElement[]} */
const fieldsOf = (fold, curve) =>
  PLACES.map((place) => /** @type {any} */ (fold.querySelector(`input[name="${curve}-${place}"]`)));

/** @param {HTMLInputElement} field */
const valueOf = (field) => fieldValue(field) ?? 0;
const across = (/** @type {number} */ x) => ROOM + SIDE * x;
const down = (/** @type {number} */ y) => ROOM + SIDE * (1 - y);

/** Draws all curves of a fold; the one in hand lies over the others, with its places. @param {HTMLElement} fold */
function paint(fold) {
  const svg = /** @type {SVGElement} */ (fold.querySelector(".tone-curves svg")),
    inHand = /** @type {HTMLSelectElement} */ (fold.querySelector(".tone-curves select")).value;
  const lines = Object.keys(CURVES).sort((a, b) => Number(a === inHand) - Number(b === inHand));
  const values = lines.map((curve) => fieldsOf(fold, curve).map(valueOf));
  const looks = JSON.stringify([inHand, values]);
  if (svg.dataset.looks === looks) return;
  svg.dataset.looks = looks;
  const grid = [0.25, 0.5, 0.75].flatMap((v) => [
    drawn("line", { x1: across(v), x2: across(v), y1: down(0), y2: down(1), class: "grid" }),
    drawn("line", { y1: down(v), y2: down(v), x1: across(0), x2: across(1), class: "grid" }),
  ]);
  const curves = lines.map((curve, k) => {
    const steps = Array.from({ length: 49 }, (_, i) => i / 48);
    const points = steps.map((x) => `${across(x)},${down(Math.min(Math.max(toneAt(values[k], x), 0), 1))}`);
    return drawn("polyline", {
      points: points.join(" "),
      class: `of-${CURVES[curve]}${curve === inHand ? " in-hand" : ""}`,
    });
  });
  const places = values[lines.indexOf(inHand)].map((y, k) =>
    drawn("circle", { cx: across(k / 4), cy: down(y), r: 3.4, "data-place": PLACES[k] }),
  );
  svg.replaceChildren(drawn("rect", { x: ROOM, y: ROOM, width: SIDE, height: SIDE }), ...grid, ...curves, ...places);
}

/** Puts the drawing over the fields of a fold. @param {HTMLElement} fold */
function mount(fold) {
  const figure = document.createElement("figure"),
    choice = document.createElement("select"),
    svg = drawn("svg", { viewBox: `0 0 ${SIDE + 2 * ROOM} ${SIDE + 2 * ROOM}`, role: "img" });
  figure.className = "tone-curves";
  svg.setAttribute("aria-label", "Curves of tones; their places are the fields below");
  choice.dataset.quiet = "";
  choice.setAttribute("aria-label", "curve in hand");
  for (const [name, of] of Object.entries(CURVES)) choice.append(new Option(of, name));
  figure.append(choice, svg);
  fold.querySelector("summary")?.after(figure);
  choice.addEventListener("change", (event) => {
    // It is no value of the form about it.
    event.stopPropagation();
    paint(fold);
  });
  svg.addEventListener("pointerdown", (event) => {
    const at = /** @type {PointerEvent} */ (event),
      place = /** @type {SVGElement} */ (at.target).dataset?.place;
    const field = place && fieldsOf(fold, choice.value)[PLACES.indexOf(place)];
    if (!field || field.disabled) return;
    at.preventDefault();
    const box = svg.getBoundingClientRect(),
      before = field.value;
    /** @param {PointerEvent} moved */
    const drag = (moved) => {
      const y = 1 - (((moved.clientY - box.top) / box.height) * (SIDE + 2 * ROOM) - ROOM) / SIDE;
      field.value = shownValue(Math.min(Math.max(y, 0), 1));
      paint(fold);
    };
    const done = () => {
      svg.removeEventListener("pointermove", drag);
      if (field.value !== before) field.dispatchEvent(new Event("change", { bubbles: true }));
    };
    svg.setPointerCapture(at.pointerId);
    svg.addEventListener("pointermove", drag);
    svg.addEventListener("pointerup", done, { once: true });
    svg.addEventListener("pointercancel", done, { once: true });
  });
}

/** @returns {import("./station.js").Station} */
export function toneCurves() {
  const show = () =>
    requestAnimationFrame(() => {
      for (const first of document.querySelectorAll('details input[name="curve-black"]')) {
        const fold = /** @type {HTMLElement} */ (first.closest("details"));
        if (!fold.querySelector(".tone-curves")) mount(fold);
        paint(fold);
      }
    });
  return { show, frame: show };
}
