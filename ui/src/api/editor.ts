/** Who edits here: a number that this browser gives itself, and a name that its user may choose. */

const ID = "fenrik.editor";
const NAME = "fenrik.editor.name";

function stored(key: string): string {
  try {
    return localStorage.getItem(key) ?? "";
  } catch {
    return ""; // a browser that keeps nothing
  }
}

function keep(key: string, value: string) {
  try {
    localStorage.setItem(key, value);
  } catch {
    // it is good for this page then
  }
}

let id = stored(ID);
if (!id) {
  id = Array.from(crypto.getRandomValues(new Uint8Array(12)), (b) => b.toString(16).padStart(2, "0")).join(
    "",
  );
  keep(ID, id);
}
let name = stored(NAME);

export const editorName = () => name;

export function setEditorName(value: string) {
  name = value.trim().slice(0, 40);
  keep(NAME, name);
}

export const editorHeaders = (): Record<string, string> => ({
  "X-Fenrik-Editor": id,
  "X-Fenrik-Editor-Name": encodeURIComponent(name),
});
