// @ts-check
import { ask, followWork, pageData } from "../net.js";
import { moment, seconds, workText } from "../words.js";

/** @typedef {import("../types.js").Work} Work */
/** @typedef {import("../types.js").WorkRow} WorkRow */

const size = (/** @type {number} */ bytes) => (bytes < 1e9 ? `${(bytes / 1e6).toFixed(0)} MB` : `${(bytes / 1e9).toFixed(1)} GB`);
const isOpen = (/** @type {Work} */ work) => work.state === "waiting" || work.state === "working";

/** How much work is going on, for the top bar. */
export const jobCount = () => {
  const open = new Set();
  return {
    open: 0,
    init() {
      followWork((work) => {
        if (isOpen(work)) open.add(work.id);
        else open.delete(work.id);
        this.open = open.size;
      });
    },
  };
};

/** The jobs page. */
export const jobs = () => ({
  works: pageData().works,
  free: pageData().free,
  error: "",
  soon: 0,
  init() {
    followWork((work) => {
      const known = this.works.find((/** @type {WorkRow} */ row) => row.id === work.id);
      const moved = !known || known.state !== work.state; // the order of what waits may have changed with it
      if (known) Object.assign(known, work);
      if (moved) this.refreshSoon();
    });
  },
  refreshSoon() {
    clearTimeout(this.soon);
    this.soon = setTimeout(() => this.refresh(), 60);
  },
  async refresh() {
    ({ works: this.works, free: this.free } = await ask("GET", "/api/works"));
  },
  isOpen,
  /** Renders that wait, in their order. @returns {WorkRow[]} */
  queue() {
    return this.works.filter((/** @type {WorkRow} */ work) => work.kind === "render" && work.state === "waiting");
  },
  /** @param {WorkRow} work @param {number} step */
  canMove(work, step) {
    const at = this.queue().findIndex((/** @type {WorkRow} */ other) => other.id === work.id);
    return at >= 0 && at + step >= 0 && at + step < this.queue().length;
  },
  needed() {
    return this.works.reduce((/** @type {number} */ sum, /** @type {WorkRow} */ work) => sum + work.needs, 0);
  },
  short() {
    return this.needed() > this.free;
  },
  spaceText() {
    const left = `${size(this.free)} are free on the disk`;
    return this.needed() ? `The renders that wait need about ${size(this.needed())}; ${left}.` : `${left}.`;
  },
  canRetry: (/** @type {WorkRow} */ work) => work.state === "failed" || work.state === "cancelled",
  /** Who asked for it, and who stopped it, where people sign in. @param {WorkRow} work */
  whoText: ({ person, stopped_by }) => [person && `by ${person}`, stopped_by && `stopped by ${stopped_by}`].filter(Boolean).join(", "),
  /** When it was asked for, and how long it took, or takes. @param {WorkRow} work */
  whenText({ asked_at, began_at, ended_at, state }) {
    const asked = moment(new Date(asked_at));
    if (!began_at) return asked;
    const took = Math.max(0, ((ended_at ? Date.parse(ended_at) : Date.now()) - Date.parse(began_at)) / 1000);
    const began = state === "working" ? "for" : "took";
    return ended_at || state === "working" ? `${asked}, ${began} ${seconds(Math.round(took))}` : asked;
  },
  stateOf: (/** @type {WorkRow} */ work) => (work.stopping ? "stopping" : work.state),
  /** How far it is, or got; of what is done the state says enough. @param {WorkRow} work */
  progressOf(work) {
    if (work.state === "working") return workText(work);
    return work.total && work.state !== "done" ? `${work.done} of ${work.total}` : "";
  },
  /** @param {WorkRow} work @param {string} action */
  async act(work, action) {
    this.error = "";
    try {
      await ask("POST", `/api/works/${work.id}/${action}`);
      await this.refresh();
    } catch (problem) {
      this.error = /** @type {Error} */ (problem).message;
    }
  },
});
