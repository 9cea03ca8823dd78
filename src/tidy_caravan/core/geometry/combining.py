"""Meshes put together as one, each where it is drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.space.convert import transform_meshes


def data_of(mesh: Mesh) -> tuple[object, ...]:
    """What meshes need to have alike so that nothing of either is lost or made up when they are put together."""
    return (
        mesh.normals is not None,
        mesh.tangents is not None,
        len(mesh.uvs),
        len(mesh.colors),
        tuple(sorted((name, values.shape[1:], values.dtype.str) for name, values in mesh.attributes.items())),
    )


def combined(meshes: Sequence[Mesh], matrices: F64, tell: Tell = nobody) -> Mesh:
    """One mesh of several with the same data, under their matrices (K, 4, 4), triangles in their order, then sorted by
    material so that each is one sub-mesh. Mirrored ones are turned over. Without provenance; `order_of` gives the order.
    tell hears how many are placed."""
    placed = list(meshes)
    _, way = np.unique(matrices[:, :3, :3].reshape(len(matrices), 9), axis=0, return_inverse=True)
    order = np.argsort(way.reshape(-1), kind="stable")
    done = 0
    for rows in np.split(order, np.flatnonzero(np.diff(way.reshape(-1)[order])) + 1):

        def told(some: int, _: int, done: int = done) -> None:
            tell(done + some, len(placed))

        linear, own = matrices[rows[0], :3, :3], [meshes[k] for k in rows.tolist()]
        turned = transform_meshes([replace(m, morphs=()) if m.morphs else m for m in own], linear, told)
        counts = [m.vertices for m in own]
        points = np.concatenate([m.positions for m in own]).astype(np.float64) @ linear.T
        points += np.repeat(matrices[rows, :3, 3], counts, axis=0) + 0.0
        parts = np.split(points.astype(np.float32), np.cumsum(counts)[:-1])
        for k, mesh, positions in zip(rows.tolist(), turned, parts, strict=True):
            placed[k] = replace(mesh, positions=positions)
        done += len(rows)
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
