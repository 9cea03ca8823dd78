"""Meshes put together as one, each where it is drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.space.convert import transform_mesh


def data_of(mesh: Mesh) -> tuple[object, ...]:
    """What meshes need to have alike so that nothing of either is lost or made up when they are put together."""
    return (
        mesh.normals is not None,
        mesh.tangents is not None,
        len(mesh.uvs),
        len(mesh.colors),
        tuple(sorted((name, values.shape[1:], values.dtype.str) for name, values in mesh.attributes.items())),
    )


def combined(meshes: Sequence[Mesh], matrices: F64) -> Mesh:
    """One mesh of several with the same data, under their matrices (K, 4, 4), triangles in their order, then sorted by
    material so that each is one sub-mesh. Mirrored ones are turned over. Without provenance; `order_of` gives the order."""
    placed = []
    for mesh, matrix in zip(meshes, matrices, strict=True):
        turned = transform_mesh(replace(mesh, morphs=()), matrix[:3, :3])
        points = mesh.positions.astype(np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
        placed.append(replace(turned, positions=(points + 0.0).astype(np.float32)))
    starts = np.concatenate([[0], np.cumsum([m.vertices for m in placed])[:-1]])
    order = order_of(meshes)
    first = placed[0]

    def every(values: Sequence[AnyArray | None]) -> AnyArray:
        return np.concatenate([v for v in values if v is not None])

    return replace(
        first,
        positions=every([m.positions for m in placed]),
        indices=every([m.indices.astype(np.int64) + s for m, s in zip(placed, starts.tolist(), strict=True)])[order].astype(
            np.uint32
        ),
        material=every([m.material for m in placed])[order],
        normals=None if first.normals is None else every([m.normals for m in placed]),
        tangents=None if first.tangents is None else every([m.tangents for m in placed]),
        uvs=tuple(every([m.uvs[k] for m in placed]) for k in range(len(first.uvs))),
        colors=tuple(every([m.colors[k] for m in placed]) for k in range(len(first.colors))),
        attributes={name: every([m.attributes[name] for m in placed]) for name in first.attributes},
        morphs=(),
        morph_weights=(),
        recipe=None,
        origin=None,
    )  # fmt: skip


def order_of(meshes: Sequence[Mesh]) -> AnyArray:
    """The order of all triangles by material, in the order in which materials are first used."""
    slots = np.concatenate([m.material for m in meshes])
    _, first, number = np.unique(slots, return_index=True, return_inverse=True)
    return np.argsort(np.argsort(np.argsort(first))[number.reshape(-1)], kind="stable")
