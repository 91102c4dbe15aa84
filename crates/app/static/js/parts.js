// @ts-check
/**
 * The parts of the page that the server draws: each is swapped by itself when it looks otherwise, without disturbing
 * whoever is at work in it or in another.
 */
import { formValues, heedArrows } from "./fields.js";
import { told } from "./notes.js";

/** @typedef {HTMLInputElement|HTMLTextAreaElement} Field */

/** Where typing waits for a button, so that it must outlast any drawing anew. */
const WAITS = "form[hx-post]:not([hx-trigger]) input, [data-waits]";
/** What can be pressed. */
const PRESSED = "button, summary, a";

export class Parts {
  /**
   * @param {HTMLElement} root the page
   * @param {import("./state/model.js").Model} model
   * @param {{drawn: () => void, typing: () => void}} tell called when parts were drawn anew, and when half-typed text
   * is back in its field
   */
  constructor(root, model, tell) {
    this.root = root;
    this.model = model;
    this.tell = tell;
    /** How often parts came to be drawn. */ this.came = 0;
    /** How often they were asked for. */ this.asked = 0;
    /** Whether a button is being pressed: what is drawn anew just then would lose the click. */ this.pressed = false;
    /** What came meanwhile. @type {{html: string, form: Element|null}[]} */ this.held = [];
    /** Requests that are not answered yet. @type {Set<string>} */ this.underway = new Set();
    model.api.shown = () => this.shown();
    model.addEventListener("parts", (event) => {
      const { detail } = /** @type {CustomEvent} */ (event);
      this.put(detail.html, detail.form);
    });
    model.addEventListener("stale", () => this.reload().catch(told));
    this.heedPresses();
    this.heedRequests();
    heedArrows(root);
    // Enter would load the page anew where a form sends each change by itself.
    root.addEventListener("submit", (event) => {
      const form = /** @type {Element} */ (event.target);
      if (form.hasAttribute("hx-trigger") || !form.hasAttribute("method")) event.preventDefault();
    });
    root.addEventListener("toggle", (event) => this.toggled(/** @type {HTMLElement} */ (event.target)), true);
  }

  /** @returns {HTMLElement[]} */
  all() {
    return [...this.root.querySelectorAll(".part")].map((p) => /** @type {HTMLElement} */ (p));
  }

  /** What the page shows, for the server to leave out. What is held is as good as shown. */
  shown() {
    return this.all()
      .map((p) => `${p.dataset.part}=${p.dataset.stamp}`)
      .join(" ");
  }

  /** @param {string} name @returns {HTMLElement|null} */
  find(name) {
    return this.root.querySelector(`.part[data-part="${name}"]`);
  }

  /** Opens a station. @param {string} name */
  openStation(name) {
    const station = /** @type {HTMLDetailsElement|null} */ (this.root.querySelector(`[data-station="${name}"]`));
    if (station) station.open = true;
  }

  /** @param {HTMLElement} station */
  toggled(station) {
    // What is drawn over the picture follows what is unfolded.
    if (station.matches?.(".fold")) this.model.select();
    if (!station.matches?.(".station")) return;
    const open = /** @type {HTMLElement|null} */ (this.root.querySelector(".station[open]"));
    this.model.enter(open?.dataset.station ?? null);
  }

  /**
   * Swaps what an answer holds.
   * @param {string} html
   * @param {Element|null} [form] what is answered
   */
  put(html, form = null) {
    this.came++;
    if (this.pressed) {
      this.held.push({ html, form });
      return;
    }
    const fresh = new DOMParser().parseFromString(html, "text/html");
    let goesOn = false;
    for (const part of fresh.querySelectorAll(".part"))
      goesOn = this.swap(/** @type {HTMLElement} */ (document.adoptNode(part)), form) || goesOn;
    if (this.model.state) this.tell.drawn();
    if (goesOn) this.tell.typing();
  }

  /**
   * @param {HTMLElement} fresh @param {Element|null} form what is answered
   * @returns {boolean} whether somebody goes on typing in it
   */
  swap(fresh, form) {
    const old = this.find(fresh.dataset.part ?? "");
    if (!old) return false;
    const typed = halfTyped(old, form),
      station = fresh.querySelector(".station");
    if (station && old.querySelector(".station[open]")) station.toggleAttribute("open", true);
    // What was unfolded stays so.
    for (const [i, fold] of [...old.querySelectorAll(".fold")].entries()) {
      const same = fold.id ? fresh.querySelector(`[id="${fold.id}"]`) : fresh.querySelectorAll(".fold")[i];
      same?.toggleAttribute("open", /** @type {HTMLDetailsElement} */ (fold).open);
    }
    old.replaceWith(fresh);
    globalThis.htmx.process(fresh);
    return typeBack(fresh, typed);
  }

  /** Fetches what looks otherwise, and the model anew. */
  async reload() {
    const turn = ++this.asked;
    let html = "",
      came;
    // What was drawn while the answer was on its way may be later than the answer.
    do {
      came = this.came;
      html = await this.model.api.parts();
      if (turn !== this.asked) return;
    } while (came !== this.came);
    this.put(html);
    await this.model.load();
  }

  heedPresses() {
    const released = () => {
      if (!this.pressed) return;
      // The click comes right after the release.
      setTimeout(() => {
        this.pressed = false;
        for (const { html, form } of this.held.splice(0)) this.put(html, form);
      });
    };
    this.root.addEventListener("pointerdown", (event) => {
      const target = /** @type {Element} */ (event.target);
      this.pressed = event.button === 0 && !!target.closest(".part") && !!target.closest(PRESSED);
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
   * Forms and buttons send what they hold at once, one after the other: an answer draws parts anew, and what was
   * pressed meanwhile must not go with the old ones.
   */
  heedRequests() {
    document.body.addEventListener("htmx:confirm", (event) => {
      const { elt, verb, path, triggeringEvent } = /** @type {CustomEvent} */ (event).detail;
      if (verb !== "post" || !this.root.contains(elt)) return;
      event.preventDefault();
      // What waits for a button, or only says which, is no change of the form.
      if (elt instanceof HTMLFormElement && triggeringEvent?.target?.closest?.("[data-quiet], [data-waits]")) return;
      const form = elt instanceof HTMLFormElement ? elt : null;
      const fields = form ? formValues(form) : new URLSearchParams(JSON.parse(elt.getAttribute("hx-vals") ?? "{}"));
      if (!fields) return;
      if (form?.matches(".insert-form, [data-timed]")) fields.set("frame", String(this.model.frame));
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

/**
 * What is typed in a part and not sent: where it waits for a button, and in the field where somebody is in the middle
 * of it.
 * @param {HTMLElement} part @param {Element|null} sent the form that is answered
 */
function halfTyped(part, sent) {
  const typed = (/** @type {Field} */ f) =>
    f.value !== f.defaultValue && (f === document.activeElement || (f.matches(WAITS) && !(sent && f.form === sent)));
  const fields = /** @type {Field[]} */ ([...part.querySelectorAll("input, textarea")]);
  /** @type {{at: string, value: string|null, caret: Caret|null}[]} */
  const kept = fields
    .filter(typed)
    .map((f) => ({ at: placeOf(f), value: f.value, caret: f === document.activeElement ? caretOf(f) : null }));
  const active = document.activeElement;
  // Where somebody only stands, the place is kept.
  if (active instanceof HTMLElement && part.contains(active) && !kept.some((k) => k.caret)) {
    const field = /** @type {Field} */ (active);
    kept.push({ at: placeOf(field), value: null, caret: caretOf(field) });
  }
  return kept;
}

/** @typedef {{from: number|null, to: number|null, whole: boolean}} Caret */

/**
 * Where the next key would write. A number field tells no places, only whether all of it is selected, as it is after
 * Tab: what is typed next replaces it.
 * @param {Field} field @returns {Caret}
 */
function caretOf(field) {
  const chosen = document.getSelection()?.toString() ?? "";
  return {
    from: field.selectionStart ?? null,
    to: field.selectionEnd ?? null,
    whole: "select" in field && chosen !== "" && chosen === field.value,
  };
}

/** @param {Field} field @param {Caret} caret */
function standAgain(field, { from, to, whole }) {
  if (whole) field.select();
  else if (from !== null && typeof field.selectionStart === "number") field.setSelectionRange(from, to);
}

/**
 * @param {HTMLElement} part @param {ReturnType<typeof halfTyped>} typed
 * @returns {boolean} whether somebody goes on typing
 */
function typeBack(part, typed) {
  let goesOn = false;
  for (const { at, value, caret } of typed) {
    const field = /** @type {Field|null} */ (at ? part.querySelector(at) : null);
    if (!field) continue;
    if (caret) field.focus();
    if (value !== null && field.value !== value) {
      field.value = value;
      goesOn ||= caret !== null;
    }
    if (caret) standAgain(field, caret);
  }
  return goesOn;
}

/** How a field or a button is found again in its part drawn anew; nothing where it has no name. @param {Field} field */
function placeOf(field) {
  if (field.id) return `#${field.id}`;
  if (field.tagName === "SUMMARY") return "summary";
  const act = field.dataset.act;
  if (act)
    return `[data-act="${act}"]${[...Object.entries(field.dataset)]
      .filter(([k]) => k !== "act")
      .map(([k, v]) => `[data-${k}="${v}"]`)
      .join("")}`;
  const action = field.form?.getAttribute("hx-post");
  return field.name ? `${action ? `form[hx-post="${action}"] ` : ""}[name="${field.name}"]` : "";
}
