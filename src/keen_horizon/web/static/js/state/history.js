// @ts-check
// Undo and redo of a whole document, as snapshots.

/** @param {any} first */
export function history(first) {
  /** @type {string[]} */
  let past = [JSON.stringify(first)];
  /** @type {string[]} */
  let future = [];
  return {
    /** Note a settled state. @param {any} document @returns {boolean} whether it differs from the last one */
    note(document) {
      const text = JSON.stringify(document);
      if (text === past[past.length - 1]) return false;
      past.push(text);
      past = past.slice(-200);
      future = [];
      return true;
    },
    /** @returns {any} the state before, or null */
    undo() {
      if (past.length < 2) return null;
      future.push(/** @type {string} */ (past.pop()));
      return JSON.parse(past[past.length - 1]);
    },
    /** @returns {any} the state that was undone, or null */
    redo() {
      const text = future.pop();
      if (text === undefined) return null;
      past.push(text);
      return JSON.parse(text);
    },
  };
}
