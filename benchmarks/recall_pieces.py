"""Faults of single pieces that hang on their name, their texture or their grid: textures out of scale and sets without
area, leaves off their hinge, modules off their size or corner, seams between them.

Scenes of known parts; about a quarter of them has the fault.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.geometry.projection import box_project
from tidy_caravan.core.scene import GLTF, Image, Material, Mesh, Scene, Texture, TextureUse, make_nodes

PARTS = 400
ROWS = 30
BOX = trimesh.creation.box
LEAVES = ("door_leaf_{}", "Door_{:02}", "Tür {}", "porte.{:03}", "SM_SwingDoor_{}", "flap {}")
CELL = 1.0


def at(x: float, y: float, z: float) -> Any:
    return trimesh.transformations.translation_matrix([x, y, z])


def block(low: Sequence[float], high: Sequence[float]) -> Any:
    return BOX(bounds=[low, high])


def as_mesh(made: Any, slot: int = -1) -> Mesh:
    """Hard edges: every triangle with vertices of its own."""
    points = made.triangles.reshape(-1, 3).astype(np.float32)
    faces = np.arange(len(points), dtype=np.uint32).reshape(-1, 3)
    normals = np.repeat(made.face_normals, 3, axis=0).astype(np.float32)
    return Mesh(points, faces, np.full(len(faces), slot, np.int32), normals)


def scene_of(rows: Sequence[tuple[str, Mesh, Any]], looks: int = 0) -> Scene:
    """Parts with meshes of their own. looks: materials, each with an image of its own."""
    names, meshes, matrices = zip(*rows, strict=True)
    nodes = make_nodes(np.full(len(rows), -1), np.array(matrices), list(names), mesh=np.arange(len(rows)))
    materials = tuple(Material(f"look {k}", base_color_texture=TextureUse(k)) for k in range(looks))
    images = tuple(Image(f"look {k}", "image/png", b"\x89PNG" + bytes([k])) for k in range(looks))
    return Scene(GLTF, nodes, tuple(meshes), materials, tuple(Texture(k) for k in range(looks)), images)


def textured(
    rng: np.random.Generator, spoil: Callable[[Any, Mesh, np.random.Generator], Any]
) -> tuple[Scene, set[int]]:
    """Parts of five materials, laid out by boxes at about a metre a repeat; `spoil` has the coordinates of some."""
    from benchmarks.recall import shape

    rows, hit = [], set()
    for k in range(PARTS):
        mesh = as_mesh(shape(rng, k % 8), int(rng.integers(0, 5)))
        size = np.diag([*[1 / rng.uniform(0.8, 1.25)] * 3, 1.0])
        mesh = box_project(mesh, size, "Y")
        if rng.random() < 0.2:
            hit.add(k)
            wrong = spoil(mesh.uvs[0].astype(np.float64), mesh, rng)
            mesh = mesh.with_vertices(
                np.arange(mesh.vertices), uvs=() if wrong is None else (wrong.astype(np.float32),)
            )
        rows.append((f"part_{k}", mesh, at(3.0 * (k % 20), 0, 3.0 * (k // 20))))
    return scene_of(rows, 5), hit


def out_of_scale(rng: np.random.Generator) -> tuple[Scene, set[int]]:
    return textured(rng, lambda uv, _, r: uv * r.choice([-1, 1]) * r.uniform(3, 30) ** r.choice([-1, 1]))


def without_area(rng: np.random.Generator) -> tuple[Scene, set[int]]:
    def smear(uv: Any, mesh: Mesh, r: np.random.Generator) -> Any:
        uv[np.unique(mesh.indices[r.random(mesh.triangles) < r.uniform(0.1, 0.9)])] = r.uniform(0, 1, 2)
        uv[np.unique(mesh.indices[: mesh.triangles // 4 + 1]), 0] = 0.5
        return uv

    return textured(rng, smear)


def without_set(rng: np.random.Generator) -> tuple[Scene, set[int]]:
    return textured(rng, lambda *_: None)


def hinges(rng: np.random.Generator) -> tuple[Scene, set[int]]:
    """Leaves of boards or bars, some with handles, closers and panels, turned by any angle; hung on either edge."""
    rows, hit = [], set()
    for k in range(PARTS):
        w, h, t = rng.uniform(0.6, 1.1), rng.uniform(1.9, 2.3), rng.uniform(0.03, 0.06)
        parts = [block([0, 0, -t / 2], [w, h, t / 2])]
        if rng.random() < 0.3:
            bars = [(0, 0, 0.12, h), (w - 0.12, 0, w, h), (0.12, 0, w - 0.12, 0.15), (0.12, h - 0.15, w - 0.12, h)]
            parts = [block([a, b, -t / 2], [c, d, t / 2]) for a, b, c, d in bars]
            parts.append(block([0.12, 0.15, -0.005], [w - 0.12, h - 0.15, 0.005]))
        elif rng.random() < 0.5:
            parts.append(block([0.2, 0.3, -t / 2 - 0.006], [w - 0.2, 0.9, t / 2 + 0.006]))
        if handle := rng.random() < 0.6:
            parts += [
                block([w - 0.17, 1.0, z - 0.012], [w - 0.05, 1.03, z + 0.012]) for z in (t / 2 + 0.05, -t / 2 - 0.05)
            ]
            if rng.random() < 0.3:  # a closer, on the other side
                parts.append(block([0.05, h - 0.12, t / 2], [0.35, h - 0.05, t / 2 + 0.08]))
        x, y = (0.0, rng.choice([0.0, h / 2, h]))
        if rng.random() < 0.25:
            hit.add(k)
            x = rng.choice([w / 2, w / 4, -0.3, *([w] if handle else [])])
        elif not handle and rng.random() < 0.5:
            x = w
        made = trimesh.util.concatenate(parts).apply_translation([-x, -y, 0])
        turn = trimesh.transformations.rotation_matrix(rng.uniform(0, 2 * np.pi), [0, 1, 0])
        if rng.random() < 0.4:
            made.apply_transform(turn)
        rows.append((LEAVES[k % len(LEAVES)].format(k), as_mesh(made), at(3.0 * (k % 20), y, 3.0 * (k // 20)) @ turn))
    return scene_of(rows), hit


def wall(rng: np.random.Generator, width: float) -> Any:
    """A panel, some with a window, whose low corner is the pivot."""
    height, t = 3 * CELL, 0.2 * CELL
    if rng.random() < 0.6:
        return block([0, 0, 0], [width, height, t])
    a, b, c, d = width * 0.3, width * 0.7, height * 0.3, height * 0.8
    bars = [(0, 0, a, height), (b, 0, width, height), (a, 0, b, c), (a, d, b, height)]
    return trimesh.util.concatenate([block([p, q, 0], [r, s, t]) for p, q, r, s in bars])


def modules(rng: np.random.Generator, kind: str) -> tuple[Scene, set[int]]:
    """Rows of panels of one to three cells, turned by any angle, and lamps that go by no cell."""
    rows: list[tuple[str, Mesh, Any]] = []
    hit: set[int] = set()
    for row in range(ROWS):
        turn = trimesh.transformations.rotation_matrix(rng.uniform(0, 2 * np.pi), [0, 1, 0])
        x = 0.0
        for k in range(8):
            width = float(rng.integers(1, 4)) * CELL
            made, number, gap = wall(rng, width), len(rows), 0.0
            if rng.random() < 0.2 and (k or kind != "seam"):
                off = float(rng.choice([-1, 1]) * rng.uniform(0.0008, 0.026))
                if kind == "size":
                    made.vertices[made.vertices[:, 0] > width - 1e-6, 0] += off
                elif kind == "pivot":
                    made.apply_translation([rng.uniform(0.05, 0.45), 0, 0])
                else:
                    gap = off
                hit |= {number - 1, number} if kind == "seam" else {number}
            x += gap
            rows.append((f"panel_{number}", as_mesh(made), at(0, 0, 30.0 * row) @ turn @ at(x, 0, 0)))
            # of a piece that is too long the next one stands where it was
            x += width + (0.002 if kind == "pivot" else 0.0)
        lamp = trimesh.creation.cylinder(rng.uniform(0.05, 0.2), rng.uniform(1.1, 2.9), sections=10)
        rows.append((f"lamp_{row}", as_mesh(lamp), at(-9, 0, 30.0 * row)))
    return scene_of(rows), hit


KINDS: dict[str, tuple[Callable[[np.random.Generator], tuple[Scene, set[int]]], tuple[str, ...]]] = {
    "textures out of scale": (out_of_scale, ("uv.scale",)),
    "first sets without area": (without_area, ("uv.first-flat",)),
    "no first set": (without_set, ("uv.first-missing",)),
    "leaves off their hinge": (hinges, ("pivot.hinge",)),
    "modules off their size": (lambda rng: modules(rng, "size"), ("grid.size",)),
    "modules off their corner": (lambda rng: modules(rng, "pivot"), ("grid.pivot",)),
    "seams between modules": (lambda rng: modules(rng, "seam"), ("grid.seam",)),
}


def built(seed: int, kind: str) -> tuple[Scene, set[int]]:
    """The parts, and which of them have the fault."""
    return KINDS[kind][0](np.random.default_rng(seed))
