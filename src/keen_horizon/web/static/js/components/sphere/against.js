// @ts-check
// What before is on the bench of a sphere: as shot, or a version.
import { focalOf, turnOf } from "../../geometry/around.js";
import { IDENTITY, product, transposed } from "../../geometry/matrix.js";
import { ask } from "../../net.js";

/** @typedef {import("../../types.js").Version} Version */

/** @typedef {import("../../views/around.js").Look} Look */

const AT_ONCE = [0, 0, 0]; // rows that are read at once

/** What a path of a sphere costs and brings, in words. @param {any} path @returns {{ name: string, value: string }[]} */
export function spoken({ ledger, measured }) {
  const turned = (/** @type {string} */ name, /** @type {number} */ degrees, /** @type {number} */ digits) => ({ name, value: measured ? `${degrees.toFixed(digits)} °` : "not measured" });
  return [
    turned("shake as shot", ledger.shake_before_deg, 2), turned("shake left", ledger.shake_after_deg, 2), turned("turned by at most", ledger.largest_turn_deg, 1),
    { name: "source px a pixel", value: ledger.source_px.toFixed(2) },
  ];
}

/** @param {import("../bench/parts.js").Parts} parts @returns {any} */
export const against = (parts) => ({
  against: "",
  /** @type {Version[]} */ versions: parts.page.versions,
  /** What the version was solved to. @type {any} */ other: null,

  /** @param {string} letter of a version; none: as shot */
  setAgainst(letter) {
    this.against = letter;
    this.other = null;
    const version = this.versions.find((/** @type {import("../../types.js").Version} */ { letter: own }) => own === letter);
    if (!version) return this.fit();
    this.attempt(async () => {
      this.other = await ask("POST", `${parts.address}/solve`, { ...version.treatment, range: this.t.range });
      this.fit();
    });
  },
  /** Figures of the version that is compared with, beside those of now. @returns {{ name: string, then: string, now: string }[]} */
  versusRows() {
    if (!this.path || !this.other) return [];
    const then = spoken(this.other);
    return spoken(this.path).map(({ name, value }, i) => ({ name, then: then[i].value, now: value }));
  },
  beforeName() {
    return this.against ? `version ${this.against}` : "as shot";
  },
  /** What the clip was before, shown large by itself. @param {Look} whole the sphere as it is steadied @returns {Look} */
  before(whole) {
    if (!this.other) return { ...whole, turn: IDENTITY, readTurn: AT_ONCE };
    return this.lookOfOther(whole.camera, this.other.projection === null);
  },
  /** What it was before where something else is shown large. @param {Look} large @returns {Look} */
  beforeBeside(large) {
    if (!this.other) return { ...large, turn: product(transposed(this.steadyHere()), large.turn), readTurn: AT_ONCE };
    return this.lookOfOther(large.camera, large.camera.projection !== null || this.delivered() === "sphere");
  },
  /** The version's look at the playhead, in the shape of a camera. @param {Look["camera"]} shape @param {boolean} looked by its own keys @returns {Look} */
  lookOfOther(shape, looked) {
    const { first, steadied, read_turns: readTurns, outlooks, projection, output } = this.other;
    const at = Math.max(0, Math.min(this.frame - first, steadied.length - 1));
    const look = { turn: steadied[at], readTurn: readTurns[at] };
    if (!looked || !outlooks) return { camera: { ...shape, projection: null, width: 2, height: 1 }, ...look };
    const [yaw, pitch, roll, field, back] = outlooks[at];
    const turn = product(look.turn, turnOf({ yaw, pitch, roll, field, roundness: back }));
    if (projection === null) return { camera: { ...shape, projection: null, width: 2, height: 1 }, ...look, turn };
    const [width] = output;
    const height = (width * shape.height) / shape.width;
    return { camera: { projection, width, height, back, focal: focalOf(projection, back, width, field) }, ...look, turn };
  },
});
