// @ts-check
/** Files on their way to the server. */

/** A form that holds files, and first a list of them, against which the server holds what arrives. @param {FileList} list */
export function formOf(list) {
  const form = new FormData();
  form.append("list", JSON.stringify([...list].map((f) => ({ name: f.name, size: f.size }))));
  for (const file of list) form.append("files", file, file.name);
  return form;
}
