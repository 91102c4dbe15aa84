// @ts-check
/** The route beside the stage, drawn anew without disturbing whoever is at work in it. */
import { formValues, heedArrows } from "./fields.js";
import { told } from "./notes.js";

/** @typedef {HTMLInputElement|HTMLTextAreaElement} Field */

/** Where typing waits for a button, so that it must outlast any drawing anew. */
const WAITS = "form[hx-post]:not([hx-trigger]) input, [data-waits]";

export class Route {
  /**
   * @param {HTMLElement} root @param {import("./model.js").Model} model
   * @param {{drawn: () => void, typing: () => void}} tell called when it was drawn anew, and when half-typed text is
   * back in its field
   */
  constructor(root, model, tell) {
    this.root = root;
    this.model = model;
    this.tell = tell;
    /** How often something came to be drawn. */ this.came = 0;
    /** How often the route was asked for. */ this.asked = 0;
    /** Whether a button is being pressed: a route drawn anew just then would lose the click. */ this.pressed = false;
    /** What came meanwhile. @type {{html: string, load: boolean, form: Element|null}|null} */ this.held = null;
    /** Requests that are not answered yet. @type {Set<string>} */ this.underway = new Set();
    this.open = /** @type {string|null} */ (null);
    this.typed = /** @type {ReturnType<Route["halfTyped"]>} */ ([]);
    model.addEventListener("route", (event) => {
      const { detail } = /** @type {CustomEvent} */ (event);
      this.put(detail.html, false, detail.form);
    });
    model.addEventListener("stale", () => this.reload().catch(told));
    this.heedPresses();
    this.heedRequests();
    heedArrows(root);
    // Enter would load the page anew where a form sends each change by itself.
    root.addEventListener("submit", (event) => {
      if (/** @type {Element} */ (event.target).hasAttribute("hx-trigger")) event.preventDefault();
    });
  }

  /**
   * @param {string} html
   * @param {boolean} [load] whether the model is to be brought up to it
   * @param {Element|null} [form] what is answered
   */
  put(html, load = false, form = null) {
    this.came++;
    if (this.pressed) {
      this.held = { html, load: load || !!this.held?.load, form };
      return;
    }
    this.before(form);
    this.root.innerHTML = html;
    globalThis.htmx.process(this.root);
    this.after(load);
  }

  /** Fetches route and model anew. */
  async reload() {
    const turn = ++this.asked;
    let html = "",
      came;
    // What was drawn while the answer was on its way may be later than the answer.
    do {
      came = this.came;
      html = await (await this.model.get("route")).text();
      if (turn !== this.asked) return;
    } while (came !== this.came);
    this.put(html);
    await this.model.load();
  }

  /** Notes what is to outlast the drawing. @param {Element|null} sent the form that is answered */
  before(sent) {
    this.open = /** @type {HTMLElement|null} */ (this.root.querySelector(".station[open]"))?.dataset.station ?? null;
    this.typed = this.halfTyped(sent);
  }

  /** @param {boolean} load */
  after(load) {
    const stations = /** @type {HTMLElement|null} */ (this.root.querySelector("#stations"));
    for (const station of this.root.querySelectorAll(".station"))
      station.toggleAttribute("open", /** @type {HTMLElement} */ (station).dataset.station === this.open);
    const back = this.typeBack();
    if (this.model.state) this.tell.drawn();
    if (back) this.tell.typing();
    if (load && Number(stations?.dataset.revision) !== this.model.state?.revision) this.model.load().catch(told);
  }

  /**
   * What is typed and not sent: where it waits for a button, and in the field where somebody is in the middle of it.
   * @param {Element|null} sent
   */
  halfTyped(sent) {
    const typed = (/** @type {Field} */ f) =>
      f.value !== f.defaultValue && (f === document.activeElement || (f.matches(WAITS) && !(sent && f.form === sent)));
    const fields = /** @type {Field[]} */ ([...this.root.querySelectorAll("input, textarea")]);
    return fields.filter(typed).map((f) => ({ at: placeOf(f), value: f.value, active: f === document.activeElement }));
  }

  /** @returns {boolean} whether somebody goes on typing */
  typeBack() {
    let goesOn = false;
    for (const { at, value, active } of this.typed) {
      const field = /** @type {Field|null} */ (this.root.querySelector(at));
      if (!field || field.value === value) continue;
      if (active) field.focus();
      field.value = value;
      goesOn ||= active;
    }
    this.typed = [];
    return goesOn;
  }

  heedPresses() {
    const released = () => {
      if (!this.pressed) return;
      // The click comes right after the release.
      setTimeout(() => {
        this.pressed = false;
        const { held } = this;
        this.held = null;
        if (held) this.put(held.html, held.load, held.form);
      });
    };
    this.root.addEventListener("pointerdown", (event) => {
      this.pressed = event.button === 0 && !!(/** @type {Element} */ (event.target).closest("button, summary, a"));
    });
    for (const kind of ["pointerup", "pointercancel"]) window.addEventListener(kind, released, true);
    // A release outside the window is not always told.
    window.addEventListener(
      "pointermove",
      (event) => {
        if (!(event.buttons & 1)) released();
      },
      true,
    );
  }

  /**
   * Forms and buttons of the route send what they hold at once, one after the other: an answer draws the route anew,
   * and what was pressed meanwhile must not go with the old one.
   */
  heedRequests() {
    document.body.addEventListener("htmx:confirm", (event) => {
      const { elt, verb, path } = /** @type {CustomEvent} */ (event).detail;
      if (verb !== "post" || !this.root.contains(elt)) return;
      event.preventDefault();
      const form = elt instanceof HTMLFormElement ? elt : null;
      const fields = form ? formValues(form) : new URLSearchParams(JSON.parse(elt.getAttribute("hx-vals") ?? "{}"));
      if (!fields) return;
      // Several events of one change of a form ask for the same; a button that is pressed twice is meant twice.
      const asked = `${path}?${fields}`;
      if (form && this.underway.has(asked)) return;
      this.underway.add(asked);
      this.model
        .sendFields(path, fields, form)
        .catch(told)
        .finally(() => this.underway.delete(asked));
    });
  }
}

/** How a field is found again in the route drawn anew. @param {Field} field */
function placeOf(field) {
  if (field.id) return `#${field.id}`;
  const line = /** @type {HTMLElement|null} */ (field.closest(".mask-line"));
  const within = line
    ? `.mask-line[data-mask="${line.dataset.mask}"]`
    : `form[hx-post="${field.form?.getAttribute("hx-post")}"]`;
  return `${within} [name="${field.name}"]`;
}
