// @ts-check
// Starting points, and carrying a treatment to other clips.
import { ask } from "../../net.js";

/** @typedef {import("../../types.js").StartingPoint} StartingPoint */

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const starting = (parts) => ({
  /** @type {StartingPoint[]} */ points: [],
  pointName: "",
  /** @type {any[]} */ others: [],
  /** @type {number[]} */ chosen: [],
  renderCopies: false,
  copied: "",

  listStartingPoints() {
    return this.attempt(async () => (this.points = await ask("GET", "/api/starting-points")));
  },
  /** @param {StartingPoint} point */
  startWith(point) {
    this.attempt(async () => this.use(await ask("POST", `/api/starting-points/${point.id}/apply`, this.t)));
  },
  /** @param {StartingPoint} point */
  startAllWith(point) {
    this.attempt(async () => (this.points = await ask("POST", `/api/starting-points/${point.id}/default`)));
  },
  saveStartingPoint() {
    this.attempt(async () => {
      await ask("POST", "/api/starting-points", { name: this.pointName, treatment: this.t });
      this.pointName = "";
      await this.listStartingPoints();
    });
  },
  /** @param {StartingPoint} point */
  forgetStartingPoint(point) {
    this.attempt(async () => {
      await ask("DELETE", `/api/starting-points/${point.id}`);
      await this.listStartingPoints();
    });
  },

  openCopies() {
    this.attempt(async () => {
      const clips = await ask("GET", `/api/projects/${parts.page.project.id}/clips`);
      this.others = clips.filter((/** @type {any} */ clip) => clip.id !== parts.page.id && clip.state === "ready");
      this.chosen = this.others.map((/** @type {any} */ clip) => clip.id);
      this.copied = "";
      parts.refs.copies.showModal();
    });
  },
  closeCopies() {
    parts.refs.copies.close();
  },
  /** @param {number} id */
  toggleChosen(id) {
    this.chosen = this.chosen.includes(id) ? this.chosen.filter((/** @type {number} */ other) => other !== id) : [...this.chosen, id];
  },
  copyToChosen() {
    this.attempt(async () => {
      const body = { treatment: this.t, clips: this.chosen, render: this.renderCopies };
      const answer = await ask("POST", `${parts.address}/copies`, body);
      const many = (/** @type {number} */ count, /** @type {string} */ word) => `${count} ${word}${count === 1 ? "" : "s"}`;
      this.copied = `Copied to ${many(answer.clips.length, "clip")}; ${many(answer.works.length, "job")} queued.`;
    });
  },
});
