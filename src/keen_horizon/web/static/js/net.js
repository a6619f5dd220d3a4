// @ts-check
// The one module that talks to the server.

/** What the server said was wrong, in words for the editor. */
export class Refused extends Error {}

/** Nothing answered: trying again may help. */
export class Unreachable extends Refused {}

const token = () => /** @type {HTMLMetaElement} */ (document.querySelector('meta[name="csrf-token"]')).content;

let asked = 0;

/** Say on the page how many answers are awaited. @param {number} change */
function awaited(change) {
  asked += change;
  document.documentElement.dataset.asking = String(asked);
}

/**
 * @param {string} method @param {string} address @param {unknown} [body] JSON, or a Blob sent as it is
 * @param {{signal?: AbortSignal, leaving?: boolean}} [how] `leaving`: the request outlives the page
 * @returns {Promise<any>}
 */
export async function ask(method, address, body, { signal, leaving } = {}) {
  const raw = body instanceof Blob;
  /** @type {Record<string, string>} */
  const headers = method === "GET" ? {} : { "X-CSRFToken": token() };
  if (body !== undefined) headers["Content-Type"] = raw ? "application/octet-stream" : "application/json";
  const sent = body === undefined ? undefined : raw ? body : JSON.stringify(body);
  let response, answer;
  awaited(1);
  try {
    response = await fetch(address, { method, headers, body: sent, signal, keepalive: leaving });
    answer = await response.json().catch(() => ({}));
  } catch (problem) {
    if (signal && signal.aborted) throw problem;
    throw new Unreachable("The server does not answer. Nothing was lost; this page goes on when it is back.");
  } finally {
    awaited(-1);
  }
  signal?.throwIfAborted(); // while the answer was on its way: half an answer is none
  if (!response.ok) throw new Refused(answer.error || `The server refused this (${response.status}).`);
  return answer;
}

/** Data that the page was made with. @returns {any} */
export function pageData() {
  return JSON.parse(document.getElementById("page")?.textContent || "{}");
}

/** @type {Set<(work: any) => void>} */
const followers = new Set();
/** @type {Map<number, string>} */
const lastSaid = new Map();
/** @type {EventSource | null} */
let source = null;

/**
 * Follow background work: events from the server, polling while there are none. One connection serves all of a page.
 * @param {(work: any) => void} changed called once for every change @returns {() => void} stops following
 */
export function followWork(changed) {
  followers.add(changed);
  if (!source) {
    source = new EventSource("/api/events");
    source.onmessage = (event) => tell(JSON.parse(event.data));
    source.onopen = catchUp; // what happened before the server listened for us
    setInterval(() => source?.readyState !== EventSource.OPEN && catchUp(), 2000);
  }
  return () => followers.delete(changed);
}

async function catchUp() {
  const { works } = await ask("GET", "/api/works").catch(() => ({ works: [] }));
  for (const work of works.sort((/** @type {any} */ a, /** @type {any} */ b) => a.id - b.id)) tell(work);
}

/** @param {any} work */
function tell(work) {
  const said = `${work.state} ${work.done} ${work.stopping}`;
  if (lastSaid.get(work.id) === said) return;
  lastSaid.set(work.id, said);
  for (const changed of followers) changed(work);
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
      for (;;) {
        const answer = await ask("PUT", `/api/uploads/${upload.id}/${at}`, file.slice(at, at + PIECE));
        at = answer.received;
        failures = 0;
        progress(at);
        if (answer.clip) return answer.clip;
      }
    } catch (problem) {
      if (!(problem instanceof Unreachable) || failures === WAITS.length) throw problem;
      waiting(WAITS[failures]);
      await new Promise((resume) => setTimeout(resume, 1000 * WAITS[failures++]));
    }
  }
}
