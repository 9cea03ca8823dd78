"""New vertices on edges that one triangle has, so that another border has something to meet there."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.geometry.corners import join
from tidy_caravan.core.geometry.cutting import between
from tidy_caravan.core.scene import MADE, Mesh, Origin
from tidy_caravan.core.scene.arrays import F64, I64


def with_split_edges(mesh: Mesh, edges: I64, points: F64) -> tuple[Mesh, int]:
    """The mesh with a vertex at each of the points (K, 3) on its edge (K, 2), told by any vertices at both ends, and how many
    there came to be; of several on one triangle the first, and of a mesh with morph targets none. What a vertex has is what
    both ends have between them. O(F log F)."""
    if mesh.morphs or not len(edges):
        return mesh, 0
    _, place = join(np.zeros(mesh.vertices, np.int64), [mesh.positions])
    count = int(place.max(initial=0)) + 1
    faces = place[mesh.indices.astype(np.int64)]
    run = np.stack([faces, np.roll(faces, -1, axis=1)], axis=2).reshape(-1, 2)
    key = run.min(axis=1) * count + run.max(axis=1)
    wanted = place[edges]
    order = np.argsort(key, kind="stable")
    wanted_key = wanted.min(axis=1) * count + wanted.max(axis=1)
    at = np.minimum(np.searchsorted(key[order], wanted_key), len(key) - 1)
    row = order[at]
    good = key[row] == wanted_key
    _, first = np.unique(row // 3, return_index=True)
    lone = np.zeros(len(row), np.bool_)
    lone[first] = True
    some = np.flatnonzero(good & lone)
    if not len(some):
        return mesh, 0
    triangle, corner = np.divmod(row[some], 3)
    a, b, c = (mesh.indices[triangle, (corner + k) % 3].astype(np.int64) for k in range(3))
    start, end = mesh.positions[a].astype(np.float64), mesh.positions[b].astype(np.float64)
    way = end - start
    share = np.clip(((points[some] - start) * way).sum(axis=1) / np.maximum((way * way).sum(axis=1), 1e-300), 0, 1)
    grown = between(mesh, a, b, share)
    new = mesh.vertices + np.arange(len(some))
    positions = grown.positions.copy()
    positions[new] = points[some]
    indices = mesh.indices.astype(np.int64).copy()
    indices[triangle] = np.stack([a, new, c], axis=1)
    parent = np.arange(mesh.triangles, dtype=np.int64)
    parent[triangle] = MADE
    before = mesh.origin or Origin.all_of(mesh.triangles)
    out = replace(
        grown,
        positions=positions,
        indices=np.concatenate([indices, np.stack([new, b, c], axis=1)]).astype(np.uint32),
        material=np.concatenate([mesh.material, mesh.material[triangle]]),
        recipe=None,
        origin=before.where(np.concatenate([parent, np.full(len(some), MADE, np.int64)])),
    )
    return out, len(some)
