// @ts-check
/** Taking in files that something of a shot shows. */
import { refusal } from "./notes.js";
import { formOf } from "./upload.js";

/** Takes in what was chosen; tells the file. @param {FileList} list @returns {Promise<{name: string, kind: string}>} */
export async function takeIn(list) {
  const response = await fetch("/files", { method: "POST", body: formOf(list) });
  if (!response.ok) throw new Error(await refusal(response));
  return response.json();
}
