// @ts-check
// Changing the treatment: every change is solved for, and can be undone once complete.
import { unpacked } from "../../geometry/lens.js";
import { ask } from "../../net.js";
import { history } from "../../state/history.js";
import { keeper } from "../../state/keeping.js";
import { newest } from "../../state/newest.js";

/** @typedef {import("../../types.js").Treatment} Treatment */
/** @typedef {import("../../types.js").Version} Version */

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const treating = (parts) => {
  const past = history(parts.page.draft);
  const inTurn = newest();
  const asker = Math.random().toString(36).slice(2);
  let questions = 0;
  /** @type {ReturnType<typeof keeper> | null} */ let keeping = null;
  return {
    /** Whether the newest settings are still on their way to the server. */ unkept: false,
    /** @param {string | null} value */
    setIntent(value) {
      this.t.motion.intent = value;
      this.aim = value === "pin" && !this.pinPoints().length ? { what: "pin", index: 0 } : null;
      this.settled();
    },
    /** @param {string} name */
    toggleFreedom(name) {
      const chosen = new Set(this.t.motion.freedom);
      chosen.has(name) ? chosen.delete(name) : chosen.add(name);
      this.t.motion.freedom = this.freedoms.filter((/** @type {string} */ freedom) => chosen.has(freedom));
      this.settled();
    },
    /** @param {string} name like t.motion.response_s @param {any} value */
    put(name, value) {
      const keys = name.split(".").slice(1);
      const last = /** @type {string} */ (keys.pop());
      keys.reduce((part, key) => part[key], this.t)[last] = value;
      this.settled();
    },
    /** A figure is being moved. */
    changed() {
      this.solve();
    },
    /** A change is complete: it can be undone, and is kept. */
    settled() {
      if (past.note(this.t)) this.keep();
      this.solve();
      this.tellFates();
    },
    /** @param {Treatment} treatment */
    use(treatment) {
      this.t = treatment;
      this.boundsChanged();
      this.settled();
    },
    /** @param {"undo" | "redo"} way */
    travel(way) {
      const treatment = past[way]();
      if (!treatment) return;
      this.t = treatment;
      this.boundsChanged();
      this.keep();
      this.solve();
      this.tellFates();
    },
    keep() {
      keeping ||= keeper(
        (treatment, leaving) => ask("PUT", `${parts.address}/draft`, treatment, { leaving }),
        (busy) => (this.unkept = busy),
        (problem) => (this.error = problem.message),
      );
      keeping.put(this.t);
    },
    async keptNow() {
      if (keeping) await keeping.now();
    },
    /** @param {(version: Version) => void} done */
    saveVersion(done) {
      this.attempt(async () => done(await ask("POST", `${parts.address}/versions`, this.t)));
    },
    measured() {
      return this.coversRange(this.measuredRanges);
    },
    /** Whether one of these holds the range. @param {number[][]} ranges */
    coversRange(ranges) {
      const { first, last } = this.range();
      return ranges.some(([from, to]) => from <= first && to >= last);
    },
    solve() {
      return inTurn((turn) => this.solved(turn));
    },
    /** @param {import("../../state/newest.js").Turn} turn */
    async solved({ signal }) {
      if (!(this.measured() || this.opticsActive() || this.t.optics.flat || this.falloff() || this.fringe()) || (this.measured() && !this.followed())) {
        this.path = null;
        if (this.measured()) this.follow();
      } else {
        try {
          const known = this.path && this.path.lens ? this.path.lens : null;
          const address = `${parts.address}/solve?asker=${asker}&number=${++questions}&lens=${known ? known.name : ""}`;
          this.path = unpacked(await ask("POST", address, this.t, { signal }), known);
          this.error = "";
        } catch (problem) {
          if (/** @type {Error} */ (problem).name === "AbortError") return;
          this.error = /** @type {Error} */ (problem).message;
        }
      }
      this.draw();
      this.drawStrip();
      this.believe();
      this.lookForBending();
      this.tradeSoon();
    },
    stageChanged() {
      this.remember();
      this.tradeSoon();
      this.tellFates();
    },
  };
};
