"""Fewer triangles within an error bound: vertices are drawn into a neighbour, the cheapest first.

Half-edge collapse with the quadric error of the planes around a vertex (Garland and Heckbert, 1997), which bounds the
largest distance to them, added up over all that was drawn in before. A vertex on a crease (a border, a seam of texture
coordinates or normals, a border of materials) goes only along it, and no further from it than the bound; where creases
meet or end it stays. What a vertex has beside its place (texture coordinates, colours, weights) is never mixed, and a vertex
whose neighbours do not make the same of it stays.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.geometry.closest import furthest, furthest_along
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pieces import FLAT
from tidy_caravan.core.geometry.shells import welded_faces
from tidy_caravan.core.geometry.vertices import equals
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.scene.provenance import MADE

TRIES = 8
LESS = 0.3
"""Part of the bound that the next try is given at least."""
MORE = 3.0
"""What the next try is given at most of what the last one was, where that left room …"""
MORE_TRIES = 3
ENOUGH = 0.7
"""… which it did below this part of the bound."""
SEARCH = 4.0
"""Bounds within which surfaces are measured; further apart is too far anyway."""
TINT = 5 / 255
"""What a colour between 0 and 1, or the weight of a joint, may come to differ by."""
SHARE = 0.02
"""What any other value of a vertex may come to differ by, as a part of its range over the mesh."""


@dataclass(frozen=True)
class Simplified:
    """faces: (F', 3) vertices of the mesh before. material: (F',). origin: (F',) triangle before, MADE where its corners
    are others now. error: the largest distance that was measured, both ways, between both surfaces."""

    faces: I64
    material: I64
    origin: I64
    error: float


def simplified(mesh: Mesh, bound: float, least: int = 0) -> Simplified:
    """The mesh with as few triangles as the bound allows, but `least` of them. bound: in units of the mesh.

    What is added up on the way is an estimate: what was drawn into a neighbour moves on with the triangles around that.
    So both surfaces are measured at the end, and where they came further apart it is done again with less. O(F log F).
    Vertices that are the same in everything count as one, or triangles that share none would all be borders.
    """
    mesh = replace(mesh, indices=equals(mesh)[mesh.indices].astype(np.uint32))
    inner, best, farther = bound, None, MORE_TRIES
    within = inner
    for _ in range(TRIES):
        made = drawn_together(mesh, inner, least)
        worst = surfaces_apart(mesh, made.faces, SEARCH * bound)
        if worst <= bound:
            if best is None or len(made.faces) < len(best.faces):
                best = replace(made, error=worst)
            if not farther or worst > ENOUGH * bound or len(made.faces) <= max(least, 1):
                break
            farther -= 1  # what is added up is more than what is measured: there is room
            within, inner = inner, inner * min(MORE, 0.9 * bound / max(worst, 1e-300))
        elif best is not None:
            if not farther:
                break
            farther -= 1
            inner = float(np.sqrt(within * inner))
        else:
            inner *= max(LESS, 0.9 * bound / worst) if np.isfinite(worst) else LESS
    if best is not None:
        return best
    return Simplified(mesh.indices.astype(np.int64), mesh.material.astype(np.int64), np.arange(mesh.triangles), 0.0)


def is_faceted(mesh: Mesh) -> bool:
    """Whether every triangle is shaded as flat as it is: its edges are hard for want of smooth normals, as from STL, and no
    line of them is to be kept."""
    if mesh.normals is None or mesh.tangents is not None or not mesh.triangles:
        return False
    flat = unit_normals(mesh, np.arange(mesh.triangles))
    along = np.einsum("fki,fi->fk", mesh.normals.astype(np.float64)[mesh.indices], flat)
    return bool((along[flat.any(axis=1)] >= FLAT).all())


def surfaces_apart(mesh: Mesh, faces: I64, reach: float) -> float:
    """The largest distance between the surface of a mesh and that of other faces over its vertices, infinite beyond `reach`:
    from the corners, middles and edges of triangles of either, the others."""
    points, was = mesh.positions.astype(np.float64), mesh.indices.astype(np.int64)
    same = np.isin(row_keys(faces, len(points)), row_keys(was, len(points)))
    rest = np.isin(row_keys(was, len(points)), row_keys(faces, len(points)))
    sides = ((was[~rest], points[faces], 2), (faces[~same], points[was], 5))
    worst = max(furthest(points[own], others, reach, parts) for own, others, parts in sides)
    for own, others, _ in sides:
        worst = furthest_along(edges_of(own, len(points)), points, others, reach, worst)
    return worst


def edges_of(faces: I64, count: int) -> I64:
    """(E, 2) the edges of triangles (F, 3), each once."""
    pairs = np.sort(np.concatenate([faces[:, (0, 1)], faces[:, (1, 2)], faces[:, (2, 0)]]), axis=1)
    keys = np.unique(pairs[:, 0] * count + pairs[:, 1])
    return np.column_stack([keys // count, keys % count])


def row_keys(faces: I64, count: int) -> I64:
    """(F,) one number for each triangle, the same however it is turned."""
    turn = faces.argmin(axis=1)
    a, b, c = (faces[np.arange(len(faces)), (turn + k) % 3].astype(np.uint64) for k in range(3))
    # wraps around beyond 64 bits; equal triangles stay equal, and others meet by chance next to never
    out: I64 = ((a * np.uint64(count) + b) * np.uint64(count) + c).astype(np.int64)
    return out


def drawn_together(mesh: Mesh, bound: float, least: int) -> Simplified:
    """One go at it, with the estimate of its error."""
    from tidy_caravan.core.geometry.drawing_in import drawn_in

    place, count = welded_faces(mesh)
    good = (place[:, 0] != place[:, 1]) & (place[:, 1] != place[:, 2]) & (place[:, 0] != place[:, 2])
    kept, lost = np.flatnonzero(good), np.flatnonzero(~good)
    points = np.zeros((count, 3))
    points[place] = mesh.positions[mesh.indices]
    place, wedge = place[kept], mesh.indices[kept].astype(np.int64)
    slots, unit = mesh.material[kept].astype(np.int64), unit_normals(mesh, kept)
    normals = np.zeros((0, 3)) if mesh.normals is None else mesh.normals.astype(np.float64)
    flats = np.stack(mesh.uvs).astype(np.float64) if mesh.uvs else np.zeros((0, mesh.vertices, 2))
    values, kinds = beside_places(mesh, bound)
    left = max(least, 1) - len(lost)
    alive, changed, error = drawn_in(points, place, wedge, slots, unit, normals, flats, values, kinds, bound, left)
    faces = np.concatenate([wedge[alive], mesh.indices[lost].astype(np.int64)])
    material = np.concatenate([slots[alive], mesh.material[lost]])
    origin = np.where(changed, MADE, kept)[alive]
    return Simplified(faces, material, np.concatenate([origin, lost]), float(error.max(initial=0.0)))


def unit_normals(mesh: Mesh, rows: I64) -> F64:
    """(K, 3) of some triangles."""
    vectors = face_vectors(mesh.positions, mesh.indices[rows])
    out: F64 = vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]
    return out


def beside_places(mesh: Mesh, bound: float) -> tuple[F64, I64]:
    """(V, A) what runs over a surface beside textures, in what it may come to differ by; and (V,) the same number for
    vertices whose whole numbers are the same."""
    columns: list[F64] = [c.astype(np.float64) / TINT for c in mesh.colors]
    columns += [m.positions.astype(np.float64) / bound for m in mesh.morphs if m.positions is not None]
    whole: list[I64] = []
    given = {k.removeprefix("extra "): np.asarray(v).reshape(mesh.vertices, -1) for k, v in mesh.attributes.items()}
    pull = np.zeros((mesh.vertices, 0))
    for name in [n for n in given if n.startswith("JOINTS_") and n.replace("JOINTS_", "WEIGHTS_") in given]:
        joints, weights = given.pop(name).astype(np.int64), given.pop(name.replace("JOINTS_", "WEIGHTS_"))
        wide = max(pull.shape[1], int(joints.max(initial=0)) + 1)
        pull = np.pad(pull, ((0, 0), (0, wide - pull.shape[1])))
        np.add.at(pull, (np.arange(mesh.vertices)[:, None], joints), weights.astype(np.float64))
    columns.append(pull / TINT)
    for name, values in given.items():
        if re.fullmatch(r"morph \d+ \d", name):
            if name.endswith(" 0"):
                columns.append(values.astype(np.float64) / bound)
        elif values.dtype.kind != "f":
            whole.append(values.astype(np.int64))
        else:
            values = values.astype(np.float64)
            columns.append(values / np.maximum(SHARE * np.ptp(values, axis=0), 1e-300))
    kinds = np.zeros(mesh.vertices, np.int64)
    if whole:
        kinds = np.unique(np.concatenate(whole, axis=1), axis=0, return_inverse=True)[1].reshape(-1).astype(np.int64)
    every = np.concatenate(columns, axis=1) if columns else np.zeros((mesh.vertices, 0))
    # a column with a missing number stays, and holds back what is around it
    return np.ascontiguousarray(every[:, np.ptp(every, axis=0) != 0]) if len(every) else every, kinds


def flat_places(mesh: Mesh) -> int:
    """How many places have all their triangles in one plane, within a tenth of a degree, and lie on no crease. Vertices that
    are the same in everything are one: triangles that share none have no creases for it."""
    if not mesh.triangles:
        return 0
    place, count = welded_faces(mesh)
    good = (place[:, 0] != place[:, 1]) & (place[:, 1] != place[:, 2]) & (place[:, 0] != place[:, 2])
    place, normals = place[good], unit_normals(mesh, np.flatnonzero(good))
    flat = place.reshape(-1)
    whole = np.stack([np.bincount(flat, np.repeat(normals[:, k], 3), minlength=count) for k in range(3)], axis=1)
    whole = whole / np.maximum(np.linalg.norm(whole, axis=1), 1e-300)[:, None]
    off = np.einsum("fki,fi->fk", whole[place], normals)
    worst = np.ones(count)
    np.minimum.at(worst, flat, off.reshape(-1))
    used = np.zeros(count, np.bool_)
    used[flat] = True
    marked = on_creases(place, equals(mesh)[mesh.indices[good]], mesh.material[good], count)
    return int((used & ~marked & (worst > np.cos(np.radians(0.1)))).sum())


def on_creases(place: I64, wedge: I64, material: I64, count: int) -> Bool:
    """(P,) places at an edge that other than two triangles share, that does not run both ways, or where vertices or
    materials of both sides are not the same. place, wedge: (F, 3). O(F log F)."""
    p, q = place.reshape(-1), np.roll(place, -1, axis=1).reshape(-1)
    wp, wq = wedge.reshape(-1), np.roll(wedge, -1, axis=1).reshape(-1)
    low = p < q
    order = np.argsort(np.where(low, p * count + q, q * count + p), kind="stable")
    a, b = np.where(low, p, q)[order], np.where(low, q, p)[order]
    new = np.ones(len(a), np.bool_)
    new[1:] = (a[1:] != a[:-1]) | (b[1:] != b[:-1])
    begin = np.flatnonzero(new)
    times = np.diff(np.append(begin, len(a)))
    crease = (times != 2) | (np.add.reduceat(np.where(low[order], 1, -1), begin) != 0)
    for values in (np.where(low, wp, wq), np.where(low, wq, wp), np.repeat(material, 3)):
        sorted_ones = values[order]
        crease |= np.minimum.reduceat(sorted_ones, begin) != np.maximum.reduceat(sorted_ones, begin)
    out = np.zeros(count, np.bool_)
    out[a[begin[crease]]] = out[b[begin[crease]]] = True
    return out
