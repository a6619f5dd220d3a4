// @ts-check
// Light that falls off towards the corners: set by hand, or as the clip itself shows it.
import { ask } from "../../net.js";
import { copy } from "../../state/copy.js";
import { LIGHTS } from "./keying.js";
import { gripping } from "./tool.js";

const LEFT = [0.9, 0.75, 0.5]; // of the light in the middle, that rings show
const FURTHEST = 1.1; // half-diagonals, that a ring is looked for
const OFFERED = 0.06; // of the light: what is known no better is not offered
const NEARER_PX = 24; // on screen, that a ring is taken hold of from
export const PLAIN = { coefficients: [-0.5], centre_x: 0, centre_y: 0, amount: 1, lift_limit_stops: 2, transfer: null, dead_radius: null, dead_edge: null, keys: [] };
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

/** The share of the light that is lost at a radius. @param {{ coefficients: number[] }} falloff @param {number} radius */
const lost = ({ coefficients }, radius) => -coefficients.reduce((sum, c, i) => sum + c * radius ** (2 * i + 2), 0);

export const lightTool = gripping({
  text: () => "Rings lie where 90, 75 and 50 % of the light is left. Drag one to where that is so, or the middle to where it is brightest.",
  press: (bench, place) => bench.gripLight(place),
  drag: (bench, place) => bench.dragLight(place),
  release: (bench) => bench.releaseLight(),
});

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const light = (parts) => ({
  lightFigures: FIGURES,
  transfers: TRANSFERS,
  /** @type {any} what the clip itself showed of its fall-off */ foundLight: parts.page.found_falloff,

  falloff() {
    return this.t.optics.falloff;
  },
  /** The same with its figures at the playhead. */
  falloffHere() {
    return this.glassHere(this.falloff(), LIGHTS);
  },
  /** @param {any} falloff with its figures at the playhead */
  putFalloff(falloff) {
    this.putGlass("falloff", LIGHTS, falloff);
  },
  toggleLightKeys() {
    this.toggleKeys(LIGHTS);
  },
  /** @param {string} name @returns {number} */
  lightValue(name) {
    const falloff = this.falloffHere();
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
    const falloff = this.falloffHere() || { ...PLAIN, coefficients: [0] };
    if (name === "corner" || name === "onset") {
      const lost = name === "corner" ? 1 - within / 100 : 1 - this.lightValue("corner") / 100;
      const onset = name === "onset" ? within : this.lightValue("onset");
      const coefficients = shares(onset).map((share) => Math.round(-1e6 * lost * share) / 1e6);
      this.putFalloff({ ...falloff, coefficients });
    } else this.putFalloff({ ...falloff, [name]: name === "amount" ? within / 100 : within });
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
    const { light = null, dead = null } = this.path || {};
    const noise = dead ? "" : " of noise";
    const lifted = light && light.corner_stops >= 0.05 ? `+${light.corner_stops.toFixed(1)} stops${noise}` : "";
    const hidden = dead ? `hidden at ${dead.zoom.toFixed(2)}x` : "";
    return [lifted, hidden].filter(Boolean).join(", ") || "not lifted";
  },

  /** Rings of equal light, to be dragged. */
  armLight() {
    if (!this.falloff()) {
      this.t.optics.falloff = { ...PLAIN };
      this.settled();
    }
    this.aim = this.aiming("light") ? null : { what: "light", grip: null };
    this.drawOver();
  },
  /** The middle of the light, and radii in px at which so much of it is left, in the source. */
  lightRings() {
    const falloff = this.falloffHere();
    const half = Math.hypot(parts.size.width, parts.size.height) / 2;
    const middle = [(parts.size.width - 1) / 2 + half * falloff.centre_x, (parts.size.height - 1) / 2 + half * falloff.centre_y];
    const steps = Array.from({ length: 111 }, (_, i) => (i * FURTHEST) / 110);
    const rings = LEFT.map((left) => ({ left, radius: steps.find((radius) => lost(falloff, radius) >= 1 - left) })).filter((ring) => ring.radius !== undefined);
    return { half, middle, rings: rings.length ? rings : [{ left: LEFT[0], radius: 1 }] };
  },
  /** Places in the source that can be taken hold of: the middle, and every ring's right. @returns {number[][]} */
  lightHandles() {
    const { half, middle: [x, y], rings } = this.lightRings();
    return [[x, y], ...rings.map((/** @type {{ radius: number }} */ ring) => [x + half * ring.radius * Math.cos(0.4), y + half * ring.radius * Math.sin(0.4)])];
  },
  /** @returns {number[][][]} the rings in what is on show */
  lightShown() {
    if (!this.aiming("light") || !this.falloff()) return [];
    const { half, middle: [x, y], rings } = this.lightRings();
    const turns = Array.from({ length: 73 }, (_, i) => (i * Math.PI) / 36);
    return rings.map((/** @type {{ radius: number }} */ ring) => turns.map((turn) => this.shownAt([x + half * ring.radius * Math.cos(turn), y + half * ring.radius * Math.sin(turn)])));
  },
  /** Take hold of the middle, or of the nearest ring anywhere along it. @param {number[]} place in the source */
  gripLight(place) {
    const { half, middle, rings } = this.lightRings();
    const away = Math.hypot(place[0] - middle[0], place[1] - middle[1]);
    const near = [away, ...rings.map((/** @type {{ radius: number }} */ ring) => Math.abs(away - half * ring.radius))];
    const grip = near.indexOf(Math.min(...near));
    const scale = (parts.refs.canvas.getBoundingClientRect().width || 960) / parts.size.width;
    const taken = near[grip] * scale < NEARER_PX;
    this.aim = { what: "light", grip: taken ? (grip ? rings[grip - 1].left : "middle") : null };
  },
  /** @param {number[]} place in the source */
  dragLight([x, y]) {
    const { half, middle } = this.lightRings();
    const within = (/** @type {number} */ value, /** @type {number} */ most) => Math.max(-most, Math.min(most, Math.round(1e5 * value) / 1e5));
    const falloff = this.falloffHere();
    if (this.aim.grip === "middle") {
      const [across, down] = [(x - (parts.size.width - 1) / 2) / half, (y - (parts.size.height - 1) / 2) / half];
      this.putFalloff({ ...falloff, centre_x: within(across, 0.3), centre_y: within(down, 0.3) });
    } else {
      const here = lost(falloff, Math.max(0.2, Math.min(FURTHEST, Math.hypot(x - middle[0], y - middle[1]) / half)));
      const scale = here > 1e-4 ? (1 - this.aim.grip) / here : null;
      const coefficients = scale === null ? [this.aim.grip - 1] : falloff.coefficients.map((/** @type {number} */ c) => within(scale * c, 10));
      this.putFalloff({ ...falloff, coefficients });
    }
    this.changed();
    this.drawOver();
  },
  releaseLight() {
    if (this.aim.grip === null) return;
    this.aim = { what: "light", grip: null };
    this.settled();
  },

  /** @param {boolean} [plain] the clip shows a plain wall or sky */
  lookForFalloff(plain = false) {
    return this.attempt(async () => this.worked((await ask("POST", `${parts.address}/falloff${plain ? "?plain" : ""}`, this.t)).work));
  },
  /** What the clip told of its fall-off. */
  foundLightText() {
    const found = this.foundLight;
    if (!found) return "";
    const edge = this.foundDeadText(found.dead);
    if (found.doubt > OFFERED) return `The clip does not tell how light falls off: no place was seen nearer the middle and nearer the corners often enough. ${edge}`;
    const corner = 100 * (1 + found.coefficients.reduce((/** @type {number} */ sum, /** @type {number} */ c) => sum + c, 0));
    return `Measured${found.enough ? "" : ", not surely"}: ${corner.toFixed(0)} % of the light at the corners, known within ${(100 * found.doubt).toFixed(1)} %. ${edge}`;
  },
  /** Whether there is anything to be taken of what the clip told. */
  lightOffered() {
    const found = this.foundLight;
    return Boolean(found && (found.doubt <= OFFERED || found.dead) && !this.work("falloff"));
  },
  /** Take what the clip told. @param {boolean} [surely] only what it told surely */
  useFoundLight(surely = false) {
    const { coefficients, centre_x, centre_y, dead, enough, doubt } = copy(this.foundLight);
    const light = enough || (!surely && doubt <= OFFERED) ? { coefficients, centre_x, centre_y } : {};
    this.putFalloff({ ...(this.falloffHere() || { ...PLAIN, coefficients: [0] }), ...light });
    if (dead) {
      const { least_light = 0.9 } = this.dead() || {};
      const { radius, centre_x, centre_y, sides, softness } = dead;
      this.setEdge({ radius, centre_x, centre_y, sides, softness, least_light });
    }
    this.settled();
  },
});
