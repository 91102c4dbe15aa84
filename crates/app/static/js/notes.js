// @ts-check
/** Short notes at the corner, for errors of actions. */

const LIFE_MS = 9000;

/** @param {string} text */
export function note(text) {
  const box = document.getElementById("notes");
  if (!box) return;
  const line = document.createElement("div");
  line.textContent = text;
  box.append(line);
  setTimeout(() => line.remove(), LIFE_MS);
}

/** What went wrong, noted. @param {unknown} error */
export function told(error) {
  note(error instanceof Error ? error.message : String(error));
}

/** The words of a refusal. @param {Response} response */
export async function refusal(response) {
  const text = await response.text();
  return text || `The server refused (${response.status}).`;
}
