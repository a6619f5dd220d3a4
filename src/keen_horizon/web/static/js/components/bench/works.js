// @ts-check
// Measuring and rendering in the background, and their failures.
import { ask } from "../../net.js";
import { workText } from "../../words.js";

/** @typedef {import("../../types.js").Work} Work */

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const works = (parts) => {
  /** @type {number} */ let refreshing = 0;
  return {
    /** @param {"" | "anew" | "finer"} [how] also where that was done already; with more points in larger pictures */
    measure(how = "") {
      this.attempt(async () => {
        const answer = await ask("POST", `${parts.address}/measure${how ? `?${how}=yes` : ""}`, this.t);
        if (answer.work) this.worked(answer.work);
        else await this.refresh();
      });
    },
    render() {
      this.attempt(async () => this.queued(await ask("POST", `${parts.address}/renders`, this.t)));
    },
    /** @param {{ works: Work[] }} answer */
    queued({ works }) {
      for (const work of works) this.worked(work);
    },
    /** @param {string} kind */
    cancel(kind) {
      this.attempt(() => ask("POST", `/api/works/${this.work(kind).id}/cancel`));
    },
    /** @param {Work} work */
    worked(work) {
      if (work.clip !== parts.page.id) return;
      const known = this.works.findIndex((/** @type {Work} */ row) => row.id === work.id);
      if (known >= 0) {
        const before = this.works[known];
        if (["done", "failed", "cancelled"].includes(before.state)) return;
        this.works[known] = work;
      } else this.works.push(work);
      if (work.state !== "done") return;
      if (work.kind === "lens") this.attempt(() => this.refresh().then(() => this.lensAsked && this.useFound()));
      else if (work.kind === "falloff") this.attempt(() => this.refresh().then(() => (this.foundLight.enough || this.foundLight.dead) && this.useFoundLight(true)));
      else if (work.kind === "fringe") this.attempt(() => this.refresh().then(() => this.foundFringe.enough && this.useFoundFringe()));
      else if (work.kind === "measure" && this.measuredAnew) this.attempt(() => this.refresh().then(() => this.measuredAnew()));
      else if (work.kind === "flat") this.solve();
      else this.refreshSoon();
    },
    refreshSoon() {
      clearTimeout(refreshing);
      refreshing = setTimeout(() => this.attempt(() => this.refresh()), 30);
    },
    async refresh() {
      const clip = await ask("GET", parts.address);
      this.measuredRanges = clip.measured;
      this.finerRanges = clip.measured_finer;
      this.measuringRate = clip.measuring_rate;
      this.pinTracks = clip.pins;
      this.renders = clip.renders.reverse();
      this.foundLens = clip.found_lens;
      this.foundLight = clip.found_falloff;
      this.foundFringe = clip.found_fringe;
      if (!this.path) this.solve();
    },
    /** @param {string} kind */
    work(kind) {
      return this.works.find((/** @type {Work} */ work) => work.kind === kind && (work.state === "waiting" || work.state === "working"));
    },
    /** @param {string} kind */
    failure(kind) {
      const last = this.works.filter((/** @type {Work} */ work) => work.kind === kind).pop();
      return last && last.state === "failed" ? last.error : "";
    },
    workText,
    /** @param {() => Promise<any>} action */
    async attempt(action) {
      this.error = "";
      try {
        await action();
      } catch (problem) {
        this.error = /** @type {Error} */ (problem).message;
      }
    },
  };
};
