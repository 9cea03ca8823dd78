"""Polygons with data per corner into a mesh: cut into triangles, equal corners joined to vertices."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from tidy_caravan.core.geometry.triangulate import fan_or_ears
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, U32, AnyArray, usable_rows
from tidy_caravan.core.scene.mesh import Mesh


def corner_mesh(
    points: F64,
    corner: I64,
    counts: I64,
    *,
    normals: F32 | None = None,
    uvs: Sequence[F32] = (),
    colors: Sequence[F32] = (),
    material: I32 | None = None,
    name: str = "",
) -> tuple[Mesh | None, int]:
    """A mesh and the number of faces that had to be left out (None when no face is left).

    points: (P, 3). corner: (C,) point of every corner, faces one after another. counts: (F,) corners
    per face. normals (C, 3), uvs (C, 2) each, colors (C, 4) each: per corner. material: (F,).
    Faces with fewer than three corners, corners that point at nothing, or positions that are not
    finite or beyond LARGEST are left out. O(C log C).
    """
    face_of = np.repeat(np.arange(len(counts)), counts)
    usable: AnyArray = (corner >= 0) & (corner < len(points))
    finite = usable_rows(points)
    usable[usable] = finite[corner[usable]]
    bad = np.bincount(face_of[~usable], minlength=len(counts)) > 0
    bad |= counts < 3
    dropped = int(bad.sum())
    if dropped:
        keep = ~bad[face_of]
        corner, normals = corner[keep], None if normals is None else normals[keep]
        uvs, colors = [u[keep] for u in uvs], [c[keep] for c in colors]
        material = None if material is None else material[~bad]
        counts = counts[~bad]
    if not len(counts):
        return None, dropped
    triangles, owner = fan_or_ears(points[corner], counts)
    if not len(triangles):
        return None, dropped
    first, vertex = join(corner, [*([] if normals is None else [normals]), *uvs, *colors])
    slots = np.full(len(owner), -1, np.int32) if material is None else material[owner].astype(np.int32)
    indices: U32 = vertex[triangles].astype(np.uint32)
    mesh = Mesh(
        points[corner[first]].astype(np.float32),
        indices,
        slots,
        normals=None if normals is None else normals[first],
        uvs=tuple(u[first] for u in uvs),
        colors=tuple(c[first] for c in colors),
        name=name,
    )
    return mesh, dropped


def join(corner: I64, attributes: Sequence[F32]) -> tuple[I64, I64]:
    """(V,) first corner of each distinct vertex in order of appearance, and (C,) vertex of each corner.

    Two corners are one vertex when their point and all attributes are equal bit by bit (0 and -0 alike).
    """
    if not attributes:
        return join_points(corner)
    key = corner.astype(np.uint64)
    columns = [(a + np.float32(0)).astype(np.float32).view(np.uint32).reshape(len(corner), -1) for a in attributes]
    for column in columns:
        for k in range(column.shape[1]):
            key = _mix(key ^ (column[:, k].astype(np.uint64) + np.uint64(0x9E3779B97F4A7C15)))
    row = first_equals(key)
    same = np.array_equal(corner[row], corner) and all(np.array_equal(column[row], column) for column in columns)
    if not same:  # two different corners with one hash: compare them whole
        whole = np.column_stack([corner.astype(np.uint32)[:, None], *columns])
        _, first, inverse = np.unique(whole, axis=0, return_index=True, return_inverse=True)
        row = first[inverse.reshape(-1)]
    return numbered(row)


def distinct(keys: AnyArray) -> tuple[I64, I64]:
    """The same for corners that are equal where their keys (C,) are."""
    return numbered(first_equals(keys))


def numbered(row: I64) -> tuple[I64, I64]:
    own = row == np.arange(len(row))
    return np.flatnonzero(own), (np.cumsum(own) - 1)[row]


def first_equals(keys: AnyArray) -> I64:
    """(C,) row of the first key that equals each. One sort, which need not be stable, and passes over the rows."""
    if not len(keys):
        return np.zeros(0, np.int64)
    order = np.argsort(keys)
    ordered = keys[order]
    begins = np.concatenate([[True], ordered[1:] != ordered[:-1]])
    firsts = np.minimum.reduceat(order, np.flatnonzero(begins))
    out = np.empty(len(keys), np.int64)
    out[order] = firsts[np.cumsum(begins) - 1]
    return out


def join_points(corner: I64) -> tuple[I64, I64]:
    """The same for corners that have nothing but their point. O(C + V log V)."""
    count = len(corner)
    first = np.full(int(corner.max(initial=-1)) + 1, -1, np.int64)
    first[corner[::-1]] = np.arange(count - 1, -1, -1)  # the last one written is the first that there is
    used = np.flatnonzero(first >= 0)
    order = used[np.argsort(first[used], kind="stable")]
    rank = np.empty(len(first), np.int64)
    rank[order] = np.arange(len(order))
    return first[order], rank[corner]


def _mix(value: AnyArray) -> AnyArray:
    """Finalizer of SplitMix64 (Steele et al., 2014): spreads every bit over the whole word."""
    value = (value ^ (value >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    value = (value ^ (value >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    out: AnyArray = value ^ (value >> np.uint64(31))
    return out
