// Reads the view file of a scene (safetensors: 8-byte length, JSON header, raw arrays).
export type ViewMesh = {
  name: string;
  id: string;
  firstVertex: number;
  vertices: number;
  firstIndex: number;
  indices: number;
  firstInstance: number;
  instances: number;
  groups: { material: number; start: number; count: number }[];
  normals: boolean;
  uvSets: number;
};
export type ViewMaterial = {
  name: string;
  color: [number, number, number, number];
  emissive: [number, number, number];
  alpha: "OPAQUE" | "MASK" | "BLEND";
  doubleSided: boolean;
  image: number;
  metallic: number;
};
export type ViewFile = {
  centre: [number, number, number];
  low: [number, number, number];
  high: [number, number, number];
  meshes: ViewMesh[];
  materials: ViewMaterial[];
  positions: Float32Array;
  normals: Float32Array;
  uv0: Float32Array;
  uv1: Float32Array;
  indices: Uint32Array;
  instances: Float32Array;
  nodes: Int32Array;
  sources: Int32Array;
};

type Entry = { dtype: string; shape: number[]; data_offsets: [number, number] };

export function parseView(buffer: ArrayBuffer): ViewFile {
  const length = Number(new DataView(buffer).getBigUint64(0, true));
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 8, length))) as Record<
    string,
    Entry
  >;
  const base = 8 + length;
  const bytes = (name: string) => {
    const [from, to] = header[name]?.data_offsets ?? [0, 0];
    return buffer.slice(base + from, base + to);
  };
  const meta = JSON.parse(new TextDecoder().decode(bytes("meta.json")));
  return {
    ...meta,
    positions: new Float32Array(bytes("positions")),
    normals: new Float32Array(bytes("normals")),
    uv0: new Float32Array(bytes("uv0")),
    uv1: new Float32Array(bytes("uv1")),
    indices: new Uint32Array(bytes("indices")),
    instances: new Float32Array(bytes("instances")),
    nodes: new Int32Array(bytes("nodes")),
    sources: new Int32Array(bytes("sources")),
  };
}

/** The view of a scene, or of what a step would make of it: `scene|step as JSON`. */
export async function fetchView(id: string): Promise<ViewFile> {
  const [scene, ...rest] = id.split("|");
  const step = rest.join("|");
  const response = await fetch(
    step ? `/api/scenes/${scene}/preview?step=${encodeURIComponent(step)}` : `/api/scenes/${scene}/view`,
  );
  if (!response.ok) throw new Error(`The view could not be loaded (${response.status}).`);
  return parseView(await response.arrayBuffer());
}
