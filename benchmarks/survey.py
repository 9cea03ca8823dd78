"""All checks over 600,000 unique triangles, against the same meshes asked a few things through trimesh; share by share."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import trimesh

from benchmarks.timing import in_turn
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.scene import GLTF, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.survey import known_checks, survey
from tidy_caravan.core.survey.context import Context, known_facts
from tidy_caravan.core.work.heavy import Remembered, Workshop

MESHES = 117
SHOWN = 0.05
"""Share of the whole from which on a check is named."""


def scene() -> Scene:
    """117 different balls of 5,120 triangles, of one topology each: the hard case for finding loose copies."""
    rng = np.random.default_rng(0)
    ball = trimesh.creation.icosphere(subdivisions=4)
    meshes = []
    for i in range(MESHES):
        points = (ball.vertices * rng.uniform(0.5, 2, 3)).astype(np.float32)
        meshes.append(Mesh(points, ball.faces.astype(np.uint32), np.zeros(len(ball.faces), np.int32),
                           ball.vertex_normals.astype(np.float32), uvs=(points[:, :2].copy(),), name=f"ball {i}"))  # fmt: skip
    local = np.tile(np.eye(4), (MESHES, 1, 1))
    local[:, :3, 3] = rng.uniform(-50, 50, (MESHES, 3))
    nodes = make_nodes(np.full(MESHES, -1), local, [f"part {i}" for i in range(MESHES)], mesh=np.arange(MESHES))
    return Scene(GLTF, nodes, tuple(meshes), (Material("m"),))


def by_trimesh(whole: Scene) -> object:
    """The same kinds of questions: welded, closed, wound one way, which way out, bodies, no area, hull, alike."""
    out = []
    for mesh in whole.meshes:
        one = trimesh.Trimesh(mesh.positions, mesh.indices, process=True)
        out.append((one.is_watertight, one.is_winding_consistent, one.volume, one.body_count, one.identifier_hash,
                    int((one.area_faces <= 0).sum()), one.convex_hull.bounds))  # fmt: skip
    return out


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    whole = scene()

    def fresh() -> Scene:
        # nothing that an earlier round found out about a mesh may be at hand
        meshes = [Mesh(m.positions, m.indices, m.material, m.normals, uvs=m.uvs, name=m.name) for m in whole.meshes]
        return whole.but(meshes=tuple(meshes))

    took = in_turn({"survey": lambda: survey(fresh(), BUILT_IN[0]), "trimesh": lambda: by_trimesh(whole)}, rounds=3)
    began = time.perf_counter()
    context = Context(fresh(), BUILT_IN[0])
    context.each(next(iter(known_facts().values())))
    shares = {"facts about meshes": time.perf_counter() - began}
    for name, entry in known_checks().items():
        began = time.perf_counter()
        list(entry.run(context))
        shares[name] = time.perf_counter() - began
    total = sum(shares.values())
    for name, seconds in sorted(shares.items(), key=lambda s: -s[1]):
        if seconds >= SHOWN * total:
            print(f"     {name:26} {seconds / total:4.0%} of {total:.1f} s")
    # and once more when a tenth of the meshes is another one: what is known of the rest is not found out again
    kept = Workshop(results=Remembered())
    began = time.perf_counter()
    survey(fresh(), BUILT_IN[0], kept)
    first = time.perf_counter() - began
    other = fresh()
    changed = tuple(
        Mesh(m.positions * np.float32(1.5), m.indices, m.material, m.normals, uvs=m.uvs) if i % 10 == 0 else m
        for i, m in enumerate(other.meshes)
    )
    began = time.perf_counter()
    survey(other.but(meshes=changed), BUILT_IN[0], kept)
    again = time.perf_counter() - began
    return [
        ("survey after a tenth of the meshes changed / the first", again / first, "≤", 0.2),
        ("all checks / seven questions through trimesh, 600,000 triangles", took["survey"] / took["trimesh"], "≤", 1.5),
    ]
