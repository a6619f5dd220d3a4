// @ts-check
// The frame map as GLSL: at every corner of a mesh the source point is found as the renderer finds it, and
// fragments only sample between, so what is seen is what will be written and a lens costs no fragment anything.
// Gaps are hatched, unless a frame just shown can lend. Programs are built of the parts that are in use.
import { NODES } from "../geometry/rows.js";

export const LENDERS = 8;
export const DEAD_SIDES = 8; // as many straight edges as a document has
export const TABLES = 2 + LENDERS; // rows of the shutter's table: before, after, and every lender

/**
 * @typedef {object} Parts what a program must do
 * @property {boolean} glass a lens or rows on either side
 * @property {boolean} mesh either side is bent
 * @property {"one" | "wipe" | "difference"} sides what is compared
 * @property {boolean} lends frames just shown lend
 * @property {boolean} fine standing pictures are sampled with the renderer's cubic kernel
 * @property {boolean} loupe a round part of the picture, enlarged
 * @property {boolean} light light that falls off is lifted on either side
 * @property {boolean} fringe red and blue are laid onto green on either side
 * @property {boolean} haze coloured haze along edges is taken away on either side
 * @property {boolean} dead places beyond a dead edge count as gaps on either side
 * @property {boolean} edges only edges are shown, in the colours that they have
 */

/** @param {Parts} parts @returns {string} */
const defines = (parts) => `#version 300 es
precision highp float;
precision highp int;
#define GLASS ${Number(parts.glass)}
#define MESH ${Number(parts.mesh)}
#define BOTH ${Number(parts.sides !== "one")}
#define WIPE ${Number(parts.sides === "wipe")}
#define LENDS ${Number(parts.lends)}
#define FINE ${Number(parts.fine)}
#define LOUPE ${Number(parts.loupe)}
#define LIGHT ${Number(parts.light)}
#define FRINGE ${Number(parts.fringe)}
#define HAZE ${Number(parts.haze)}
#define DEAD ${Number(parts.dead)}
#define EDGES ${Number(parts.edges)}
`;

/** The renderer's cubic kernel. @param {string} column GLSL for the column that is looked up, of `column` and `last` */
export const cubicSampling = (column) => `vec4 weights(float t) {
  const float a = -0.75;
  vec4 d = vec4(1.0 + t, t, 1.0 - t, 2.0 - t);
  vec2 near = ((a + 2.0) * d.yz - (a + 3.0)) * d.yz * d.yz + 1.0;
  vec2 far = ((a * d.xw - 5.0 * a) * d.xw + 8.0 * a) * d.xw - 4.0 * a;
  return vec4(far.x, near, far.y);
}

vec3 cubic(vec2 source) {
  ivec2 last = textureSize(picture, 0) - 1;
  vec2 place = source * vec2(last + 1) - 0.5;
  vec2 odd = fract(place) - 0.5, square = odd * odd;
  place += odd * (0.30226907 + square * (square * 2.64692377 - 1.87080724)); // see core/render/resample.py
  ivec2 corner = ivec2(floor(place));
  vec4 along = weights(place.x - floor(place.x)), down = weights(place.y - floor(place.y));
  vec3 sum = vec3(0.0);
  for (int y = 0; y < 4; y++)
    for (int x = 0; x < 4; x++) {
      int column = corner.x + x - 1;
      sum += along[x] * down[y] * texelFetch(picture, ivec2(${column}, clamp(corner.y + y - 1, 0, last.y)), 0).rgb;
    }
  return sum;
}`;

/** @param {Parts} parts @returns {string} */
export const vertexShader = (parts) => `${defines(parts)}
in vec2 place;
uniform vec4 part;  // of the picture: its corner and its sides, shares
uniform vec2 size;
uniform int first;  // the side that is drawn, where it is one
uniform mat3 matrices[2];  // src_from_out of before and after
uniform mat3 lending[${LENDERS}];
uniform mat3 lentHomographies[${LENDERS}];  // what takes the place of the homography for what is lent
uniform sampler2D tables;    // a row for before, a row for after: source radius over straightened radius; three factors of the unrolling
uniform sampler2D rows;      // ${2 * NODES} texels a frame: how its rows moved, six figures a node (see geometry/rows.js)
uniform vec4 lensA[2];       // whether there is one; reach; step; squeeze
uniform vec2 centres[2];
uniform vec3 decentring[4];  // what x^2, xy and y^2 move a point by, across and down, before and after
uniform vec3 unrolling[2];   // its reach, half-diagonals, 0 where there is none; how much x and y count for the distance
uniform mat3 homographies[2];       // from the delivered to the flat straightened picture
uniform vec3 shutter;        // whether rows moved, before and after; quarter turns
uniform sampler2D meshes;    // controls of a mesh, px: tables of before, after and every lender below each other
uniform ivec2 controls;      // how many of them, across and down
out vec2 at;
out vec2 found;
#if BOTH
out vec2 other;
#endif
#if LENDS
out vec4 lent[${LENDERS / 2}];
#endif

#if GLASS
// What the tables hold of a side at a share of their reach; nothing from their end on.
bool looked(int side, float share, out vec4 held) {
  int last = textureSize(tables, 0).x - 1;
  float at = share * float(last);
  if (at >= float(last)) return false;
  int i = int(at);
  held = mix(texelFetch(tables, ivec2(i, side), 0), texelFetch(tables, ivec2(i + 1, side), 0), at - float(i));
  return true;
}

// From the delivered to the flat straightened picture, half-diagonals.
bool flatten(int side, mat3 homography, inout vec2 w) {
  vec3 ray = vec3(w, 1.0), roll = unrolling[side];
  if (roll.x > 0.0) {
    vec4 held;
    if (!looked(side, length(w * roll.yz) / roll.x, held)) return false;
    ray *= held.gba;
  }
  vec3 seen = homography * ray;
  w = seen.xy / seen.z;
  return seen.z > 1e-6 * ray.z;
}

// From the flat straightened picture, half-diagonals from its middle, to the bent source.
bool bend(int side, inout vec2 w) {
  vec4 a = lensA[side], held;
  w -= centres[side];
  w.x /= a.w;
  if (!looked(side, length(w) / a.y, held)) return false;
  vec3 squares = vec3(w.x * w.x, w.x * w.y, w.y * w.y);
  w = w * held.r + vec2(dot(decentring[2 * side], squares), dot(decentring[2 * side + 1], squares));
  w.x *= a.w;
  w += centres[side];
  return true;
}

// Where a point of the middle row's moment lay when a source place was read, half-diagonals: see core/glass/shutter.py.
vec2 read(int table, vec2 w, vec2 place) {
  float halfway = length(size) / 2.0;
  vec2 shares = place * halfway / size;
  float share = shutter.z == 0.0 ? shares.y : shutter.z == 1.0 ? shares.x : shutter.z == 2.0 ? -shares.y : -shares.x;
  float node = (clamp(share, -0.5, 0.5) + 0.5) * ${NODES - 1}.0;
  int i = min(int(node), ${NODES - 2});
  vec4 moved = mix(texelFetch(rows, ivec2(2 * i, table), 0), texelFetch(rows, ivec2(2 * i + 2, table), 0), node - float(i));
  vec2 tilt = mix(texelFetch(rows, ivec2(2 * i + 1, table), 0), texelFetch(rows, ivec2(2 * i + 3, table), 0), node - float(i)).xy;
  vec2 turned = vec2(moved.x * w.x - moved.y * w.y, moved.y * w.x + moved.x * w.y);
  return turned / max(1.0 + dot(tilt, w), 0.05) + moved.zw;
}

vec2 bent(int side, mat3 homography, int table, vec2 place) {
  float halfway = length(size) / 2.0;
  vec2 w = lensA[side].z * (place - (size - 1.0) / 2.0) / halfway;
  if (!flatten(side, homography, w)) return vec2(-1e6);
  vec2 source = w;
  if (!bend(side, source)) return vec2(-1e6);
  if ((side == 0 ? shutter.x : shutter.y) > 0.0)
    for (int round = 0; round < 2; round++) {
      vec2 moved = read(table, w, source);
      if (!bend(side, moved)) return vec2(-1e6);
      source = moved;
    }
  return source * halfway + (size - 1.0) / 2.0;
}
#endif

#if MESH
vec3 three(float away) { return vec3((0.5 - away) * (0.5 - away) / 2.0, 0.75 - away * away, (0.5 + away) * (0.5 + away) / 2.0); }

// How far a source place, a share of the picture, is moved, px: see geometry/mesh.js.
vec2 meshed(int table, vec2 share) {
  vec2 steps = clamp(share, 0.0, 1.0) * vec2(controls - 2) + 0.5;
  ivec2 middle = clamp(ivec2(floor(steps + 0.5)), ivec2(1), controls - 2);
  vec2 away = clamp(steps - vec2(middle), -0.5, 0.5), sum = vec2(0.0);
  vec3 across = three(away.x), down = three(away.y);
  for (int j = 0; j < 3; j++)
    for (int i = 0; i < 3; i++)
      sum += down[j] * across[i] * texelFetch(meshes, ivec2(middle.x + i - 1, table * controls.y + middle.y + j - 1), 0).xy;
  return sum;
}
#endif

vec2 through(mat3 srcFromOut, mat3 homography, int side, int table, vec2 place) {
  vec3 seen = srcFromOut * vec3(place * size - 0.5, 1.0);
  vec2 source = seen.xy / seen.z;
#if GLASS
  if (lensA[side].x > 0.0) source = bent(side, homography, table, source);
#endif
#if MESH
  source += meshed(table, (source + 0.5) / size);
#endif
  return (source + 0.5) / size;
}

void main() {
  at = part.xy + place * part.zw;
  gl_Position = vec4(place.x * 2.0 - 1.0, 1.0 - place.y * 2.0, 0.0, 1.0);
#if BOTH
  found = through(matrices[1], homographies[1], 1, 1, at);
  other = through(matrices[0], homographies[0], 0, 0, at);
#else
  found = through(matrices[first], homographies[first], first, first, at);
#endif
#if LENDS
  for (int i = 0; i < ${LENDERS}; i += 2)
    lent[i / 2] = vec4(through(lending[i], lentHomographies[i], 1, 2 + i, at), through(lending[i + 1], lentHomographies[i + 1], 1, 3 + i, at));
#endif
}`;

/** @param {Parts} parts @returns {string} */
export const fragmentShader = (parts) => `${defines(parts)}
precision highp sampler2DArray;
uniform sampler2D picture;
uniform vec2 pixels;
#if WIPE
uniform vec2 line;      // where it crosses mid-height, and its turn from upright
#endif
#if LENDS
uniform sampler2DArray recent;
uniform sampler2D exact;  // this very frame from the server, where it has arrived
uniform bool exactly, mark;
in vec4 lent[${LENDERS / 2}];
#endif
#if LOUPE
uniform vec3 loupe;     // middle and radius, pixels
#endif
uniform int first;
uniform vec2 size;
#if FRINGE
uniform vec4 fringeA[2];  // how much further out than green, shares: red in the middle and a half-diagonal out, blue
uniform vec2 fringeB[2];  // centre (see core/mapping/light.py)
#endif
#if HAZE
uniform vec4 hazeA[2];  // amount; the hue, towards blue and towards red; how far a hue may be from it (see core/glass/haze.py)
uniform vec3 hazeB[2];  // reach, a share of the picture's width; ranges of luma from where an edge counts on, and wholly
#endif
#if LIGHT
uniform sampler2D lifts;  // a row for before, a row for after: factors over the squared radius (see core/mapping/light.py)
uniform vec4 lightA[2];   // whether there is any; reach; offset; toe
uniform vec2 lightB[2];   // centre
#endif
in vec2 at;
in vec2 found;
#if BOTH
in vec2 other;
#endif
out vec4 colour;

#if DEAD
uniform vec4 deadA[2];  // centre and radius of a round edge; how many straight ones (see core/mapping/light.py)
uniform vec3 deadB[${2 * DEAD_SIDES}];  // outward normal and distance from the middle
uniform bool veiled;    // what is dead before is shown as shot, behind a veil
#endif

// Whether no light arrived at a source place.
bool dark(int side, vec2 source) {
#if DEAD
  vec2 place = (source - 0.5) * size / (length(size) / 2.0);
  vec4 a = deadA[side];
  if (a.z > 0.0 && length(place - a.xy) > a.z) return true;
  for (int i = 0; i < int(a.w); i++) {
    vec3 b = deadB[side * ${DEAD_SIDES} + i];
    if (dot(b.xy, place) > b.z) return true;
  }
#endif
  return false;
}

bool outside(int side, vec2 source) {
  if (any(lessThan(source, vec2(0.0))) || any(greaterThan(source, vec2(1.0)))) return true;
#if DEAD
  if (side == 0 && veiled) return false;
#endif
  return dark(side, source);
}

vec3 hatch() {
  float stripe = step(0.5, fract((at.x * pixels.x + at.y * pixels.y) / 14.0));
  return mix(vec3(0.10, 0.106, 0.114), vec3(0.30, 0.22, 0.21), stripe);
}

#if FINE
${cubicSampling("clamp(column, 0, last.x)")}
vec3 sampled(vec2 source) { return cubic(source); }
#else
vec3 sampled(vec2 source) { return texture(picture, source).rgb; }
#endif

// Where red and blue of a source place lie, in shares of the picture.
vec4 apart(int side, vec2 source) {
#if FRINGE
  float halfway = length(size) / 2.0;
  vec4 a = fringeA[side];
  vec2 away = (source - 0.5) * size / halfway - fringeB[side];
  vec2 growth = a.xz + (a.yw - a.xz) * dot(away, away);
  away *= halfway / size;
  return vec4(source + growth.x * away, source + growth.y * away);
#else
  return vec4(source, source);
#endif
}

vec3 coloured(int side, vec2 source) {
#if FRINGE
  vec4 there = apart(side, source);
  return vec3(sampled(there.xy).r, sampled(source).g, sampled(there.zw).b);
#else
  return sampled(source);
#endif
}

vec3 lit(int side, vec2 source, vec3 seen) {
#if LIGHT
  vec4 a = lightA[side];
  if (a.x == 0.0) return seen;
  vec2 away = (source - 0.5) * size / (length(size) / 2.0) - lightB[side];
  int last = textureSize(lifts, 0).x - 1;
  float at = min(dot(away, away) / (a.y * a.y), 1.0) * float(last);
  int i = min(int(at), last - 1);
  float factor = mix(texelFetch(lifts, ivec2(i, side), 0).r, texelFetch(lifts, ivec2(i + 1, side), 0).r, at - float(i));
  vec3 bright = (seen + a.z) * factor - a.z;
  return a.w > 0.0 ? min(bright, seen * (((a.w + a.z) * factor - a.z) / a.w)) : bright;
#else
  return seen;
#endif
}

// How far a source place moves for a pixel of the output to the right and up, on either side.
vec2 rightwards[2], upwards[2];

const vec3 LUMA = vec3(0.2126, 0.7152, 0.0722);

vec3 cleared(int side, vec2 source, vec3 seen) {
#if HAZE
  vec4 a = hazeA[side];
  vec3 b = hazeB[side];
  if (a.x == 0.0) return seen;
  vec2 right = rightwards[side] * b.x * pixels.x, up = upwards[side] * b.x * pixels.x;
  float luma = dot(LUMA, seen), low = luma, high = luma;
  for (int i = 0; i < 16; i++) {
    float turn = float(i) * 0.78539816;
    vec2 there = source + (i < 8 ? 1.0 : 0.5) * (cos(turn) * right + sin(turn) * up);
    float other = dot(LUMA, lit(side, there, texture(picture, there).rgb));
    low = min(low, other);
    high = max(high, other);
  }
  vec2 colour = vec2(seen.b - luma, seen.r - luma) / vec2(1.8556, 1.5748);
  float away = acos(clamp(dot(colour, a.yz) / max(length(colour), 1e-6), -1.0, 1.0)) / a.w;
  float near = clamp((high - low - b.y) / (b.z - b.y), 0.0, 1.0);
  return mix(seen, vec3(luma), a.x * near * clamp(2.0 - 2.0 * away, 0.0, 1.0));
#else
  return seen;
#endif
}

vec3 corrected(int side, vec2 source) { return cleared(side, source, lit(side, source, coloured(side, source))); }

// What is shown of a side where it has picture.
vec3 pictured(int side, vec2 source) {
#if EDGES
  vec2 right = rightwards[side], up = upwards[side];
  vec3 across = corrected(side, source + right) - corrected(side, source - right);
  vec3 along = corrected(side, source + up) - corrected(side, source - up);
  return min(vec3(1.0), 2.0 * sqrt(across * across + along * along));
#else
  return corrected(side, source);
#endif
}

vec3 shown(int side, vec2 source) {
  vec3 seen = pictured(side, source);
#if DEAD
  if (side == 0 && veiled && dark(side, source)) return mix(seen, hatch(), 0.7);
#endif
  return seen;
}

vec3 missing() {
#if LENDS
  if (exactly) return texture(exact, at).rgb;
  for (int i = 0; i < ${LENDERS}; i++) {
    vec2 source = i % 2 == 0 ? lent[i / 2].xy : lent[i / 2].zw;
    if (outside(1, source)) continue;
    vec4 there = apart(1, source);
    vec3 lies = vec3(texture(recent, vec3(there.xy, float(i))).r, texture(recent, vec3(source, float(i))).g, texture(recent, vec3(there.zw, float(i))).b);
    vec3 seen = lit(1, source, lies);
    return mark ? mix(seen, vec3(0.91, 0.757, 0.353), 0.45) : seen;
  }
#endif
  return hatch();
}

void main() {
  vec3 seen;
  rightwards[0] = rightwards[1] = dFdx(found);
  upwards[0] = upwards[1] = dFdy(found);
#if BOTH
  rightwards[0] = dFdx(other);
  upwards[0] = dFdy(other);
#endif
#if LOUPE
  float away = length(gl_FragCoord.xy - loupe.xy);
  if (away > loupe.z) discard;
#endif
#if WIPE
  vec2 off = vec2(at.x - line.x, (at.y - 0.5) * pixels.y / pixels.x);
  bool before = dot(off, vec2(cos(line.y), sin(line.y))) < 0.0;
  vec2 source = before ? other : found;
  seen = outside(before ? 0 : 1, source) ? (before ? hatch() : missing()) : shown(before ? 0 : 1, source);
#elif BOTH
  seen = outside(1, found) ? missing() : shown(1, found);
  seen = min(vec3(1.0), 3.0 * abs(seen - (outside(0, other) ? hatch() : shown(0, other))));
#else
  seen = outside(first, found) ? missing() : shown(first, found);
#endif
  colour = vec4(seen, 1.0);
#if LOUPE
  if (away > loupe.z - 2.0) colour = vec4(vec3(0.9), 1.0);
#endif
}`;
