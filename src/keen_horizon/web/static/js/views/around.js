// @ts-check
// Draws a sphere's proxy with WebGL 2: all of it, or a view looked out of it, and the other one small in a corner.
import { build, makeMesh, texture } from "./graphics.js";
import { cubicSampling } from "./shaders.js";

/** @typedef {import("../geometry/around.js").Camera} Camera */
/** @typedef {{ camera: Camera, turn: number[], readTurn: number[] }} Look what is drawn: source_from_out, row-major 3x3 on rays, and how far the camera turned while its rows were read */

const KINDS = { flat: 1, cylinder: 2, stereographic: 1 };
const WIDEST = 960;
/** @type {[number, number]} */ const CELLS = [60, 36]; // of 16 px: rays between their corners are off by less than 0.01 px

// The same rays as core/cameras/view.py and sphere.py have, at the corners of cells: between those they lie straight.
const VERTEX = `#version 300 es
uniform mat3 turn;
uniform vec3 readTurn;
uniform vec2 size;
uniform float focal;
uniform float back;
uniform int kind;
in vec2 place;
out vec2 share;
out vec3 seen;
const float HALF_TURN = 3.14159265358979;
vec3 ray() {
  vec2 at = (place - 0.5) * size / focal;
  if (kind == 2) return vec3(sin(at.x), at.y, cos(at.x));
  if (kind == 1) {
    at /= 1.0 + back;
    float reach = dot(at, at);
    float depth = (sqrt(1.0 + reach * (1.0 - back * back)) - back * reach) / (1.0 + reach);
    return vec3(at * (back + depth), depth);
  }
  vec2 angle = (place - 0.5) * vec2(2.0 * HALF_TURN, HALF_TURN);
  return vec3(sin(angle.x) * cos(angle.y), sin(angle.y), cos(angle.x) * cos(angle.y));
}
float rowShare(vec3 at) { return atan(at.y, length(at.xz)) / HALF_TURN; }
vec3 turnedBy(vec3 at, float part) {
  float whole = length(readTurn);
  vec3 axis = readTurn / whole;
  return cos(whole * part) * at + sin(whole * part) * cross(axis, at) + (1.0 - cos(whole * part)) * dot(axis, at) * axis;
}
// See core/motion/sphere/rows.py: which row sees a place is looked up twice.
vec3 atOwnRow(vec3 at) {
  return turnedBy(at, -rowShare(turnedBy(at, -rowShare(at))));
}
void main() {
  share = place;
  seen = turn * ray();
  if (readTurn != vec3(0.0)) seen = atOwnRow(normalize(seen));
  gl_Position = vec4(2.0 * place.x - 1.0, 1.0 - 2.0 * place.y, 0.0, 1.0);
}`;

/** The sphere's own places of rays. @param {boolean} fine with the renderer's cubic kernel: a branch would cost its time */
const fragment = (fine) => `#version 300 es
precision highp float;
uniform sampler2D picture;
uniform vec3 line; // of a wipe, of which the left is drawn: where it is, and the cosine and sine of its turn; none: 0
uniform float tall; // of the picture's width
uniform float across;
in vec2 share;
in vec3 seen;
out vec4 colour;
const float HALF_TURN = 3.14159265358979;
${fine ? cubicSampling("across > 6.28 ? (column + last.x + 1) % (last.x + 1) : clamp(column, 0, last.x)") : ""}
void main() {
  if (line.yz != vec2(0.0) && (share.x - line.x) * line.y + (share.y - 0.5) * tall * line.z >= 0.0) discard;
  vec2 at = vec2(atan(seen.x, seen.z) / across, atan(seen.y, length(seen.xz)) / HALF_TURN) + 0.5;
  bool nothing = at.x < 0.0 || at.x > 1.0;
  colour = nothing ? vec4(0.0, 0.0, 0.0, 1.0) : vec4(${fine ? "cubic(at)" : "texture(picture, at).rgb"}, 1.0);
}`;

/**
 * @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {number} across rad of the clip's longitude
 * @returns {null | ReturnType<typeof around>} null without WebGL 2
 */
export function mountAround(canvas, video, across) {
  const gl = canvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true });
  return gl && around(gl, canvas, video, across);
}

/** @param {WebGL2RenderingContext} gl @param {HTMLCanvasElement} canvas @param {HTMLVideoElement} video @param {number} across */
function around(gl, canvas, video, across) {
  const mesh = makeMesh(gl);
  const [plain, cubic] = [false, true].map((fine) => build(gl, VERTEX, fragment(fine)));
  texture(gl, gl.TEXTURE_2D, 0, gl.LINEAR);
  if (across > 6.28) gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_WRAP_S, gl.REPEAT);
  let loaded = false;

  /** @param {Look} look @param {number[]} box x, y, width, height @param {import("./graphics.js").Built} built @param {{ place: number, turn: number } | null} line */
  function drawOne({ camera, turn, readTurn }, box, built, line = null) {
    gl.viewport(box[0], box[1], box[2], box[3]);
    const { places } = built;
    gl.uniform3f(places.line, line ? line.place : 0, line ? Math.cos(line.turn) : 0, line ? Math.sin(line.turn) : 0);
    gl.uniformMatrix3fv(places.turn, true, turn);
    gl.uniform3f(places.readTurn, readTurn[0], readTurn[1], readTurn[2]);
    gl.uniform2f(places.size, camera.width, camera.height);
    gl.uniform1f(places.focal, camera.focal);
    gl.uniform1f(places.back, camera.back);
    gl.uniform1f(places.across, across);
    gl.uniform1i(places.kind, camera.projection ? KINDS[camera.projection] : 0);
    gl.uniform1f(places.tall, camera.height / camera.width);
    mesh.draw(built.place, ...CELLS);
  }

  return {
    /** @param {number} width CSS px @param {number} aspect of what is drawn */
    resize(width, aspect) {
      canvas.width = Math.max(2, Math.round(Math.min(WIDEST, width)));
      canvas.height = Math.max(2, Math.round(canvas.width / aspect));
    },
    /** @param {Look} look @param {Look | null} inset drawn in the corner @param {number} share of the width that it takes
     * @param {Look | null} before left of a wipe's `line` @param {{ place: number, turn: number }} line
     * @param {boolean} fine with the renderer's cubic kernel */
    draw(look, inset, share, before, line, fine) {
      if (video.readyState >= 2) {
        gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, video);
        loaded = true;
      }
      if (!loaded) return;
      const built = fine ? cubic : plain;
      gl.useProgram(built.program);
      const whole = [0, 0, canvas.width, canvas.height];
      drawOne(look, whole, built);
      if (before) drawOne(before, whole, built, line);
      if (!inset) return;
      const width = Math.round(canvas.width * share);
      const height = Math.round((width * inset.camera.height) / inset.camera.width);
      drawOne(inset, [canvas.width - width, 0, width, height], built);
    },
    destroy() {
      mesh.destroy();
      for (const { program } of [plain, cubic]) gl.deleteProgram(program);
    },
  };
}
