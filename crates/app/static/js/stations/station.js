// @ts-check
/** What a station's script is: it fills and heeds what the server drew, and changes nothing outside of it. */

/**
 * @typedef {object} Context
 * @property {import("../state/model.js").Model} model
 * @property {(id: string) => any} byId
 * @property {import("../state/frames.js").Frames} frames
 *
 * @typedef {object} Station
 * @property {Record<string, (button: HTMLElement) => any>} [acts] what its buttons do, by their `data-act`
 * @property {() => void} [show] fills what it shows of the selection; called whenever that or the station changed
 * @property {() => void} [frame] the playhead moved
 * @property {(target: HTMLElement, done: boolean) => void} [input] somebody types, or has typed
 * @property {(target: HTMLElement, event: MouseEvent) => void} [click] a click that is on no button of an act
 */

/** Every button of an act, pressed or let go. @param {string} act @param {(button: HTMLElement) => boolean} pressed */
export function press(act, pressed) {
  for (const b of document.querySelectorAll(`[data-act="${act}"]`))
    b.setAttribute("aria-pressed", String(pressed(/** @type {HTMLElement} */ (b))));
}

/** Every button of an act, ready or not. @param {string} act @param {boolean} on */
export function enable(act, on) {
  for (const b of document.querySelectorAll(`[data-act="${act}"]`)) /** @type {HTMLButtonElement} */ (b).disabled = !on;
}
