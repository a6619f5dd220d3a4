// @ts-check
import { ask, followWork, pageData } from "../net.js";
import { workText } from "../words.js";

const isOpen = (/** @type {any} */ work) => work.state === "waiting" || work.state === "working";

/** How much work is going on, for the top bar. */
export const jobCount = () => ({
  open: 0,
  /** @type {Map<number, boolean>} */
  seen: new Map(),
  init() {
    followWork((work) => this.note(work));
  },
  /** @param {any} work */
  note(work) {
    this.seen.set(work.id, isOpen(work));
    this.open = [...this.seen.values()].filter(Boolean).length;
  },
});

/** The jobs page. */
export const jobs = () => ({
  works: pageData().works,
  error: "",
  init() {
    followWork(async (work) => {
      const known = this.works.find((/** @type {any} */ row) => row.id === work.id);
      if (known) Object.assign(known, work);
      else if (work.id > (this.works[0]?.id ?? 0)) await this.refresh();
    });
  },
  async refresh() {
    this.works = await ask("GET", "/api/works");
  },
  isOpen,
  canRetry: (/** @type {any} */ work) => work.state === "failed" || work.state === "cancelled",
  stateOf: (/** @type {any} */ work) => (work.stopping ? "stopping" : work.state),
  progressOf: (/** @type {any} */ work) => (work.state === "working" ? workText(work) : work.total ? `${work.done} of ${work.total}` : ""),
  /** @param {any} work @param {string} action */
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
