// @ts-check
/**
 * Looking first: where points would land on the current frame, and what the tracker sees of it, while the values move.
 */
import { refusal, told } from "../notes.js";

const FIELDS = ["density", "spacing", "threshold", "channel", "denoise", "contrast", "sharpen"];

export class Look {
  /** @param {import("../state/model.js").Model} model @param {(id: string) => any} byId */
  constructor(model, byId) {
    this.model = model;
    this.byId = byId;
    this.on = false;
    this.sees = false;
    this.asking = false;
    this.again = false;
    this.words = "";
  }

  toggle() {
    this.on = !this.on;
    this.words = "";
    if (!this.on) {
      this.model.look = null;
      this.model.touch();
    }
    this.show();
    return this.ask();
  }

  toggleSeen() {
    this.sees = !this.sees;
    if (!this.sees) {
      this.model.seen?.bitmap.close();
      this.model.seen = null;
      this.model.touch();
    }
    this.show();
    return this.ask();
  }

  /** The route is drawn anew now and then; the buttons and the reading are filled again. */
  show() {
    this.byId("look-first")?.setAttribute("aria-pressed", String(this.on));
    this.byId("see-picture")?.setAttribute("aria-pressed", String(this.sees));
    if (this.sees) this.byId("seen-picture")?.setAttribute("open", "");
    const reading = this.byId("look-reading");
    if (reading) reading.textContent = this.words || (this.on ? "looking" : "where points would land here");
  }

  /** Asks for the values as they are; of several wishes at a time the last one counts. */
  async ask() {
    if ((!this.on && !this.sees) || !this.byId("track-settings")) return;
    if (this.asking) {
      this.again = true;
      return;
    }
    this.asking = true;
    const form = this.byId("track-settings"),
      { frame } = this.model;
    const query = FIELDS.map((name) => `&${name}=${form.elements.namedItem(name).value}`).join("");
    try {
      if (this.sees) await this.askSeen(frame, query);
      if (this.on) await this.askPoints(frame, query);
      this.model.touch();
    } catch (error) {
      told(error);
    } finally {
      this.asking = false;
      this.show();
      if (this.again) {
        this.again = false;
        this.ask();
      }
    }
  }

  /** @param {number} frame @param {string} query */
  async askPoints(frame, query) {
    const response = await fetch(this.model.url(`look?frame=${frame}${query}`));
    if (!response.ok) {
      this.words = await refusal(response);
      return;
    }
    const found = await response.json();
    if (!this.on) return;
    this.model.look = found;
    this.words = `${found.points.length} points · ${Math.round(100 * found.coverage)} % of the frame covered`;
  }

  /** @param {number} frame @param {string} query */
  async askSeen(frame, query) {
    const response = await fetch(this.model.url(`seen?frame=${frame}${query}`));
    if (!response.ok) throw new Error(await refusal(response));
    const bitmap = await createImageBitmap(await response.blob());
    if (!this.sees) {
      bitmap.close();
      return;
    }
    this.model.seen?.bitmap.close();
    this.model.seen = { frame, bitmap };
  }
}
