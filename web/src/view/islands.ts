// Islands of a part's lightmap: which triangles hang together in the second UV set, and the lines around each, on the map and
// in the world.
import { Matrix4, Vector3 } from "three";
import type { ViewFile, ViewMesh } from "./load";

/** Triangles of a mesh up to which its islands are drawn; beyond, the page would stand still. */
export const MOST_TRIANGLES = 300_000;

export type Islands = {
  mesh: ViewMesh;
  /** Number of the part among the instances of the file. */
  instance: number;
  /** By triangle, the island that it is on. */
  of: Int32Array;
  count: number;
  /** By island, pairs of vertices of its outline, from the mesh's first on. */
  outlines: number[][];
};

/** Where a part stands in a file: its mesh and its number among all instances; null when it is not drawn. */
export function placeOf(file: ViewFile, source: number): { mesh: ViewMesh; instance: number } | null {
  const instance = file.sources.indexOf(source);
  const mesh = file.meshes.find(
    (m) => instance >= m.firstInstance && instance < m.firstInstance + m.instances,
  );
  return instance >= 0 && mesh ? { mesh, instance } : null;
}

/** The islands of a part. Vertices are one where place and coordinates are; normals may split them. */
export function islandsOf(file: ViewFile, source: number): Islands | null {
  const found = placeOf(file, source);
  if (!found || found.mesh.uvSets < 2 || found.mesh.indices > 3 * MOST_TRIANGLES) return null;
  const { mesh, instance } = found;
  const one = joined(file, mesh);
  const index = file.indices.subarray(mesh.firstIndex, mesh.firstIndex + mesh.indices);
  const parent = Int32Array.from({ length: mesh.vertices }, (_, i) => i);
  const root = (i: number) => {
    let at = i;
    while (parent[at] !== at) {
      parent[at] = parent[parent[at] as number] as number;
      at = parent[at] as number;
    }
    return at;
  };
  const corner = (k: number) => one[index[k] as number] as number;
  for (let t = 0; t < index.length; t += 3) {
    const a = root(corner(t));
    parent[root(corner(t + 1))] = a;
    parent[root(corner(t + 2))] = a;
  }
  const number = new Map<number, number>();
  const of = new Int32Array(index.length / 3);
  const edges = new Map<number, number>();
  for (let t = 0; t < of.length; t++) {
    const at = root(corner(3 * t));
    if (!number.has(at)) number.set(at, number.size);
    of[t] = number.get(at) as number;
    for (let k = 0; k < 3; k++) {
      const [p, q] = [corner(3 * t + k), corner(3 * t + ((k + 1) % 3))];
      const key = Math.min(p, q) * mesh.vertices + Math.max(p, q);
      edges.set(key, edges.has(key) ? -1 : t);
    }
  }
  const outlines: number[][] = Array.from({ length: number.size }, () => []);
  for (const [key, t] of edges)
    if (t >= 0) outlines[of[t] as number]?.push(Math.floor(key / mesh.vertices), key % mesh.vertices);
  return { mesh, instance, of, count: number.size, outlines };
}

/** By vertex, the first one at the same place of surface and map. */
function joined(file: ViewFile, mesh: ViewMesh): Int32Array {
  const first = new Map<string, number>();
  return Int32Array.from({ length: mesh.vertices }, (_, i) => {
    const v = mesh.firstVertex + i;
    const key = `${file.positions[3 * v]} ${file.positions[3 * v + 1]} ${file.positions[3 * v + 2]} ${file.uv1[2 * v]} ${file.uv1[2 * v + 1]}`;
    const known = first.get(key);
    if (known !== undefined) return known;
    first.set(key, i);
    return i;
  });
}

/** The island under a place of the map (0 to 1), -1 for none. O(triangles). */
export function islandAt(file: ViewFile, islands: Islands, u: number, v: number): number {
  const { mesh } = islands;
  const at = (k: number) => {
    const vertex = mesh.firstVertex + (file.indices[mesh.firstIndex + k] ?? 0);
    return [(file.uv1[2 * vertex] ?? 0) - u, (file.uv1[2 * vertex + 1] ?? 0) - v] as const;
  };
  for (let t = 0; t < islands.of.length; t++) {
    const [a, b, c] = [at(3 * t), at(3 * t + 1), at(3 * t + 2)];
    const [x, y, z] = [a[0] * b[1] - a[1] * b[0], b[0] * c[1] - b[1] * c[0], c[0] * a[1] - c[1] * a[0]];
    if ((x >= 0 && y >= 0 && z >= 0) || (x <= 0 && y <= 0 && z <= 0)) return islands.of[t] ?? -1;
  }
  return -1;
}

/** The lines around an island where the part stands, both ends in metres. */
export function linesAround(file: ViewFile, islands: Islands, island: number): number[][] {
  const ends = islands.outlines[island] ?? [];
  const matrix = new Matrix4().fromArray(file.instances, islands.instance * 16);
  const place = (vertex: number) => {
    const v = 3 * (islands.mesh.firstVertex + vertex);
    return new Vector3(file.positions[v], file.positions[v + 1], file.positions[v + 2])
      .applyMatrix4(matrix)
      .add(new Vector3(...file.centre))
      .toArray();
  };
  const lines: number[][] = [];
  for (let k = 0; k + 1 < ends.length; k += 2)
    lines.push([...place(ends[k] as number), ...place(ends[k + 1] as number)]);
  return lines;
}
