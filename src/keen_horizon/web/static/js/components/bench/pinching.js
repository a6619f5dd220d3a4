// @ts-check
// Pinch points: the stretches that decide the zoom, and easing or trimming them.

/** @typedef {import("../../types.js").Pinch} Pinch */

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const pinching = (parts) => ({
  pinches() {
    return this.path && this.t.edges.way !== "leave" ? this.path.pinches : [];
  },
  /** @param {Pinch} pinch */
  pinchText(pinch) {
    const stretch = pinch.first === pinch.last ? `frame ${pinch.first}` : `frames ${pinch.first}-${pinch.last}`;
    const first = this.pinches()[0] === pinch;
    return `${first ? "without" : "and without"} ${stretch} a zoom of ${pinch.without.toFixed(3)}× would do`;
  },
  worst() {
    if (this.pinches().length) this.go(this.pinches()[0].frame);
  },
  /** @param {number} step */
  pinchStep(step) {
    const frames = this.pinches().map((/** @type {Pinch} */ pinch) => pinch.frame).sort((/** @type {number} */ a, /** @type {number} */ b) => a - b);
    const next = step > 0 ? frames.find((/** @type {number} */ f) => f > this.frame) : frames.reverse().find((/** @type {number} */ f) => f < this.frame);
    if (next !== undefined) this.go(next);
  },
  /** Relax a pinch's stretch: flat over it, with as much again to lead in and out. @param {Pinch} pinch */
  ease(pinch) {
    const length = pinch.last - pinch.first + 1;
    const least = Math.round(parts.page.proxy.rate);
    this.addEase(Math.round((pinch.first + pinch.last) / 2), Math.max(least, 2 * length));
  },
  /** Relax the second around the playhead. */
  easeHere() {
    this.addEase(this.frame, Math.max(4, Math.round(2 * parts.page.proxy.rate)));
  },
  /** @param {number} frame @param {number} width */
  addEase(frame, width) {
    this.t.motion.ease.push({ frame, width, amount: 1 });
    this.settled();
  },
  /** @param {number} index @param {{ frame?: number, width?: number, amount?: number } | null} change null removes it @param {boolean} settled */
  changeEase(index, change, settled) {
    if (change) Object.assign(this.t.motion.ease[index], change);
    else this.t.motion.ease.splice(index, 1);
    settled ? this.settled() : this.changed();
  },
  /** @param {number} index @param {"width" | "amount"} name @param {string} text frames, or percent */
  typeEase(index, name, text) {
    const value = Number(text);
    if (text === "" || Number.isNaN(value)) return;
    this.changeEase(index, name === "width" ? { width: Math.max(2, Math.round(value)) } : { amount: Math.min(100, Math.max(0, value)) / 100 }, true);
  },
  /** Whether a pinch lies at an end of the range, so that moving that end is the cheaper cure. @param {Pinch} pinch */
  atEnd(pinch) {
    const { first, last } = this.range();
    const reach = (last - first) / 5;
    return pinch.first - first < reach || last - pinch.last < reach;
  },
  /** @param {Pinch} pinch */
  trimTo(pinch) {
    const { first, last } = this.range();
    if (pinch.first - first < last - pinch.last) this.setRange(pinch.last + 1, last, true);
    else this.setRange(first, pinch.first - 1, true);
  },
});
