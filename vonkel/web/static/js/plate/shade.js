// How the mesh is drawn: paper-like light, the model's own colours, clay, or a value along the ember ramp.
import * as THREE from "three";

export const MODES = { colours: 0, clay: 1, ramp: 2, texture: 3, checker: 4, inks: 5 };

const vertex = `
uniform int mode;
attribute vec3 tint;
attribute vec3 ink;
attribute float value;
varying vec3 vNormal;
varying vec3 vTint;
varying float vValue;
varying vec2 vPlace;
void main() {
  vNormal = normalize(normalMatrix * normal);
  vTint = mode == 5 ? ink : tint;
  vValue = value;
  vPlace = uv;
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
}`;

/** The ember ramp: the same as the shader's. */
const RAMP = [
  [243, 234, 217],
  [246, 207, 139],
  [238, 154, 60],
  [217, 83, 30],
  [140, 36, 16],
];

/** A value from 0 to 1 as a colour of the page. */
export function rampColour(value) {
  const t = Math.min(Math.max(value, 0), 1) * 4,
    k = Math.min(Math.floor(t), 3),
    mixed = RAMP[k].map((v, c) => Math.round(v + (t - k) * (RAMP[k + 1][c] - v)));
  return `rgb(${mixed.join(" ")})`;
}

const fragment = `
uniform int mode;
uniform float fade;
uniform float alpha;
uniform bool alone;
uniform sampler2D map;
varying vec2 vPlace;
varying vec3 vNormal;
varying vec3 vTint;
varying float vValue;
const vec3 CLAY = vec3(0.84, 0.80, 0.725);
vec3 ramp(float t) {
  vec3 a = vec3(.953, .918, .851), b = vec3(.965, .812, .545), c = vec3(.933, .604, .235);
  vec3 d = vec3(.851, .325, .118), e = vec3(.549, .141, .063);
  t = clamp(t, 0.0, 1.0) * 4.0;
  return t < 1.0 ? mix(a, b, t) : t < 2.0 ? mix(b, c, t - 1.0) : t < 3.0 ? mix(c, d, t - 2.0) : mix(d, e, t - 3.0);
}
void main() {
  vec3 n = normalize(vNormal);
  if (!gl_FrontFacing) n = -n;
  vec3 picture = mix(CLAY, texture2D(map, vPlace).rgb, 0.85);
  vec3 base = mode == 0 || mode == 5 ? vTint : mode == 1 ? CLAY : mode == 3 ? picture : ramp(vValue);
  if (mode == 4) {  // squares of 1/32 of the layout, every fourth line stronger
    vec2 cell = floor(vPlace * 32.0);
    base = mix(vec3(.93, .89, .81), vec3(.55, .62, .62), mod(cell.x + cell.y, 2.0));
    if (mod(cell.x, 8.0) < 0.5 || mod(cell.y, 8.0) < 0.5) base *= 0.84;
  }
  if (mode == 2) {
    float width = fwidth(vValue) * 1.2 + 1e-5;
    for (int i = 1; i < 4; i++) base *= 1.0 - 0.5 * (1.0 - smoothstep(0.0, width, abs(vValue - 0.25 * float(i))));
  }
  float light = 0.60 + 0.42 * clamp(dot(n, normalize(vec3(-0.35, 0.6, 0.72))), -0.45, 1.0);
  light -= 0.13 * pow(1.0 - clamp(n.z, 0.0, 1.0), 2.0);
  if (!gl_FrontFacing) light *= 0.55;
  float away = mode == 2 && alone ? 0.82 * (1.0 - smoothstep(0.002, 0.03, vValue)) : 0.0;
  gl_FragColor = vec4(mix(base * light, vec3(0.98, 0.965, 0.933), max(fade, away)), alpha);
}`;

const PALE = 0.16; // how much is left of parts that are faded

/** The one material all parts share; of faded parts: a pale one on the same shading as `like`. */
export function makeMaterial(like = null) {
  return new THREE.ShaderMaterial({
    vertexShader: vertex,
    fragmentShader: fragment,
    side: THREE.DoubleSide,
    transparent: !!like,
    depthWrite: !like,
    polygonOffset: true, // lines over it are seen
    polygonOffsetFactor: 1,
    polygonOffsetUnits: 1,
    uniforms: {
      mode: { value: MODES.colours },
      fade: like ? like.uniforms.fade : { value: 0 },
      alpha: { value: like ? PALE : 1 },
      alone: like ? like.uniforms.alone : { value: false },
      map: { value: null },
    },
  });
}

/** Area-weighted normals, written into `normals` (n × 3); a plain loop is several times faster than the library's. */
export function writeNormals(points, triangles, normals) {
  normals.fill(0);
  for (let t = 0; t < triangles.length; t += 3) {
    const a = 3 * triangles[t],
      b = 3 * triangles[t + 1],
      c = 3 * triangles[t + 2];
    const ux = points[b] - points[a],
      uy = points[b + 1] - points[a + 1],
      uz = points[b + 2] - points[a + 2];
    const vx = points[c] - points[a],
      vy = points[c + 1] - points[a + 1],
      vz = points[c + 2] - points[a + 2];
    const x = uy * vz - uz * vy,
      y = uz * vx - ux * vz,
      z = ux * vy - uy * vx;
    normals[a] += x;
    normals[a + 1] += y;
    normals[a + 2] += z;
    normals[b] += x;
    normals[b + 1] += y;
    normals[b + 2] += z;
    normals[c] += x;
    normals[c + 1] += y;
    normals[c + 2] += z;
  }
  // The shader makes them unit length.
}
