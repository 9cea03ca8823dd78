"""Random trees for property tests: nested turns, scales, mirrors and shear, meshes shared by many parts."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.scene import GLTF, Channel, Clip, Mesh, Scene, make_nodes
from tidy_caravan.core.space.transforms import split_trs


def as_mesh(made: Any, material: int = -1, **more: Any) -> Mesh:
    """A mesh of what trimesh made."""
    faces = np.asarray(made.faces, np.uint32)
    return Mesh(np.asarray(made.vertices, np.float32), faces, np.full(len(faces), material, np.int32), **more)


def random_tree(seed: int, nodes: int = 24, shear: bool = True) -> Scene:
    """A scene whose nodes nest up to six deep; some matrices mirror, some stretch, which shears what is below."""
    rng = np.random.default_rng(seed)
    shapes = [trimesh.creation.box(rng.uniform(0.2, 2, 3)), trimesh.creation.cone(0.4, 1.0, sections=9),
              trimesh.creation.cylinder(0.3, 1.5, sections=7), trimesh.creation.icosphere(1, 0.6)]  # fmt: skip
    for shape in shapes:
        shape.apply_translation(rng.uniform(-3, 3, 3) * rng.choice([0, 1, 20]))
    parent, local = [], []
    for k in range(nodes):
        parent.append(int(rng.integers(-1, k)) if k else -1)
        matrix = np.eye(4) if rng.random() < 0.2 else trimesh.transformations.random_rotation_matrix(rng.random(3))
        stretch = rng.choice([0, 1, 2, 3], p=[0.4, 0.3, 0.2 if shear else 0.0, 0.1 if shear else 0.3])
        scale = {0: np.ones(3), 1: np.full(3, rng.uniform(0.2, 4)), 2: rng.uniform(0.3, 3, 3)}.get(
            int(stretch), np.array([-1.0, 1, 1])
        )
        matrix[:3, :3] *= scale
        matrix[:3, 3] = rng.uniform(-5, 5, 3)
        local.append(matrix)
    mesh = np.where(rng.random(nodes) < 0.7, rng.integers(0, len(shapes), nodes), -1)
    names = [f"node_{k}" for k in range(nodes)]
    return Scene(GLTF, make_nodes(parent, np.array(local), names, mesh=mesh), tuple(as_mesh(s) for s in shapes))


def moving(scene: Scene, seed: int) -> Scene:
    """The same, with clips that move, turn and scale a third of its nodes, by every interpolation."""
    rng = np.random.default_rng(seed)
    t, r, s, _ = split_trs(scene.nodes.local)
    rows = rng.choice(len(scene.nodes), len(scene.nodes) // 3, replace=False).tolist()
    channels = []
    for i in rows:
        for path in rng.choice(["translation", "rotation", "scale"], int(rng.integers(1, 3)), replace=False).tolist():
            way = str(rng.choice(["LINEAR", "STEP", "CUBICSPLINE"]))
            values = rng.uniform(0.5, 2.0, (9 if way == "CUBICSPLINE" else 3, 4 if path == "rotation" else 3))
            if path == "rotation":
                values /= np.linalg.norm(values, axis=1, keepdims=True)
            values = values.astype(np.float32)
            channels.append(Channel(i, path, np.array([0, 1, 3], np.float32), values, way))  # type: ignore[arg-type]
    rest = {i: (tuple(t[i].tolist()), tuple(r[i].tolist()), tuple(s[i].tolist())) for i in rows}
    return scene.but(nodes=replace(scene.nodes, rest=rest), clips=(Clip(tuple(channels), "clip"),))


def world_corners(scene: Scene) -> dict[int, Any]:
    """(F, 3, 3) corners of the triangles of every part in the world, in metres, by its id in the source; each triangle
    begins at its own smallest corner, so that the order in which a mirror leaves them does not matter."""
    out = {}
    nodes = scene.nodes
    for i in nodes.parts.tolist():
        mesh = scene.meshes[nodes.mesh[i]]
        world = nodes.world[i]
        points = mesh.positions.astype(np.float64) @ world[:3, :3].T + world[:3, 3]
        out[int(nodes.source[i])] = points[mesh.indices] * scene.convention.metres_per_unit
    return out


def furthest_apart(before: Scene, after: Scene) -> float:
    """Largest distance between corresponding vertices of the two, as a part of the scene's size; 1 if parts differ."""
    one, other = world_corners(before), world_corners(after)
    if one.keys() != other.keys():
        return 1.0
    size = float(np.linalg.norm(np.ptp(np.concatenate([c.reshape(-1, 3) for c in one.values()]), axis=0)))
    worst = 0.0
    for k, corners in one.items():
        there = other[k]
        if there.shape != corners.shape:
            return 1.0
        straight = np.linalg.norm(corners - there, axis=2).max(axis=1)
        turned = np.linalg.norm(corners - there[:, [0, 2, 1]], axis=2).max(axis=1)
        worst = max(worst, float(np.minimum(straight, turned).max(initial=0.0)))
    return worst / max(size, 1e-30)
