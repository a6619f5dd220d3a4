// @ts-check
// Draws the proxy through the sampling map with WebGL 2 (see shaders.js), in all the ways two pictures of one
// frame are compared.
import { PROJECTIONS } from "../geometry/lens.js";
import { IDENTITY, inverse, product } from "../geometry/matrix.js";
import { FRAGMENT, LENDERS, MODES, VERTEX } from "./shaders.js";

const WIDEST = 960; // the proxy has no more, and software drawing stays quick
const LENT_EVERY = 2; // frames between those that are kept for lending
export const POWER = 4;

/**
 * @typedef {object} Look
 * @property {"before" | "after" | "wipe" | "side" | "difference" | "onion"} mode
 * @property {number[]} before @property {number[]} after src_from_out of either side
 * @property {number} frame
 * @property {{ place: number, turn: number }} line of the wipe
 * @property {[number, number] | null} loupe its middle, in shares of the picture
 * @property {boolean} fine @property {boolean} mark
 * @property {(import("../geometry/lens.js").Lens | null)[]} lenses of either side
 * @property {{ first: number, reach: number, reference_from_src: number[][] } | null} lending
 */

/**
 * @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {{ width: number, height: number }} size display size
 * @returns {null | ReturnType<typeof viewer>} null without WebGL 2
 */
export function mountViewer(canvas, video, size) {
  const gl = canvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true });
  return gl && viewer(gl, canvas, video, size);
}

/** @param {WebGL2RenderingContext} gl @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {{ width: number, height: number }} size */
function viewer(gl, canvas, video, size) {
  const program = build(gl);
  const names = ["picture", "recent", "exact", "exactly", "before", "after", "lending", "lenders", "size", "pixels", "mode", "line", "loupe", "power", "fine", "mark", "ratios", "lensA", "lensB", "projection", "plane"];
  const places = Object.fromEntries(names.map((name) => [name, gl.getUniformLocation(program, name)]));
  const buffer = gl.createBuffer();
  gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
  gl.bufferData(gl.ARRAY_BUFFER, new Float32Array([0, 0, 1, 0, 0, 1, 1, 1]), gl.STATIC_DRAW);
  const place = gl.getAttribLocation(program, "place");
  gl.enableVertexAttribArray(place);
  gl.vertexAttribPointer(place, 2, gl.FLOAT, false, 0, 0);
  const current = texture(gl, gl.TEXTURE_2D);
  const ring = texture(gl, gl.TEXTURE_2D_ARRAY);
  const served = texture(gl, gl.TEXTURE_2D);
  const glass = texture(gl, gl.TEXTURE_2D);
  for (const key of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER]) gl.texParameteri(gl.TEXTURE_2D, key, gl.NEAREST);
  /** @type {(any)[]} the lenses whose tables the graphics hold */ let held = [];
  let exactly = false;
  /** @type {{ texture: WebGLTexture, matrix: number[], lens: any }[]} */
  let onion = [];
  /** @type {number[]} the frame kept in each layer of the ring */
  let kept = [];

  /** Keep the picture on show for frames that come after it. @param {number} frame */
  function keep(frame) {
    gl.activeTexture(gl.TEXTURE1);
    gl.bindTexture(gl.TEXTURE_2D_ARRAY, ring);
    if (!kept.length) {
      gl.texImage3D(gl.TEXTURE_2D_ARRAY, 0, gl.RGBA, video.videoWidth, video.videoHeight, LENDERS, 0, gl.RGBA, gl.UNSIGNED_BYTE, null);
      kept = Array(LENDERS).fill(-1);
    }
    const layer = Math.floor(frame / LENT_EVERY) % LENDERS;
    if (kept[layer] === frame) return;
    gl.texSubImage3D(gl.TEXTURE_2D_ARRAY, 0, 0, 0, layer, video.videoWidth, video.videoHeight, 1, gl.RGBA, gl.UNSIGNED_BYTE, video);
    kept[layer] = frame;
  }

  /** Matrices into the kept frames that may lend to this one; a layer that may not maps everything outside. @param {Look} look */
  function lend(look) {
    const lending = look.lending;
    gl.uniform1i(places.lenders, lending && kept.length ? LENDERS : 0);
    if (!lending || !kept.length) return;
    const nowhere = [0, 0, -1e6, 0, 0, -1e6, 0, 0, 1];
    const pose = lending.reference_from_src[look.frame - lending.first];
    const all = kept.flatMap((frame) => {
      const other = lending.reference_from_src[frame - lending.first];
      const near = other && pose && frame !== look.frame && Math.abs(frame - look.frame) <= lending.reach;
      return near ? product(inverse(other), product(pose, look.after)) : nowhere;
    });
    gl.uniformMatrix3fv(places.lending, true, new Float32Array(all));
  }

  /** Hand the lenses' tables to the graphics, where they changed. @param {Look} look */
  function straighten(look) {
    gl.activeTexture(gl.TEXTURE3);
    gl.bindTexture(gl.TEXTURE_2D, glass);
    if (look.lenses.some((lens, side) => lens !== held[side]) || !held.length) {
      held = [...look.lenses];
      const wide = Math.max(2, ...held.map((lens) => (lens ? lens.ratios.length : 0)));
      const rows = held.flatMap((lens) => (lens ? stretched(lens.ratios, wide) : Array(wide).fill(1)));
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.R32F, wide, 2, 0, gl.RED, gl.FLOAT, new Float32Array(rows));
    }
    gl.uniform1i(places.ratios, 3);
    gl.uniform4fv(places.lensA, held.flatMap((lens) => (lens ? [1, lens.reach, lens.step, lens.squeeze] : [0, 1, 1, 1])));
    gl.uniform4fv(places.lensB, held.flatMap((lens) => (lens ? [...lens.centre, ...lens.decentring] : [0, 0, 0, 0])));
    gl.uniform2fv(places.projection, held.flatMap((lens) => (lens ? [PROJECTIONS[/** @type {keyof typeof PROJECTIONS} */ (lens.projection)], lens.focal] : [0, 1])));
    gl.uniformMatrix3fv(places.plane, true, held.flatMap((lens) => (lens ? lens.plane : IDENTITY)));
  }

  /** @param {number} x @param {number} y @param {number} width @param {number} height @param {Look} look @param {number} mode */
  function draw(x, y, width, height, look, mode) {
    gl.viewport(x, y, width, height);
    gl.uniformMatrix3fv(places.before, true, new Float32Array(look.before));
    gl.uniformMatrix3fv(places.after, true, new Float32Array(look.after));
    gl.uniform2f(places.size, size.width, size.height);
    gl.uniform2f(places.pixels, width, height);
    gl.uniform1i(places.mode, mode);
    gl.uniform2f(places.line, look.line.place, look.line.turn);
    gl.uniform3f(places.loupe, look.loupe ? look.loupe[0] * width : 0, look.loupe ? look.loupe[1] * height : 0, look.loupe ? width / 7 : 0);
    gl.uniform1f(places.power, POWER);
    gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
  }

  /** @param {Look} look */
  function update(look) {
    if (video.readyState < 2) return;
    gl.useProgram(program);
    gl.uniform1i(places.picture, 0);
    gl.uniform1i(places.recent, 1);
    gl.uniform1i(places.exact, 2);
    gl.uniform1i(places.exactly, Number(exactly));
    gl.uniform1i(places.fine, Number(look.fine));
    gl.uniform1i(places.mark, Number(look.mark));
    if (look.lending && look.frame % LENT_EVERY === 0) keep(look.frame);
    lend(look);
    straighten(look);
    gl.activeTexture(gl.TEXTURE0);
    gl.bindTexture(gl.TEXTURE_2D, current);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
    const { width, height } = canvas;
    if (look.mode === "side") {
      const half = Math.floor(width / 2) - 1;
      gl.clearColor(0.086, 0.094, 0.102, 1);
      gl.clear(gl.COLOR_BUFFER_BIT);
      const tall = Math.round((half * size.height) / size.width);
      const low = Math.round((height - tall) / 2);
      draw(0, low, half, tall, look, MODES.before);
      draw(width - half, low, half, tall, look, MODES.after);
    } else if (look.mode === "onion" && onion.length === 2) drawOnion(width, height, look);
    else draw(0, 0, width, height, look, MODES[look.mode === "onion" ? "after" : look.mode]);
  }

  /** The first and the last frame laid over each other. @param {number} width @param {number} height @param {Look} look */
  function drawOnion(width, height, look) {
    gl.blendColor(0.5, 0.5, 0.5, 0.5);
    onion.forEach((skin, i) => {
      if (i) {
        gl.enable(gl.BLEND);
        gl.blendFunc(gl.CONSTANT_COLOR, gl.ONE_MINUS_CONSTANT_COLOR);
      }
      straighten({ ...look, lenses: [look.lenses[0], skin.lens] });
      gl.activeTexture(gl.TEXTURE0);
      gl.bindTexture(gl.TEXTURE_2D, skin.texture);
      draw(0, 0, width, height, { ...look, after: skin.matrix }, MODES.after);
    });
    gl.disable(gl.BLEND);
  }

  return {
    update,
    /** The frame on show as the server makes it, for what other frames lend; null when it is another one. @param {HTMLImageElement | null} image */
    serve(image) {
      exactly = image !== null;
      if (!image) return;
      gl.activeTexture(gl.TEXTURE2);
      gl.bindTexture(gl.TEXTURE_2D, served);
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, image);
    },
    /** Take the picture on show as the next skin of the onion. @param {number[]} matrix @param {any} lens */
    peel(matrix, lens) {
      if (onion.length === 2) onion.splice(0).forEach((skin) => gl.deleteTexture(skin.texture));
      const skin = texture(gl, gl.TEXTURE_2D);
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
      onion.push({ texture: skin, matrix, lens });
    },
    /** @param {number} width */
    resize(width) {
      canvas.width = Math.min(WIDEST, Math.max(2, Math.round(width * devicePixelRatio)));
      canvas.height = Math.max(2, Math.round((canvas.width * size.height) / size.width));
    },
    destroy() {
      for (const made of [current, ring, served, glass, ...onion.map((skin) => skin.texture)]) gl.deleteTexture(made);
      onion = [];
      gl.deleteBuffer(buffer);
      gl.deleteProgram(program);
    },
  };
}

/** A table at another number of even steps. @param {Float32Array} table @param {number} wide @returns {number[]} */
function stretched(table, wide) {
  if (table.length === wide) return Array.from(table);
  return Array.from({ length: wide }, (_, i) => {
    const place = (i * (table.length - 1)) / (wide - 1);
    const left = Math.min(Math.floor(place), table.length - 2);
    return table[left] + (place - left) * (table[left + 1] - table[left]);
  });
}

/** @param {WebGL2RenderingContext} gl @param {number} kind */
function texture(gl, kind) {
  const made = /** @type {WebGLTexture} */ (gl.createTexture());
  gl.activeTexture(kind === gl.TEXTURE_2D ? gl.TEXTURE0 : gl.TEXTURE1);
  gl.bindTexture(kind, made);
  for (const [key, value] of [
    [gl.TEXTURE_MIN_FILTER, gl.LINEAR], [gl.TEXTURE_MAG_FILTER, gl.LINEAR],
    [gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE], [gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE],
  ]) gl.texParameteri(kind, key, value);
  return made;
}

/** @param {WebGL2RenderingContext} gl */
function build(gl) {
  const program = /** @type {WebGLProgram} */ (gl.createProgram());
  for (const [kind, text] of /** @type {[number, string][]} */ ([[gl.VERTEX_SHADER, VERTEX], [gl.FRAGMENT_SHADER, FRAGMENT]])) {
    const shader = /** @type {WebGLShader} */ (gl.createShader(kind));
    gl.shaderSource(shader, text);
    gl.compileShader(shader);
    gl.attachShader(program, shader);
  }
  gl.linkProgram(program);
  if (!gl.getProgramParameter(program, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(program) || "shader");
  return program;
}
