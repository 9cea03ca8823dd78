"""Vertices of one mesh that are there for nothing: twice with everything alike, used by no triangle, no numbers."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.geometry.corners import first_equals
from tidy_caravan.core.geometry.faults import degenerate
from tidy_caravan.core.geometry.shells import owned_edges, welded_faces
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.scene.keeping import kept

NORMAL_ALIKE = 0.01
"""Length of the difference of two unit normals, or tangents, below which a vertex between them is no hard edge."""
UV_ALIKE = 1e-5
"""Difference of texture coordinates, in repeats, below which there is no seam."""
COLOR_ALIKE = 1e-3
NEXT = 8
QUARTER = 0.25
"""Of the shortest edge at a vertex: further than that nothing is joined, however wide the tolerance."""


def not_finite(mesh: Mesh) -> Bool:
    """(F,) True for triangles with a corner that is no number or infinite."""
    bad: Bool = np.any(~np.isfinite(mesh.positions), axis=1)
    out: Bool = np.any(bad[mesh.indices], axis=1)
    return out


def loose(mesh: Mesh) -> int:
    """How many vertices no triangle uses."""
    return mesh.vertices - len(mesh.used) if mesh.triangles else 0


def many_sided_edges(mesh: Mesh) -> int:
    """How many edges have more than two triangles, those that stand twice counted once. O(F log F)."""
    return len(many_sided(mesh)[0])


def many_sided(mesh: Mesh) -> tuple[I64, I64]:
    """(N, 2) vertices at the ends of each such edge, one pair for each, and (K,) the triangles that were looked at:
    triangles on each other, either way round, are a fault of their own and count once; those without area do not."""
    none = np.zeros((0, 2), np.int64)
    if not mesh.triangles:
        return none, np.zeros(0, np.int64)
    faces, places = welded_faces(mesh)
    _, _, every = owned_edges(faces, places)
    if np.bincount(first_equals(every), minlength=1).max(initial=0) <= 2:
        return none, np.arange(mesh.triangles)
    plain = np.sort(faces, axis=1)
    _, kept = np.unique(plain, axis=0, return_index=True)
    kept = kept[(np.diff(plain[kept], axis=1) > 0).all(axis=1) & ~degenerate(mesh)[kept]]
    edges, _, key = owned_edges(faces[kept], places)
    _, first, times = np.unique(key, return_index=True, return_counts=True)
    vertex_at = np.zeros(places, np.int64)
    vertex_at[faces.reshape(-1)] = mesh.indices.reshape(-1)
    out: I64 = vertex_at[edges[first[times > 2]]]
    return out, kept


def many_sided_lines(mesh: Mesh) -> F64:
    """(N, 2, 3) the edges of more than two triangles."""
    out: F64 = mesh.positions.astype(np.float64)[many_sided(mesh)[0]]
    return out


def joined(mesh: Mesh, tolerance: float | F64, owner: I64 | None = None) -> I64:
    """(V,) for each vertex the first that it is the same as: within the tolerance, in units of the mesh, and alike in
    normal, tangent, texture coordinates, colours, morphs and everything else. O(V log V).

    Vertices of one edge never become one, nor does anything further than a quarter of the shortest edge beside it. owner:
    (V,) only vertices of one are the same; the tolerance is none then, or (M,) of each owner.
    """
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    count = mesh.vertices
    same = np.arange(count)
    finite = np.isfinite(mesh.positions).all(axis=1)
    rows = np.flatnonzero(finite)
    if not len(rows):
        return same
    points = mesh.positions[rows].astype(np.float64)
    pairs = equal_places(points, [v[rows] for v in per_vertex(mesh)], None if owner is None else owner[rows])
    if np.any(tolerance > 0):
        more = near_places(points, tolerance, None if owner is None else owner[rows])
        pairs = np.concatenate([pairs, more])
    if not len(pairs):
        return same
    a, b = rows[pairs].T if len(pairs) else (np.zeros(0, np.int64), np.zeros(0, np.int64))
    apart = np.linalg.norm(mesh.positions[a].astype(np.float64) - mesh.positions[b], axis=1)
    shortest = shortest_edges(mesh)
    keep = apart <= QUARTER * np.minimum(shortest[a], shortest[b])
    a, b = a[keep], b[keep]
    keep = alike(mesh, a, b)
    a, b = a[keep], b[keep]
    each = np.asarray(tolerance, np.float64)
    wide: F64 = np.broadcast_to(each, count) if not each.ndim or owner is None else each[owner]
    out, far = same, np.ones(count, np.bool_)
    while len(a):
        graph = coo_array((np.ones(len(a), np.int8), (a, b)), shape=(count, count))
        number, label = connected_components(graph, directed=False)
        first = np.full(number, count, np.int64)
        np.minimum.at(first, label, np.arange(count))
        out = np.where(far, first[label], out)
        # along a chain of near ones the last is not near the first: those that are not are joined among themselves
        moved = np.flatnonzero(far & (out != same))
        way = np.linalg.norm(mesh.positions[out[moved]].astype(np.float64) - mesh.positions[moved], axis=1)
        far = np.zeros(count, np.bool_)
        far[moved[way > wide[moved]]] = True
        out = np.where(far, same, out)
        keep = far[a] & far[b]
        a, b = a[keep], b[keep]
    return out


@kept
def equals(mesh: Mesh) -> I64:
    """(V,) for each vertex the first used one that it is the same as in everything, as `joined` without a tolerance."""
    first, own = joined(mesh, 0.0), np.arange(mesh.vertices)
    if len(mesh.used) == mesh.vertices or (first == own).all():
        return first
    order = np.concatenate([mesh.used, np.setdiff1d(own, mesh.used)])
    best = np.full(mesh.vertices, mesh.vertices, np.int64)
    np.minimum.at(best, first[order], own)
    out: I64 = order[best[first]]
    return out


def rejoined(mesh: Mesh, made: dict[str, AnyArray]) -> dict[str, AnyArray]:
    """The arrays that change of a mesh, as of `winding.turn_over`, where vertices whose normals were changed are one with
    those that they are the same as now: what kept them apart is gone. Of a mesh that has doubles already all stay."""
    if "normals" not in made or (joined(mesh, 0.0) != np.arange(mesh.vertices)).any():
        return made
    source = made.get("source", np.arange(mesh.vertices))
    after = replace(mesh.with_vertices(source, indices=made["indices"]), normals=made["normals"])
    if "tangents" in made:
        after = replace(after, tangents=made["tangents"])
    first = joined(after, 0.0)
    fresh = np.ones(len(source), np.bool_)
    if mesh.normals is not None:
        fresh = (made["normals"] != mesh.normals[source]).any(axis=1)
    gone = (first != np.arange(len(first))) & (fresh | fresh[first])
    if not gone.any():
        return made
    number = np.cumsum(~gone) - 1
    to = np.where(gone, number[first], number)
    kept: dict[str, AnyArray] = {name: made[name][~gone] for name in ("normals", "tangents") if name in made}
    return {**made, **kept, "source": source[~gone], "indices": to[made["indices"]].astype(np.uint32)}


def near_places(points: F64, tolerance: float | F64, owner: I64 | None) -> I64:
    """(K, 2) points that are no further apart than the tolerance, or than that of their owner (M,) if they have the same."""
    from scipy.spatial import cKDTree

    if owner is None:
        return cKDTree(points).query_pairs(float(np.max(tolerance)), output_type="ndarray").astype(np.int64)
    each = np.asarray(tolerance, np.float64)[owner]
    rows = np.flatnonzero(each > 0)
    # in tolerances of the own mesh, meshes three of them apart along a fourth axis
    there = np.column_stack([points[rows] / each[rows][:, None], 3.0 * owner[rows]])
    found: I64 = cKDTree(there).query_pairs(1.0, output_type="ndarray").astype(np.int64)
    return rows[found]


def equal_places(points: F64, values: list[AnyArray], owner: I64 | None = None) -> I64:
    """(K, 2) each point with the next few at the very same place, those that are most alike in their values first. owner:
    (N,) only those of one."""
    columns = [v.reshape(len(v), -1) for v in values]
    if owner is not None:
        points = np.column_stack([points, owner])
    order = np.lexsort([*(c for v in columns for c in v.T), *points.T])
    ordered = points[order]
    out = []
    for away in range(1, NEXT + 1):
        same = (ordered[away:] == ordered[:-away]).all(axis=1)
        out.append(np.column_stack([order[:-away][same], order[away:][same]]))
    return np.concatenate(out)


def per_vertex(mesh: Mesh) -> list[AnyArray]:
    """What a mesh tells of its vertices beside their place, attributes and morph targets aside."""
    return [v for v in (mesh.normals, mesh.tangents, *mesh.uvs, *mesh.colors) if v is not None]


def shortest_edges(mesh: Mesh) -> F64:
    """(V,) length of the shortest edge at each vertex, infinite without one; edges without length are none."""
    out = np.full(mesh.vertices, np.inf)
    points = mesh.positions.astype(np.float64)
    for k in range(3):
        a, b = mesh.indices[:, k], mesh.indices[:, (k + 1) % 3]
        long = np.linalg.norm(points[a] - points[b], axis=1)
        long = np.where(long > 0, long, np.inf)
        np.minimum.at(out, a, long)
        np.minimum.at(out, b, long)
    return out


def alike(mesh: Mesh, a: I64, b: I64) -> Bool:
    """(K,) True where two vertices differ in nothing but their place."""
    out = np.ones(len(a), np.bool_)

    def within(values: AnyArray | None, limit: float) -> None:
        if values is not None and len(a):
            wide = values.astype(np.float64).reshape(len(values), -1)
            out[:] &= ~(np.abs(wide[a] - wide[b]).max(axis=1) > limit)

    within(mesh.normals, NORMAL_ALIKE)
    within(mesh.tangents, NORMAL_ALIKE)
    for uv in mesh.uvs:
        within(uv, UV_ALIKE)
    for color in mesh.colors:
        within(color, COLOR_ALIKE)
    for values in mesh.attributes.values():
        within(values, 0.0)
    for morph in mesh.morphs:
        for offsets in morph.arrays():
            within(offsets, 0.0)
    return out
