// @ts-check
// Pin: points that are set in the viewer (see aiming.js), followed, and mended where they were lost.
import { ask } from "../../net.js";

/** @typedef {import("../../types.js").Mark} Mark @typedef {import("../../types.js").Pin} Pin */
/** @typedef {import("../../types.js").PinTrack} PinTrack @typedef {import("../../types.js").Trail} Trail */

/** @type {import("./tool.js").Tool} */
export const pinTool = {
  text: (bench) => `Click point ${bench.aim.index + 1} in the picture, on something with texture.`,
  press(bench, place) {
    bench.setMark(bench.aim.index, place);
    bench.aim = null;
  },
};

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const pinned = (parts) => ({
  pinTracks: parts.page.pins,
  secondPoint: parts.page.info.across ? "Add a second point: turn" : "Add a second point: turn and size",

  pinPoints() {
    return this.t.motion.pin.points;
  },
  /** @param {number} index @param {number[]} place in the source */
  setMark(index, place) {
    const mark = { frame: this.frame, x: Math.round(100 * place[0]) / 100, y: Math.round(100 * place[1]) / 100 };
    const points = this.pinPoints();
    if (index >= points.length) points.push({ marks: [mark] });
    else points[index].marks = [...points[index].marks.filter((/** @type {Mark} */ old) => old.frame !== mark.frame), mark];
    this.settled();
  },
  /** @param {number} index */
  removePin(index) {
    this.pinPoints().splice(index, 1);
    this.aim = null;
    this.settled();
  },
  /** @param {Pin} pin @returns {PinTrack | undefined} its stored track over the range */
  trackOf(pin) {
    const marks = [...pin.marks].sort((a, b) => a.frame - b.frame).map((m) => `${m.frame}:${m.x.toFixed(3)}:${m.y.toFixed(3)}`).join(";");
    const { first, last } = this.range();
    return this.pinTracks.find((/** @type {PinTrack} */ track) => track.marks === marks && track.first <= first && track.last >= last);
  },
  followed() {
    return this.t.motion.intent !== "pin" || this.pinPoints().every((/** @type {Pin} */ pin) => this.trackOf(pin));
  },
  /** Have the points followed that were not yet. */
  follow() {
    if (this.work("pin") || this.failure("pin")) return;
    this.attempt(async () => {
      const { works } = await ask("POST", `${parts.address}/pins`, this.t);
      for (const work of works) this.worked(work);
      if (!works.length) await this.refresh();
    });
  },
  /** @param {Pin} pin @param {number} index */
  pinText(pin, index) {
    const set = `set at ${pin.marks.map((/** @type {Mark} */ mark) => mark.frame).join(", ")}`;
    if (!this.trackOf(pin)) return `${set}; being followed`;
    const lost = this.path && this.path.pins[index] ? stretches(this.path.pins[index].confidence, this.path.first) : [];
    return lost.length ? `${set}; lost in ${lost.join(", ")}: set it again on a later frame` : `${set}; held throughout`;
  },
  /** The pinned points as they lie in what is on show. @returns {number[][]} */
  pinsShown() {
    if (!this.path || this.t.motion.intent !== "pin") return [];
    const at = this.frame - this.path.first;
    return this.path.pins.filter((/** @type {Trail} */ pin) => pin.points[at]).map((/** @type {Trail} */ pin) => this.shownAt(pin.points[at]));
  },
});

/** @param {number[]} confidence @param {number} first @returns {string[]} stretches where a point was lost */
export function stretches(confidence, first) {
  const found = [];
  for (let i = 0; i < confidence.length; i++) {
    if (confidence[i] > 0) continue;
    const from = i;
    while (i + 1 < confidence.length && confidence[i + 1] === 0) i++;
    found.push(from === i ? `${first + i}` : `${first + from}-${first + i}`);
  }
  return found;
}
