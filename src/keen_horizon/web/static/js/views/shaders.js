// @ts-check
// The sampling map as GLSL: for every output pixel the source point is found with the same matrix that the
// renderer uses, so what is seen is what will be written. Gaps are hatched, unless a frame just shown can lend.
import { PROJECTIONS } from "../geometry/lens.js";

export const LENDERS = 8;
export const MODES = /** @type {const} */ ({ before: 0, after: 1, wipe: 2, difference: 3 });

export const VERTEX = `#version 300 es
in vec2 place;
out vec2 at;
void main() { at = place; gl_Position = vec4(place.x * 2.0 - 1.0, 1.0 - place.y * 2.0, 0.0, 1.0); }`;

export const FRAGMENT = `#version 300 es
precision highp float;
precision highp sampler2DArray;
uniform sampler2D picture;
uniform sampler2DArray recent;
uniform sampler2D exact;  // this very frame from the server, where it has arrived
uniform bool exactly;
uniform mat3 before, after;
uniform mat3 lending[${LENDERS}];
uniform int lenders;
uniform vec2 size, pixels;
uniform int mode;
uniform vec2 line;      // where it crosses mid-height, and its turn from upright
uniform vec3 loupe;     // middle and radius, in pixels; no radius, no loupe
uniform float power;
uniform bool fine;      // standing pictures are sampled with the renderer's cubic kernel
uniform bool mark;
uniform sampler2D ratios;    // a row for before, a row for after: source radius over straightened radius
uniform vec4 lensA[2];       // whether there is one; reach; step; squeeze
uniform vec4 lensB[2];       // centre; decentring
uniform vec2 projection[2];  // which one (PROJECTIONS); focal length
uniform mat3 plane[2];       // from the delivered to the flat straightened picture
in vec2 at;
out vec4 colour;

vec4 weights(float t) {
  const float a = -0.75;
  vec4 d = vec4(1.0 + t, t, 1.0 - t, 2.0 - t);
  vec2 near = ((a + 2.0) * d.yz - (a + 3.0)) * d.yz * d.yz + 1.0;
  vec2 far = ((a * d.xw - 5.0 * a) * d.xw + 8.0 * a) * d.xw - 4.0 * a;
  return vec4(far.x, near, far.y);
}

vec3 cubic(vec2 source) {
  ivec2 last = textureSize(picture, 0) - 1;
  vec2 place = source * vec2(last + 1) - 0.5;
  ivec2 corner = ivec2(floor(place));
  vec4 across = weights(place.x - floor(place.x)), down = weights(place.y - floor(place.y));
  vec3 sum = vec3(0.0);
  for (int y = 0; y < 4; y++)
    for (int x = 0; x < 4; x++)
      sum += across[x] * down[y] * texelFetch(picture, clamp(corner + ivec2(x - 1, y - 1), ivec2(0), last), 0).rgb;
  return sum;
}

// From the delivered to the flat straightened picture, half-diagonals: see core/lens/projection.py and turning.py.
bool flatten(int side, inout vec2 w) {
  float kind = projection[side].x, focal = projection[side].y;
  vec2 angle = w / focal;
  if (kind == ${PROJECTIONS.cylinder}.0) {
    if (abs(angle.x) >= 1.5707) return false;
    w = vec2(tan(angle.x), angle.y / cos(angle.x)) * focal;
  } else if (kind == ${PROJECTIONS.stereographic}.0) {
    float square = dot(angle, angle) / 4.0;
    if (square >= 1.0) return false;
    w /= 1.0 - square;
  }
  vec3 seen = plane[side] * vec3(w, 1.0);
  w = seen.xy / seen.z;
  return seen.z > 1e-6;
}

// From the straightened frame to the bent source, pixels both: see core/lens/lens.py.
vec2 bent(int side, vec2 place) {
  vec4 a = lensA[side], b = lensB[side];
  float halfway = length(size) / 2.0;
  vec2 w = a.z * (place - (size - 1.0) / 2.0) / halfway;
  if (!flatten(side, w)) return vec2(-1e6);
  w -= b.xy;
  w.x /= a.w;
  int last = textureSize(ratios, 0).x - 1;
  float at = length(w) / a.y * float(last);
  if (at >= float(last)) return vec2(-1e6);
  int i = int(at);
  float share = mix(texelFetch(ratios, ivec2(i, side), 0).r, texelFetch(ratios, ivec2(i + 1, side), 0).r, at - float(i));
  vec2 decentred = b.z * vec2(2.0 * w.x * w.y, dot(w, w) + 2.0 * w.y * w.y) + b.w * vec2(dot(w, w) + 2.0 * w.x * w.x, 2.0 * w.x * w.y);
  vec2 u = w * share + decentred;
  u.x *= a.w;
  return (u + b.xy) * halfway + (size - 1.0) / 2.0;
}

vec2 through(mat3 srcFromOut, int side, vec2 place) {
  vec3 found = srcFromOut * vec3(place * size - 0.5, 1.0);
  vec2 source = found.xy / found.z;
  if (lensA[side].x > 0.0) source = bent(side, source);
  return (source + 0.5) / size;
}

bool outside(vec2 source) {
  return any(lessThan(source, vec2(0.0))) || any(greaterThan(source, vec2(1.0)));
}

vec3 hatch(vec2 place) {
  float stripe = step(0.5, fract((place.x * pixels.x + place.y * pixels.y) / 14.0));
  return mix(vec3(0.10, 0.106, 0.114), vec3(0.30, 0.22, 0.21), stripe);
}

vec3 lent(vec2 place) {
  if (exactly) return texture(exact, place).rgb;
  for (int i = 0; i < ${LENDERS}; i++) {
    if (i >= lenders) break;
    vec2 source = through(lending[i], 1, place);
    if (!outside(source)) {
      vec3 found = texture(recent, vec3(source, float(i))).rgb;
      return mark ? mix(found, vec3(0.91, 0.757, 0.353), 0.45) : found;
    }
  }
  return hatch(place);
}

vec3 seen(int side, vec2 place) {
  vec2 source = through(side == 1 ? after : before, side, place);
  bool borrows = side == 1;
  if (outside(source)) return borrows ? lent(place) : hatch(place);
  return fine ? cubic(source) : texture(picture, source).rgb;
}

void main() {
  vec2 place = at, from = (at * pixels - loupe.xy);
  bool near = loupe.z > 0.0 && length(from) < loupe.z;
  if (near) place = (loupe.xy + from / power) / pixels;
  vec2 off = vec2(place.x - line.x, (place.y - 0.5) * pixels.y / pixels.x);
  bool left = dot(off, vec2(cos(line.y), sin(line.y))) < 0.0;
  bool apart = mode == ${MODES.difference};
  int side = mode == ${MODES.before} || (mode == ${MODES.wipe} && left) ? 0 : 1;
  vec3 found = vec3(0.0);
  for (int turn = 0; turn < (apart ? 2 : 1); turn++) { // one call of seen(): a shader that is built soon
    vec3 one = seen(side, place);
    found = turn == 0 ? one : min(vec3(1.0), 3.0 * abs(found - one));
    side = 1 - side;
  }
  colour = vec4(found, 1.0);
  if (loupe.z > 0.0 && abs(length(from) - loupe.z) < 1.0) colour = vec4(vec3(0.9), 1.0);
}`;
