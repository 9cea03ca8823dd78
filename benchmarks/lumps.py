"""The landing as one mesh for each material, as a careless export has it: its pieces and their instances found again, beside
what each part is made of when it is asked by itself."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.figures import Counts, count
from tidy_caravan.core.geometry.pieces import by_shell
from tidy_caravan.core.scene import Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.demo.ferry_landing import landing


def lumped(scene: Scene) -> Scene:
    """Everything of a material in one mesh, as a careless export has it."""
    meshes = []
    slots = sorted({int(s) for m in scene.meshes for s in m.slots})
    for slot in slots:
        points, faces, start = [], [], 0
        for i in scene.nodes.parts.tolist():
            mesh, world = scene.meshes[scene.nodes.mesh[i]], scene.nodes.world[i]
            rows = np.flatnonzero(mesh.material == slot)
            if not len(rows):
                continue
            used, own = np.unique(mesh.indices[rows], return_inverse=True)
            own = own.reshape(-1, 3)
            points.append(mesh.positions[used].astype(np.float64) @ world[:3, :3].T + world[:3, 3])
            faces.append((own[:, ::-1] if np.linalg.det(world[:3, :3]) < 0 else own) + start)
            start += len(used)
        flat = np.concatenate(faces)
        meshes.append(Mesh(np.concatenate(points).astype(np.float32), flat.astype(np.uint32), np.full(len(flat), slot, np.int32)))  # fmt: skip
    nodes = make_nodes(np.full(len(meshes), -1), np.tile(np.eye(4), (len(meshes), 1, 1)), [f"all of {s}" for s in slots], mesh=np.arange(len(meshes)))  # fmt: skip
    return scene.but(nodes=nodes, meshes=tuple(meshes), lights=(), cameras=(), clips=(), skins=(), layers=(), roots=())


def pieces_of_each(scene: Scene) -> Iterator[int]:
    """How many pieces each part has in each of its materials, asked of it by itself."""
    for i in scene.nodes.parts.tolist():
        mesh = scene.meshes[scene.nodes.mesh[i]]
        for slot in mesh.slots:
            yield len(np.unique(by_shell(mesh.with_triangles(mesh.material == slot))))


def in_words(figures: Counts) -> str:
    return (
        f"{figures.parts} parts, {figures.unique_meshes} meshes, {figures.draw_calls} draw calls, {figures.draw_calls_instanced} "
        f"instanced, {figures.mesh_bytes / 1e6:.2f} MB"
    )


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    whole = landing()
    scene = lumped(whole)
    before = count(scene)
    context = StepContext(BUILT_IN[2])
    for kind in ("split_parts", "share_copies"):
        scene, _ = parse_step({"kind": kind}).apply(scene, context)
    after = count(scene)
    print(f"     lumps     before: {in_words(before)}", flush=True)
    print(f"     lumps     after:  {in_words(after)}", flush=True)
    print(f"     lumps     as it was modelled: {in_words(count(whole))}", flush=True)
    own = sum(pieces_of_each(whole))
    return [
        ("pieces of the lumps / of the parts by themselves", after.parts / own, "≥", 1.0),
        ("the same", after.parts / own, "≤", 1.0),
        ("pieces for each mesh that they share", after.parts / after.unique_meshes, "≥", 8.0),
    ]
