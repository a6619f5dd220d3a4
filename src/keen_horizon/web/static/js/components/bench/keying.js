// @ts-check
// Figures that can be keyed over the clip: without keys there is one value, with keys the playhead's is edited.
// What is not the motion's is a figure of the optics (see core/treatment/figures.py).

/** @typedef {import("../../types.js").Key} Key */
/** @typedef {import("../../types.js").Track} Track */
/** @typedef {{ name: string, low?: number, high?: number }} Bounded a figure that is typed or dragged */

const MOTION = ["response_s", "strength"];
const EASES = [{ value: "smooth", label: "glide to the next" }, { value: "even", label: "evenly to the next" }, { value: "hold", label: "stay until the next" }];
/** Figures of light and of colours stand with the fall-off and with the fringes, each under its name here. */
export const LIGHTS = ["falloff_1", "falloff_2", "falloff_3", "falloff_x", "falloff_y", "falloff_amount"];
export const COLOURS = ["red_1", "red_2", "blue_1", "blue_2", "fringe_x", "fringe_y"];
const GLASS = [...LIGHTS, ...COLOURS];
const OF_GLASS = { x: "centre_x", y: "centre_y", amount: "amount" };
export const CORNERS = Array.from({ length: 8 }, (_, i) => `corner_${i + 1}`);

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const keying = (parts) => ({
  eases: EASES,
  /** What may be typed: as the document has it where it is one of its figures. @param {Bounded} part @returns {{ low: number, high: number }} */
  boundsOf: (part) => parts.page.figures[part.name] || part,
  /** The part of the treatment that a figure belongs to. @param {string} name */
  partOf(name) {
    if (LIGHTS.includes(name)) return this.t.optics.falloff;
    if (COLOURS.includes(name)) return this.t.optics.fringe;
    return MOTION.includes(name) ? this.t.motion : this.t.optics;
  },
  /** @param {string} name @returns {Key[]} */
  keys(name) {
    const track = ((this.partOf(name) || {}).keys || []).find((/** @type {Track} */ found) => found.figure === name);
    return track ? track.keys : [];
  },
  /** @param {string} name @param {Key[]} keys */
  setKeys(name, keys) {
    const part = this.partOf(name);
    const others = (part.keys || []).filter((/** @type {Track} */ found) => found.figure !== name);
    part.keys = keys.length ? [...others, { figure: name, keys }] : others;
  },
  /** The one value. @param {string} name @returns {number} */
  plainValue(name) {
    const optics = this.t.optics;
    if (MOTION.includes(name)) return this.t.motion[name];
    const [what, number] = name.split("_");
    if (what === "corner") return optics.corners[Number(number) - 1];
    if (GLASS.includes(name)) return this.glassValue(this.partOf(name), what, number);
    if (name.endsWith("_deg")) return optics.turn[name];
    if (!optics.lens) return 0;
    return what === "coefficient" ? optics.lens.coefficients[Number(number) - 1] || 0 : optics.lens[name];
  },
  /** @param {string} name @param {number} value */
  setPlain(name, value) {
    const optics = this.t.optics;
    const [what, number] = name.split("_");
    if (MOTION.includes(name)) this.t.motion[name] = value;
    else if (what === "corner") optics.corners[Number(number) - 1] = value;
    else if (GLASS.includes(name)) this.setGlass(this.partOf(name), what, number, value);
    else if (name.endsWith("_deg")) optics.turn[name] = value;
    else if (what === "coefficient") {
      const all = [...optics.lens.coefficients];
      while (all.length < Number(number)) all.push(0);
      all[Number(number) - 1] = value;
      optics.lens = { ...optics.lens, coefficients: all };
    } else optics.lens = { ...optics.lens, [name]: value };
  },
  /** @param {any} part @param {string} what @param {string} which a number from 1, or a name's end @returns {number} */
  glassValue(part, what, which) {
    const named = OF_GLASS[/** @type {keyof typeof OF_GLASS} */ (which)];
    return named ? part[named] : (what === "falloff" ? part.coefficients : part[what])[Number(which) - 1] || 0;
  },
  /** @param {any} part @param {string} what @param {string} which @param {number} value */
  setGlass(part, what, which, value) {
    const named = OF_GLASS[/** @type {keyof typeof OF_GLASS} */ (which)];
    if (named) part[named] = value;
    else {
      const list = what === "falloff" ? "coefficients" : what;
      const all = [...part[list]];
      while (all.length < Number(which)) all.push(0);
      all[Number(which) - 1] = value;
      part[list] = all;
    }
  },
  /** Light's or colours' figures as they are at the playhead. @param {any} part the fall-off or the fringes @param {string[]} names */
  glassHere(part, names) {
    if (!part || !part.keys || !part.keys.length) return part;
    const here = { ...part };
    for (const name of names) {
      const [what, which] = name.split("_");
      this.setGlass(here, what, which, this.exactHere(name));
    }
    return here;
  },
  /** Put figures of light or colours: with keys, those at the playhead. @param {"falloff" | "fringe"} which @param {string[]} names @param {any} part */
  putGlass(which, names, part) {
    const known = this.t.optics[which];
    if (!known || !known.keys || !known.keys.length) {
      this.t.optics[which] = part;
      return;
    }
    this.t.optics[which] = { ...part, keys: known.keys };
    for (const name of names) {
      const [what, number] = name.split("_");
      this.place(name, this.glassValue(part, what, number));
    }
  },
  /** @param {string} name @returns {any} the key under the playhead, if there is one */
  keyHere(name) {
    return this.keys(name).find((/** @type {Key} */ key) => key.frame === this.frame);
  },
  /** The value at the playhead, as fields show it. @param {string} name @returns {number} */
  valueHere(name) {
    return this.keyHere(name) ? this.keyHere(name).value : rounded(this.exactHere(name));
  },
  /** @param {string} name @returns {number} */
  exactHere(name) {
    const keys = this.keys(name);
    if (!keys.length) return this.plainValue(name);
    const here = this.keyHere(name);
    if (here) return here.value;
    const solved = this.path && this.path.keyed[name];
    if (!solved) return keys[0].value;
    return solved[Math.min(Math.max(this.frame - this.path.first, 0), this.path.frames - 1)];
  },
  /** The one value, or the playhead's where there are keys. @param {string} name @param {number} value */
  place(name, value) {
    const here = this.keyHere(name);
    if (here) here.value = value;
    else if (this.keys(name).length) this.setKeys(name, [...this.keys(name), { frame: this.frame, value, ease: "smooth" }]);
    else this.setPlain(name, value);
  },
  /** @param {string} name @param {string | number} text @param {boolean} settled */
  setHere(name, text, settled) {
    const value = Number(text);
    if (text === "" || Number.isNaN(value)) return;
    const { low, high } = this.boundsOf({ name });
    this.place(name, Math.min(high, Math.max(low, value)));
    settled ? this.keyed(name) : this.changed();
  },
  /** Keyed figures are set: they can be undone, and are judged by the straightedges. @param {string} name */
  keyed(name) {
    this.settled();
    if (!MOTION.includes(name) && !GLASS.includes(name)) this.judgeLens();
  },
  /** Set or take away the key under the playhead. @param {string} name */
  toggleKey(name) {
    this.toggleKeys([name]);
  },
  /** @param {string[]} names figures whose keys stand together */
  toggleKeys(names) {
    const there = names.some((name) => this.keyHere(name));
    for (const name of names) {
      const value = this.exactHere(name);
      const keys = this.keys(name);
      if (!there) this.setKeys(name, [...keys, { frame: this.frame, value, ease: "smooth" }]);
      else {
        if (keys.length === 1) this.setPlain(name, value);
        this.setKeys(name, keys.filter((/** @type {Key} */ key) => key.frame !== this.frame));
      }
    }
    this.keyed(names[0]);
  },
  /** How the figure goes on from the key under the playhead. @param {string[]} names @param {string} ease */
  setEase(names, ease) {
    for (const name of names) {
      const here = this.keyHere(name);
      if (here) here.ease = ease;
    }
    this.keyed(names[0]);
  },
  /** @param {string} name @param {number} value */
  resetKeyed(name, value) {
    this.setKeys(name, []);
    this.setPlain(name, value);
    this.keyed(name);
  },
  /** @param {string} name @param {number} value @returns {boolean} */
  isReset(name, value) {
    return this.keys(name).length === 0 && this.plainValue(name) === value;
  },
  /** @param {string} name @returns {string} */
  keyText(name) {
    const count = this.keys(name).length;
    if (!count) return "key";
    return this.keyHere(name) ? "unkey" : `key (${count})`;
  },
  /** Whether any figure of the optics changes over the clip. */
  opticsKeyed() {
    return this.t.optics.keys.length > 0;
  },
  /** Frames with a key, for the strip: those of the stage that is open. @returns {number[]} */
  keyFrames() {
    const { motion, optics } = this.t;
    const parts = this.stage === "optics" ? [optics, optics.falloff, optics.fringe] : [motion];
    const tracks = parts.flatMap((part) => (part && part.keys) || []);
    return [...new Set(tracks.flatMap((/** @type {Track} */ track) => track.keys.map((/** @type {Key} */ key) => key.frame)))];
  },
});

/** @param {number} value */
const rounded = (value) => Number(value.toPrecision(4));
