// @ts-check
/** The list of shots: taking clips in. */
import { formOf } from "./upload.js";

const drop = /** @type {HTMLElement} */ (document.getElementById("drop"));
const files = /** @type {HTMLInputElement} */ (document.getElementById("files"));
const box = /** @type {HTMLElement} */ (document.getElementById("upload"));
const fault = /** @type {HTMLElement} */ (document.getElementById("upload-error"));

const refused = /** @type {HTMLElement} */ (document.getElementById("upload-refused"));
const taken = /** @type {HTMLElement} */ (document.getElementById("upload-taken"));

/**
 * Several came in, or not all: the list shows them, and what was left out is named.
 * @param {number} count
 * @param {{name: string, why: string}[]} left
 */
async function showTaken(count, left) {
  const html = await (await fetch("/")).text();
  const fresh = new DOMParser().parseFromString(html, "text/html").querySelector(".shot-list");
  if (fresh) document.querySelector(".shot-list")?.replaceWith(fresh);
  if (fresh) globalThis.htmx?.process(fresh);
  document.querySelector(".shots > .empty")?.remove();
  box.hidden = true;
  refused.hidden = !left.length;
  refused.replaceChildren(
    ...left.map(({ name, why }) => {
      const line = document.createElement("li");
      line.textContent = `Not taken: ${name}. ${why}`;
      return line;
    }),
  );
  taken.hidden = false;
  taken.textContent = `${count} shot${count === 1 ? " was" : "s were"} taken in.`;
}

/** @param {FileList} list */
function send(list) {
  if (!list.length) return;
  const bar = /** @type {HTMLProgressElement} */ (box.querySelector("progress"));
  const reading = /** @type {HTMLElement} */ (box.querySelector(".reading"));
  const began = performance.now();
  const request = new XMLHttpRequest();
  request.open("POST", "/clips");
  request.upload.onprogress = (event) => {
    if (!event.lengthComputable) return;
    const share = event.loaded / event.total;
    bar.value = 100 * share;
    const left = ((performance.now() - began) / 1000) * (1 / Math.max(share, 1e-3) - 1);
    reading.textContent =
      share < 1 ? `${Math.round(100 * share)} % · ${Math.ceil(left)} s left` : "looking into the clip";
  };
  const failed = (/** @type {string} */ text) => {
    box.hidden = true;
    fault.hidden = false;
    fault.textContent = text;
  };
  request.onload = () => {
    if (request.status !== 200) {
      failed(request.responseText);
      return;
    }
    const { shots, refused: left } = JSON.parse(request.responseText);
    if (shots.length === 1 && !left.length) location.assign(`/shots/${shots[0]}`);
    else showTaken(shots.length, left);
  };
  request.onerror = () => failed("The upload broke off. Check that Fennik is still running and try again.");
  fault.hidden = true;
  refused.hidden = true;
  taken.hidden = true;
  box.hidden = false;
  request.send(formOf(list));
}

files.addEventListener("change", () => files.files && send(files.files));
for (const kind of ["dragover", "dragleave", "drop"]) {
  document.addEventListener(kind, (event) => {
    event.preventDefault();
    drop.classList.toggle("over", kind === "dragover");
  });
}
document.addEventListener("drop", (event) => event.dataTransfer && send(event.dataTransfer.files));
