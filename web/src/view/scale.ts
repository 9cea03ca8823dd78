// How long things are on the screen: a bar of a round length, and a figure of a person to set beside them.
import { useEffect } from "react";
import {
  type Camera,
  CapsuleGeometry,
  Group,
  Matrix4,
  Mesh,
  MeshBasicMaterial,
  PerspectiveCamera,
  SphereGeometry,
  Vector3,
  type WebGLRenderer,
} from "three";
import { useView } from "../haul/selection";
import { useTheme } from "../shared/theme";
import type { Batches } from "./batches";
import { nearest, onScreen } from "./picking";

export const PERSON_METRES = 1.75;
const LONGEST_BAR = 120;

/** Metres that one pixel of the screen shows at the point that the camera turns about. */
export function metresPerPixel(camera: Camera, target: Vector3, height: number): number {
  if (!(camera instanceof PerspectiveCamera) || height <= 0) return 0;
  return (2 * camera.position.distanceTo(target) * Math.tan((camera.fov * Math.PI) / 360)) / height;
}

/** The longest bar of 1, 2 or 5 times a power of ten that fits: its pixels and its length in words. */
export function bar(metres: number): { pixels: number; label: string } | null {
  if (!(metres > 0) || !Number.isFinite(metres)) return null;
  const most = metres * LONGEST_BAR;
  const power = 10 ** Math.floor(Math.log10(most));
  const length = power * (most >= 5 * power ? 5 : most >= 2 * power ? 2 : 1);
  return { pixels: length / metres, label: inWords(length) };
}

function inWords(length: number): string {
  const units: [number, string][] = [
    [1000, "km"],
    [1, "m"],
    [0.01, "cm"],
    [0.001, "mm"],
  ];
  const [size, unit] = units.find(([u]) => length >= u * 0.9999) ?? [0.000001, "µm"];
  return `${Number((length / size).toPrecision(3))} ${unit}`;
}

/** Where a click meets the scene, around the file's centre; null beside everything. */
export function hitAt(gl: WebGLRenderer, camera: Camera, batches: Batches, e: PointerEvent): Vector3 | null {
  return nearest(camera, batches, onScreen(gl, e))?.point ?? null;
}

const SNAP_PIXELS = 12;

/** The corner of the triangle under a click that is near it on the screen, or the place itself. */
function cornerAt(gl: WebGLRenderer, camera: Camera, batches: Batches, e: PointerEvent): Vector3 | null {
  const box = gl.domElement.getBoundingClientRect();
  const at = onScreen(gl, e);
  const hit = nearest(camera, batches, at);
  if (!hit?.face || hit.instanceId === undefined) return hit?.point ?? null;
  const place = new Matrix4();
  hit.object.getMatrixAt(hit.instanceId, place);
  const positions = hit.object.geometry.getAttribute("position");
  let best = hit.point;
  let nearestPixels = SNAP_PIXELS;
  for (const corner of [hit.face.a, hit.face.b, hit.face.c]) {
    const world = new Vector3().fromBufferAttribute(positions, corner).applyMatrix4(place);
    const seen = world.clone().project(camera);
    const pixels = Math.hypot(((seen.x - at.x) * box.width) / 2, ((seen.y - at.y) * box.height) / 2);
    if (pixels < nearestPixels) [best, nearestPixels] = [world, pixels];
  }
  return best;
}

/** While somebody wants a place, the next click gives it; Esc gives it up. */
export function usePoint(gl: WebGLRenderer, camera: Camera, batches: Batches) {
  const { picking, set } = useView();
  const [cx, cy, cz] = batches.file.centre;
  useEffect(() => {
    if (!picking) return;
    const element = gl.domElement;
    const give = (e: PointerEvent) => {
      if (e.button !== 0) return;
      e.stopImmediatePropagation();
      const hit = useView.getState().corners
        ? cornerAt(gl, camera, batches, e)
        : hitAt(gl, camera, batches, e);
      if (!hit) return;
      set({ picking: null });
      picking([hit.x + cx, hit.y + cy, hit.z + cz]);
    };
    const stop = (e: KeyboardEvent) => {
      if (e.key !== "Escape") return;
      // the key is for this alone: neither the selection nor the form that comes back is to go with it
      e.preventDefault();
      e.stopImmediatePropagation();
      set({ picking: null });
      picking(null);
    };
    element.addEventListener("pointerdown", give, { capture: true });
    window.addEventListener("keydown", stop, { capture: true });
    return () => {
      element.removeEventListener("pointerdown", give, { capture: true });
      window.removeEventListener("keydown", stop, { capture: true });
    };
  }, [picking, gl, camera, batches, cx, cy, cz, set]);
}

/** The figure stands where it was set down; while `placing`, the next click sets it down. */
export function useFigure(gl: WebGLRenderer, camera: Camera, batches: Batches, invalidate: () => void) {
  const { figure, placing, set } = useView();
  const dusk = useTheme((s) => s.theme === "dusk");
  const [cx, cy, cz] = batches.file.centre;

  useEffect(() => {
    if (!figure) return;
    const group = person(dusk ? "#f2b33d" : "#8a5a00");
    group.position.set(figure[0] - cx, figure[1] - cy, figure[2] - cz);
    batches.scene.add(group);
    group.updateMatrixWorld(true); // the scene's own matrices stand still
    invalidate();
    return () => {
      batches.scene.remove(group);
      for (const child of group.children) if (child instanceof Mesh) child.geometry.dispose();
      invalidate();
    };
  }, [figure, batches, cx, cy, cz, dusk, invalidate]);

  useEffect(() => {
    if (!placing) return;
    const element = gl.domElement;
    const put = (e: PointerEvent) => {
      if (e.button !== 0) return;
      e.stopImmediatePropagation();
      const hit = hitAt(gl, camera, batches, e);
      if (hit) set({ placing: false, figure: [hit.x + cx, hit.y + cy, hit.z + cz] });
    };
    const stop = (e: KeyboardEvent) => e.key === "Escape" && set({ placing: false });
    element.addEventListener("pointerdown", put, { capture: true });
    window.addEventListener("keydown", stop);
    return () => {
      element.removeEventListener("pointerdown", put, { capture: true });
      window.removeEventListener("keydown", stop);
    };
  }, [placing, gl, camera, batches, cx, cy, cz, set]);
}

/** A plain figure, 1.75 m tall, its feet at the origin. */
function person(color: string): Group {
  const material = new MeshBasicMaterial({ color });
  const out = new Group();
  const put = (geometry: CapsuleGeometry | SphereGeometry, x: number, y: number) => {
    const mesh = new Mesh(geometry, material);
    mesh.position.set(x, y, 0);
    out.add(mesh);
  };
  for (const side of [-1, 1]) {
    put(new CapsuleGeometry(0.075, 0.7, 4, 10), side * 0.09, 0.425);
    put(new CapsuleGeometry(0.05, 0.52, 4, 8), side * 0.24, 1.1);
  }
  put(new CapsuleGeometry(0.16, 0.36, 4, 12), 0, 1.13);
  put(new SphereGeometry(0.115, 16, 12), 0, PERSON_METRES - 0.115);
  return out;
}
