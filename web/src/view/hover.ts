// Under the pointer: in the lens of batches the whole batch, and what it costs; of a part that is watched its triangle.
import { useEffect } from "react";
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

/** Keeps the batch under the pointer in the state of the view while the lens shows batches. */
export function useHover(gl: WebGLRenderer, camera: Camera, batches: Batches, on: boolean) {
  useEffect(() => {
    const { set } = useView.getState();
    if (!on) return;
    const element = gl.domElement;
    let last = 0;
    const move = (e: PointerEvent) => {
      if (e.buttons || e.timeStamp - last < EVERY) return;
      last = e.timeStamp;
      const hit = nearest(camera, batches, onScreen(gl, e));
      const batch =
        hit?.instanceId === undefined
          ? null
          : batchOf(batches, (hit.object.userData.first as number) + hit.instanceId, hit.faceIndex ?? 0);
      if (batch?.text !== useView.getState().batch?.text) set({ batch });
    };
    const leave = () => set({ batch: null });
    element.addEventListener("pointermove", move);
    element.addEventListener("pointerleave", leave);
    return () => {
      element.removeEventListener("pointermove", move);
      element.removeEventListener("pointerleave", leave);
      set({ batch: null });
    };
  }, [gl, camera, batches, on]);
}

/** Keeps the triangle under the pointer in the state of the view, of the one part that somebody watches. */
export function useSpot(gl: WebGLRenderer, camera: Camera, batches: Batches) {
  const on = useView((s) => s.watched) !== null;
  useEffect(() => {
    if (!on) return;
    const { set } = useView.getState();
    const element = gl.domElement;
    let last = 0;
    const move = (e: PointerEvent) => {
      if (e.buttons || e.timeStamp - last < EVERY) return;
      last = e.timeStamp;
      const hit = nearest(camera, batches, onScreen(gl, e));
      const first = hit?.object.userData.first as number | undefined;
      const source = first === undefined ? -1 : (batches.file.sources[first + (hit?.instanceId ?? 0)] ?? -1);
      const spot =
        source === useView.getState().watched && hit ? { source, triangle: hit.faceIndex ?? 0 } : null;
      const old = useView.getState().spot;
      if (old?.triangle !== spot?.triangle || old?.source !== spot?.source) set({ spot });
    };
    const leave = () => set({ spot: null });
    element.addEventListener("pointermove", move);
    element.addEventListener("pointerleave", leave);
    return () => {
      element.removeEventListener("pointermove", move);
      element.removeEventListener("pointerleave", leave);
      set({ spot: null });
    };
  }, [gl, camera, batches, on]);
}
