// A scene as instanced meshes: one per shared mesh, one draw call per mesh and material.
import {
  BufferAttribute,
  BufferGeometry,
  DataArrayTexture,
  DynamicDrawUsage,
  InstancedBufferAttribute,
  InstancedMesh,
  LinearFilter,
  Matrix4,
  type Object3D,
  Scene,
  SRGBColorSpace,
  type Texture,
  TextureLoader,
  Vector3,
} from "three";
import type { ViewFile } from "./load";
import { type LensMaterial, lensMaterial, type Shared, signOf } from "./material";

export type Batches = {
  scene: Scene;
  file: ViewFile;
  materials: LensMaterial[];
  states: Map<InstancedMesh, InstancedBufferAttribute>;
  batchCount: number;
  offset: Vector3;
  dispose: () => void;
};

const loader = new TextureLoader();

const addressOf = (scene: string, index: number) => `/api/scenes/${scene}/images/${index}`;

function imageOf(
  scene: string,
  index: number,
  cache: Map<number, Texture>,
  changed: () => void,
  failed: () => void,
): Texture {
  let texture = cache.get(index);
  if (!texture) {
    texture = loader.load(addressOf(scene, index), changed, undefined, failed);
    texture.flipY = false;
    texture.colorSpace = SRGBColorSpace;
    texture.wrapS = texture.wrapT = 1000;
    texture.colorSpace = "";
    cache.set(index, texture);
  }
  return texture;
}

/** The light of a bake; between texels it is read as it will be in the engine. */
function pagesOf(pages: NonNullable<ViewFile["pages"]>): DataArrayTexture {
  const texture = new DataArrayTexture(pages.data, pages.width, pages.height, pages.count);
  texture.magFilter = LinearFilter;
  texture.minFilter = LinearFilter;
  texture.needsUpdate = true;
  return texture;
}

/** Builds everything once; `origin` is the world point that becomes 0, equal for both sides of a pair. */
export function buildBatches(
  file: ViewFile,
  shared: Shared,
  origin: [number, number, number],
  imagesFrom: string | null,
  changed: () => void,
  failed: (address: string) => void,
): Batches {
  const scene = new Scene();
  scene.matrixWorldAutoUpdate = false;
  const materials: LensMaterial[] = [];
  const states = new Map<InstancedMesh, InstancedBufferAttribute>();
  const textures = new Map<number, Texture>();
  const offset = new Vector3(...file.centre).sub(new Vector3(...origin));
  const move = new Matrix4().makeTranslation(offset);
  const matrix = new Matrix4();
  const pages = file.pages ? pagesOf(file.pages) : null;
  let batchCount = 0;
  // what has no image is drawn in its colour, and not black
  const without = (from: string, index: number) => {
    const map = textures.get(index);
    for (const { uniforms } of materials) if (uniforms.map?.value === map) uniforms.hasMap = { value: false };
    changed();
    failed(addressOf(from, index));
  };
  file.meshes.forEach((mesh, number) => {
    if (!mesh.indices) return;
    const geometry = new BufferGeometry();
    const cut = (array: Float32Array, width: number) =>
      new BufferAttribute(
        array.subarray(mesh.firstVertex * width, (mesh.firstVertex + mesh.vertices) * width),
        width,
      );
    geometry.setAttribute("position", cut(file.positions, 3));
    geometry.setAttribute("normal", cut(file.normals, 3));
    geometry.setAttribute("uv", cut(file.uv0, 2));
    geometry.setAttribute("uv1", cut(file.uv1, 2));
    geometry.setIndex(
      new BufferAttribute(file.indices.subarray(mesh.firstIndex, mesh.firstIndex + mesh.indices), 1),
    );
    const state = new InstancedBufferAttribute(new Float32Array(mesh.instances).fill(1), 1);
    state.setUsage(DynamicDrawUsage);
    geometry.setAttribute("state", state);
    const maps = file.lightmaps.subarray(2 * mesh.firstInstance, 2 * (mesh.firstInstance + mesh.instances));
    geometry.setAttribute("lightmap", new InstancedBufferAttribute(maps, 2));
    const places =
      file.places?.subarray(4 * mesh.firstInstance, 4 * (mesh.firstInstance + mesh.instances)) ??
      new Float32Array(4 * mesh.instances);
    geometry.setAttribute("place", new InstancedBufferAttribute(places, 4));
    const leaves =
      file.leaves?.subarray(mesh.firstInstance, mesh.firstInstance + mesh.instances) ??
      new Float32Array(mesh.instances);
    geometry.setAttribute("leaf", new InstancedBufferAttribute(leaves, 1));
    const own = mesh.groups.map((group, k) => {
      geometry.addGroup(group.start, group.count, k);
      const look = file.materials[group.material];
      const map =
        look && look.image >= 0 && imagesFrom && mesh.uvSets > 0
          ? imageOf(imagesFrom, look.image, textures, changed, () => without(imagesFrom, look.image))
          : null;
      const material = lensMaterial(
        look,
        map,
        pages,
        mesh.uvSets,
        shared,
        mesh.instances > 1 ? signOf(number) : null,
        signOf(batchCount + k),
      );
      materials.push(material);
      return material;
    });
    batchCount += mesh.groups.length;
    const instanced = new InstancedMesh(geometry, own, mesh.instances);
    for (let i = 0; i < mesh.instances; i++) {
      matrix.fromArray(file.instances, (mesh.firstInstance + i) * 16).premultiply(move);
      instanced.setMatrixAt(i, matrix);
    }
    instanced.frustumCulled = false;
    instanced.userData.first = mesh.firstInstance;
    instanced.matrixAutoUpdate = false;
    states.set(instanced, state);
    scene.add(instanced);
  });
  return {
    scene,
    file,
    materials,
    states,
    batchCount,
    offset,
    dispose: () => {
      scene.traverse((o: Object3D) => {
        if (o instanceof InstancedMesh) {
          o.geometry.dispose();
          o.dispose();
        }
      });
      for (const m of materials) m.dispose();
      for (const t of textures.values()) t.dispose();
      pages?.dispose();
    },
  };
}

/** 0 stands back, 1 plain, 2 marked by a finding, 3 selected. */
export function setStates(
  batches: Batches,
  chosen: ReadonlyMap<string, number>,
  marked: ReadonlySet<number> | null,
) {
  const { sources } = batches.file;
  const selected = new Set(chosen.values());
  for (const [mesh, attribute] of batches.states) {
    const array = attribute.array as Float32Array;
    const first = mesh.userData.first as number;
    for (let i = 0; i < array.length; i++) {
      const source = sources[first + i] ?? -1;
      array[i] = selected.has(source) ? 3 : marked ? (marked.has(source) ? 2 : 0) : 1;
    }
    attribute.needsUpdate = true;
  }
}
