// @ts-check
// Light that falls off towards the corners: set by hand, or as the clip itself shows it.
import { ask } from "../../net.js";
import { copy } from "../../state/copy.js";

const PLAIN = { coefficients: [-0.5], centre_x: 0, centre_y: 0, amount: 1, lift_limit_stops: 2, transfer: null, dead_radius: null };
const FIGURES = [
  { name: "corner", label: "light at the corners", low: 2, high: 100, step: 0.5, unit: "%", initial: 100 },
  { name: "onset", label: "sets in early … late", low: 0, high: 2, step: 0.02, unit: "", initial: 0 },
  { name: "centre_x", label: "brightest, across", low: -0.3, high: 0.3, step: 0.002, unit: "", initial: 0 },
  { name: "centre_y", label: "brightest, down", low: -0.3, high: 0.3, step: 0.002, unit: "", initial: 0 },
  { name: "amount", label: "lift", low: 0, high: 100, step: 1, unit: "%", initial: 100 },
  { name: "lift_limit_stops", label: "never more than", low: 0, high: 6, step: 0.1, unit: "stops", initial: 2 },
];
const TRANSFERS = [
  { value: "", label: "as the file says" }, { value: "bt709", label: "BT.709" }, { value: "srgb", label: "sRGB" },
  { value: "linear", label: "linear" }, { value: "pq", label: "PQ" }, { value: "hlg", label: "HLG" },
];

/** The shares of what is lost that r^2, r^4 and r^6 take, where it sets in early (0) to late (2). @param {number} onset */
const shares = (onset) => [Math.max(0, 1 - onset), 1 - Math.abs(onset - 1), Math.max(0, onset - 1)];

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const light = (parts) => ({
  lightFigures: FIGURES,
  transfers: TRANSFERS,
  /** @type {any} what the clip itself showed of its fall-off */ foundLight: parts.page.found_falloff,

  falloff() {
    return this.t.optics.falloff;
  },
  /** @param {string} name @returns {number} */
  lightValue(name) {
    const falloff = this.falloff();
    const figure = FIGURES.find((each) => each.name === name);
    if (!falloff || !figure) return figure ? figure.initial : 0;
    const [c1, c2 = 0, c3 = 0] = falloff.coefficients;
    const lost = -(c1 + c2 + c3);
    const places = name === "corner" || name === "amount" ? 10 : 1000;
    const round = (/** @type {number} */ value) => Math.round(places * value) / places;
    if (name === "corner") return round(100 * (1 - lost));
    if (name === "onset") return Math.abs(lost) < 1e-6 ? 0 : round(Math.min(2, Math.max(0, (-c2 - 2 * c3) / lost)));
    return round(name === "amount" ? 100 * falloff.amount : falloff[name]);
  },
  /** @param {string} name @param {string | number} text @param {boolean} settled */
  setLight(name, text, settled) {
    const value = Number(text);
    const figure = FIGURES.find((each) => each.name === name);
    if (text === "" || Number.isNaN(value) || !figure) return;
    const within = Math.min(figure.high, Math.max(figure.low, value));
    const falloff = this.falloff() || { ...PLAIN, coefficients: [0] };
    if (name === "corner" || name === "onset") {
      const lost = name === "corner" ? 1 - within / 100 : 1 - this.lightValue("corner") / 100;
      const onset = name === "onset" ? within : this.lightValue("onset");
      const coefficients = shares(onset).map((share) => Math.round(-1e6 * lost * share) / 1e6);
      this.t.optics.falloff = { ...falloff, coefficients };
    } else this.t.optics.falloff = { ...falloff, [name]: name === "amount" ? within / 100 : within };
    settled ? this.settled() : this.changed();
  },
  /** @param {string} transfer */
  setTransfer(transfer) {
    this.t.optics.falloff = { ...this.falloff(), transfer: transfer || null };
    this.settled();
  },
  removeFalloff() {
    this.t.optics.falloff = null;
    this.settled();
  },
  /** The state and the price of the dark corners, in one line. */
  lightText() {
    if (!this.falloff()) return "as shot";
    const light = this.path && this.path.light;
    if (!light) return "not lifted";
    return `corners + ${light.corner_stops.toFixed(1)} stops, their noise too`;
  },

  lookForFalloff() {
    return this.attempt(async () => this.worked((await ask("POST", `${parts.address}/falloff`, this.t)).work));
  },
  /** What the clip told of its fall-off. */
  foundLightText() {
    const found = this.foundLight;
    if (!found) return "";
    if (!found.enough) return "The clip does not tell: no place was seen nearer the middle and nearer the corners often enough.";
    const corner = 100 * (1 + found.coefficients.reduce((/** @type {number} */ sum, /** @type {number} */ c) => sum + c, 0));
    return `Measured: ${corner.toFixed(0)} % of the light at the corners, known within ${(100 * found.doubt).toFixed(1)} %.`;
  },
  useFoundLight() {
    const { coefficients, centre_x, centre_y } = copy(this.foundLight);
    this.t.optics.falloff = { ...(this.falloff() || PLAIN), coefficients, centre_x, centre_y };
    this.settled();
  },
});
