// A box drawn in the view: a drag over parts puts it around them; it is shown as edges until it is taken away.
import { useEffect } from "react";
import { Box3, Box3Helper, type Camera, Color, Matrix4, Vector3, type WebGLRenderer } from "three";
import type { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { useView } from "../haul/selection";
import { useTheme } from "../shared/theme";
import type { Batches } from "./batches";
import type { ViewFile } from "./load";

const LEAST_DRAG = 6;

/** Boxes of all parts around the file's centre, in the order of its instances. */
export function partBoxes(file: ViewFile): Box3[] {
  const out: Box3[] = [];
  const matrix = new Matrix4();
  for (const mesh of file.meshes) {
    const local = new Box3();
    const at = new Vector3();
    for (let v = mesh.firstVertex; v < mesh.firstVertex + mesh.vertices; v++)
      local.expandByPoint(at.fromArray(file.positions, v * 3));
    for (let k = 0; k < mesh.instances; k++) {
      matrix.fromArray(file.instances, (mesh.firstInstance + k) * 16);
      out[mesh.firstInstance + k] = local.clone().applyMatrix4(matrix);
    }
  }
  return out;
}

/** The box around all parts whose middle lies inside a rectangle of the picture, in normal device numbers. */
function around(file: ViewFile, camera: Camera, low: [number, number], high: [number, number]): Box3 | null {
  const out = new Box3();
  const at = new Vector3();
  for (const box of partBoxes(file)) {
    box.getCenter(at).project(camera);
    if (at.z < 1 && at.x >= low[0] && at.x <= high[0] && at.y >= low[1] && at.y <= high[1]) out.union(box);
  }
  return out.isEmpty() ? null : out;
}

export function useBox(
  gl: WebGLRenderer,
  camera: Camera,
  controls: OrbitControls,
  batches: Batches,
  invalidate: () => void,
) {
  const { box, drawing, set } = useView();
  const dusk = useTheme((s) => s.theme === "dusk");
  const [cx, cy, cz] = batches.file.centre;

  useEffect(() => {
    if (!box) return;
    const centre = new Vector3(cx, cy, cz);
    const shape = new Box3(new Vector3(...box.min).sub(centre), new Vector3(...box.max).sub(centre));
    const helper = new Box3Helper(shape, new Color(dusk ? "#f2b33d" : "#8a5a00"));
    batches.scene.add(helper);
    helper.updateMatrixWorld(true); // the scene's own matrices stand still
    invalidate();
    return () => {
      batches.scene.remove(helper);
      helper.dispose();
      invalidate();
    };
  }, [box, batches, cx, cy, cz, dusk, invalidate]);

  useEffect(() => {
    controls.enabled = !drawing;
    if (!drawing) return;
    const element = gl.domElement;
    const frame = document.createElement("div");
    frame.style.cssText =
      "position:fixed;pointer-events:none;border:2px dashed var(--color-secondary);z-index:30;display:none";
    document.body.append(frame);
    element.style.cursor = "crosshair";
    let from: [number, number] | null = null;
    const press = (e: PointerEvent) => {
      from = [e.clientX, e.clientY];
      element.setPointerCapture(e.pointerId);
    };
    const move = (e: PointerEvent) => {
      if (!from) return;
      frame.style.display = "block";
      frame.style.left = `${Math.min(from[0], e.clientX)}px`;
      frame.style.top = `${Math.min(from[1], e.clientY)}px`;
      frame.style.width = `${Math.abs(from[0] - e.clientX)}px`;
      frame.style.height = `${Math.abs(from[1] - e.clientY)}px`;
    };
    const release = (e: PointerEvent) => {
      frame.style.display = "none";
      if (!from) return;
      const r = element.getBoundingClientRect();
      const flat = (x: number, y: number): [number, number] => [
        ((x - r.left) / r.width) * 2 - 1,
        1 - ((y - r.top) / r.height) * 2,
      ];
      const [a, b] = [flat(...from), flat(e.clientX, e.clientY)];
      const far = Math.hypot(e.clientX - from[0], e.clientY - from[1]);
      from = null;
      if (far < LEAST_DRAG) return;
      const found = around(
        batches.file,
        camera,
        [Math.min(a[0], b[0]), Math.min(a[1], b[1])],
        [Math.max(a[0], b[0]), Math.max(a[1], b[1])],
      );
      const cut = (v: Vector3): [number, number, number] => [
        Math.round((v.x + cx) * 1000) / 1000,
        Math.round((v.y + cy) * 1000) / 1000,
        Math.round((v.z + cz) * 1000) / 1000,
      ];
      set({ drawing: false, box: found ? { min: cut(found.min), max: cut(found.max) } : null });
    };
    const give = (e: KeyboardEvent) => {
      if (e.key === "Escape") set({ drawing: false });
    };
    element.addEventListener("pointerdown", press);
    element.addEventListener("pointermove", move);
    element.addEventListener("pointerup", release);
    window.addEventListener("keydown", give);
    return () => {
      element.removeEventListener("pointerdown", press);
      element.removeEventListener("pointermove", move);
      element.removeEventListener("pointerup", release);
      window.removeEventListener("keydown", give);
      element.style.cursor = "";
      frame.remove();
      controls.enabled = true;
    };
  }, [drawing, batches, camera, controls, gl, set, cx, cy, cz]);
}
