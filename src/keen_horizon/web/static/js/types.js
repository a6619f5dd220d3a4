// @ts-check
// What the server says, as JSON: see web/present.py, jobs/progress.py, operations/solving.py and the core that these ask.

/**
 * @typedef {object} Work a piece of background work
 * @property {number} id @property {string} kind @property {number} clip @property {number | null} render
 * @property {"waiting" | "working" | "done" | "failed" | "cancelled"} state @property {boolean} stopping
 * @property {number} done @property {number} total @property {number} rate frames a second @property {number | null} left_s
 * @property {string | null} error @property {string} asked_at @property {string | null} began_at @property {string | null} ended_at
 */
/**
 * @typedef {Work & { clip_name: string, ready: boolean, needs: number, person: string | null, stopped_by: string | null, what?: string }} WorkRow
 *   the same on the jobs page; `needs` are bytes
 */
/**
 * @typedef {object} Asked how an editor wants a file to be read
 * @property {string} fields @property {boolean | null} every_field @property {number | null} rate @property {string} camera
 */
/**
 * @typedef {object} Card a clip on the shelf
 * @property {number} id @property {string} name @property {"arriving" | "ready" | "failed"} state @property {string | null} error
 * @property {string | null} thumbnails @property {number} thumbnail_count @property {string} facts @property {string | null} notice
 * @property {string | null} scan @property {Asked | null} asked @property {boolean} numbered @property {boolean} changed
 * @property {number | null} shake percent of the width a frame squared @property {string | null} version @property {number} renders
 * @property {Work | null} work @property {Work | null} failed @property {number} [rate] @property {number} [seconds]
 * @property {string} [camera] @property {boolean} [may_be_sphere] @property {boolean} [shape_of_sphere]
 */
/** @typedef {{ id: number, name: string, project: string, width: number, height: number, lens: string | null }} Recipient a clip that a profile may be given to */
/** @typedef {{ frame: number, value: number, shape: string }} Key of a figure that changes over the clip */
/** @typedef {{ figure: string, keys: Key[] }} Track the keys of one figure */
/** @typedef {Record<string, any>} Treatment see docs/formats.md; the core alone knows and checks what may stand in it */
/** @typedef {{ letter: string, zoom: number, person: string | null, treatment: Treatment }} Version */
/** @typedef {{ frame: number, x1: number, y1: number, x2: number, y2: number }} Line drawn by the editor, px of the source */
/** @typedef {{ frame: number, points: [number, number][] }} Straightedge */
/** @typedef {{ frame: number, x: number, y: number }} Mark of a followed point */
/** @typedef {{ marks: Mark[] }} Pin */
/** @typedef {{ marks: string, first: number, last: number }} PinTrack a followed point that is kept */
/** @typedef {{ points: [number, number][], confidence: number[] }} Trail of a followed point over the range */
/** @typedef {{ frame: number, corners: number[][] }} FlatMark */
/** @typedef {{ frame: number, polygon: number[][] }} AreaKey */
/** @typedef {{ first: number, last: number, why: string }} Doubt a stretch in which the motion is not sure */
/** @typedef {{ frame: number, x: number, y: number }} Still a place of what is to stand still, px of the source */
/** @typedef {{ share: number, keys: AreaKey[], at: Still | null, carried?: boolean, to?: number }} Subject something that moves by itself, or that the camera carries along as far as a frame */
/** @typedef {Subject & { from: number, to: number, what: string, text: string, id: string }} SubjectRow */
/** @typedef {Still & { polygon: number[][] }} MayStand one of the two that may stand still */
/** @typedef {{ id: number, name: string, settings: Treatment, shipped: boolean, is_default: boolean }} StartingPoint */
/**
 * @typedef {object} Profile a lens profile of the list
 * @property {number} id @property {Record<string, any>} document as docs/formats.md describes it @property {number | null} field_of_view degrees
 */
/** @typedef {{ frame: number, first: number, last: number, wanted: number, without: number }} Pinch a stretch that decides the zoom */
/** @typedef {{ limit: number, zoom: number, shake_percent: number }} Trade a point of the trade-off */
export {};
