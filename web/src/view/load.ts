// Reads the view file of a scene (safetensors: 8-byte length, JSON header, raw arrays).
import { api, bare, type Job, raw } from "../api/client";

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
  /** Width and height of each instance's lightmap in texels, 0 where none was chosen. */
  lightmaps: Float32Array;
  /** Of a bake: scale and offset of each instance's map, the page it is on, and the pages as pictures. */
  places: Float32Array | null;
  leaves: Float32Array | null;
  pages: { width: number; height: number; count: number; data: Uint8Array<ArrayBuffer> } | null;
};

/** Before the number of a job that baked the light of a scene: its view. */
export const BAKED = "baked:";

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
    lightmaps: new Float32Array(bytes("lightmaps")),
    places: header.places ? new Float32Array(bytes("places")) : null,
    leaves: header.leaves ? new Float32Array(bytes("leaves")) : null,
    pages: header.pages
      ? {
          count: header.pages.shape[0] ?? 1,
          height: header.pages.shape[1] ?? 1,
          width: header.pages.shape[2] ?? 1,
          data: new Uint8Array(bytes("pages")),
        }
      : null,
  };
}

/**
 * Where a preview can be fetched, once its job has ended. Raises the job's own sentence when it failed.
 * The job is cancelled when nobody waits for it any more: another one was asked for, or the page was left.
 */
async function previewOf(scene: string, step: string, signal: AbortSignal): Promise<string> {
  return `/api/jobs/${await ended(await api.preview(scene, JSON.parse(step)), signal)}/view`;
}

/** What is asked for now; both sides of a pair wait for one job. */
const stages = new Map<string, Promise<string>>();

/** Where one side of a step of a run can be fetched: `run|haul|number|before or after`. */
async function stageOf(id: string): Promise<string> {
  const [run, haul = "", number = "", side = ""] = id.split("|");
  const key = `${run} ${number}`;
  let asked = stages.get(key);
  if (!asked) {
    asked = api.stepViews(haul, Number(number)).then((job) => ended(job));
    stages.set(key, asked);
    const forget = () => stages.delete(key);
    asked.then(() => setTimeout(forget, 5000), forget);
  }
  return `/api/jobs/${await asked}/view?side=${side}`;
}

/** The id of a job once it has ended. Raises its own sentence when it failed; cancels it when nobody waits any more. */
export async function ended(begun: Job, signal?: AbortSignal): Promise<string> {
  let job = begun;
  const leave = () => void fetch(`/api/jobs/${job.id}/cancel`, { method: "POST", keepalive: true });
  window.addEventListener("pagehide", leave);
  try {
    while (job.state === "waiting" || job.state === "running") {
      if (signal?.aborted) {
        leave();
        signal.throwIfAborted();
      }
      await new Promise((done) => setTimeout(done, 150));
      job = await api.job(job.id);
    }
  } finally {
    window.removeEventListener("pagehide", leave);
  }
  if (job.state !== "done") throw new Error(job.problem?.title ?? "The preview was stopped.");
  return job.id;
}

/** Where a scene's view is: whole, at a level of detail (`scene@level`), or a source as the route reads it (`scene~reading`). */
function viewOf(id: string): string {
  const [scene, level] = id.split("@");
  const [whole, read] = id.split("~");
  return read
    ? `/api/scenes/${whole}/view?read=${read}`
    : `/api/scenes/${scene}/view${level ? `?level=${level}` : ""}`;
}

export const STAGE = "stage:";

/** The view of a scene, or of a run before or after one of its steps (`STAGE` and `run|haul|number|side`), or of what a step would make of it: `scene|step as JSON`. */
export async function fetchView(id: string, signal: AbortSignal): Promise<ViewFile> {
  const [scene, ...rest] = id.split("|");
  const step = rest.join("|");
  const address = id.startsWith(BAKED)
    ? `/api/jobs/${id.slice(BAKED.length)}/view`
    : id.startsWith(STAGE)
      ? await stageOf(id.slice(STAGE.length))
      : step
        ? await previewOf(bare(scene ?? ""), step, signal)
        : viewOf(scene ?? "");
  return parseView(await (await raw(address, signal)).arrayBuffer());
}
