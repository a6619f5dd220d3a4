// @ts-check
// Keeping a document on the server: one request at a time, so that the newest value is the one that stays.

/**
 * What is put while a request is on its way waits for it, and goes as one.
 * @param {(value: any, leaving: boolean) => Promise<any>} send @param {(busy: boolean) => void} changed
 * @param {(problem: Error) => void} failed told when the server could not keep it; it is tried again
 */
export function keeper(send, changed, failed, again = 3000) {
  /** @type {any} */ let value = null;
  let waiting = false;
  let timer = 0;
  /** @type {Promise<void>} */ let sending = Promise.resolve();

  async function sendNewest() {
    if (!waiting) return;
    waiting = false;
    try {
      await send(value, false);
    } catch (problem) {
      failed(/** @type {Error} */ (problem));
      if (!waiting) later(again);
    }
    changed(waiting);
  }
  function now() {
    clearTimeout(timer);
    sending = sending.then(sendNewest);
    return sending;
  }
  /** @param {number} pause */
  function later(pause) {
    waiting = true;
    clearTimeout(timer);
    timer = setTimeout(now, pause);
  }
  addEventListener("pagehide", () => waiting && send(value, true).catch(() => {}));

  return {
    /** Keep this now. @param {any} newest */
    put(newest) {
      value = newest;
      changed(true);
      later(0);
    },
    /** Resolves when what was put has been sent. */
    now,
  };
}
