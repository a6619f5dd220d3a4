// @ts-check
// The view of a sphere: what is delivered, and where it looks, keyed over the clip.

import { fieldOf } from "../../geometry/around.js";

/** @typedef {import("../../geometry/around.js").Outlook} Outlook */
/** @typedef {{ frame: number, yaw_deg: number, pitch_deg: number, roll_deg: number, field_deg: number, roundness: number | null, ease: string }} Key */

const STRAIGHT_AHEAD = { frame: 0, yaw_deg: 0, pitch_deg: 0, roll_deg: 0, field_deg: 90, roundness: null, ease: "smooth" };
const USUAL_SIZE = { width: 1920, height: 1080 };
const WIDEST = { sphere: 360, flat: 150, cylinder: 360, stereographic: 340 };
const DEGREES = 180 / Math.PI;

/** The turn's own figure within half a turn either way. @param {number} degrees */
const within = (degrees) => degrees - 360 * Math.round(degrees / 360);

/** @param {import("../bench/parts.js").Parts} parts @returns {any} */
export const outlooks = (parts) => ({
  deliveries: [
    { value: "sphere", label: "Sphere", text: "all around, for players of 360" },
    { value: "flat", label: "Flat", text: "a frame looked out of it; lines stay straight" },
    { value: "cylinder", label: "Cylinder", text: "wide; uprights stay straight" },
    { value: "stereographic", label: "Stereographic", text: "very wide; looked down, a little planet" },
  ],
  lookFigures: [
    { name: "yaw_deg", label: "To the right", low: -180, high: 180, step: 0.1 },
    { name: "pitch_deg", label: "Up", low: -90, high: 90, step: 0.1 },
    { name: "roll_deg", label: "Roll", low: -180, high: 180, step: 0.1 },
    { name: "field_deg", label: "Width", low: 5, high: 150, step: 0.5 },
    { name: "roundness", label: "Roundness", low: 0, high: 1, step: 0.01 },
  ],
  /** The figures that are being dragged, before they are settled. @type {Key | null} */ dragged: null,

  delivered() {
    return this.t.view ? this.t.view.output : "sphere";
  },
  /** @param {keyof typeof WIDEST} output */
  setDelivered(output) {
    const view = this.t.view || { size: null, keys: [] };
    const size = (output === "sphere") === (this.delivered() === "sphere") ? view.size : null; // their shapes differ
    const widest = WIDEST[output];
    this.t.view = { ...view, size, output, keys: view.keys.map((/** @type {Key} */ key) => ({ ...key, roundness: null, field_deg: Math.min(key.field_deg, widest) })) };
    this.showing = output === "sphere" ? "sphere" : "view";
    this.settled();
    this.fit();
  },
  viewSize() {
    if (this.t.view && this.t.view.size) return this.t.view.size;
    return this.delivered() === "sphere" ? { width: 2 * parts.size.height, height: parts.size.height } : USUAL_SIZE;
  },
  /** @param {"width" | "height"} side @param {string} text */
  setViewSide(side, text) {
    const value = 2 * Math.round(Number(text) / 2);
    if (value < 16 || value > 8192) return;
    const view = this.t.view || { output: "sphere", keys: [] };
    const around = { width: side === "width" ? 2 * Math.round(value / 4) * 2 : 2 * value, height: side === "width" ? Math.round(value / 4) * 2 : value };
    this.t.view = { ...view, size: this.delivered() === "sphere" ? around : { ...this.viewSize(), [side]: value } };
    this.settled();
    this.fit();
  },
  /** Whether a view is of the family that goes from flat to stereographic. */
  rounds() {
    return this.delivered() === "flat" || this.delivered() === "stereographic";
  },
  /** How far a key's view is from flat to stereographic. @param {{ roundness: number | null }} key @returns {number} */
  roundnessOf({ roundness }) {
    if (!this.rounds()) return 0;
    return roundness === null ? Number(this.delivered() === "stereographic") : roundness;
  },
  /** @param {number} roundness @returns {number} degrees */
  widest(roundness) {
    if (this.rounds()) return WIDEST.flat + roundness * (WIDEST.stereographic - WIDEST.flat);
    return WIDEST[/** @type {keyof typeof WIDEST} */ (this.delivered())];
  },
  /** Whether a figure of the look means anything here. @param {{ name: string }} figure */
  looksBy({ name }) {
    if (name === "roundness") return this.rounds();
    return name !== "field_deg" || this.delivered() !== "sphere";
  },
  /** The fewest of the sphere's pixels that one of the view's may stand for. @returns {number | null} */
  leastSource() {
    return (this.t.view && this.t.view.least_source_px) || null;
  },
  /** @param {boolean} wanted */
  setLeastSource(wanted) {
    this.t.view = { ...this.t.view, least_source_px: wanted ? 1 : null };
    this.settled();
  },
  /** @param {{ name: string, high: number }} figure */
  highest(figure) {
    return figure.name === "field_deg" ? this.widest(this.roundnessOf(this.lookHere())) : figure.high;
  },
  /** @returns {Key[]} */
  lookKeys() {
    return this.t.view ? this.t.view.keys : [];
  },
  /** How wide the view is at least, where it must not grow softer than the sphere. @param {number} roundness */
  narrowest(roundness) {
    const least = this.leastSource();
    if (least === null || this.delivered() === "sphere") return 0;
    const focal = parts.size.height / Math.PI / least;
    return Math.min(fieldOf(this.delivered(), roundness, this.viewSize().width, focal) * DEGREES, this.widest(roundness));
  },
  /** Where the view looks at the playhead. @returns {Key} */
  lookHere() {
    if (this.dragged) return this.dragged;
    const keys = this.lookKeys();
    const own = keys.find((/** @type {Key} */ key) => key.frame === this.frame) || (keys.length === 1 ? keys[0] : null);
    if (own) return { ...own, frame: this.frame, field_deg: Math.max(own.field_deg, this.narrowest(this.roundnessOf(own))) };
    const solved = this.path && this.path.outlooks && this.path.outlooks[this.frame - this.path.first];
    if (!solved) return { ...(keys[0] || STRAIGHT_AHEAD), frame: this.frame };
    const [yaw, pitch, roll, field] = solved.map((/** @type {number} */ figure) => figure * DEGREES);
    const roundness = keys.some((/** @type {Key} */ key) => key.roundness !== null) ? solved[4] : null;
    return { frame: this.frame, yaw_deg: within(yaw), pitch_deg: pitch, roll_deg: within(roll), field_deg: field, roundness, ease: "smooth" };
  },
  /** @returns {Outlook} rad */
  outlookHere() {
    const here = this.lookHere();
    return { yaw: here.yaw_deg / DEGREES, pitch: here.pitch_deg / DEGREES, roll: here.roll_deg / DEGREES, field: here.field_deg / DEGREES, roundness: this.roundnessOf(here) };
  },
  /** @param {string} name */
  lookValue(name) {
    const here = this.lookHere();
    const value = name === "roundness" ? this.roundnessOf(here) : /** @type {any} */ (here)[name];
    return Math.round(value * 100) / 100;
  },
  /** @param {string} name @param {string} text @param {boolean} settled */
  setLook(name, text, settled) {
    const value = Number(text);
    if (text === "" || !Number.isFinite(value)) return;
    this.look({ ...this.lookHere(), [name]: value }, settled);
  },
  /** Look somewhere at the playhead. @param {Key} key @param {boolean} settled */
  look(key, settled) {
    const roundness = this.roundnessOf(key);
    const round = (/** @type {number} */ value) => Math.round(value * 1000) / 1000;
    this.dragged = {
      ...key, frame: this.frame, yaw_deg: round(within(key.yaw_deg)), roll_deg: round(within(key.roll_deg)),
      pitch_deg: round(Math.max(-90, Math.min(90, key.pitch_deg))), field_deg: round(Math.max(5, this.narrowest(roundness), Math.min(this.widest(roundness), key.field_deg))),
    };
    this.draw();
    if (settled) this.settleLook();
  },
  /** Keep what was dragged: the view's only key is moved, else there is a key at the playhead now. */
  settleLook() {
    const key = this.dragged;
    if (!key) return;
    const keys = this.lookKeys();
    const only = keys.length === 1 && keys[0].frame !== key.frame ? { ...key, frame: keys[0].frame } : key;
    this.putKeys([...keys.filter((/** @type {Key} */ other) => other.frame !== only.frame), only]);
  },
  /** @param {Key[]} keys */
  putKeys(keys) {
    const view = this.t.view || { output: "sphere", size: null };
    this.t.view = { ...view, keys: keys.sort((a, b) => a.frame - b.frame) };
    this.settled();
  },
  keyedHere() {
    return this.lookKeys().some((/** @type {Key} */ key) => key.frame === this.frame);
  },
  toggleLookKey() {
    const keys = this.lookKeys();
    if (this.keyedHere()) this.putKeys(keys.filter((/** @type {Key} */ key) => key.frame !== this.frame));
    else this.putKeys([...keys, { ...this.lookHere(), ease: "smooth" }]);
  },
  /** @param {Key} key @param {string} ease */
  setEase(key, ease) {
    this.putKeys(this.lookKeys().map((/** @type {Key} */ other) => (other.frame === key.frame ? { ...other, ease } : other)));
  },
  /** @param {Key} key */
  removeLookKey(key) {
    this.putKeys(this.lookKeys().filter((/** @type {Key} */ other) => other.frame !== key.frame));
  },
  /** @param {Key} key */
  keyWords(key) {
    return `frame ${key.frame}: ${key.yaw_deg.toFixed(0)}° right, ${key.pitch_deg.toFixed(0)}° up, ${key.field_deg.toFixed(0)}° wide`;
  },
  keyFrames() {
    return this.lookKeys().map((/** @type {Key} */ key) => key.frame);
  },
});
