// @ts-check
// The trade-off curve: asked for when it is on show, out of the way of everything else, dropped when out of date.
import { ask } from "../../net.js";

/** @typedef {import("../../types.js").Trade} Trade */

const QUIET_MS = 250;
const NOTED = [1.01, 1.02, 1.05, 1.1, 1.2, 1.4];

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const trading = (parts) => {
  /** @type {AbortController | null} */ let asking = null;
  /** @type {number} */ let waiting = 0;
  let drawnFor = "";
  const asker = Math.random().toString(36).slice(2);

  return {
    /** The settings that the curve depends on. */
    tradeKey() {
      const { way, borrow, zoom, zoom_rate } = this.t.edges;
      const { straightedges, world_lines, flat, falloff, fringe, ...glass } = this.t.optics; // what it was found by changes nothing
      return JSON.stringify([this.t.range, glass, this.t.motion, way, borrow, zoom, zoom_rate, this.measured()]);
    },
    tradeSoon() {
      this.drawTrade();
      if (this.stage !== "edges" || !this.path || !this.path.measured || this.t.motion.intent === null || drawnFor === this.tradeKey()) return;
      clearTimeout(waiting);
      waiting = setTimeout(() => this.askTrade(), QUIET_MS);
    },
    async askTrade() {
      if (asking) asking.abort();
      asking = new AbortController();
      const key = this.tradeKey();
      try {
        this.curve = await ask("POST", `${parts.address}/trade-off?asker=${asker}`, this.t, { signal: asking.signal });
        drawnFor = key;
        this.drawTrade();
      } catch (problem) {
        if (/** @type {Error} */ (problem).name !== "AbortError") this.error = /** @type {Error} */ (problem).message;
      }
    },
    drawTrade() {
      parts.tradeChart.update({ curve: this.curve, limit: this.t.edges.zoom_limit, zoom: this.path ? this.path.ledger.zoom : null, shake: this.path ? this.path.ledger.shake_after_percent : null });
    },
    /** @param {number} zoom @param {boolean} settled */
    setLimit(zoom, settled) {
      this.t.edges.zoom_limit = Math.round(1000 * zoom) / 1000;
      settled ? this.settled() : this.changed();
    },
    /** What remains at a few zooms, in words. @returns {string[]} */
    tradeWords() {
      if (this.curve.length < 2) return [];
      const most = this.curve[this.curve.length - 1];
      const words = NOTED.filter((zoom) => zoom < most.zoom).slice(-3).map((zoom) => `${zoom.toFixed(2)}× leaves ${remains(this.curve, zoom).toFixed(3)} %`);
      return [...words, `${most.zoom.toFixed(3)}× leaves ${most.shake_percent.toFixed(3)} %, all that these settings can do`];
    },
    findZoom() {
      this.attempt(async () => {
        const point = await ask("POST", `${parts.address}/smallest-zoom`, { treatment: this.t, shake_percent: this.wantedShake });
        this.setLimit(Math.ceil(1000 * point.zoom) / 1000, true);
      });
    },
  };
};

/** @param {Trade[]} curve @param {number} zoom @returns {number} shake on the curve at a zoom */
function remains(curve, zoom) {
  const after = Math.max(1, curve.findIndex((point) => point.zoom >= zoom));
  const [a, b] = [curve[after - 1], curve[after]];
  return a.shake_percent + ((b.shake_percent - a.shake_percent) * (zoom - a.zoom)) / Math.max(1e-9, b.zoom - a.zoom);
}
