// @ts-check
/** Looking first: where points would land on the current frame, while the values move. */
import { note, refusal } from "./notes.js";

export class Look {
  /** @param {import("./model.js").Model} model @param {(id: string) => any} byId */
  constructor(model, byId) {
    this.model = model;
    this.byId = byId;
    this.on = false;
    this.asking = false;
    this.again = false;
    this.words = "";
  }

  toggle() {
    this.on = !this.on;
    this.words = "";
    if (!this.on) { this.model.look = null; this.model.touch(); }
    this.show();
    return this.ask();
  }

  /** The route is drawn anew now and then; the button and the reading are filled again. */
  show() {
    this.byId("look-first")?.setAttribute("aria-pressed", String(this.on));
    const reading = this.byId("look-reading");
    if (reading) reading.textContent = this.words || (this.on ? "looking" : "where points would land here");
  }

  /** Asks for the values as they are; of several wishes at a time the last one counts. */
  async ask() {
    if (!this.on || !this.byId("track-settings")) return;
    if (this.asking) { this.again = true; return; }
    this.asking = true;
    const form = this.byId("track-settings"), { frame } = this.model;
    const field = (/** @type {string} */ name) => form.elements.namedItem(name).value;
    try {
      const response = await fetch(this.model.url(`look?frame=${frame}&spacing=${field("spacing")}&threshold=${field("threshold")}`));
      if (!response.ok) { this.words = await refusal(response); return; }
      const found = await response.json();
      if (!this.on) return;
      this.model.look = found;
      this.words = `${found.points.length} points · ${Math.round(100 * found.coverage)} % of the frame covered`;
      this.model.touch();
    } catch (error) {
      note(String(error));
    } finally {
      this.asking = false;
      this.show();
      if (this.again) { this.again = false; this.ask(); }
    }
  }
}
