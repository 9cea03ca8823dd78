// The scene in 3D: one scene, or two with one camera and a wipe between them.
import { Canvas, useFrame, useThree } from "@react-three/fiber";
import { useEffect, useMemo, useRef, useState } from "react";
import { Box3, type Camera, PerspectiveCamera, Vector3, type WebGLRenderer } from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { raw } from "../api/client";
import { useView } from "../haul/selection";
import { tell } from "../shared/messages";
import { useTheme } from "../shared/theme";
import { type Batches, buildBatches, setStates } from "./batches";
import { partBoxes, useBox } from "./box";
import { useHover, useSpot } from "./hover";
import { lensNumber, lensOf } from "./lenses";
import { addLines, addPlaces } from "./lines";
import type { ViewFile } from "./load";
import { applyLens, type Shared } from "./material";
import { nearest, onScreen } from "./picking";
import { metresPerPixel, useFigure, usePoint } from "./scale";
import { useViewFile } from "./useViewFile";

export type Figures = { calls: number; triangles: number; batches: number };
type Side = { id: string; label: string; images: string | null };
type Props = {
  left: Side;
  right: Side | null;
  onPick: (source: number, add: boolean) => void;
  onFigures: (figures: Figures) => void;
  onScale: (metresPerPixel: number) => void;
};

/** Says why an image is not there; what it belongs to is drawn in its colour. */
const unseen = (address: string) =>
  void raw(address)
    .then(
      () => "its format is none that browsers show",
      (error: Error) => error.message,
    )
    .then((why) =>
      tell("error", `An image cannot be shown, and what it belongs to is drawn in its colour: ${why}`),
    );

export function SceneView(props: Props) {
  const left = useViewFile(props.left.id);
  const right = useViewFile(props.right?.id);
  const [lost, setLost] = useState(false);
  if (left.error || right.error)
    return (
      <p role="alert" className="grid size-full place-items-center p-6 text-center text-error">
        <span>
          The view cannot be shown: {(left.error ?? right.error)?.message}
          <br />
          <button
            type="button"
            className="btn btn-sm mt-3"
            disabled={left.isFetching || right.isFetching}
            onClick={() => {
              for (const side of [left, right]) if (side.error) side.refetch();
            }}
          >
            Try again
          </button>
        </span>
      </p>
    );
  if (!left.data || (props.right && !right.data))
    return (
      <p role="status" className="grid size-full place-items-center opacity-80">
        Loading the view …
      </p>
    );
  if (!left.data.nodes.length)
    return (
      <p className="grid size-full place-items-center opacity-80">There is nothing to draw in this scene.</p>
    );
  if (lost)
    return (
      <p role="alert" className="grid size-full place-items-center p-6 text-center">
        The graphics card stopped answering. Reload the page to get the view back; the figures are not
        affected.
      </p>
    );
  return (
    <Canvas
      frameloop="demand"
      // no more points than the screen has, also where the page is made small
      dpr={[0.5, 1.5]}
      gl={{ antialias: true, preserveDrawingBuffer: true, powerPreference: "high-performance" }}
      camera={{ fov: 40, near: 0.1, far: 5000 }}
      onCreated={({ gl }) =>
        gl.domElement.addEventListener("webglcontextlost", () => {
          // a canvas that was taken away loses its context on purpose
          if (gl.domElement.isConnected) setLost(true);
        })
      }
    >
      <Stage {...props} leftFile={left.data} rightFile={props.right ? (right.data ?? null) : null} />
    </Canvas>
  );
}

function Stage(props: Props & { leftFile: ViewFile; rightFile: ViewFile | null }) {
  const { leftFile, rightFile, left, right, onPick, onFigures, onScale } = props;
  const { gl, camera, size, invalidate } = useThree();
  const { selected, marked, lens, wipe, focus, places, batch } = useView();
  const dusk = useTheme((s) => s.theme === "dusk");
  const shared = useRef<Shared>({
    lens: { value: 0 },
    dusk: { value: false },
    eye: { value: new Vector3() },
  }).current;
  const figures = useRef("");
  const shownScale = useRef(1);

  // in a pair both sides stand where they are in metres, so a shifted scene shows as shifted
  const origin = leftFile.centre;
  const a = useMemo(
    () => buildBatches(leftFile, shared, origin, left.images, invalidate, unseen),
    [left.images, leftFile, shared, origin, invalidate],
  );
  const rightImages = right?.images ?? null;
  const b = useMemo(
    () => (rightFile ? buildBatches(rightFile, shared, origin, rightImages, invalidate, unseen) : null),
    [rightImages, rightFile, shared, origin, invalidate],
  );
  useEffect(() => () => a.dispose(), [a]);
  useEffect(() => () => b?.dispose(), [b]);

  const controls = useMemo(() => new OrbitControls(camera, gl.domElement), [camera, gl]);
  useEffect(() => {
    controls.enableDamping = false;
    controls.addEventListener("change", () => invalidate());
    return () => controls.dispose();
  }, [controls, invalidate]);

  useEffect(() => {
    const span = new Vector3(...leftFile.high).sub(new Vector3(...leftFile.low));
    const radius = Math.max(span.length() / 2, SMALLEST);
    fill(camera, controls, leftFile, FIRST_LOOK, radius);
    invalidate();
  }, [leftFile, camera, controls, invalidate]);

  useEffect(() => {
    if (!focus) return;
    const target = new Vector3(...focus.centre).sub(new Vector3(...origin));
    const direction = camera.position.clone().sub(controls.target).normalize();
    placeCamera(camera, controls, target, Math.max(focus.size * 1.7, SMALLEST), direction);
    invalidate();
  }, [focus, origin, camera, controls, invalidate]);

  useEffect(() => {
    shared.lens.value = lensNumber(lens);
    shared.dusk.value = dusk;
    for (const side of [a, b]) {
      if (!side) continue;
      for (const material of side.materials) applyLens(material, lens);
      setStates(side, selected, batch?.sources ?? marked);
    }
    invalidate();
  }, [a, b, lens, dusk, selected, marked, batch, shared, invalidate]);

  const lineCalls = useRef(0);
  const lines = lensOf(lens)?.lines;
  useEffect(() => {
    if (!lines) return;
    const sides = [a, b].filter((side) => side !== null);
    const made = sides.map((side) => addLines(side, lines, shared));
    lineCalls.current = made.reduce((sum, one) => sum + one.calls, 0);
    invalidate();
    return () => {
      lineCalls.current = 0;
      for (const one of made) one.remove();
    };
  }, [a, b, lines, shared, invalidate]);

  const placeCalls = useRef(0);
  useEffect(() => {
    if (!places) return;
    const sides = [a, b].filter((side) => side !== null);
    const made = sides.map((side) => addPlaces(side, places, origin, shared));
    placeCalls.current = made.reduce((sum, one) => sum + one.calls, 0);
    invalidate();
    return () => {
      placeCalls.current = 0;
      for (const one of made) one.remove();
      invalidate();
    };
  }, [a, b, places, origin, shared, invalidate]);

  useEffect(() => {
    void wipe;
    invalidate();
  }, [wipe, invalidate]);

  usePicking(gl, camera, a, onPick);
  useHover(gl, camera, a, lens === "batches" && !b);
  useSpot(gl, camera, a);
  useBox(gl, camera, controls, a, invalidate);
  usePoint(gl, camera, a);
  useFigure(gl, camera, a, invalidate);

  useFrame(() => {
    const eye = camera.position;
    shared.eye.value = eye;
    gl.setClearColor(dusk ? "#2a3238" : "#f4f0e8");
    gl.info.autoReset = false;
    gl.info.reset();
    if (!b) {
      gl.setScissorTest(false);
      gl.render(a.scene, camera);
    } else {
      const cut = Math.round(size.width * wipe);
      gl.setScissorTest(true);
      gl.setScissor(0, 0, cut, size.height);
      gl.render(a.scene, camera);
      gl.setScissor(cut, 0, size.width - cut, size.height);
      gl.render(b.scene, camera);
      gl.setScissorTest(false);
    }
    const scale = metresPerPixel(camera, controls.target, size.height);
    if (Math.abs(scale / shownScale.current - 1) > 0.002) {
      shownScale.current = scale;
      onScale(scale);
    }
    // lines of a lens are no draw calls of the scene
    const now = {
      calls: gl.info.render.calls - lineCalls.current - placeCalls.current,
      triangles: gl.info.render.triangles,
      batches: a.batchCount,
    };
    // for whoever has to know when the view stands still
    gl.domElement.dataset.frames = String(gl.info.render.frame);
    const key = JSON.stringify(now);
    if (key !== figures.current) {
      figures.current = key;
      onFigures(now);
    }
  }, 1);
  return null;
}

function placeCamera(
  camera: Camera,
  controls: OrbitControls,
  target: Vector3,
  radius: number,
  direction: Vector3,
) {
  if (!(camera instanceof PerspectiveCamera)) return;
  const up = (camera.fov * Math.PI) / 360;
  const across = Math.atan(Math.tan(up) * camera.aspect);
  const distance = (0.88 * radius) / Math.sin(Math.min(up, across));
  camera.near = distance / 1000;
  camera.far = distance * 100 + radius * 100;
  camera.position.copy(target).addScaledVector(direction.clone().normalize(), distance);
  camera.updateProjectionMatrix();
  controls.target.copy(target);
  controls.update();
}

/** Metres that the view shows at least: a bead fills it, and a point is no size at all. */
const SMALLEST = 1e-4;
const FIRST_LOOK = new Vector3(-0.55, 0.5, 0.8);
const MARGIN = 0.94;
/** Scenes of more parts are framed by the ball around them. */
const MOST_FRAMED = 30_000;

/** Looks at a file from `direction` so that its parts fill the view, by the corners of their boxes; but for those far away from
 * what the file says is to be looked at. */
function fill(camera: Camera, controls: OrbitControls, file: ViewFile, direction: Vector3, radius: number) {
  placeCamera(camera, controls, new Vector3(0, 0, 0), radius, direction);
  if (!(camera instanceof PerspectiveCamera) || file.sources.length > MOST_FRAMED) return;
  const whole = new Box3(new Vector3(...file.low), new Vector3(...file.high)).expandByScalar(radius);
  const boxes = partBoxes(file).filter((box) => box.intersectsBox(whole));
  const ahead = direction.clone().normalize();
  const right = new Vector3(0, 1, 0).cross(ahead).normalize();
  const upright = ahead.clone().cross(right);
  const high = Math.tan((camera.fov * Math.PI) / 360) * MARGIN;
  const wide = high * camera.aspect;
  const points: [number, number, number][] = [];
  for (const { min, max } of boxes)
    for (const x of [min.x, max.x])
      for (const y of [min.y, max.y])
        for (const z of [min.z, max.z]) {
          const corner = new Vector3(x, y, z);
          points.push([corner.dot(right), corner.dot(upright), corner.dot(ahead)]);
        }
  let [sx, sy, distance] = [0, 0, 0];
  for (let round = 0; round < 6; round++) {
    distance = radius * 0.01;
    for (const [x, y, z] of points)
      distance = Math.max(distance, Math.abs(x - sx) / wide + z, Math.abs(y - sy) / high + z);
    const range = [Infinity, -Infinity, Infinity, -Infinity] as [number, number, number, number];
    for (const [x, y, z] of points) {
      const [u, v] = [(x - sx) / (distance - z), (y - sy) / (distance - z)];
      range[0] = Math.min(range[0], u);
      range[1] = Math.max(range[1], u);
      range[2] = Math.min(range[2], v);
      range[3] = Math.max(range[3], v);
    }
    sx += ((range[0] + range[1]) / 2) * distance;
    sy += ((range[2] + range[3]) / 2) * distance;
  }
  const target = right.multiplyScalar(sx).addScaledVector(upright, sy);
  camera.position.copy(target).addScaledVector(ahead, distance);
  controls.target.copy(target);
  controls.update();
}

/** A click without a drag selects the part under it. */
function usePicking(gl: WebGLRenderer, camera: Camera, batches: Batches, onPick: Props["onPick"]) {
  useEffect(() => {
    const element = gl.domElement;
    let down: [number, number] | null = null;
    const press = (e: PointerEvent) => {
      down = [e.clientX, e.clientY];
    };
    const release = (e: PointerEvent) => {
      if (useView.getState().drawing || useView.getState().placing || useView.getState().picking) return;
      if (!down || Math.hypot(e.clientX - down[0], e.clientY - down[1]) > 4 || e.button !== 0) return;
      const hit = nearest(camera, batches, onScreen(gl, e));
      if (hit?.instanceId === undefined) {
        onPick(-1, false);
        return;
      }
      const first = hit.object.userData.first as number;
      onPick(batches.file.sources[first + hit.instanceId] ?? -1, e.shiftKey || e.ctrlKey);
    };
    element.addEventListener("pointerdown", press);
    element.addEventListener("pointerup", release);
    return () => {
      element.removeEventListener("pointerdown", press);
      element.removeEventListener("pointerup", release);
    };
  }, [gl, camera, batches, onPick]);
}
