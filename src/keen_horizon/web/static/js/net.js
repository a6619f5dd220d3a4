// @ts-check
// The one module that talks to the server.

/** @typedef {import("./types.js").Work} Work */
/** @typedef {import("./types.js").WorkRow} WorkRow */

/** What the server said was wrong, in words for the editor. */
export class Refused extends Error {
  /** Of an upload: where the file goes on. @type {number | undefined} */ received;
}

/** Nothing answered: trying again may help. */
export class Unreachable extends Refused {}

const token = () => /** @type {HTMLMetaElement} */ (document.querySelector('meta[name="csrf-token"]')).content;

let asked = 0;

/** Say on the page how many answers are awaited. @param {number} change */
export function awaited(change) {
  asked += change;
  document.documentElement.dataset.asking = String(asked);
}

/**
 * @param {string} method @param {string} address @param {unknown} [body] JSON, or a Blob sent as it is
 * @param {{signal?: AbortSignal, leaving?: boolean, more?: Record<string, string>}} [how] `leaving`: the request outlives the page; `more` headers
 * @returns {Promise<any>}
 */
export async function ask(method, address, body, { signal, leaving, more } = {}) {
  const raw = body instanceof Blob;
  /** @type {Record<string, string>} */
  const headers = method === "GET" ? {} : { "X-CSRFToken": token() };
  if (body !== undefined) headers["Content-Type"] = raw ? "application/octet-stream" : "application/json";
  const sent = body === undefined ? undefined : raw ? body : JSON.stringify(body);
  Object.assign(headers, more);
  const response = await answered(address, { method, headers, body: sent, signal, keepalive: leaving });
  const answer = await response.json().catch(() => ({}));
  signal?.throwIfAborted(); // while the answer was on its way: half an answer is none
  if (!response.ok) throw refusal(response, answer);
  return answer;
}

/**
 * A file that the server makes of a document.
 * @param {string} address @param {unknown} body @param {AbortSignal} [signal]
 * @returns {Promise<{ blob: Blob, name: string }>} the file, and the name to save it under
 */
export async function askForFile(address, body, signal) {
  const headers = { "X-CSRFToken": token(), "Content-Type": "application/json" };
  const response = await answered(address, { method: "POST", headers, body: JSON.stringify(body), signal });
  if (!response.ok) throw refusal(response, await response.json().catch(() => ({})));
  const told = response.headers.get("Content-Disposition") || "";
  const exact = /filename\*=UTF-8''([^;]+)/.exec(told);
  const plain = /filename="?([^";]+)/.exec(told);
  return { blob: await response.blob(), name: exact ? decodeURIComponent(exact[1]) : plain ? plain[1] : "file" };
}

/** Have the browser save a file that the server makes of a document. @param {string} address @param {unknown} body */
export async function saveFile(address, body) {
  const { blob, name } = await askForFile(address, body);
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
}

/** @param {string} address @param {RequestInit} how @returns {Promise<Response>} */
async function answered(address, how) {
  awaited(1);
  try {
    const response = await fetch(address, how);
    if (response.status === 401) lost("session");
    else if (response.status === 503) lost("database");
    else found();
    return response;
  } catch (problem) {
    if (how.signal && how.signal.aborted) throw problem;
    lost("server");
    throw new Unreachable("The server does not answer. Nothing was lost; this page goes on when it is back.");
  } finally {
    awaited(-1);
  }
}

/** @param {Response} response @param {any} answer @returns {Refused} */
function refusal(response, answer) {
  const refused = new Refused(answer.error || `The server refused this (${response.status}).`);
  refused.received = answer.received;
  return refused;
}

/** What does not answer: "" when all do. @type {"" | "server" | "database" | "session"} */
let away = "";
/** @type {Set<(away: string) => void>} */
const watchers = new Set();

/** Hear what does not answer, and when it does again. @param {(away: string) => void} changed */
export function watchConnection(changed) {
  watchers.add(changed);
  changed(away);
}

/** @param {"server" | "database" | "session"} what */
function lost(what) {
  if (away !== what) tellConnection(what);
}

function found() {
  if (!away) return;
  tellConnection("");
  window.dispatchEvent(new Event("connection:back"));
}

/** @param {"" | "server" | "database" | "session"} now */
function tellConnection(now) {
  away = now;
  for (const changed of watchers) changed(away);
}

/** Data that the page was made with. @returns {any} */
export function pageData() {
  return JSON.parse(document.getElementById("page")?.textContent || "{}");
}

/** @type {Set<(work: Work) => void>} */
const followers = new Set();
/** @type {Map<number, string>} */
const lastSaid = new Map();
/** @type {EventSource | null} */
let source = null;

/**
 * Follow background work: events from the server, polling while there are none. One connection serves all of a page.
 * @param {(work: Work) => void} changed called once for every change @returns {() => void} stops following
 */
export function followWork(changed) {
  followers.add(changed);
  if (!source) {
    source = new EventSource("/api/events");
    source.addEventListener("work", (event) => tell(JSON.parse(event.data)));
    source.addEventListener("database", (event) => {
      if (event.data === "away") lost("database");
      else catchUp(); // what happened before the server listened for us
    });
    source.onopen = catchUp;
    setInterval(() => (away || source?.readyState !== EventSource.OPEN) && catchUp(), 2000);
  }
  return () => followers.delete(changed);
}

async function catchUp() {
  const { works } = await ask("GET", "/api/works").catch(() => ({ works: [] }));
  for (const work of works.sort((/** @type {WorkRow} */ a, /** @type {WorkRow} */ b) => a.id - b.id)) tell(work);
}

/** @param {Work} work */
function tell(work) {
  const said = `${work.state} ${work.done} ${work.stopping}`;
  if (lastSaid.get(work.id) === said) return;
  lastSaid.set(work.id, said);
  for (const changed of followers) changed(work);
}

/** The SHA-256 of a piece as RFC 9530 writes it; none where the browser does not offer it. @param {Blob} piece @returns {Promise<Record<string, string>>} */
async function digestOf(piece) {
  if (!window.isSecureContext) return {};
  const digest = await crypto.subtle.digest("SHA-256", await piece.arrayBuffer());
  return { "Content-Digest": `sha-256=:${btoa(String.fromCharCode(...new Uint8Array(digest)))}:` };
}

const PIECE = 8 << 20;
const WAITS = [1, 2, 4, 8, 16]; // seconds before asking a silent server again

/**
 * Send a file in pieces, going on where an earlier attempt stopped. A broken connection is tried again for half a
 * minute; every piece that arrives starts that time anew.
 * @param {string} project @param {File} file @param {(sent: number) => void} progress
 * @param {(seconds: number) => void} waiting told before each pause
 * @returns {Promise<number>} the clip's number
 */
export async function sendFile(project, file, progress, waiting) {
  const begun = { name: file.name, size: file.size, modified: file.lastModified };
  let failures = 0;
  for (;;) {
    try {
      const upload = await ask("POST", `/api/projects/${project}/uploads`, begun);
      let at = upload.received;
      progress(at);
      if (upload.clip) return upload.clip;
      for (;;) {
        const piece = file.slice(at, at + PIECE);
        const answer = await ask("PUT", `/api/uploads/${upload.id}/${at}`, piece, { more: await digestOf(piece) });
        at = answer.received;
        failures = 0;
        progress(at);
        if (answer.clip) return answer.clip;
      }
    } catch (problem) {
      const known = problem instanceof Refused && problem.received !== undefined; // another window sent a piece too
      if (!(known || problem instanceof Unreachable) || failures === WAITS.length) throw problem;
      waiting(WAITS[failures]);
      await new Promise((resume) => setTimeout(resume, 1000 * WAITS[failures++]));
    }
  }
}
