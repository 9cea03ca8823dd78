"""A mesh cut in two along a plane: new vertices between their ends, and caps over what was closed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.geometry.caps import fill
from tidy_caravan.core.geometry.pieces import slim
from tidy_caravan.core.scene import MADE, Mesh, Origin
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool

FLOAT32 = 2.0**-23
"""Step of float32, as a part of a number."""
SNAP = 1e-6
"""Part of a mesh's size within which a vertex lies on the plane …"""
THIN = 1e-3
"""… but no more than this part of its extent across the plane, and no less than a step of its numbers."""


def cut(mesh: Mesh, normal: F64, offset: float, caps: bool) -> tuple[Mesh | None, Mesh | None]:
    """What of the mesh lies behind the plane normal · x = offset and before it, None for nothing. normal: (3,) of length one.

    Vertices on new edges have everything between that of their ends; normals and tangents are of length one again. Equal
    edges are cut at equal places, bit by bit, whatever vertices they are between, so that what was closed has closed
    borders. caps: these are filled, each with vertices of its own, coordinates in the mesh's units across the plane, and
    the material that most of the border has. Morph targets are left out. O(F + N log N) with N cut edges.
    """
    height = mesh.positions.astype(np.float64) @ normal - offset
    size = float(np.linalg.norm(mesh.bounds[1] - mesh.bounds[0]))
    step = float(np.abs(mesh.bounds).max(axis=0) @ np.abs(normal)) * FLOAT32
    height[np.abs(height) <= max(min(SNAP * size, THIN * float(np.ptp(height))), step)] = 0.0
    if (height >= 0).all() or (height <= 0).all():
        return (None, mesh) if (height >= 0).all() else (mesh, None)
    grown, faces, material, parent = crossed(mesh, height)
    height = np.concatenate([height, np.zeros(grown.vertices - mesh.vertices)])
    on = height == 0
    side = np.where((height[faces] < 0).any(axis=1), 0, np.where((height[faces] > 0).any(axis=1), 1, -1))
    if (side < 0).any():  # what lies in the plane goes to where it belongs: behind what looks out of it
        corners = grown.positions.astype(np.float64)[faces[side < 0]]
        across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        side[side < 0] = np.where(across @ normal > 0, 0, 1)
    before = mesh.origin or Origin.all_of(mesh.triangles)
    out: list[Mesh | None] = []
    for k in (0, 1):
        rows = np.flatnonzero(side == k)
        origin = before.where(parent[rows])
        half = replace(
            grown, indices=faces[rows].astype(np.uint32), material=material[rows], recipe=None, origin=origin
        )
        half = slim(half)
        if caps:
            half = capped(half, normal if k == 0 else -normal, on[np.unique(faces[rows])])
        out.append(half)
    return out[0], out[1]


def crossed(mesh: Mesh, height: F64) -> tuple[Mesh, I64, AnyArray, AnyArray]:
    """The mesh with vertices where its edges meet the plane, its triangles (F', 3), none of which crosses it, their
    materials, and which of the old ones each is, MADE for pieces."""
    faces = mesh.indices.astype(np.int64)
    sign = np.sign(height)[faces]
    crossing = (sign.min(axis=1) < 0) & (sign.max(axis=1) > 0)
    whole, some = faces[~crossing], faces[crossing]
    # every cut edge once, by its vertices
    ends = np.concatenate([np.sort(some[:, [i, (i + 1) % 3]], axis=1) for i in range(3)])
    ends = np.unique(ends[height[ends[:, 0]] * height[ends[:, 1]] < 0], axis=0)
    a, b = ends.T
    # from the end that comes first by its place, so that equal edges of other vertices are cut alike
    p, q = mesh.positions[a], mesh.positions[b]
    differ = p != q
    axis = differ.argmax(axis=1)
    row = np.arange(len(ends))
    swap = p[row, axis] > q[row, axis]
    a, b = np.where(swap, b, a), np.where(swap, a, b)
    share = height[a] / (height[a] - height[b])
    grown = between(mesh, a, b, share)
    number = {(int(i), int(j)): mesh.vertices + k for k, (i, j) in enumerate(ends.tolist())}
    new: list[list[int]] = []
    owner: list[int] = []
    rows = np.flatnonzero(crossing).tolist()
    for old, triangle in zip(rows, some.tolist(), strict=True):
        outline: list[int] = []
        for k in range(3):
            i, j = triangle[k], triangle[(k + 1) % 3]
            outline.append(i)
            if height[i] * height[j] < 0:
                outline.append(number[min(i, j), max(i, j)])
        signs = [0.0 if v >= mesh.vertices else float(np.sign(height[v])) for v in outline]
        for way in (-1.0, 1.0):
            part = [v for v, s in zip(outline, signs, strict=True) if s in (0.0, way)]
            for k in range(1, len(part) - 1):
                new.append([part[0], part[k], part[k + 1]])
                owner.append(old)
    made = np.array(new, np.int64).reshape(-1, 3)
    kept = np.flatnonzero(~crossing)
    parent = np.concatenate([kept, np.full(len(made), MADE, np.int64)])
    material = np.concatenate([mesh.material[kept], mesh.material[np.array(owner, np.int64)]])
    return grown, np.concatenate([whole, made]), material, parent


def between(mesh: Mesh, a: I64, b: I64, share: F64) -> Mesh:
    """The mesh with vertices behind it that lie on the way from vertices a to b."""

    def mixed(values: AnyArray, unit: int = 0) -> AnyArray:
        if not np.issubdtype(values.dtype, np.floating):  # such as joints: of the nearer end
            more = np.where((share < 0.5).reshape(-1, *[1] * (values.ndim - 1)), values[a], values[b])
            return np.concatenate([values, more])
        part = share.reshape(-1, *[1] * (values.ndim - 1))
        more = values[a].astype(np.float64) * (1 - part) + values[b].astype(np.float64) * part
        if unit:
            length = np.linalg.norm(more[:, :3], axis=1, keepdims=True)
            more[:, :3] /= np.where(length > 0, length, 1.0)
            more[:, 3:] = values[a][:, 3:]
        return np.concatenate([values, more.astype(values.dtype)])

    return replace(
        mesh,
        positions=mixed(mesh.positions),
        normals=None if mesh.normals is None else mixed(mesh.normals, 1),
        tangents=None if mesh.tangents is None else mixed(mesh.tangents, 1),
        uvs=tuple(mixed(u) for u in mesh.uvs),
        colors=tuple(mixed(c) for c in mesh.colors),
        attributes={k: mixed(v) for k, v in mesh.attributes.items()},
        morphs=(),
    )


def capped(half: Mesh, normal: F64, on: Bool) -> Mesh:
    """A half with its borders in the plane filled; the fill looks along `normal`, out of the half. on: (V,) in the plane."""
    points, first, place = np.unique(half.positions, axis=0, return_index=True, return_inverse=True)
    faces = place.reshape(-1)[half.indices.astype(np.int64)]
    run = np.concatenate([faces[:, [(i + 1) % 3, i]] for i in range(3)])  # the other way than the triangles do
    owner = np.tile(np.arange(len(faces)), 3)
    keep = on[first][run].all(axis=1) & (run[:, 0] != run[:, 1])
    run, owner = run[keep], owner[keep]
    # borders: run more often one way than the other
    key, back = run[:, 0] * len(points) + run[:, 1], run[:, 1] * len(points) + run[:, 0]
    ways, which, times = np.unique(key, return_inverse=True, return_counts=True)
    spot = np.minimum(np.searchsorted(ways, back), len(ways) - 1)
    against = np.where(ways[spot] == back, times[spot], 0)
    rank = np.empty(len(key), np.int64)
    order = np.argsort(which.reshape(-1), kind="stable")
    rank[order] = np.arange(len(key)) - np.repeat(np.cumsum(times) - times, times)
    border = rank < times[which.reshape(-1)] - against
    run, owner = run[border], owner[border]
    if len(run) < 3:
        return half
    across = np.cross(normal, np.eye(3)[int(np.argmin(np.abs(normal)))])
    across /= np.linalg.norm(across)
    along = np.cross(normal, across)
    wide = points.astype(np.float64)
    flat = np.stack([wide @ across, wide @ along], axis=1)
    more = fill(flat, run)
    if not len(more):
        return half
    rows, more = np.unique(more, return_inverse=True)
    more = more.reshape(-1, 3)
    slots, times = np.unique(half.material[owner], return_counts=True)
    origin = half.origin or Origin.all_of(half.triangles)
    before = half.triangles
    count = len(rows)

    def with_cap(values: AnyArray, cap: AnyArray) -> AnyArray:
        return np.concatenate([values, np.broadcast_to(cap, (count, *values.shape[1:])).astype(values.dtype)])

    return replace(
        half,
        positions=np.concatenate([half.positions, points[rows]]),
        indices=np.concatenate([half.indices, (more + half.vertices).astype(np.uint32)]),
        material=np.concatenate([half.material, np.full(len(more), slots[np.argmax(times)], np.int32)]),
        normals=None if half.normals is None else with_cap(half.normals, normal),
        tangents=None if half.tangents is None else with_cap(half.tangents, np.append(across, 1.0)),
        uvs=tuple(with_cap(u, flat[rows]) for u in half.uvs),
        colors=tuple(with_cap(c, np.ones(4)) for c in half.colors),
        attributes={k: with_cap(v, np.zeros(v.shape[1:])) for k, v in half.attributes.items()},
        morphs=(),
        origin=origin.where(np.concatenate([np.arange(before), np.full(len(more), MADE, np.int64)])),
    )
