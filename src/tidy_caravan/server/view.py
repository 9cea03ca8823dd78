"""What the 3D view loads: one binary file per scene with every mesh once and a matrix per instance."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidy_caravan.core.figures import view_map
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import HIDDEN, Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.space.site import near_parts
from tidy_caravan.server.store.scenes import to_bytes


def view_bytes(scene: Scene, light: tuple[dict[int, AnyArray], AnyArray] | None = None) -> bytes:
    """safetensors: instances (N, 16) column by column, nodes (N,), lightmaps (N, 2) in texels, and all meshes end to end.

    light: by node where its map lies (scale, offset and page, 5), and the pages as sRGB (P, H, W, 3): then also
    places (N, 4), leaves (N,) and pages (P, H, W, 4). Matrices bring vertices to metres, Y up, right-handed, around `centre`, so that float32 is enough;
    what stands far apart from the others counts for neither `centre` nor `low` and `high`, which are what to look at first.
    Each mesh's triangles are sorted by material: a run is one draw call for all its instances.
    """
    scene = at_rest(scene)
    nodes = scene.nodes
    linear = view_map(scene)
    shown = nodes.parts[(nodes.flags[nodes.parts] & HIDDEN) == 0]
    order = shown[np.argsort(nodes.mesh[shown], kind="stable")]
    world = nodes.world[order]
    world = np.concatenate([linear @ world[:, :3], world[:, 3:]], axis=1)
    boxes = scene.part_bounds[near_parts(scene)] @ linear.T
    low, high = (boxes.min(axis=(0, 1)), boxes.max(axis=(0, 1))) if len(boxes) else (np.zeros(3), np.zeros(3))
    centre = np.round((low + high) / 2, 3)
    world[:, :3, 3] -= centre
    used, first, counts = np.unique(nodes.mesh[order], return_index=True, return_counts=True)
    columns: dict[str, list[AnyArray]] = {k: [] for k in ("positions", "normals", "uv0", "uv1", "indices")}
    entries = []
    vertices = corners = 0
    for index, begin, count in zip(used.tolist(), first.tolist(), counts.tolist(), strict=True):
        mesh = scene.meshes[index]
        groups, indices = runs(mesh)
        entries.append(
            {
                "name": mesh.name,
                "id": mesh.id,
                "firstVertex": vertices,
                "vertices": mesh.vertices,
                "firstIndex": corners,
                "indices": len(indices),
                "firstInstance": begin,
                "instances": count,
                "groups": groups,
                "normals": mesh.normals is not None,
                "uvSets": len(mesh.uvs),
            }
        )
        vertices += mesh.vertices
        corners += len(indices)
        columns["positions"].append(mesh.positions)
        columns["normals"].append(mesh.normals if mesh.normals is not None else np.zeros_like(mesh.positions))
        for k in range(2):
            columns[f"uv{k}"].append(mesh.uvs[k] if len(mesh.uvs) > k else np.zeros((mesh.vertices, 2), np.float32))
        columns["indices"].append(indices)
    shapes = {"positions": 3, "normals": 3, "uv0": 2, "uv1": 2}
    arrays: dict[str, AnyArray] = {
        k: np.concatenate(v)
        if v
        else np.zeros((0, shapes[k]) if k in shapes else 0, np.float32 if k in shapes else np.uint32)
        for k, v in columns.items()
    }
    arrays["instances"] = world.transpose(0, 2, 1).reshape(-1, 16).astype(np.float32)
    arrays["nodes"] = order.astype(np.int32)
    arrays["sources"] = nodes.source[order].astype(np.int32)
    arrays["lightmaps"] = nodes.lightmap[order].astype(np.float32)
    if light is not None:
        places = np.array([light[0].get(i, np.zeros(5)) for i in order.tolist()], np.float32).reshape(-1, 5)
        arrays["places"], arrays["leaves"] = np.ascontiguousarray(places[:, :4]), np.ascontiguousarray(places[:, 4])
        white = np.full((*light[1].shape[:3], 1), 255, np.uint8)
        arrays["pages"] = np.concatenate([light[1], white], axis=3)  # as textures want it
    meta = {
        "centre": centre.tolist(),
        "low": (low - centre).tolist(),
        "high": (high - centre).tolist(),
        "meshes": entries,
        "materials": looks(scene),
    }
    return to_bytes(meta, arrays)


def runs(mesh: Mesh) -> tuple[list[dict[str, int]], AnyArray]:
    """Groups of one material and the flat indices sorted by them."""
    groups: list[dict[str, int]] = []
    flat: list[AnyArray] = []
    start = 0
    for slot in mesh.slots:
        chosen = mesh.indices[mesh.material == slot].ravel()
        groups.append({"material": slot, "start": start, "count": len(chosen)})
        flat.append(chosen)
        start += len(chosen)
    return groups, np.concatenate(flat) if flat else np.zeros(0, np.uint32)


def looks(scene: Scene) -> list[dict[str, Any]]:
    out = []
    for m in scene.materials:
        use = m.base_color_texture
        image = scene.textures[use.texture].image if use else -1
        has = image >= 0 and scene.images[image].data is not None
        glow = [min(1.0, e * m.emissive_strength) for e in m.emissive]
        out.append(
            {
                "name": m.name,
                "color": list(m.base_color),
                "emissive": glow,
                "alpha": m.alpha_mode,
                "doubleSided": m.double_sided,
                "image": image if has else -1,
                "metallic": m.metallic,
            }
        )
    return out
