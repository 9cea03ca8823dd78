// Lines that a lens draws over the parts: their pivots with axes, hard edges and open borders, or edges by length.
import {
  BufferAttribute,
  GLSL3,
  InstancedBufferAttribute,
  InstancedBufferGeometry,
  type InstancedMesh,
  LineSegments,
  ShaderMaterial,
} from "three";
import type { Batches } from "./batches";
import type { Shared } from "./material";

export type Lines = "pivots" | "edges" | "lengths";
/** Triangles of different meshes up to which edges are looked for; beyond, the page would stand still. */
const MOST_TRIANGLES = 400_000;

const VERTEX = /* glsl */ `
in float kind;
in float along;
in vec4 m0;
in vec4 m1;
in vec4 m2;
in vec4 m3;
uniform bool axes;
uniform bool lengths;
uniform vec3 eye;
flat out float vKind;
out float vAlong;
void main() {
  vec3 world;
  vKind = kind;
  if (axes) {
    vec3 column = kind < 0.5 ? m0.xyz : kind < 1.5 ? m1.xyz : m2.xyz;
    float far = length(eye - m3.xyz);
    world = m3.xyz + (length(column) > 0.0 ? normalize(column) : vec3(0.0)) * along * far * 0.02;
    vAlong = along;
  } else {
    mat4 whole = mat4(m0, m1, m2, m3);
    world = (whole * vec4(position, 1.0)).xyz;
    vAlong = along * 12.0;
    if (lengths) {
      // kind: how long the edge is in the mesh; the matrix makes it that long in the world
      float metres = kind * pow(abs(determinant(mat3(whole))), 1.0 / 3.0);
      vKind = metres > 2.0 ? 0.0 : metres > 0.5 ? 1.0 : metres > 0.1 ? 2.0 : 3.0;
    }
  }
  gl_Position = projectionMatrix * viewMatrix * vec4(world, 1.0);
  if (!axes) gl_Position.z -= 0.0004 * gl_Position.w;
}`;

// every colour has a second sign: X whole, Y in long dashes, Z in short ones; borders in dashes
const FRAGMENT = /* glsl */ `
precision highp float;
flat in float vKind;
in float vAlong;
uniform bool axes;
uniform bool lengths;
uniform bool dusk;
out vec4 result;
void main() {
  vec3 ink = dusk ? vec3(0.93, 0.91, 0.87) : vec3(0.12, 0.16, 0.19);
  vec3 shown = ink;
  if (axes) {
    shown = vKind < 0.5 ? vec3(0.72, 0.30, 0.08) : vKind < 1.5 ? vec3(0.05, 0.45, 0.42) : vec3(0.35, 0.30, 0.62);
    if (vKind > 0.5 && vKind < 1.5 && fract(vAlong * 3.0) > 0.6) discard;
    if (vKind > 1.5 && fract(vAlong * 8.0) > 0.5) discard;
  } else if (lengths) {
    if (vKind > 2.5) discard;
    if (vKind > 1.5) {
      shown = vec3(0.80, 0.45, 0.05);
      if (fract(vAlong * 2.0) > 0.4) discard;
    } else if (vKind > 0.5) {
      shown = vec3(0.05, 0.45, 0.42);
      if (fract(vAlong) > 0.7) discard;
    }
  } else if (vKind > 0.5) {
    shown = vec3(0.80, 0.45, 0.05);
    if (fract(vAlong) > 0.55) discard;
  }
  result = vec4(shown, 1.0);
}`;

const PLACE = /* glsl */ `
precision highp float;
in float vAlong;
uniform bool front;
uniform bool dusk;
out vec4 result;
void main() {
  if (!front && fract(vAlong) > 0.4) discard;
  result = vec4(dusk ? vec3(1.0, 0.72, 0.2) : vec3(0.78, 0.36, 0.0), 1.0);
}`;

function material(which: Lines, shared: Shared) {
  const axes = which === "pivots";
  return new ShaderMaterial({
    glslVersion: GLSL3,
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    uniforms: {
      axes: { value: axes },
      lengths: { value: which === "lengths" },
      dusk: shared.dusk,
      eye: shared.eye,
    },
    depthTest: !axes,
  });
}

/** Line segments drawn once for each matrix. */
function segments(
  position: Float32Array,
  kind: Float32Array,
  along: Float32Array,
  matrices: Float32Array,
  look: ShaderMaterial,
) {
  const geometry = new InstancedBufferGeometry();
  geometry.setAttribute("position", new BufferAttribute(position, 3));
  geometry.setAttribute("kind", new BufferAttribute(kind, 1));
  geometry.setAttribute("along", new BufferAttribute(along, 1));
  const count = matrices.length / 16;
  for (let column = 0; column < 4; column++) {
    const values = new Float32Array(count * 4);
    for (let i = 0; i < count; i++)
      values.set(matrices.subarray(i * 16 + column * 4, i * 16 + column * 4 + 4), i * 4);
    geometry.setAttribute(`m${column}`, new InstancedBufferAttribute(values, 4));
  }
  geometry.instanceCount = count;
  const out = new LineSegments(geometry, look);
  out.frustumCulled = false;
  out.matrixAutoUpdate = false;
  out.renderOrder = 1;
  return out;
}

const matricesOf = (mesh: InstancedMesh) => mesh.instanceMatrix.array as Float32Array;

function pivots(batches: Batches, look: ShaderMaterial) {
  const every = [...batches.states.keys()].map(matricesOf);
  const all = new Float32Array(every.reduce((sum, m) => sum + m.length, 0));
  let at = 0;
  for (const m of every) {
    all.set(m, at);
    at += m.length;
  }
  const kind = Float32Array.of(0, 0, 1, 1, 2, 2);
  return [segments(new Float32Array(18), kind, Float32Array.of(0, 1, 0, 1, 0, 1), all, look)];
}

/** Edges of a mesh where normals part, and those of one triangle only: ends, and 0 or 1 for each end; or all edges, and
 * how long each is. */
export function edgesOf(
  positions: ArrayLike<number>,
  normals: ArrayLike<number>,
  indices: ArrayLike<number>,
  all = false,
) {
  const places = new Map<string, number>();
  const place = new Int32Array(positions.length / 3);
  for (let i = 0; i < place.length; i++) {
    const key = `${positions[3 * i]},${positions[3 * i + 1]},${positions[3 * i + 2]}`;
    const found = places.get(key) ?? places.size;
    places.set(key, found);
    place[i] = found;
  }
  const seen = new Map<number, { a: number; b: number; times: number; hard: boolean }>();
  const apart = (i: number, j: number) => {
    let dot = 0;
    for (let k = 0; k < 3; k++) dot += (normals[3 * i + k] ?? 0) * (normals[3 * j + k] ?? 0);
    return dot < 0.999;
  };
  for (let f = 0; f < indices.length; f += 3)
    for (let k = 0; k < 3; k++) {
      let [a, b] = [indices[f + k] ?? 0, indices[f + ((k + 1) % 3)] ?? 0];
      if ((place[a] ?? 0) > (place[b] ?? 0)) [a, b] = [b, a];
      const key = (place[a] ?? 0) * places.size + (place[b] ?? 0);
      const before = seen.get(key);
      if (!before) seen.set(key, { a, b, times: 1, hard: false });
      else {
        before.times++;
        before.hard ||= apart(before.a, a) || apart(before.b, b);
      }
    }
  const ends: number[] = [];
  const kinds: number[] = [];
  for (const { a, b, times, hard } of seen.values()) {
    if (!all && times !== 1 && !hard) continue;
    for (const i of [a, b])
      ends.push(positions[3 * i] ?? 0, positions[3 * i + 1] ?? 0, positions[3 * i + 2] ?? 0);
    const [p, q] = [ends.slice(-6, -3), ends.slice(-3)];
    const kind = all ? Math.hypot(...p.map((x, k) => x - (q[k] ?? 0))) : times === 1 ? 1 : 0;
    kinds.push(kind, kind);
  }
  return { ends: new Float32Array(ends), kinds: new Float32Array(kinds) };
}

function edges(batches: Batches, look: ShaderMaterial, all: boolean) {
  const out: LineSegments[] = [];
  let left = MOST_TRIANGLES;
  for (const mesh of batches.states.keys()) {
    const { geometry } = mesh;
    const indices = geometry.getIndex()?.array;
    const [positions, normals] = [geometry.getAttribute("position"), geometry.getAttribute("normal")];
    if (!indices || !positions || !normals) continue;
    left -= indices.length / 3;
    if (left < 0) break;
    const { ends, kinds } = edgesOf(positions.array, normals.array, indices, all);
    if (!kinds.length) continue;
    const along = new Float32Array(kinds.length).map((_, i) => i % 2);
    out.push(segments(ends, kinds, along, matricesOf(mesh), look));
  }
  return out;
}

/** Lines of the places of a fault (x, y, z of both ends, metres) about `origin`: over everything, dashed where hidden. */
export function addPlaces(
  batches: Batches,
  lines: readonly number[][],
  origin: readonly number[],
  shared: Shared,
) {
  const position = new Float32Array(lines.length * 6);
  lines.forEach((ends, i) => {
    for (let k = 0; k < 6; k++) position[6 * i + k] = (ends[k] ?? 0) - (origin[k % 3] ?? 0);
  });
  const along = new Float32Array(lines.length * 2).map((_, i) => i % 2);
  const whole = Float32Array.of(1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1);
  const made = [true, false].map((front) => {
    const look = new ShaderMaterial({
      glslVersion: GLSL3,
      vertexShader: VERTEX,
      fragmentShader: PLACE,
      uniforms: {
        axes: { value: false },
        lengths: { value: false },
        dusk: shared.dusk,
        eye: shared.eye,
        front: { value: front },
      },
      depthTest: front,
    });
    const one = segments(position, new Float32Array(along.length), along, whole, look);
    one.renderOrder = front ? 3 : 2;
    batches.scene.add(one);
    return one;
  });
  return {
    calls: made.length,
    remove: () => {
      for (const one of made) {
        batches.scene.remove(one);
        one.geometry.dispose();
        (one.material as ShaderMaterial).dispose();
      }
    },
  };
}

/** Adds the lines to a scene; gives how many draw calls they are, and what takes them away again. */
export function addLines(batches: Batches, which: Lines, shared: Shared) {
  const look = material(which, shared);
  const made = which === "pivots" ? pivots(batches, look) : edges(batches, look, which === "lengths");
  for (const one of made) batches.scene.add(one);
  return {
    calls: made.length,
    remove: () => {
      for (const one of made) {
        batches.scene.remove(one);
        one.geometry.dispose();
      }
      look.dispose();
    },
  };
}
