// @ts-check
// Output: which codec goes where, the output's size, comparisons, and data of the settings as they are.
import { ask, saveFile } from "../../net.js";

/** @typedef {import("../../types.js").Version} Version */

const FORMATS = {
  source: { label: "Like the source", containers: ["source"], usual: null },
  h264: { label: "H.264", containers: ["mp4", "mov", "mkv"], usual: 18 },
  h265: { label: "H.265", containers: ["mp4", "mov", "mkv"], usual: 20 },
  prores: { label: "ProRes", containers: ["mov", "mkv"], usual: null },
  vp9: { label: "VP9", containers: ["webm", "mkv", "mp4"], usual: 24 },
  av1: { label: "AV1", containers: ["mp4", "mkv", "webm"], usual: 24 },
  png: { label: "PNG pictures", containers: ["zip"], usual: null },
  tiff: { label: "TIFF pictures, 16 bit", containers: ["zip"], usual: null },
  exr: { label: "EXR pictures, linear", containers: ["zip"], usual: null },
};
/** @typedef {keyof typeof FORMATS} Codec */

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const outputting = (parts) => ({
  codecs: Object.entries(FORMATS).map(([value, format]) => ({ value, label: format.label })),
  layout: "side",
  /** What goes along with a render, thing by thing. @type {{ what: string, outcome: string, how: string }[]} */
  fates: [],
  /** In what a file like the source differs from it. @type {string[]} */
  differs: [],
  /** What "like the source" comes to. @type {any} */
  near: null,

  /** @param {any} output */
  formatText(output) {
    const format = FORMATS[/** @type {Codec} */ (output.codec)];
    return format.usual === null ? format.label : `${format.label}, crf ${output.quality}`;
  },
  /** @param {string} name */
  containerText(name) {
    return name === "source" ? (this.near ? this.near.container.toUpperCase() : "its own") : name.toUpperCase();
  },
  async tellFates() {
    if (this.stage !== "output") return;
    try {
      const told = await ask("POST", `${parts.address}/goes-along`, this.t);
      this.fates = told.fates;
      this.differs = told.notes;
      this.near = this.t.output.codec === "source" ? told.output : null;
    } catch (problem) {
      this.error = /** @type {Error} */ (problem).message;
    }
  },
  /** "like the source" in figures. */
  nearText() {
    if (!this.near) return "";
    const { codec, container, bit_rate_kbps: rate } = this.near;
    return `${FORMATS[/** @type {Codec} */ (codec)].label} in ${container.toUpperCase()}${rate ? `, ${(rate / 1000).toFixed(1)} Mbit/s` : ""}`;
  },
  /** @param {string} outcome */
  fateMark(outcome) {
    return { kept: "✓", changed: "≈", lost: "✕" }[outcome];
  },
  format() {
    return FORMATS[/** @type {Codec} */ (this.t.output.codec)];
  },
  /** @param {Codec} codec */
  setCodec(codec) {
    const format = FORMATS[codec];
    const { quality } = this.t.output;
    this.t.output = { ...this.t.output, codec, container: format.containers[0], bit_rate_kbps: null, profile: null, quality: format.usual === null ? quality : format.usual };
    this.settled();
  },
  sized() {
    return this.t.edges.size !== null;
  },
  /** @param {boolean} own */
  setSized(own) {
    const even = (/** @type {number} */ side) => 2 * Math.floor(side / 2);
    this.t.edges.size = own ? { width: even(parts.size.width), height: even(parts.size.height) } : null;
    this.settled();
  },
  /** @param {"width" | "height"} side @param {string} text */
  setSide(side, text) {
    const value = 2 * Math.round(Number(text) / 2);
    if (value < 16 || value > 16384) return;
    this.t.edges.size = { ...this.t.edges.size, [side]: value };
    this.settled();
  },
  /** What a finished render is, in figures. @param {any} render @returns {{ name: string, value: string }[]} */
  renderFigures({ report }) {
    if (report.maps) return [{ name: "clip", value: `${report.maps.source_width}×${report.maps.source_height}` }, { name: "plate", value: `${report.maps.plate_width}×${report.maps.plate_height}` }];
    const made = report.overlay || { frames: report.frames, seconds: report.seconds.render };
    const frames = { name: "frames", value: `${made.frames}, ${(made.frames / made.seconds).toFixed(0)} a second` };
    if (report.overlay) return [frames];
    return [
      { name: "zoom", value: `${report.zoom.toFixed(3)}×` },
      { name: "kept", value: `${(100 * report.kept_area).toFixed(1)} %` },
      { name: "shake", value: `${report.shake_before_px.toFixed(2)} → ${report.shake_after_px.toFixed(2)} px` },
      frames,
    ];
  },
  /** @param {"plates" | "maps"} what */
  renderForOthers(what) {
    this.attempt(async () => this.queued(await ask("POST", `${parts.address}/${what}?frame=${this.frame}`, this.t)));
  },
  /** Graphics go up with the treatment as it is kept. @param {Event} event */
  bendBack(event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const file = input.files && input.files[0];
    if (!file) return;
    this.attempt(async () => {
      await this.keptNow();
      this.queued(await ask("POST", `${parts.address}/overlays/${encodeURIComponent(file.name)}`, file));
      input.value = "";
    });
  },
  renderComparison() {
    const version = this.versions.find((/** @type {Version} */ v) => v.letter === this.against);
    const body = {
      treatment: this.t, against: version ? version.treatment : null, layout: this.layout,
      place: this.wipe.place, turn: this.wipe.turn,
    };
    this.attempt(async () => this.queued(await ask("POST", `${parts.address}/comparisons`, body)));
  },
  /** Save data of the settings as they are. @param {string} name */
  saveData(name) {
    this.attempt(() => saveFile(`${parts.address}/data/${name}`, this.t));
  },
  /** The report is of what is kept; it is opened once the newest settings are. */
  async openReport() {
    await this.attempt(() => this.keptNow());
    location.assign(this.reportAddress());
  },
  reportAddress() {
    return `/clips/${parts.page.id}/report?frame=${this.frame}`;
  },
});
