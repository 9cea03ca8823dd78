// What a ray meets in the scene: a tree of boxes per mesh, made when it is asked for first.
import {
  type BufferGeometry,
  type Camera,
  InstancedMesh,
  type Intersection,
  Mesh,
  Raycaster,
  Vector2,
  type WebGLRenderer,
} from "three";
import { acceleratedRaycast, MeshBVH } from "three-mesh-bvh";
import type { Batches } from "./batches";

// instances are asked through a plain mesh of the library's own, so this speeds them up as well
Mesh.prototype.raycast = acceleratedRaycast;

/** Triangles from which on a tree is quicker than looking at all of them. */
const FROM = 64;

const trees = new WeakSet<BufferGeometry>();

/** Where a pointer is on the canvas, from -1 to 1. */
export function onScreen(gl: WebGLRenderer, e: PointerEvent): Vector2 {
  const box = gl.domElement.getBoundingClientRect();
  return new Vector2(
    ((e.clientX - box.left) / box.width) * 2 - 1,
    1 - ((e.clientY - box.top) / box.height) * 2,
  );
}

/** The nearest hit on an instance, or nothing. `at` is the place on the screen from -1 to 1. */
export function nearest(
  camera: Camera,
  batches: Batches,
  at: Vector2,
): Intersection<InstancedMesh> | undefined {
  const ray = new Raycaster();
  ray.firstHitOnly = true;
  ray.setFromCamera(at, camera);
  const shapes: InstancedMesh[] = [];
  for (const one of batches.scene.children) {
    if (!(one instanceof InstancedMesh)) continue;
    shapes.push(one);
    const { geometry } = one;
    if (trees.has(geometry) || (geometry.index?.count ?? 0) < 3 * FROM) continue;
    trees.add(geometry);
    geometry.boundsTree = new MeshBVH(geometry, { indirect: true });
  }
  return ray.intersectObjects(shapes, false)[0] as Intersection<InstancedMesh> | undefined;
}
