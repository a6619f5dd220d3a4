// @ts-check
// The keys of the bench: what each does, and which event means it.

export const KEY_LIST = [
  { keys: "space", does: "play or pause" },
  { keys: "J K L", does: "backwards, pause, forwards; again for faster" },
  { keys: "← →", does: "one frame; ten with shift" },
  { keys: "I O", does: "in and out point here" },
  { keys: "B (hold)", does: "see before" },
  { keys: "1 2 3 4", does: "Optics, Motion, Edges, Output" },
  { keys: "W", does: "to the worst frame" },
  { keys: "N, shift N", does: "next, previous pinch point" },
  { keys: "E", does: "ease the stretch here" },
  { keys: "G", does: "grid" },
  { keys: "M", does: "magnifier at the pointer" },
  { keys: "S", does: "scope" },
  { keys: "Z", does: "full size at the pointer" },
  { keys: "escape", does: "put down the tool in hand" },
  { keys: "enter", does: "the next straightedge, while drawing" },
  { keys: "ctrl Z, ctrl shift Z", does: "undo, redo" },
  { keys: "?", does: "this list" },
];

/** @type {Record<string, [string, any]>} */
const PLAIN = {
  " ": ["play", 0], j: ["shuttle", -1], k: ["shuttle", 0], l: ["shuttle", 1], i: ["in", 0], o: ["out", 0],
  b: ["before", 0], 1: ["stage", 0], 2: ["stage", 1], 3: ["stage", 2], 4: ["stage", 3], w: ["worst", 0], g: ["grid", 0], m: ["loupe", 0], s: ["scope", 0], z: ["closeUp", 0], e: ["ease", 0], "?": ["help", 0], Escape: ["putDown", 0], Enter: ["nextLine", 0],
};

/** @param {KeyboardEvent} event @returns {[string, any] | null} what the key asks for */
export function keyAction(event) {
  const key = event.key.length === 1 ? event.key.toLowerCase() : event.key;
  if ((event.ctrlKey || event.metaKey) && key === "z") return [event.shiftKey ? "redo" : "undo", 0];
  const target = /** @type {HTMLElement} */ (event.target);
  if (event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]")) return null;
  const typing = target.matches("input:not([type=radio]):not([type=checkbox]):not([type=range]), textarea, select");
  if (typing && !(key.length === 1 && /[a-z?]/.test(key))) return null;
  if ((key === " " || key === "Enter") && target.matches("button, a, input, summary")) return null;
  if (key === "ArrowLeft" || key === "ArrowRight") {
    if (target.matches("input")) return null;
    return ["step", (key === "ArrowLeft" ? -1 : 1) * (event.shiftKey ? 10 : 1)];
  }
  if (key === "n") return ["pinch", event.shiftKey ? -1 : 1];
  return PLAIN[key] || null;
}
