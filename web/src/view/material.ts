// One shader for all lenses. Every coded colour has a second sign: a hatch, dots or stripes.
import { type DataArrayTexture, type DataTexture, GLSL3, ShaderMaterial, type Texture } from "three";
import { LENSES, type Lens, lensOf } from "./lenses";
import type { ViewMaterial } from "./load";

const VERTEX = /* glsl */ `
in vec2 uv1;
in float state;
in vec2 lightmap;
in vec4 place;
in float leaf;
out vec3 vNormal;
out vec3 vPosition;
out vec2 vUv0;
out vec2 vUv1;
flat out float vFlip;
flat out float vState;
flat out vec2 vMap;
out vec2 vPage;
flat out float vLeaf;
flat out float vBaked;
void main() {
  mat3 linear = mat3(instanceMatrix);
  float det = determinant(linear);
  mat3 cofactor = mat3(cross(linear[1], linear[2]), cross(linear[2], linear[0]), cross(linear[0], linear[1]));
  vNormal = cofactor * normal * sign(det);
  vec4 world = instanceMatrix * vec4(position, 1.0);
  vPosition = world.xyz;
  vUv0 = uv;
  vUv1 = uv1;
  vFlip = det < 0.0 ? -1.0 : 1.0;
  vState = state;
  vMap = lightmap;
  vPage = uv1 * place.xy + place.zw;
  vLeaf = leaf;
  vBaked = place.x;
  gl_Position = projectionMatrix * viewMatrix * world;
}`;

const FRAGMENT = /* glsl */ `
precision highp float;
precision highp int;
in vec3 vNormal;
in vec3 vPosition;
in vec2 vUv0;
in vec2 vUv1;
flat in float vFlip;
flat in float vState;
flat in vec2 vMap;
in vec2 vPage;
flat in float vLeaf;
flat in float vBaked;
uniform bool baked;
uniform highp sampler2DArray pages;
uniform int lens;
uniform vec4 color;
uniform vec3 emissive;
uniform vec3 tint;
uniform int pattern;
uniform bool hasMap;
uniform sampler2D map;
uniform int uvSets;
uniform bool dusk;
uniform vec3 eye;
out vec4 result;

vec3 toScreen(vec3 c) { return pow(clamp(c, 0.0, 1.0), vec3(1.0 / 2.2)); }

float sign2(int kind, vec2 p) {
  if (kind == 1) return step(0.62, fract((p.x + p.y) / 9.0));
  if (kind == 2) return step(0.62, fract((p.x - p.y) / 9.0));
  if (kind == 3) return 1.0 - step(0.28, length(fract(p / 8.0) - 0.5));
  if (kind == 4) return step(0.7, fract(p.x / 8.0));
  if (kind == 5) return step(0.7, fract(p.y / 8.0));
  return 0.0;
}

vec3 checker(vec2 uv, float cells, bool unit) {
  vec2 cell = floor(uv * cells);
  float odd = mod(cell.x + cell.y, 2.0);
  vec3 warm = vec3(0.93, 0.72, 0.30), cool = vec3(0.20, 0.46, 0.46);
  vec3 base = mix(cool, warm, odd);
  if (unit && (uv.x < -0.0001 || uv.y < -0.0001 || uv.x > 1.0001 || uv.y > 1.0001))
    base = mix(vec3(0.65, 0.15, 0.12), vec3(1.0), sign2(1, gl_FragCoord.xy));
  return base;
}

void main() {
  vec2 pixel = gl_FragCoord.xy;
  bool front = (gl_FrontFacing ? 1.0 : -1.0) * vFlip > 0.0;
  vec3 n = dot(vNormal, vNormal) > 0.25 ? normalize(vNormal) : normalize(cross(dFdx(vPosition), dFdy(vPosition)));
  vec3 toEye = normalize(eye - vPosition);
  if (dot(n, toEye) < 0.0) n = -n;
  // a soft sky above and a warmer ground below, so that forms read without any lamp
  float sky = 0.5 + 0.5 * n.y;
  float light = 0.40 + 0.14 * sky + 0.32 * max(dot(n, normalize(vec3(0.4, 0.85, 0.35))), 0.0) + 0.22 * max(dot(n, toEye), 0.0);
  vec3 ink = vec3(0.12, 0.16, 0.19);
  vec3 shown = vec3(0.0);
${LENSES.map((l, i) => `  ${i ? "else " : ""}if (lens == ${i}) {${l.shade}\n  }`).join("\n")}
  // what a lens shows stays to be seen on selected parts: there the mark is only a rim and a breath of its colour
  float rim = smoothstep(0.45, 0.85, 1.0 - abs(dot(n, toEye)));
  float cover = ${LENSES.map((l, i) => (l.covered ? `lens == ${i} ? 1.0 : ` : "")).join("")}0.0;
  if (vState > 2.5) shown = mix(shown, vec3(0.94, 0.66, 0.09), mix(0.12 + 0.75 * rim, 0.55 + 0.25 * sign2(2, pixel), cover));
  else if (vState > 1.5) shown = mix(shown, vec3(0.06, 0.45, 0.42), mix(0.12 + 0.75 * rim, 0.5 + 0.3 * sign2(1, pixel), cover));
  else if (vState < 0.5) shown = mix(shown, dusk ? vec3(0.15, 0.18, 0.2) : vec3(0.93, 0.91, 0.87), 0.72);
  result = vec4(shown, 1.0);
}`;

/** Six hues of even lightness; with the patterns thirty signs before any repeats. */
const HUES: [number, number, number][] = [
  [0.36, 0.62, 0.6],
  [0.85, 0.62, 0.28],
  [0.5, 0.55, 0.74],
  [0.74, 0.5, 0.46],
  [0.55, 0.66, 0.38],
  [0.7, 0.55, 0.7],
];
export const signOf = (n: number) => ({
  tint: HUES[n % HUES.length] as [number, number, number],
  pattern: Math.floor(n / HUES.length) % 6,
});

export type Shared = {
  lens: { value: number };
  dusk: { value: boolean };
  eye: { value: { x: number; y: number; z: number } };
};

export function lensMaterial(
  look: ViewMaterial | undefined,
  map: Texture | DataTexture | null,
  pages: DataArrayTexture | null,
  uvSets: number,
  shared: Shared,
  meshSign: ReturnType<typeof signOf> | null,
  batchSign: ReturnType<typeof signOf>,
): ShaderMaterial & { signs: [ReturnType<typeof signOf> | null, ReturnType<typeof signOf>] } {
  const material = new ShaderMaterial({
    glslVersion: GLSL3,
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    side: 2,
    uniforms: {
      lens: shared.lens,
      dusk: shared.dusk,
      eye: shared.eye,
      color: { value: look?.color ?? [0.7, 0.7, 0.7, 1] },
      emissive: { value: look?.emissive ?? [0, 0, 0] },
      tint: { value: [0.8, 0.8, 0.8] },
      pattern: { value: 0 },
      hasMap: { value: !!map },
      map: { value: map },
      uvSets: { value: uvSets },
      baked: { value: !!pages },
      pages: { value: pages },
    },
  });
  return Object.assign(material, { signs: [meshSign, batchSign] as [typeof meshSign, typeof batchSign] });
}

export type LensMaterial = ReturnType<typeof lensMaterial>;

export function applyLens(material: LensMaterial, lens: Lens) {
  const sign = lensOf(lens)?.sign === "mesh" ? material.signs[0] : material.signs[1];
  const u = material.uniforms as Record<string, { value: unknown }>;
  if (u.tint) u.tint.value = sign ? sign.tint : [0.86, 0.85, 0.82];
  if (u.pattern) u.pattern.value = sign ? sign.pattern : 0;
}
