// @ts-check
// Pictures that the server makes, shown in an image; only the newest one asked for is.
import { askForFile } from "../net.js";

/** @param {HTMLImageElement} image */
export function filling(image) {
  /** @type {AbortController | null} */ let asking = null;
  let address = "";

  return {
    /**
     * Ask for a picture and show it. @param {string} from @param {unknown} wanted
     * @returns {Promise<boolean>} whether it is shown: not when another was asked for meanwhile
     */
    async show(from, wanted) {
      this.stop();
      const mine = (asking = new AbortController());
      try {
        const { blob } = await askForFile(from, wanted, mine.signal);
        if (mine !== asking) return false;
        URL.revokeObjectURL(address);
        image.src = address = URL.createObjectURL(blob);
        await image.decode();
        return mine === asking;
      } catch (problem) {
        if (mine !== asking || mine.signal.aborted) return false;
        throw problem;
      }
    },
    /** What is on its way is no longer wanted. */
    stop() {
      if (asking) asking.abort();
      asking = null;
    },
  };
}
