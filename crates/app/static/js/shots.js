// @ts-check
/** The list of shots: taking clips in. */

const drop = /** @type {HTMLElement} */ (document.getElementById("drop"));
const files = /** @type {HTMLInputElement} */ (document.getElementById("files"));
const box = /** @type {HTMLElement} */ (document.getElementById("upload"));
const fault = /** @type {HTMLElement} */ (document.getElementById("upload-error"));

/** @param {FileList} list */
function send(list) {
  if (!list.length) return;
  const form = new FormData();
  for (const file of list) form.append("files", file, file.name);
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
    reading.textContent = share < 1 ? `${Math.round(100 * share)} % · ${Math.ceil(left)} s left` : "looking into the clip";
  };
  const failed = (/** @type {string} */ text) => {
    box.hidden = true;
    fault.hidden = false;
    fault.textContent = text;
  };
  request.onload = () => {
    if (request.status === 200) location.assign(`/shots/${JSON.parse(request.responseText).shot}`);
    else failed(request.responseText);
  };
  request.onerror = () => failed("The upload broke off. Check that Fennik is still running and try again.");
  fault.hidden = true;
  box.hidden = false;
  request.send(form);
}

files.addEventListener("change", () => files.files && send(files.files));
for (const kind of ["dragover", "dragleave", "drop"]) {
  document.addEventListener(kind, (event) => {
    event.preventDefault();
    drop.classList.toggle("over", kind === "dragover");
  });
}
document.addEventListener("drop", (event) => event.dataTransfer && send(event.dataTransfer.files));
