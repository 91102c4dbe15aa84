// @ts-check
/** Talking to the server: what is fetched, and changes one after the other. */
import { note, refusal } from "./notes.js";

/** Where a page tells the server which of its parts it shows. */
const SHOWN = "x-shown";

export class Api {
  /** @param {number} shot @param {number} revision that the page was made from */
  constructor(shot, revision) {
    this.shot = shot;
    /** The revision that the next change begins from. */ this.head = revision;
    /** What was asked for, each after the one before. @type {Promise<any>} */ this.changes = Promise.resolve();
    /** What the last answer had to tell. */ this.said = "";
    /** Tells what the page shows: `name=stamp` of each part. @type {() => string} */ this.shown = () => "";
  }

  /** @param {string} path */
  url(path) {
    return `/shots/${this.shot}/${path}`;
  }

  /** @param {string} path */
  async get(path) {
    const response = await fetch(this.url(path), { headers: { [SHOWN]: this.shown() } });
    if (!response.ok) throw new Error(await refusal(response));
    return response;
  }

  /** The parts of the page that look otherwise by now. */
  async parts() {
    return this.noted(await (await this.get("route")).text());
  }

  /** Notes the revision that an answer speaks of. @param {string} html */
  noted(html) {
    const revision = /data-revision="(\d+)"/.exec(html);
    if (revision) this.head = Number(revision[1]);
    return html;
  }

  /**
   * Does one piece of work after another, in the order in which they were asked for.
   * @template T
   * @param {() => Promise<T>} work
   * @returns {Promise<T>}
   */
  inOrder(work) {
    const done = this.changes.then(work);
    this.changes = done.catch(() => {});
    return done;
  }

  /**
   * Sends a change: one request, made when the one before it is answered, so that it begins from the revision that came
   * of that.
   * @param {string} address @param {string} kind @param {(revision: number) => string} body
   * @returns {Promise<{html: string}|null>} the parts that look otherwise; null, and noted, where it was refused
   */
  async post(address, kind, body) {
    const response = await fetch(address, {
      method: "POST",
      headers: { "content-type": kind, [SHOWN]: this.shown() },
      body: body(this.head),
    }).catch(() => null);
    if (!response) {
      note("Fennik does not answer. Is it still running? What was saved is kept.");
      return null;
    }
    if (!response.ok) {
      note(await refusal(response));
      return null;
    }
    this.said = response.headers.get("x-said") ?? this.said;
    return { html: this.noted(await response.text()) };
  }
}
