// @ts-check
// Figures as people read them.

/** @typedef {import("./types.js").Work} Work */

/** @type {Record<string, string>} */
const DOING = { ingest: "preparing", measure: "measuring", pin: "following the point", flat: "following the corners", lens: "looking for the lens", falloff: "measuring the fall-off", fringe: "measuring the fringes", board: "looking for the board", render: "rendering" };

/** @param {Work} work @returns {string} */
export function workText(work) {
  if (!work) return "";
  const doing = DOING[work.kind] || work.kind;
  if (work.stopping) return `${doing}: stopping`;
  if (work.state === "waiting" || !work.total) return `${doing}: waiting`;
  const left = work.left_s === null ? "" : `, ${seconds(work.left_s)} left`;
  return `${doing} ${work.done} of ${work.total}, ${work.rate.toFixed(0)} a second${left}`;
}

/** Today's time of day, or the day too. @param {Date} when @returns {string} */
export function moment(when) {
  const time = when.toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });
  const today = when.toDateString() === new Date().toDateString();
  return today ? time : `${when.toLocaleDateString([], { day: "numeric", month: "short" })}, ${time}`;
}

/** @param {number} value @returns {string} */
export function seconds(value) {
  return value < 90 ? `${value} s` : `${Math.round(value / 60)} min`;
}

/**
 * A clip's own timecode: `starts` has (frame, number) wherever numbers do not simply go on, as the server counts them.
 * @param {number} frame @param {{ nominal: number, drop: boolean, starts: [number, number][] }} counted @returns {string}
 */
export function countedTimecode(frame, { nominal, drop, starts }) {
  const [from, first] = starts.reduce((last, start) => (start[0] <= frame ? start : last));
  const number = first + frame - from;
  const seconds_ = Math.floor(number / nominal);
  const parts = [Math.floor(seconds_ / 3600), Math.floor(seconds_ / 60) % 60, seconds_ % 60].map((n) => String(n).padStart(2, "0"));
  return `${parts.join(":")}${drop ? ";" : ":"}${String(number % nominal).padStart(nominal > 100 ? 3 : 2, "0")}`;
}

/** @param {number} frame @param {number} rate @returns {string} */
export function timecode(frame, rate) {
  const whole = Math.floor(frame / rate + 1e-6);
  const rest = Math.floor(frame - whole * rate + 1e-6);
  const two = (/** @type {number} */ n) => String(n).padStart(2, "0");
  return `${two(Math.floor(whole / 60))}:${two(whole % 60)}:${two(rest)}`;
}
