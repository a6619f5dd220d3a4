// @ts-check
// The state of the bench: the treatment, what was solved for it, the playhead. Views draw it.
import { IDENTITY, inside } from "../geometry/matrix.js";
import { ask, followWork, pageData } from "../net.js";
import { history } from "../state/history.js";
import { mountOverlay } from "../views/overlay.js";
import { mountPlayer } from "../views/player.js";
import { mountStrip } from "../views/strip.js";
import { mountViewer } from "../views/viewer.js";
import { timecode, workText } from "../words.js";
import { KEY_LIST, keyAction } from "./keys.js";

const STAGES = ["motion", "framing", "deliver"];
const copy = (/** @type {any} */ value) => JSON.parse(JSON.stringify(value));

/** The version buttons in the top bar; the bench listens to what they say. */
export const versionsBar = () => ({
  versions: pageData().versions,
  current: "",
  /** @param {any} version */
  pick(version) {
    this.current = version.letter;
    window.dispatchEvent(new CustomEvent("bench:use", { detail: copy(version.treatment) }));
  },
  save() {
    window.dispatchEvent(new CustomEvent("bench:save", { detail: (/** @type {any} */ version) => {
      this.versions.push(version);
      this.current = version.letter;
    } }));
  },
});

export const bench = () => {
  const page = pageData();
  const address = `/api/clips/${page.id}`;
  const url = new URL(location.href);
  /** @type {any} */ let viewer = null;
  /** @type {any} */ let overlay = null;
  /** @type {any} */ let strip = null;
  /** @type {any} */ let player = null;
  /** @type {AbortController | null} */ let solving = null;
  /** @type {number} */ let saving = 0;
  /** @type {number} */ let refreshing = 0;
  const past = history(page.draft);
  const size = { width: page.info.width, height: page.info.height };

  return {
    t: copy(page.draft),
    stage: STAGES.includes(url.searchParams.get("stage") || "") ? url.searchParams.get("stage") : "motion",
    frames: page.info.frames,
    frame: 0,
    playing: false,
    view: "result",
    held: false,
    grid: false,
    wipe: 0.5,
    stills: false,
    help: false,
    error: "",
    /** @type {any} */ path: null,
    measuredRanges: page.measured,
    notes: page.notes,
    works: page.works,
    renders: page.renders.reverse(),
    proxyUrl: page.proxy.url,
    keyList: KEY_LIST,
    freedoms: ["shift", "turn", "size"],
    intents: [
      { value: "glide", label: "Glide", text: "move smoothly" },
      { value: "hold", label: "Hold", text: "stand on a tripod" },
      { value: null, label: "As shot", text: "leave the motion alone" },
    ],
    views: [
      { value: "source", label: "source" }, { value: "result", label: "result" },
      { value: "wipe", label: "wipe" }, { value: "side", label: "side by side" },
    ],

    init() {
      const refs = /** @type {any} */ (this).$refs;
      viewer = mountViewer(refs.canvas, refs.video, size);
      this.stills = viewer === null;
      overlay = mountOverlay(refs.overlay, size);
      strip = mountStrip(refs.strip, {
        seek: (frame) => this.go(frame),
        range: (first, last, settled) => this.setRange(first, last, settled),
      });
      player = mountPlayer(refs.video, page.proxy.rate, this.frames, (frame) => this.arrived(frame));
      new ResizeObserver(() => this.fit()).observe(refs.viewer);
      this.fit();
      this.boundsChanged();
      player.seek(Number(url.searchParams.get("frame") || this.range().first));
      addEventListener("keydown", (event) => this.key(event));
      addEventListener("keyup", (event) => event.key.toLowerCase() === "b" && this.hold(false));
      addEventListener("bench:use", (event) => this.use(/** @type {CustomEvent} */ (event).detail));
      addEventListener("bench:save", (event) => this.saveVersion(/** @type {CustomEvent} */ (event).detail));
      const magic = /** @type {any} */ (this);
      magic.$watch("help", (/** @type {boolean} */ open) => (open ? refs.keys.showModal() : refs.keys.close()));
      magic.$watch("stage", () => this.remember());
      followWork((work) => this.worked(work));
      this.solve();
    },

    // The range and the playhead
    range() {
      return this.t.range ? { first: this.t.range.in, last: this.t.range.out } : { first: 0, last: this.frames - 1 };
    },
    /** @param {number} first @param {number} last @param {boolean} settled */
    setRange(first, last, settled) {
      this.t.range = { in: first, out: last };
      this.boundsChanged();
      if (settled) this.settled();
    },
    setIn() {
      this.setRange(this.frame, Math.max(this.frame, this.range().last), true);
    },
    setOut() {
      this.setRange(Math.min(this.frame, this.range().first), this.frame, true);
    },
    clearRange() {
      this.t.range = null;
      this.boundsChanged();
      this.settled();
    },
    boundsChanged() {
      player.setBounds(this.range().first, this.range().last);
      this.drawStrip();
    },
    /** @param {number} frame */
    go(frame) {
      this.playing = false;
      if (player.speed) player.play(0);
      player.seek(frame);
    },
    /** @param {number} speed */
    shuttle(speed) {
      this.playing = speed !== 0;
      player.play(speed);
      if (!speed) this.remember();
    },
    togglePlay() {
      this.shuttle(this.playing ? 0 : 1);
    },
    /** @param {number} frame */
    arrived(frame) {
      this.frame = frame;
      this.draw();
      this.drawStrip();
      if (!this.playing) this.remember();
    },
    remember() {
      const here = new URL(location.href);
      here.searchParams.set("frame", String(this.frame));
      here.searchParams.set("stage", String(this.stage));
      window.history.replaceState(null, "", here);
    },
    timecode() {
      return `${timecode(this.frame, page.proxy.rate)}   frame ${this.frame}`;
    },
    worst() {
      if (this.pinches().length) this.go(this.pinches()[0].frame);
    },
    /** @param {number} step */
    pinchStep(step) {
      const frames = this.pinches().map((pinch) => pinch.frame).sort((a, b) => a - b);
      const next = step > 0 ? frames.find((f) => f > this.frame) : frames.reverse().find((f) => f < this.frame);
      if (next !== undefined) this.go(next);
    },

    // Looking
    shown() {
      return this.held ? "source" : this.view;
    },
    viewText() {
      return { source: "source", result: "result", wipe: "source | result", side: "source, result" }[this.shown()];
    },
    /** @param {string} view */
    setView(view) {
      this.view = view;
      this.draw();
    },
    /** @param {boolean} held */
    hold(held) {
      if (this.held === held) return;
      this.held = held;
      this.draw();
    },
    toggleGrid() {
      this.grid = !this.grid;
      this.draw();
    },
    matrix() {
      const at = this.path ? this.frame - this.path.first : -1;
      return (this.path && this.path.src_from_out[at]) || IDENTITY;
    },
    draw() {
      if (this.stills) this.drawStill();
      else viewer.update({ srcFromOut: this.matrix(), mode: this.shown(), wipe: this.wipe, fine: !this.playing });
      const onSource = this.shown() === "source" && this.path && !this.held;
      overlay.update({ grid: this.grid, window: onSource ? this.matrix() : null });
    },
    drawStill() {
      const treated = this.shown() !== "source" && this.path ? `&treatment=${encodeURIComponent(JSON.stringify(this.t))}` : "";
      /** @type {any} */ (this).$refs.still.src = `/media/clips/${page.id}/still.jpg?frame=${this.frame}${treated}`;
    },
    drawStrip() {
      const { first, last } = this.range();
      strip.update({
        frames: this.frames, first, last, frame: this.frame, path: this.path,
        limit: this.t.framing.edges === "fill" && this.t.motion.intent !== null ? this.t.framing.zoom_limit : null,
        pinches: this.path ? this.path.pinch_points : [],
      });
    },
    fit() {
      const refs = /** @type {any} */ (this).$refs;
      const box = inside(refs.viewer.clientWidth, refs.viewer.clientHeight, size.width / size.height);
      for (const element of [refs.canvas, refs.still, refs.overlay]) {
        element.style.left = `${box.x}px`;
        element.style.top = `${box.y}px`;
        element.style.width = `${box.width}px`;
        element.style.height = `${box.height}px`;
      }
      if (viewer) viewer.resize(box.width);
      this.placeWipe();
      this.draw();
    },
    placeWipe() {
      const refs = /** @type {any} */ (this).$refs;
      const { left, top, width, height } = refs.canvas.style;
      refs.wipe.style.left = `${parseFloat(left) + parseFloat(width) * this.wipe}px`;
      refs.wipe.style.top = top;
      refs.wipe.style.height = height;
    },
    /** @param {PointerEvent} event */
    dragWipe(event) {
      const refs = /** @type {any} */ (this).$refs;
      const line = refs.wipe;
      line.setPointerCapture(event.pointerId);
      line.onpointermove = (/** @type {PointerEvent} */ moved) => {
        const box = refs.canvas.getBoundingClientRect();
        this.setWipe((moved.clientX - box.left) / box.width);
      };
      line.onpointerup = () => (line.onpointermove = null);
    },
    /** @param {number} step */
    nudgeWipe(step) {
      this.setWipe(this.wipe + step);
    },
    /** @param {number} share */
    setWipe(share) {
      this.wipe = Math.min(1, Math.max(0, share));
      this.placeWipe();
      this.draw();
    },
    Math100: (/** @type {number} */ share) => Math.round(100 * share),

    // The treatment
    /** @param {string | null} value */
    setIntent(value) {
      this.t.motion.intent = value;
      this.settled();
    },
    /** @param {string} name */
    toggleFreedom(name) {
      const chosen = new Set(this.t.motion.freedom);
      chosen.has(name) ? chosen.delete(name) : chosen.add(name);
      this.t.motion.freedom = this.freedoms.filter((freedom) => chosen.has(freedom));
      this.settled();
    },
    /** @param {string} name like t.motion.response_s @param {number} value */
    reset(name, value) {
      const [, part, key] = name.split(".");
      this.t[part][key] = value;
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
    },
    /** @param {any} treatment */
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
    },
    keep() {
      clearTimeout(saving);
      saving = setTimeout(() => this.attempt(() => ask("PUT", `${address}/draft`, this.t)), 250);
    },
    /** @param {(version: any) => void} done */
    saveVersion(done) {
      this.attempt(async () => done(await ask("POST", `${address}/versions`, this.t)));
    },
    measured() {
      const { first, last } = this.range();
      return this.measuredRanges.some((/** @type {number[]} */ [from, to]) => from <= first && to >= last);
    },
    async solve() {
      if (solving) solving.abort();
      solving = new AbortController();
      if (!this.measured()) {
        this.path = null;
      } else {
        try {
          this.path = await ask("POST", `${address}/solve`, this.t, solving.signal);
          this.error = "";
        } catch (problem) {
          if (/** @type {Error} */ (problem).name === "AbortError") return;
          this.error = /** @type {Error} */ (problem).message;
        }
      }
      this.draw();
      this.drawStrip();
    },

    // Background work
    measure() {
      this.attempt(async () => {
        const answer = await ask("POST", `${address}/measure`, this.t);
        if (answer.work) this.worked(answer.work);
        else await this.refresh();
      });
    },
    render() {
      this.attempt(async () => this.worked(await ask("POST", `${address}/renders`, this.t)));
    },
    /** @param {string} kind */
    cancel(kind) {
      this.attempt(() => ask("POST", `/api/works/${this.work(kind).id}/cancel`));
    },
    /** @param {any} work */
    worked(work) {
      if (work.clip !== page.id) return;
      const known = this.works.findIndex((/** @type {any} */ row) => row.id === work.id);
      if (known >= 0) {
        const before = this.works[known];
        if (["done", "failed", "cancelled"].includes(before.state)) return;
        this.works[known] = work;
      } else this.works.push(work);
      if (work.state === "done") this.refreshSoon();
    },
    refreshSoon() {
      clearTimeout(refreshing);
      refreshing = setTimeout(() => this.attempt(() => this.refresh()), 30);
    },
    async refresh() {
      const clip = await ask("GET", address);
      this.measuredRanges = clip.measured;
      this.notes = clip.notes;
      this.renders = clip.renders.reverse();
      if (!this.path) this.solve();
    },
    /** @param {string} kind */
    work(kind) {
      return this.works.find((/** @type {any} */ work) => work.kind === kind && (work.state === "waiting" || work.state === "working"));
    },
    /** @param {string} kind */
    failure(kind) {
      const last = this.works.filter((/** @type {any} */ work) => work.kind === kind).pop();
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

    // Figures
    rows() {
      const { motion, framing, deliver } = this.t;
      const l = this.path && this.path.ledger;
      const intent = { glide: `Glide ${motion.response_s} s`, hold: "Hold" }[/** @type {string} */ (motion.intent)] || "as shot";
      const steadier = l ? `${l.shake_before_percent.toFixed(2)} → ${l.shake_after_percent.toFixed(2)} %` : "";
      return [
        { stage: "motion", name: "Motion", key: "1", state: l ? intent : "not measured", price: steadier },
        { stage: "framing", name: "Framing", key: "2", state: framing.edges, price: l ? `${l.zoom.toFixed(3)}×` : "" },
        { stage: "deliver", name: "Deliver", key: "3", state: `H.264, crf ${deliver.quality}`, price: "" },
      ];
    },
    lanes() {
      if (!this.path) return [];
      const l = this.path.ledger;
      const percent = (/** @type {number} */ px) => ((100 * px) / size.width).toFixed(3);
      const each = ["shift", "turn", "size"].map((name) => ({ name, before: percent(l.lanes_before[name]), after: percent(l.lanes_after[name]) }));
      return [{ name: "all", before: percent(l.shake_before_px), after: percent(l.shake_after_px) }, ...each];
    },
    pinches() {
      if (!this.path) return [];
      return this.path.pinch_points.map((/** @type {number} */ frame) => ({ frame, zoom: asks(this.path.wanted_zoom[frame - this.path.first]) }));
    },
    verdict() {
      if (!this.path) return "";
      const l = this.path.ledger;
      if (l.limited) return `This path asks for ${asks(l.wanted_zoom)}. The limit holds it to ${l.zoom.toFixed(3)}×; the steadiness gives way at the pinch points.`;
      return `This path needs ${l.zoom.toFixed(3)}×, inside the limit.`;
    },
    keptText() {
      return this.path ? `${(100 * this.path.ledger.kept_area).toFixed(1)} %` : "100 %";
    },
    zoomText() {
      return this.path ? `${this.path.ledger.zoom.toFixed(3)}×` : "1.000×";
    },
    equalsText() {
      return this.path ? `${this.path.ledger.equals_width}×${this.path.ledger.equals_height}` : `${size.width}×${size.height}`;
    },
    gapShare() {
      return this.path ? this.path.ledger.gap_area : 0;
    },
    keptBox() {
      const share = this.path ? Math.sqrt(this.path.ledger.kept_area) : 1;
      return { x: (144 - 143 * share) / 2, y: (81 - 80 * share) / 2, width: 143 * share, height: 80 * share };
    },

    /** @param {KeyboardEvent} event */
    key(event) {
      const action = keyAction(event);
      if (!action) return;
      event.preventDefault();
      const [name, value] = action;
      const does = {
        play: () => this.togglePlay(),
        shuttle: () => this.shuttle(value === 0 ? 0 : Math.sign(player.speed) === value ? Math.max(-4, Math.min(4, player.speed * 2)) : value),
        step: () => this.go(this.frame + value),
        in: () => this.setIn(),
        out: () => this.setOut(),
        before: () => this.hold(true),
        stage: () => (this.stage = STAGES[value]),
        worst: () => this.worst(),
        pinch: () => this.pinchStep(value),
        grid: () => this.toggleGrid(),
        undo: () => this.travel("undo"),
        redo: () => this.travel("redo"),
        help: () => (this.help = true),
      };
      does[/** @type {keyof typeof does} */ (name)]();
    },
  };
};

/** @param {number} zoom */
function asks(zoom) {
  return zoom > 3 ? "more than 3×" : `${zoom.toFixed(3)}×`;
}
