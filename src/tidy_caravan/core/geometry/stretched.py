"""Parts whose matrix scales one axis more than another: how large their surfaces are, and what they look like.

A slab is often a box of one metre that its node stretches. Whoever looks at the mesh alone sees a cube.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pose import drawn_worlds
from tidy_caravan.core.scene import Mesh, Nodes, Scene
from tidy_caravan.core.scene.arrays import F32, F64, I64, Bool, ranges
from tidy_caravan.core.space.common_scale import distinct
from tidy_caravan.core.space.convert import cofactors, transform_mesh

EVEN = 1e-6
"""Relative difference of the scales along two axes below which they are one."""
DIRECTIONS = 32
"""Steps of a unit along each axis, within which directions of vectors are one direction: a surface bent that little changes
by less than a thousandth of itself."""
STRETCHED = 1e-4
"""Relative difference of the squares of the scales along two axes from which on a part is one that was stretched."""
ALIKE = 1e-6
"""Relative difference below which two parts are stretched alike."""
FLAT = 1e-9
"""Least by largest square of a scale below which a part is flattened."""
MANY = 16
"""Parts of a mesh from which on they are measured by themselves, and not with those of others."""
FEW = 64
"""Vectors up to which they are not worth being gathered."""
SIMPLE = 500
"""Triangles up to which a mesh of its own for each way of stretching it weighs next to nothing."""
APART = 2.0
"""Part by which a way of stretching a mesh goes further along one axis than another, against the others of the mesh on the
average, from which on it makes another shape of it: strewn stones differ by less."""
AT_ONCE = 1 << 21
"""Products that are held at a time."""


def gathered(vectors: F64) -> F64:
    """(D, 3) vectors along the directions of many (N, 3), as long together as those of each direction are. O(N log N)."""
    length = np.linalg.norm(vectors, axis=1)
    good = np.isfinite(length) & (length > 0)
    vectors, length = vectors[good], length[good]
    if len(vectors) <= FEW:
        return vectors
    unit = vectors / length[:, None]
    unit *= np.where((unit @ (1.0, 1e-3, 1e-6) < 0)[:, None], -1.0, 1.0)  # a vector and its opposite grow alike
    cell = np.rint((unit + 1) * DIRECTIONS).astype(np.int64) @ (1 << 20, 1 << 10, 1)
    _, which = np.unique(cell, return_inverse=True)
    total = np.bincount(which, weights=length)
    middle = np.column_stack([np.bincount(which, weights=length * unit[:, k]) for k in range(3)])
    out: F64 = middle * (total / np.maximum(np.linalg.norm(middle, axis=1), 1e-300))[:, None]
    return out


def lengths(vectors: F64, linear: F64) -> F64:
    """(K,) how long vectors (D, 3) are together under each matrix (K, 3, 3). O(D K)."""
    form = np.swapaxes(linear, 1, 2) @ linear
    pairs = vectors[:, (0, 1, 2, 0, 0, 1)] * vectors[:, (0, 1, 2, 1, 2, 2)]
    of_form = form[:, (0, 1, 2, 0, 0, 1), (0, 1, 2, 1, 2, 2)] * (1, 1, 1, 2, 2, 2)
    step = max(1, AT_ONCE // max(len(vectors), 1))
    out = np.zeros(len(linear))
    for begin in range(0, len(linear), step):
        squares = of_form[begin : begin + step] @ pairs.T
        out[begin : begin + step] = np.sqrt(np.maximum(squares, 0.0)).sum(axis=1)
    return out


def uneven(linear: F64) -> Bool:
    """(K,) which of the matrices (K, 3, 3) change lengths one way more than another."""
    form = np.swapaxes(linear, 1, 2) @ linear
    middle = np.trace(form, axis1=1, axis2=2) / 3
    out: Bool = np.abs(form - middle[:, None, None] * np.eye(3)).max(axis=(1, 2)) > EVEN * np.maximum(middle, 1e-300)
    return out


def surface_scales(scene: Scene, rows: I64) -> F64:
    """(P,) by what length the surface of each part is scaled: the root of its area in space by that of its mesh.

    rows: (P,) nodes with a mesh. The scale itself where it is the same along all axes; otherwise by the faces, of which
    those that point the same way are taken as one. Also of parts that are flattened. O(P + F log F + P D), D directions.
    """
    linear = drawn_worlds(scene)[rows, :3, :3]
    out: F64 = np.sqrt((linear**2).sum(axis=(1, 2)) / 3)
    bent = np.flatnonzero(uneven(linear))
    if not len(bent):
        return out
    used, own = np.unique(scene.nodes.mesh[rows[bent]], return_inverse=True)
    each = [gathered(face_vectors(scene.meshes[i].positions, scene.meshes[i].indices)) for i in used.tolist()]
    count = np.array([len(v) for v in each])
    begin, vectors = np.cumsum(count) - count, np.concatenate(each)
    whole = np.array([np.linalg.norm(v, axis=1).sum() for v in each])[own]
    total, maps = np.zeros(len(bent)), cofactors(linear[bent])
    users = np.bincount(own)
    for i in np.flatnonzero(users >= MANY).tolist():
        mine = np.flatnonzero(own == i)
        total[mine] = lengths(each[i], maps[mine])
    few = np.flatnonzero(users[own] < MANY)
    step = max(1, (AT_ONCE >> 3) // max(1, int(count.max(initial=1))))  # nine numbers each
    for some in (few[k : k + step] for k in range(0, len(few), step)):
        part = np.repeat(np.arange(len(some)), count[own[some]])
        moved = np.einsum("fij,fj->fi", maps[some][part], vectors[ranges(begin[own[some]], count[own[some]])])
        total[some] = np.bincount(part, weights=np.linalg.norm(moved, axis=1), minlength=len(some))
    there = whole > 0
    out[bent[there]] = np.sqrt(total[there] / whole[there])
    return out


def stretch_of(linear: F64) -> F64:
    """(3, 3) what a matrix does to lengths along the part's own axes, without its turn and mirror (polar decomposition,
    Higham, 1986); nothing where it flattens the part or holds no numbers."""
    if not np.isfinite(linear).all():
        return np.eye(3)
    values, axes = np.linalg.eigh(linear.T @ linear)
    if not values[0] > FLAT**2 * max(values[2], 1e-300):
        return np.eye(3)
    if values[2] - values[0] <= EVEN * values[2]:
        return np.eye(3) * float(np.sqrt(values.mean()))
    out: F64 = (axes * np.sqrt(values)) @ axes.T
    return out


def uneven_stretch(linear: F64) -> F64:
    """(3, 3) the same where it is not even along all axes, and nothing where it is."""
    stretch = stretch_of(linear)
    values = np.linalg.eigvalsh(stretch)
    return stretch if values[2] ** 2 - values[0] ** 2 > STRETCHED * values[2] ** 2 else np.eye(3)


def other_shapes(scene: Scene) -> Bool:
    """(N,) nodes whose simple mesh is stretched to several shapes: one cube for walls, floors and posts.

    Not those that move by themselves or are flattened. O(nodes).
    """
    nodes = scene.nodes
    out = np.zeros(len(nodes), np.bool_)
    simple = np.append((scene.triangle_counts > 0) & (scene.triangle_counts <= SIMPLE), False)
    rows = np.flatnonzero(simple[nodes.mesh] & ~moving(scene))
    if not len(rows) or not uneven(nodes.world[rows, :3, :3]).any():
        return out
    linear, mesh = nodes.world[rows, :3, :3], nodes.mesh[rows]
    form = np.swapaxes(linear, 1, 2) @ linear
    least, _, most = np.linalg.eigvalsh(np.where(np.isfinite(form), form, 0.0)).T
    good = (least > FLAT * most) & (most > 0)
    rows, form, mesh = rows[good], form[good], mesh[good]
    if not len(rows):
        return out
    even = form / np.cbrt(np.linalg.det(form))[:, None, None]
    used, own = np.unique(mesh, return_inverse=True)
    middle = np.zeros((len(used), 3, 3))
    np.add.at(middle, own.ravel(), even)
    # by what each goes further along one axis than another, where all of them together go alike
    root = np.linalg.inv(np.linalg.cholesky(middle))[own.ravel()]
    least, _, most = np.linalg.eigvalsh(root @ even @ np.swapaxes(root, 1, 2)).T
    several = np.bincount(own.ravel(), weights=most > APART**2 * least, minlength=len(used)) > 0
    out[rows] = several[own.ravel()]
    return out


def moving(scene: Scene) -> Bool:
    """(N,) nodes with a skin, and those that a clip moves."""
    out: Bool = scene.nodes.skin >= 0
    out[[c.node for clip in scene.clips for c in clip.channels]] = True
    return out


@dataclass(frozen=True)
class Shapes:
    """Ways in which meshes are stretched. rows: (R,) nodes that are. stretch: (T, 3, 3) of each way, mesh: (T,) which mesh it is
    of, of_row: (R,) the way of each."""

    rows: I64
    stretch: F64
    mesh: I64
    of_row: I64


def shapes_of(scene: Scene, chosen: Bool) -> Shapes:
    """Of the chosen nodes (N,) that are stretched unevenly, the ways that their meshes are stretched. O(nodes log nodes)."""
    nodes = scene.nodes
    rows: I64 = np.flatnonzero(chosen & (nodes.mesh >= 0))
    linear = nodes.world[rows, :3, :3]
    odd = uneven(linear)
    rows, linear = rows[odd], linear[odd]
    values, axes = np.linalg.eigh(np.swapaxes(linear, 1, 2) @ linear)
    solid = values[:, 0] > FLAT**2 * values[:, 2]
    rows, values, axes = rows[solid], values[solid], axes[solid]
    ways, way = distinct((axes * np.sqrt(values)[:, None, :]) @ np.swapaxes(axes, 1, 2))
    kinds, of_row = np.unique(np.stack([nodes.mesh[rows].astype(np.int64), way], axis=1), axis=0, return_inverse=True)
    return Shapes(rows, ways[kinds[:, 1]], kinds[:, 0], of_row.ravel().astype(np.int64))


def put_apart(scene: Scene, chosen: Bool) -> Scene:
    """The scene with the stretch of the chosen nodes (N,) in meshes of their own, one for each way that a mesh is stretched.

    Nothing moves; the scene itself where nothing is stretched. O(nodes + vertices of what is made).
    """
    found = shapes_of(scene, chosen)
    if not len(found.rows):
        return scene
    nodes, meshes = scene.nodes, list(scene.meshes)
    column, taken = nodes.mesh.copy(), np.tile(np.eye(3), (len(nodes), 1, 1))
    column[found.rows] = len(meshes) + found.of_row
    taken[found.rows] = found.stretch[found.of_row]
    meshes += [transform_mesh(meshes[i], s) for i, s in zip(found.mesh.tolist(), found.stretch, strict=True)]
    return scene.but(meshes=tuple(meshes), nodes=replace(with_stretch_taken(nodes, taken), mesh=column))


def with_stretch_taken(nodes: Nodes, taken: F64) -> Nodes:
    """The nodes without a stretch (N, 3, 3) that went into their meshes; what hangs below stays where it is."""
    local = nodes.local.copy()
    held = np.flatnonzero(nodes.parent >= 0)
    local[held, :3] = taken[nodes.parent[held]] @ local[held, :3]
    local[:, :3, :3] = local[:, :3, :3] @ np.linalg.inv(taken)
    return replace(nodes, local=local)


def stretched_meshes(scene: Scene) -> dict[int, F64]:
    """By mesh (3, 3) what stretches its parts unevenly, where all of them are stretched alike. Not of flattened, skinned and
    animated ones. O(nodes)."""
    nodes = scene.nodes
    rows: I64 = np.flatnonzero(nodes.mesh >= 0)
    linear, mesh = nodes.world[rows, :3, :3], nodes.mesh[rows]
    form = np.swapaxes(linear, 1, 2) @ linear
    size = np.trace(form, axis1=1, axis2=2) / 3
    off = np.abs(form - size[:, None, None] * np.eye(3)).max(axis=(1, 2))
    odd = off > STRETCHED * size
    if not odd.any():
        return {}
    used, first, of_mesh = np.unique(mesh, return_index=True, return_inverse=True)
    of_mesh = of_mesh.ravel()
    apart = np.abs(form - form[first][of_mesh]).max(axis=(1, 2)) > ALIKE * np.abs(form[first][of_mesh]).max(axis=(1, 2))
    least, _, most = np.linalg.eigvalsh(np.where(np.isfinite(form), form, 0.0)).T
    never = apart | ~(least > FLAT * most) | moving(scene)[rows] | ~odd
    chosen = np.flatnonzero(np.bincount(of_mesh, weights=never, minlength=len(used)) == 0)
    return {int(used[k]): stretch_of(linear[first[k]]) for k in chosen.tolist()}


def as_it_looks(mesh: Mesh, stretch: F64 | None) -> F32:
    """Vertices (V, 3) of a mesh under the stretch of its parts."""
    if stretch is None:
        return mesh.positions
    positions: F32 = (mesh.positions.astype(np.float64) @ stretch).astype(np.float32)
    return positions


def unstretched(scene: Scene) -> Scene:
    """The scene as it is once its stretches are baked: what stretches a part unevenly is in its mesh and not in its node.

    Only of meshes whose parts are all stretched alike, which stay shared by them; see `stretched_meshes`. Nothing moves; the
    scene itself where there is nothing to do. O(nodes + vertices of stretched meshes).
    """
    found = stretched_meshes(scene)
    if not found:
        return scene
    nodes, meshes = scene.nodes, list(scene.meshes)
    by_mesh = np.tile(np.eye(3), (len(meshes) + 1, 1, 1))
    for i, stretch in found.items():
        meshes[i], by_mesh[i] = transform_mesh(meshes[i], stretch), stretch
    return scene.but(meshes=tuple(meshes), nodes=with_stretch_taken(nodes, by_mesh[nodes.mesh]))
