"""Lightmap UV sets for 10,000 instances of 12 meshes, against the 12 meshes alone."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import trimesh

from benchmarks.timing import in_turn
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs


def scene(instances: int) -> Scene:
    meshes = []
    for i in range(12):
        shape = trimesh.creation.cylinder(1 + i * 0.1, 3, sections=12 + 4 * i)
        meshes.append(
            Mesh(
                shape.vertices.astype(np.float32),
                shape.faces.astype(np.uint32),
                np.full(len(shape.faces), -1, np.int32),
                name=f"m{i}",
            )
        )
    local = np.tile(np.eye(4), (instances, 1, 1))
    local[:, 0, 3] = np.arange(instances)
    nodes = make_nodes(
        np.full(instances, -1), local, [f"n{i}" for i in range(instances)], mesh=np.arange(instances) % 12
    )
    return Scene(GLTF, nodes, tuple(meshes))


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    step, few, many = LightmapUvs(), scene(12), scene(10_000)
    taken = in_turn({"few": lambda: step.apply(few, StepContext()), "many": lambda: step.apply(many, StepContext())}, 5)
    print(f"     lightmap  12 meshes {taken['few']:.2f} s, 10,000 instances of them {taken['many']:.2f} s")
    return [("10,000 instances of 12 meshes against the 12 alone", taken["many"] / taken["few"], "≤", 1.1)]
