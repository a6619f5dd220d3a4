// @ts-check
import { ask, followWork, pageData, sendFile, Unreachable } from "../net.js";
import { workText } from "../words.js";

/** @typedef {import("../types.js").Card} Card */

const ORDER = "shelf order"; // what the browser keeps it under
const STATES = ["failed", "arriving", "ready"]; // what wants attention first
/** @type {Record<string, null | ((a: Card, b: Card) => number)>} */
const ORDERS = {
  "as they came": null,
  "shakiest first": (a, b) => (b.shake ?? -1) - (a.shake ?? -1),
  "by name": (a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }),
  "longest first": (a, b) => (b.seconds ?? -1) - (a.seconds ?? -1),
  "by state": (a, b) => STATES.indexOf(a.state) - STATES.indexOf(b.state) || Number(a.shake !== null) - Number(b.shake !== null) || a.renders - b.renders,
};
const FULL_BAR = 0.6; // percent of the width: a bar this long is very shaky

/** Starting the first project. */
export const newProject = () => ({
  name: "",
  error: "",
  async create() {
    try {
      const project = await ask("POST", "/api/projects", { name: this.name, measures_itself: true });
      location.assign(`/projects/${project.id}`);
    } catch (problem) {
      this.error = /** @type {Error} */ (problem).message;
    }
  },
});

/** A project's clips. */
export const shelf = () => {
  const page = pageData();
  return {
    clips: page.clips,
    media: page.media,
    measuresItself: page.measures_itself,
    /** @type {any[]} */
    uploads: [],
    /** Edits brought in, and how far they are. @type {any[]} */
    edits: [],
    /** @type {Record<number, number>} */
    hovered: {},
    /** @type {number[]} */
    chosen: [],
    over: false,
    folderOpen: false,
    newName: "",
    error: "",
    fieldWays: [
      { value: "as found", label: "as found" },
      { value: "top", label: "top field first" },
      { value: "bottom", label: "bottom field first" },
      { value: "none", label: "whole pictures" },
    ],
    pictureWays: [
      { value: "", label: "as fits the motion" },
      { value: "field", label: "one a field" },
      { value: "frame", label: "one a frame" },
    ],
    orders: Object.keys(ORDERS),
    order: localStorage.getItem(ORDER) || "as they came",
    turn: 0,
    soon: 0,

    /** The clips in the order asked for. @returns {Card[]} */
    sorted() {
      const compare = ORDERS[/** @type {keyof typeof ORDERS} */ (this.order)];
      return compare ? [...this.clips].sort(compare) : this.clips;
    },
    /** @param {string} order */
    sortBy(order) {
      this.order = order;
      localStorage.setItem(ORDER, order);
    },
    init() {
      this.listEdits().catch((problem) => (this.error = problem.message));
      followWork((work) => {
        const clip = this.clips.find((/** @type {Card} */ card) => card.id === work.clip);
        if (clip && (work.state === "waiting" || work.state === "working")) clip.work = work;
        else this.refreshSoon(); // also for a clip that is not on show yet: its last event may come before its card
      });
    },
    refreshSoon() {
      clearTimeout(this.soon);
      this.soon = setTimeout(() => this.refresh(), 60);
    },
    async refresh() {
      const turn = ++this.turn;
      const clips = await ask("GET", `/api/projects/${page.project}/clips`);
      if (turn === this.turn) this.clips = clips;
      if (this.edits.length) await this.listEdits();
    },
    async listEdits() {
      this.edits = await ask("GET", `/api/projects/${page.project}/edits`);
    },
    /** @param {Event} event */
    bringEdit(event) {
      const input = /** @type {HTMLInputElement} */ (event.target);
      const file = input.files && input.files[0];
      if (!file) return;
      return this.attempt(async () => {
        await ask("POST", `/api/projects/${page.project}/edits/${encodeURIComponent(file.name)}`, file);
        input.value = "";
        await this.listEdits();
      });
    },
    /** @param {boolean} wanted whether clips that arrive from now on are measured by themselves */
    setMeasuresItself(wanted) {
      this.measuresItself = wanted;
      return this.attempt(() => ask("PUT", `/api/projects/${page.project}/measures-itself`, { wanted }));
    },
    /** @param {any} edit */
    removeEdit(edit) {
      return this.attempt(async () => {
        await ask("DELETE", `/api/edits/${edit.id}`);
        await this.listEdits();
      });
    },
    /** @param {any} edit */
    editText({ clips, linked, corrected, coming }) {
      const parts = [`${linked} of ${clips} clips are here`, `${corrected} corrected`];
      if (coming) parts.push(`${coming} being prepared`);
      return parts.join(", ");
    },
    /** @param {() => Promise<any>} action */
    async attempt(action) {
      this.error = "";
      try {
        await action();
        await this.refresh();
      } catch (problem) {
        this.error = /** @type {Error} */ (problem).message;
      }
    },

    /** @param {DragEvent} event */
    dropped(event) {
      this.over = false;
      this.receive(event.dataTransfer ? [...event.dataTransfer.files] : []);
    },
    /** @param {Event} event */
    picked(event) {
      const input = /** @type {HTMLInputElement} */ (event.target);
      this.receive([...(input.files || [])]);
      input.value = "";
    },
    /** @param {File[]} files */
    receive(files) {
      for (const file of files) {
        const key = `${file.name}:${file.size}:${Date.now()}`;
        this.uploads.push({ key, name: file.name, size: file.size, sent: 0, text: "waiting", stopped: false, file });
        this.resume(this.uploads[this.uploads.length - 1]);
      }
    },
    /** @param {any} upload */
    async resume(upload) {
      upload.stopped = false;
      try {
        await sendFile(page.project, upload.file, (sent) => {
          upload.sent = sent;
          upload.text = `${(sent / 1e6).toFixed(0)} of ${(upload.size / 1e6).toFixed(0)} MB received`;
        }, (seconds) => {
          upload.text = `connection lost; trying again in ${seconds} s`;
        });
        await this.refresh();
        this.forget(upload);
      } catch (problem) {
        upload.stopped = true;
        upload.unreachable = problem instanceof Unreachable;
        upload.text = /** @type {Error} */ (problem).message;
      }
    },

    /** @param {any} upload */
    forget(upload) {
      this.uploads = this.uploads.filter((other) => other.key !== upload.key);
    },

    createProject() {
      return this.attempt(async () => {
        const project = await ask("POST", "/api/projects", { name: this.newName, measures_itself: true });
        location.assign(`/projects/${project.id}`);
      });
    },
    /** @param {string} path */
    register(path) {
      return this.attempt(() => ask("POST", `/api/projects/${page.project}/media`, { path }));
    },
    /** @param {Card} clip */
    measure(clip) {
      return this.attempt(async () => {
        const detail = await ask("GET", `/api/clips/${clip.id}`);
        await ask("POST", `/api/clips/${clip.id}/measure`, detail.draft);
      });
    },
    /** @param {Card} clip */
    toggle(clip) {
      this.chosen = this.chosen.includes(clip.id) ? this.chosen.filter((id) => id !== clip.id) : [...this.chosen, clip.id];
    },
    /** Measure, render or join all chosen clips. @param {"measure" | "render" | "join"} task */
    start(task) {
      const clips = this.chosen.splice(0);
      return this.attempt(() => ask("POST", `/api/projects/${page.project}/${task}`, { clips }));
    },
    /** @param {Card} clip */
    askedOf(clip) {
      return { fields: "as found", every_field: null, rate: null, camera: "as found", ...clip.asked };
    },
    /** @param {Card} clip */
    picturesAsked(clip) {
      const { every_field: every } = this.askedOf(clip);
      return every === null ? "" : every ? "field" : "frame";
    },
    /** @param {Card} clip @param {string} fields */
    askFields(clip, fields) {
      return this.attempt(() => ask("POST", `/api/clips/${clip.id}/reading`, { ...this.askedOf(clip), fields }));
    },
    /** @param {Card} clip @param {"sphere" | "frame"} camera */
    askCamera(clip, camera) {
      return this.attempt(() => ask("POST", `/api/clips/${clip.id}/reading`, { ...this.askedOf(clip), camera }));
    },
    /** @param {Card} clip */
    rateAsked(clip) {
      return clip.numbered && clip.rate ? String(Number(clip.rate.toFixed(4))) : "";
    },
    /** @param {Card} clip @param {string} text */
    askRate(clip, text) {
      const rate = Number(text);
      if (!(rate > 0)) return;
      return this.attempt(() => ask("POST", `/api/clips/${clip.id}/reading`, { ...this.askedOf(clip), rate }));
    },
    /** @param {Card} clip @param {string} pictures */
    askPictures(clip, pictures) {
      const every_field = pictures === "" ? null : pictures === "field";
      return this.attempt(() => ask("POST", `/api/clips/${clip.id}/reading`, { ...this.askedOf(clip), every_field }));
    },
    /** @param {Card} clip */
    retry(clip) {
      return this.attempt(() => ask("POST", `/api/clips/${clip.id}/retry`));
    },
    /** @param {Card} clip */
    retryWork(clip) {
      return this.attempt(() => ask("POST", `/api/works/${clip.failed?.id}/retry`));
    },
    /** @param {Card} clip */
    cancel(clip) {
      return this.attempt(() => ask("POST", `/api/works/${clip.work?.id}/cancel`));
    },
    /** @param {Card} clip */
    remove(clip) {
      if (!confirm(`Remove ${clip.name} from the shelf, with its versions and rendered files?`)) return;
      return this.attempt(() => ask("DELETE", `/api/clips/${clip.id}`));
    },

    /** @param {MouseEvent} event @param {Card} clip */
    scrub(event, clip) {
      const box = /** @type {HTMLElement} */ (event.currentTarget).getBoundingClientRect();
      const share = Math.min(0.999, Math.max(0, (event.clientX - box.left) / box.width));
      this.hovered[clip.id] = Math.floor(share * clip.thumbnail_count);
    },
    /** @param {Card} clip */
    rest(clip) {
      delete this.hovered[clip.id];
    },
    /** @param {Card} clip */
    frameOf(clip) {
      return this.hovered[clip.id] ?? Math.floor(clip.thumbnail_count / 3);
    },
    shakeWidth: (/** @type {Card} */ clip) => Math.min(100, (100 * (clip.shake || 0)) / FULL_BAR),
    shakeText: (/** @type {Card} */ clip) => (clip.shake === null ? "motion not measured" : `shake ${clip.shake.toFixed(2)} % of the width`),
    workText,
  };
};
