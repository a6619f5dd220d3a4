// @ts-check
// Scopes: how often each level stands where in the picture on show. Counted from the viewer's own pixels.

export const LEVELS = 256;
const COLUMNS = 256; // across a scope
const MARGIN = { left: 34, right: 34, top: 10, low: 20 };
const PERCENTS = [0, 25, 50, 75, 100];
const CODES = { black: 64, white: 940 }; // of 10 bits, where the picture's black and white are coded
const TINTS = [[236, 96, 88], [96, 210, 120], [96, 150, 245]];
const GREY = [220, 226, 232];
/** What stands at the ends of a scope. @type {Record<Kind, [string, string]>} */
const ENDS = { across: ["left", "right"], down: ["top", "foot"], parade: ["", ""], radius: ["middle", "corners"] };
const OUTER = 0.85; // of the way to the corners: what lies beyond is told as theirs

/** @typedef {"across" | "down" | "parade" | "radius"} Kind */
/** @typedef {{ data: Uint8Array, width: number, height: number }} Pixels rows from the lowest, R G B A */
/** @typedef {{ counts: Uint32Array[], columns: number, white: number, black: number }} Counted one table a channel: level + LEVELS x column */

/** @typedef {[number, number, number, number]} Part its left, top, right and foot, shares of the picture */
const WHOLE = /** @type {Part} */ ([0, 0, 1, 1]);

/** Luma as BT.709 weighs it, in 256ths. @param {number} r @param {number} g @param {number} b */
const luma = (r, g, b) => (54 * r + 183 * g + 19 * b + 128) >> 8;

/**
 * @param {Pixels} pixels @param {Kind} kind @param {Part} [part] of the picture, all of it without one; a scope's ends are the part's
 * @returns {Counted}
 */
export function counted({ data, width, height }, kind, part = WHOLE) {
  const tables = Array.from({ length: kind === "parade" ? 3 : 1 }, () => new Uint32Array(COLUMNS * LEVELS));
  const box = inPixels(part, width, height);
  const { within, ofRow, stride } = columns(width, height, kind, box);
  const [first, second, third] = tables;
  let white = 0, black = 0;
  for (let y = box.low; y < box.low + box.height; y++) {
    const start = y * stride, row = ofRow ? ofRow[y] : 0;
    for (let x = box.left, at = 4 * (y * width + x); x < box.left + box.width; x++, at += 4) {
      const r = data[at], g = data[at + 1], b = data[at + 2];
      if (r === 255 || g === 255 || b === 255) white++;
      else if ((r | g | b) === 0) black++;
      const column = row + within[start + x];
      if (third) {
        first[column + r]++;
        second[column + g]++;
        third[column + b]++;
      } else first[column + luma(r, g, b)]++;
    }
  }
  const all = box.width * box.height;
  return { counts: tables, columns: COLUMNS, white: white / all, black: black / all };
}

/** The pixels of a part, one row or column at least; rows from the lowest. @param {Part} part @param {number} width @param {number} height */
function inPixels([x0, y0, x1, y1], width, height) {
  const left = Math.min(width - 1, Math.floor(x0 * width)), top = Math.min(height - 1, Math.floor(y0 * height));
  const wide = Math.max(1, Math.min(width, Math.floor(x1 * width)) - left), tall = Math.max(1, Math.min(height, Math.floor(y1 * height)) - top);
  return { left, low: height - top - tall, width: wide, height: tall };
}

/**
 * Where in a table the column of a pixel begins: that of its row, and that within the row, a `stride` of which is a row's.
 * @param {number} width @param {number} height @param {Kind} kind @param {ReturnType<typeof inPixels>} box
 * @returns {{ within: Uint32Array, ofRow: Uint32Array | null, stride: number }}
 */
function columns(width, height, kind, box) {
  if (kind === "radius") return { within: outwards(width, height), ofRow: null, stride: width };
  const share = (/** @type {number} */ place, /** @type {number} */ all) => LEVELS * Math.floor((place * COLUMNS) / all);
  if (kind === "down") {
    const ofRow = Uint32Array.from({ length: height }, (_, y) => share(box.low + box.height - 1 - y, box.height));
    return { within: new Uint32Array(width), ofRow, stride: 0 };
  }
  return { within: Uint32Array.from({ length: width }, (_, x) => share(x - box.left, box.width)), ofRow: null, stride: 0 };
}

/** @type {{ width: number, height: number, map: Uint32Array }} the last size's */
let rings = { width: 0, height: 0, map: new Uint32Array(0) };

/** Where the column of every pixel begins, by its distance from the middle. @param {number} width @param {number} height */
function outwards(width, height) {
  if (rings.width === width && rings.height === height) return rings.map;
  const half = Math.hypot(width, height) / 2;
  const map = new Uint32Array(width * height);
  for (let y = 0, at = 0; y < height; y++) {
    for (let x = 0; x < width; x++, at++) {
      const radius = Math.hypot(x - (width - 1) / 2, y - (height - 1) / 2) / half;
      map[at] = LEVELS * Math.min(COLUMNS - 1, Math.floor(radius * COLUMNS));
    }
  }
  rings = { width, height, map };
  return map;
}

/** The median level of columns `from` ... `to` together. @param {Counted} counted @param {number} from @param {number} to */
export function median({ counts: [table] }, from, to) {
  const sums = new Float64Array(LEVELS);
  for (let column = from; column < to; column++) for (let level = 0; level < LEVELS; level++) sums[level] += table[column * LEVELS + level];
  const all = sums.reduce((a, b) => a + b, 0);
  let level = 0;
  for (let below = sums[0]; level < LEVELS - 1 && below < all / 2; ) below += sums[++level];
  return level;
}

/** How bright the corners are, of the middle, as coded. @param {Counted} counted */
export function cornerShare(counted) {
  return median(counted, Math.round(OUTER * COLUMNS), COLUMNS) / Math.max(1, median(counted, 0, Math.round(COLUMNS / 4)));
}

/** @param {HTMLCanvasElement} canvas */
export function mountScope(canvas) {
  const context = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
  const sheet = document.createElement("canvas");

  /** @param {Counted} found @param {Kind} kind */
  function draw(found, kind) {
    const scale = devicePixelRatio;
    const [width, height] = [canvas.clientWidth, canvas.clientHeight];
    canvas.width = Math.max(2, width * scale);
    canvas.height = Math.max(2, height * scale);
    context.setTransform(scale, 0, 0, scale, 0, 0);
    const box = { x: MARGIN.left, y: MARGIN.top, width: width - MARGIN.left - MARGIN.right, height: height - MARGIN.top - MARGIN.low };
    const wide = box.width / found.counts.length;
    found.counts.forEach((table, channel) => {
      trace(table, kind === "parade" ? TINTS[channel] : GREY);
      context.drawImage(sheet, box.x + channel * wide, box.y, wide, box.height);
    });
    if (kind === "radius") course(found, box);
    graticule(box, width);
    ends(ENDS[kind], box);
  }

  /** A table as a picture: bright where many pixels stand. @param {Uint32Array} table @param {number[]} tint */
  function trace(table, tint) {
    sheet.width = COLUMNS;
    sheet.height = LEVELS;
    const inked = /** @type {CanvasRenderingContext2D} */ (sheet.getContext("2d"));
    const image = inked.createImageData(COLUMNS, LEVELS);
    const inks = new Uint32Array(image.data.buffer); // one a pixel: A B G R
    const ink = (tint[2] << 16) | (tint[1] << 8) | tint[0];
    for (let column = 0; column < COLUMNS; column++) {
      const first = column * LEVELS;
      let most = 1;
      for (let level = 0; level < LEVELS; level++) if (table[first + level] > most) most = table[first + level];
      for (let level = 0; level < LEVELS; level++) {
        const count = table[first + level];
        if (count) inks[(LEVELS - 1 - level) * COLUMNS + column] = (Math.round(60 + 195 * Math.sqrt(count / most)) << 24) | ink;
      }
    }
    inked.putImageData(image, 0, 0);
  }

  /** The median of every sixteenth of the way out. @param {Counted} found @param {{ x: number, y: number, width: number, height: number }} box */
  function course(found, box) {
    context.beginPath();
    for (let from = 0; from < COLUMNS; from += COLUMNS / 16) {
      const level = median(found, from, from + COLUMNS / 16);
      context.lineTo(box.x + ((from + COLUMNS / 32) / COLUMNS) * box.width, box.y + (1 - level / (LEVELS - 1)) * box.height);
    }
    context.strokeStyle = "#e8c15a";
    context.lineWidth = 2;
    context.stroke();
  }

  /** @param {{ x: number, y: number, width: number, height: number }} box @param {number} width */
  function graticule(box, width) {
    context.font = "10px 'Archivo', sans-serif";
    context.textBaseline = "middle";
    for (const percent of PERCENTS) {
      const y = box.y + (1 - percent / 100) * box.height;
      context.fillStyle = "rgba(230, 232, 234, 0.22)";
      context.fillRect(box.x, Math.round(y), box.width, 1);
      context.fillStyle = "#9aa3ac";
      context.textAlign = "right";
      context.fillText(String(percent), box.x - 5, y);
      context.textAlign = "left";
      context.fillText(String(Math.round(CODES.black + ((CODES.white - CODES.black) * percent) / 100)), width - MARGIN.right + 5, y);
    }
  }

  /** @param {[string, string]} names @param {{ x: number, y: number, width: number, height: number }} box */
  function ends([first, last], box) {
    const y = box.y + box.height + 12;
    context.fillStyle = "#9aa3ac";
    context.textAlign = "left";
    context.fillText(first, box.x, y);
    context.textAlign = "right";
    context.fillText(last, box.x + box.width, y);
  }

  return { draw };
}
