// @ts-check
// Figures that can be keyed over the clip: without keys there is one value, with keys the playhead's is edited.

const KEYED = /** @type {const} */ ({ response_s: "response_keys", strength: "strength_keys" });
/** @typedef {keyof typeof KEYED} Name */

/** @param {import("./parts.js").Parts} _parts @returns {any} */
export const keying = (_parts) => ({
  /** @param {Name} name */
  keys(name) {
    return this.t.motion[KEYED[name]];
  },
  /** @param {Name} name @returns {any} the key under the playhead, if there is one */
  keyHere(name) {
    return this.keys(name).find((/** @type {any} */ key) => key.frame === this.frame);
  },
  /** The value at the playhead. @param {Name} name @returns {number} */
  valueHere(name) {
    const keys = this.keys(name);
    if (!keys.length) return this.t.motion[name];
    const here = this.keyHere(name);
    if (here) return here.value;
    const at = this.path ? Math.min(Math.max(this.frame - this.path.first, 0), this.path.frames - 1) : 0;
    return this.path ? Math.round(1000 * this.path.keyed[name][at]) / 1000 : keys[0].value;
  },
  /** @param {Name} name @param {string} text @param {boolean} settled */
  setHere(name, text, settled) {
    const value = Number(text);
    if (text === "" || Number.isNaN(value)) return;
    const here = this.keyHere(name);
    if (here) here.value = value;
    else if (this.keys(name).length) this.keys(name).push({ frame: this.frame, value });
    else this.t.motion[name] = value;
    settled ? this.settled() : this.changed();
  },
  /** Set or take away the key under the playhead. @param {Name} name */
  toggleKey(name) {
    const keys = this.keys(name);
    const value = this.valueHere(name);
    if (!this.keyHere(name)) keys.push({ frame: this.frame, value });
    else {
      this.t.motion[KEYED[name]] = keys.filter((/** @type {any} */ key) => key.frame !== this.frame);
      if (keys.length === 1) this.t.motion[name] = value;
    }
    this.settled();
  },
  /** @param {Name} name @param {number} value */
  resetKeyed(name, value) {
    this.t.motion[KEYED[name]] = [];
    this.t.motion[name] = value;
    this.settled();
  },
  /** @param {Name} name @param {number} value @returns {boolean} */
  isReset(name, value) {
    return this.keys(name).length === 0 && this.t.motion[name] === value;
  },
  /** @param {Name} name @returns {string} */
  keyText(name) {
    const count = this.keys(name).length;
    if (!count) return "key";
    return this.keyHere(name) ? "unkey" : `key (${count})`;
  },
  /** Frames with a key, for the strip. @returns {number[]} */
  keyFrames() {
    return [...this.t.motion.response_keys, ...this.t.motion.strength_keys].map((key) => key.frame);
  },
});
