// @ts-check
// What the measurement believes: the points, what moves by itself, what stands still.
import { ask } from "../../net.js";
import { seconds } from "../../words.js";

const BLOCK = 120; // frames of points that are asked for at once
const KEPT_BLOCKS = 6;
const NEAREST_PX = 14; // on screen, that a point is clicked from
const TRAIL_S = 1;
const DISMISSED = "dismissed suggestions of clip ";
const FINER_TIMES = 2; // as long as measuring takes otherwise: benchmarks/README.md

/** @typedef {{ first: number, frames: number, starts: number[], x: number[], y: number[], identity: number[], layer: number[], since: number[], off: number[], areas: (number[][] | null)[][] }} Block */
/** @typedef {import("./areas.js").Area} Area @typedef {import("../../types.js").Still} Still */
/** @typedef {import("../../types.js").Doubt} Doubt @typedef {import("../../types.js").MayStand} MayStand */
/** @typedef {import("../../types.js").Subject} Subject @typedef {import("../../types.js").SubjectRow} SubjectRow */

/** @type {import("./tool.js").Tool} */
export const stillTool = { text: () => "Click on what is to stand still.", press: (bench, place) => bench.setStill(place) };

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const believing = (parts) => {
  /** @type {Map<number, Block | null>} */ let blocks = new Map();
  let said = "";
  let asked = 0;
  return {
    pointsShown: false,
    /** @type {any} */ belief: null,
    untold: false,
    /** Blocks of points that came, so that what is said of them is said anew. */ blocksCame: 0,
    /** What a click on a point told. */ pointSaid: "",
    /** Suggested things that were dismissed, by what they are; this browser remembers them. @type {string[]} */
    dismissed: (localStorage.getItem(DISMISSED + parts.page.id) || "").split("\n"),

    /** Ask anew what is believed, when the settings that say so have changed. */
    async believe() {
      const say = JSON.stringify([this.t.motion.ignore, this.t.motion.layer, this.range(), this.measured()]);
      if (say === said) return;
      said = say;
      blocks = new Map();
      if (!this.measured()) return void (this.belief = null);
      const number = ++asked;
      try {
        const told = await ask("POST", `${parts.address}/belief`, this.t);
        if (number !== asked) return;
        this.belief = told.known ? told : null;
        this.untold = !told.known;
      } catch {
        this.belief = null; // what is wrong with the settings, solving says
      }
      this.drawStrip();
      this.drawOver();
    },
    /** The points around the playhead, asked for where they are not there yet. @returns {Block | null} */
    blockHere() {
      if (!this.belief) return null;
      const { first } = this.range();
      const start = first + Math.floor((this.frame - first) / BLOCK) * BLOCK;
      if (!blocks.has(start)) {
        blocks.set(start, null);
        if (blocks.size > KEPT_BLOCKS) blocks.delete(/** @type {number} */ (blocks.keys().next().value));
        const mine = blocks;
        ask("POST", `${parts.address}/points?first=${start}`, this.t).then((block) => {
          mine.set(start, block);
          if (mine !== blocks) return;
          this.blocksCame++;
          this.drawOver();
        }, () => mine.delete(start));
      }
      return this.blocksCame >= 0 ? blocks.get(start) || null : null;
    },
    togglePoints() {
      this.pointsShown = !this.pointsShown;
      this.pointSaid = "";
      this.drawOver();
    },

    /** What the overlay draws: points by what is believed of them, with the way they came over the last second as the view shows it. */
    evidenceShown() {
      const block = this.pointsShown || this.areas().length ? this.blockHere() : null;
      const at = block ? this.frame - block.first : -1;
      /** @type {{ believed: number[][], others: number[][][], unknown: number[][], ignored: number[][], trails: number[][][] }} */
      const look = { believed: [], others: [[], [], []], unknown: [], ignored: [], trails: [] };
      if (!block || !this.pointsShown || at < 0 || at >= block.frames) return look;
      const { starts, x, y, layer, identity } = block;
      for (let row = starts[at]; row < starts[at + 1]; row++) {
        const place = this.shownAt([x[row], y[row]]);
        if (layer[row] === 0) look.believed.push(place);
        else if (layer[row] > 0) look.others[layer[row] % 3].push(place);
        else (layer[row] === -1 ? look.unknown : look.ignored).push(place);
      }
      const back = Math.max(0, at - Math.round(TRAIL_S * parts.page.proxy.rate));
      /** @type {Map<number, number[][]>} */ const trails = new Map();
      for (let row = starts[at]; row < starts[at + 1]; row++) trails.set(identity[row], []);
      for (let n = back; n <= at; n += 2) {
        for (let row = starts[n]; row < starts[n + 1]; row++) trails.get(identity[row])?.push(this.shownAt([x[row], y[row]], block.first + n));
      }
      look.trails = [...trails.values()].filter((trail) => trail.length > 1);
      return look;
    },
    /** Click a point: what it is. @param {number[]} place in the source */
    tellPoint(place) {
      const block = this.blockHere();
      const at = block ? this.frame - block.first : -1;
      if (!block || at < 0 || at >= block.frames) return;
      const reach = NEAREST_PX * (parts.size.width / parts.refs.canvas.getBoundingClientRect().width);
      let best = -1;
      for (let row = block.starts[at], nearest = reach; row < block.starts[at + 1]; row++) {
        const off = Math.hypot(block.x[row] - place[0], block.y[row] - place[1]);
        if (off < nearest) [nearest, best] = [off, row];
      }
      if (best < 0) return void (this.pointSaid = "No point there.");
      const layer = block.layer[best];
      const what = layer === 0 ? "stands still" : layer > 0 ? "moves by itself" : layer === -1 ? "not told yet" : "ignored";
      this.pointSaid = `A point that ${what}: seen since frame ${block.since[best]}, ${block.off[best].toFixed(2)} px from where the believed motion takes it.`;
    },
    beliefText() {
      if (!this.belief || this.belief.confidence === null) return "";
      const [low, sure] = [this.belief.doubts.length, this.belief.confidence];
      return `Sure to ${Math.round(100 * sure)} %${low ? `; less in ${low === 1 ? "one stretch" : `${low} stretches`}` : ""}.`;
    },
    /** What was said of the last measurement says nothing of a new one. */
    measuredAnew() {
      said = "";
      return this.solve();
    },
    beliefKnown() {
      return this.belief !== null;
    },
    /** Whether the range was measured before points were told apart. */
    beliefUntold() {
      return this.untold && this.measured();
    },
    finelyMeasured() {
      return this.coversRange(this.finerRanges);
    },
    /** What measuring finer would do, and how long it would take. */
    finerText() {
      if (this.finelyMeasured()) return "Measured finer: three times the points, in larger pictures.";
      const { first, last } = this.range();
      const frames = FINER_TIMES * (last - first + 1);
      const time = this.measuringRate ? `about ${seconds(Math.ceil(frames / this.measuringRate))}` : `about ${FINER_TIMES} times as long as before`;
      return `Three times the points, in larger pictures: usually a third closer; ${time}.`;
    },
    /** @returns {(Doubt & { text: string })[]} stretches in which the motion is not sure, for a list */
    doubtsListed() {
      return this.belief ? this.belief.doubts.slice(0, 6).map((/** @type {Doubt} */ doubt) => ({ ...doubt, text: `${doubt.first}-${doubt.last}: ${doubt.why}` })) : [];
    },
    /** Counts of this frame's points, in words. */
    pointsText() {
      const block = this.pointsShown ? this.blockHere() : null;
      const at = block ? this.frame - block.first : -1;
      if (!block || at < 0 || at >= block.frames) return "";
      const rows = block.layer.slice(block.starts[at], block.starts[at + 1]);
      const count = (/** @type {(layer: number) => boolean} */ which) => rows.filter(which).length;
      const ignored = count((layer) => layer === -2);
      const untold = count((layer) => layer === -1);
      return `${count((layer) => layer === 0)} stand still, ${count((layer) => layer > 0)} move by themselves${untold ? `, ${untold} not told` : ""}${ignored ? `, ${ignored} ignored` : ""}.`;
    },

    /** What moves by itself and was neither accepted nor dismissed. @returns {SubjectRow[]} */
    subjectsListed() {
      if (!this.belief) return [];
      const named = this.belief.subjects.map((/** @type {Subject} */ subject) => {
        const [from, to] = [subject.keys[0].frame, subject.to || subject.keys[subject.keys.length - 1].frame];
        const what = subject.carried ? "Carried along" : "Something moves";
        return { ...subject, from, to, what, text: `frames ${from}-${to}, ${Math.round(100 * subject.share)} % of the picture`, id: `${from}-${to}-${subject.share}` };
      });
      return named.filter((/** @type {SubjectRow} */ subject) => !this.dismissed.includes(subject.id) && !this.ignoresSubject(subject)).slice(0, 6);
    },
    /** Whether an area was made of it. @param {SubjectRow} subject */
    ignoresSubject({ from, to, keys, carried }) {
      if (carried) return this.areas().some((/** @type {Area} */ area) => JSON.stringify(area.keys) === JSON.stringify(keys));
      return this.areas().some((/** @type {Area} */ { span, keys: own }) => span && span[0] === from && span[1] === to && own.length === keys.length);
    },
    /** @param {SubjectRow} subject */
    goToSubject(subject) {
      this.go(subject.keys[Math.floor(subject.keys.length / 2)].frame);
    },
    /** @param {SubjectRow} subject */
    ignoreSubject(subject) {
      const many = this.areas().length + 1;
      const [name, span] = subject.carried ? [`Carried ${many}`, null] : [`Subject ${many}`, [subject.from, subject.to]];
      this.addArea({ name, follows: false, only: false, hidden: false, span, keys: subject.keys });
    },
    /** @param {SubjectRow} subject */
    dismissSubject(subject) {
      this.dismissed = [...this.dismissed, subject.id];
      localStorage.setItem(DISMISSED + parts.page.id, this.dismissed.join("\n"));
    },
    /** Whether the software asks which of two layers stands still. */
    asksWhich() {
      return Boolean(this.belief && this.belief.asked && !this.t.motion.layer);
    },
    /** The two that may stand still, each drawn on the clip's own picture. @returns {(MayStand & { picture: string, outline: string })[]} */
    whichListed() {
      if (!this.asksWhich()) return [];
      const { width, height } = parts.size;
      return this.belief.asked.map((/** @type {MayStand} */ choice, /** @type {number} */ i) => ({
        ...choice, label: i ? "This" : "This, as now", box: `0 0 ${width} ${height}`, width, height,
        picture: `/media/clips/${parts.page.id}/still.jpg?frame=${choice.frame}`,
        outline: choice.polygon.map((/** @type {number[]} */ place) => place.join(",")).join(" "),
      }));
    },
    /** @param {Still} choice */
    chooseStill({ frame, x, y }) {
      this.t.motion.layer = { frame, x, y };
      this.settled();
    },
    /** @param {Subject} subject Steady it instead of what was taken for the background. */
    standStill(subject) {
      this.chooseStill(subject.at);
    },
    usualStill() {
      this.t.motion.layer = null;
      this.settled();
    },
    stillText() {
      const still = this.t.motion.layer;
      return still ? `What is at ${Math.round(still.x)}, ${Math.round(still.y)} on frame ${still.frame} stands still.` : "";
    },

    armStill() {
      this.aim = this.aiming("still") ? null : { what: "still", from: null };
    },
    /** @param {number[]} place in the source */
    setStill(place) {
      this.aim = null;
      this.chooseStill({ frame: this.frame, x: Math.round(10 * place[0]) / 10, y: Math.round(10 * place[1]) / 10 });
    },
  };
};
