// @ts-check
/** Taking in files that something of a shot shows. */
import { refusal, told } from "./notes.js";
import { formOf } from "./upload.js";

/** @typedef {{name: string, kind: string}} TakenIn */

/**
 * Takes in what was chosen in a field for files, and does something with it; what is wrong is noted.
 * @param {HTMLElement} field @param {(taken: TakenIn) => any} use
 */
export function takeChosen(field, use) {
  const { files } = /** @type {HTMLInputElement} */ (field);
  if (files?.length) takeIn(files).then(use).catch(told);
}

/** @param {FileList} list @returns {Promise<TakenIn>} */
async function takeIn(list) {
  const response = await fetch("/files", { method: "POST", body: formOf(list) });
  if (!response.ok) throw new Error(await refusal(response));
  return response.json();
}
