// @ts-check
// The bench's range and playhead.
import { countedTimecode, timecode } from "../../words.js";

/** @param {import("./parts.js").Parts} parts @returns {any} */
export const time = (parts) => {
  /** @type {{ frame: number, resolve: () => void } | null} */ let waiting = null;
  return {
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
      parts.player.setBounds(this.range().first, this.range().last);
      this.drawStrip();
    },
    /** @param {number} frame */
    go(frame) {
      this.playing = false;
      if (parts.player.speed) parts.player.play(0);
      parts.player.seek(frame);
    },
    /** @param {number} speed */
    shuttle(speed) {
      this.playing = speed !== 0;
      parts.player.play(speed);
      if (!speed) this.remember();
    },
    /** What keys that play and step do; `value` is the key's. @param {any} value @returns {Record<string, () => void>} */
    timeKeys(value) {
      const faster = Math.sign(parts.player.speed) === value ? Math.max(-4, Math.min(4, parts.player.speed * 2)) : value;
      return {
        play: () => this.togglePlay(),
        shuttle: () => this.shuttle(value === 0 ? 0 : faster),
        step: () => this.go(parts.player.target + value),
        in: () => this.setIn(),
        out: () => this.setOut(),
      };
    },
    togglePlay() {
      this.shuttle(this.playing ? 0 : 1);
    },
    /** Go to a frame and wait until its picture is on show. @param {number} frame @returns {Promise<void>} */
    arrivalAt(frame) {
      return new Promise((resolve) => {
        waiting = { frame, resolve };
        this.go(frame);
      });
    },
    /** @param {number} frame */
    arrived(frame) {
      this.frame = frame;
      if (waiting && waiting.frame === frame) {
        const { resolve } = waiting;
        waiting = null;
        resolve();
      }
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
      const { timecode: counted } = parts.page.info;
      const shown = counted ? countedTimecode(this.frame, counted) : timecode(this.frame, parts.page.proxy.rate);
      return `${shown}   frame ${this.frame}`;
    },
  };
};
