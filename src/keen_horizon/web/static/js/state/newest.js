// @ts-check
// Questions of which only the newest counts, asked one after the other, so that what is dragged is seen to move.
import { awaited } from "../net.js";

/** @typedef {{ signal: AbortSignal, overtaken: () => boolean }} Turn `overtaken`: another question waits already */

const LONGEST_MS = 1000; // that one waits for the answer before it: what takes longer is dropped, the next given twice

/**
 * @returns {(question: (turn: Turn) => Promise<void>) => Promise<void>} puts a question once the one before it is
 * answered, unless another comes meanwhile
 */
export function newest() {
  /** @type {{ dropping: AbortController, began: number, answered: Promise<void> } | null} */ let asked = null;
  let questions = 0;
  let longest = LONGEST_MS;

  return async (question) => {
    const number = ++questions;
    const overtaken = () => number !== questions;
    awaited(1);
    try {
      if (asked) await Promise.race([asked.answered, after(asked.began + longest - performance.now())]);
      if (overtaken()) return;
      longest = asked ? 2 * longest : LONGEST_MS;
      if (asked) asked.dropping.abort();
      const dropping = new AbortController();
      const answer = question({ signal: dropping.signal, overtaken });
      const answered = answer.catch(() => {}); // what went wrong is told to who asked, not to who waits
      const mine = (asked = { dropping, began: performance.now(), answered });
      await answered;
      if (asked === mine) asked = null;
      await answer;
    } finally {
      awaited(-1);
    }
  };
}

/** @param {number} ms @returns {Promise<void>} */
const after = (ms) => new Promise((done) => setTimeout(done, Math.max(0, ms)));
