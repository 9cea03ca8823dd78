// Under the pointer: in the lens of batches the whole batch, and what it costs; of a part that is watched its triangle.
import { useCallback, useEffect } from "react";
import type { Camera, WebGLRenderer } from "three";
import { useView } from "../haul/selection";
import { count, plural } from "../shared/format";
import type { Batches } from "./batches";
import { nearest, onScreen } from "./picking";

/** What is drawn together, as numbers in the source, and its price in words. */
export type Batch = { sources: ReadonlySet<number>; text: string };

/** Milliseconds between looks at what is under the pointer. */
const EVERY = 80;

/** The batch of an instance: all parts of its mesh, and what drawing them takes with and without instancing. */
export function batchOf(batches: Batches, instance: number, triangle: number): Batch | null {
  const mesh = batches.file.meshes.find(
    (m) => instance >= m.firstInstance && instance < m.firstInstance + m.instances,
  );
  if (!mesh) return null;
  const corner = triangle * 3;
  const group = mesh.groups.find((g) => corner >= g.start && corner < g.start + g.count) ?? mesh.groups[0];
  const triangles = ((group?.count ?? mesh.indices) / 3) * mesh.instances;
  const sources = batches.file.sources.subarray(mesh.firstInstance, mesh.firstInstance + mesh.instances);
  const calls =
    mesh.instances === 1
      ? "one draw call"
      : `one draw call with instancing, ${count(mesh.instances)} without`;
  return {
    sources: new Set(sources),
    text: `this batch: ${plural(mesh.instances, "part")}, ${calls}, ${count(triangles)} triangles; ${plural(mesh.groups.length, "material")} on the mesh`,
  };
}

type Hit = ReturnType<typeof nearest>;

/** Tells what is under the pointer now and then while `on`, and nothing once it has left. */
function usePointer(
  gl: WebGLRenderer,
  camera: Camera,
  batches: Batches,
  on: boolean,
  tell: (hit: Hit) => void,
) {
  useEffect(() => {
    if (!on) return;
    const element = gl.domElement;
    let last = 0;
    const move = (e: PointerEvent) => {
      if (e.buttons || e.timeStamp - last < EVERY) return;
      last = e.timeStamp;
      tell(nearest(camera, batches, onScreen(gl, e)));
    };
    const leave = () => tell(undefined);
    element.addEventListener("pointermove", move);
    element.addEventListener("pointerleave", leave);
    return () => {
      element.removeEventListener("pointermove", move);
      element.removeEventListener("pointerleave", leave);
      leave();
    };
  }, [gl, camera, batches, on, tell]);
}

/** The number of what was hit among the instances of the file. */
const instanceOf = (hit: Hit) =>
  hit?.instanceId === undefined ? -1 : (hit.object.userData.first as number) + hit.instanceId;

/** Keeps the batch under the pointer in the state of the view while the lens shows batches. */
export function useHover(gl: WebGLRenderer, camera: Camera, batches: Batches, on: boolean) {
  const tell = useCallback(
    (hit: Hit) => {
      const at = instanceOf(hit);
      const batch = at < 0 ? null : batchOf(batches, at, hit?.faceIndex ?? 0);
      const { batch: old, set } = useView.getState();
      if (batch?.text !== old?.text) set({ batch });
    },
    [batches],
  );
  usePointer(gl, camera, batches, on, tell);
}

/** Keeps the triangle under the pointer in the state of the view, of the one part that somebody watches. */
export function useSpot(gl: WebGLRenderer, camera: Camera, batches: Batches) {
  const on = useView((s) => s.watched) !== null;
  const tell = useCallback(
    (hit: Hit) => {
      const source = batches.file.sources[instanceOf(hit)] ?? -1;
      const { spot: old, watched, set } = useView.getState();
      const spot = source === watched && hit ? { source, triangle: hit.faceIndex ?? 0 } : null;
      if (old?.triangle !== spot?.triangle || old?.source !== spot?.source) set({ spot });
    },
    [batches],
  );
  usePointer(gl, camera, batches, on, tell);
}
