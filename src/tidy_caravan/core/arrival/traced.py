"""The source laid out as the parts of the result: what each of them should be, by the provenance that it carries.

Parts that are one whole part of the source are compared with that as it stands. For the others a part is put together
from the triangles they say they came from; those that a step made are left out of both sides and counted.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.arrival.surfaces import heights
from tidy_caravan.core.scene import MADE, Mesh, Origin, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool, determinants
from tidy_caravan.core.scene.nodes import with_parts
from tidy_caravan.core.scene.scene import with_own_meshes
from tidy_caravan.core.space.convert import cofactors
from tidy_caravan.core.space.transforms import affine_inverse


@dataclass
class Traced:
    """Both scenes for the comparison of the route: source with parts put together, result without made triangles.

    origin: (K,) node of `source` that each part is compared with. first: (K,) the source node it came from, or the
    first of several. exact: (K,) triangles are told one by one, so they are paired in order. made: (K,) triangles
    that a step made. missing: (K,) triangles of its source parts that came out nowhere; height: (K,) metres, the
    largest of them by its smallest height. wrong: sentences about provenance that cannot be.
    """

    source: Scene
    result: Scene
    origin: I64
    first: I64
    exact: Bool
    made: I64
    missing: I64
    height: F64
    wrong: list[str]

    def members(self, middle: I64) -> tuple[I64, I64 | None]:
        """Source nodes of all parts in one row, and where those of each begin; None where each has one."""
        sources = self.result.nodes.sources
        if not sources:
            return self.first, None
        lists = [sources.get(i, self.first[k : k + 1]) for k, i in enumerate(middle.tolist())]
        counts = np.array([len(x) for x in lists], np.int64)
        return np.concatenate(lists).astype(np.int64), np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64)


def traced(source: Scene, result: Scene, middle: I64) -> Traced:
    """middle: (K,) parts of the result. O(parts + triangles of parts that are not one to one)."""
    result = with_own_meshes(result)
    nodes = result.nodes
    first: I64 = nodes.source[middle]
    count = len(middle)
    out = Traced(
        source, result, first.copy(), first, np.zeros(count, np.bool_), np.zeros(count, np.int64),
        np.zeros(count, np.int64), np.zeros(count), [],
    )  # fmt: skip
    told = np.array([m.origin is not None for m in result.meshes] + [False])
    several = np.zeros(len(nodes), np.bool_)
    several[list(nodes.sources)] = True
    odd = np.flatnonzero((told[nodes.mesh[middle]] | several[middle]) & (first >= 0))
    if not len(odd):
        return out
    made_up: dict[object, int] = {}
    meshes: list[Mesh] = []
    where: list[F64] = []
    column: list[int] = []
    names: list[str] = []
    used: dict[int, list[tuple[int, int, int]]] = defaultdict(list)
    for k in odd.tolist():
        node = int(middle[k])
        number = int(nodes.mesh[node])
        ids = nodes.sources.get(node, first[k : k + 1]).tolist()
        fault = impossible(source, result.meshes[number], ids)
        if fault:
            out.wrong.append(f"“{nodes.paths[node]}” {fault}")
            out.origin[k] = out.first[k]
            continue
        base = affine_inverse(source.nodes.world[ids[:1]])
        relative = base @ source.nodes.world[ids]
        key = (number, tuple(source.nodes.mesh[ids].tolist()), np.round(relative, 9).tobytes())
        if key not in made_up:
            made_up[key] = len(meshes)
            parts = [source.meshes[m] for m in source.nodes.mesh[ids].tolist()]
            meshes.append(put_together(parts, relative, result.meshes[number].origin))
        out.exact[k] = result.meshes[number].origin is not None
        out.origin[k] = len(source.nodes) + len(column)
        column.append(len(source.meshes) + made_up[key])
        where.append(source.nodes.world[ids[0]])
        names.append(source.nodes.paths[ids[0]])
        for member, i in enumerate(ids):
            used[i].append((k, number, member))
    coverage(out, used)
    if column:
        out.source = source.but(
            nodes=with_parts(source.nodes, -1, np.array(where), names, column), meshes=(*source.meshes, *meshes)
        )
    without_made(out, middle)
    return out


def impossible(source: Scene, mesh: Mesh, ids: list[int]) -> str:
    """What is wrong with where a mesh says that it came from; empty if nothing."""
    if any(not 0 <= i < len(source.nodes) or source.nodes.mesh[i] < 0 for i in ids):
        return "says it came from a part that the source does not have"
    origin = mesh.origin
    if origin is None:
        return "was made of several parts and does not say which triangle was whose" if len(ids) > 1 else ""
    if len(origin.triangle) != mesh.triangles:
        return f"has {mesh.triangles} triangles and says where {len(origin.triangle)} came from"
    member = origin.members().astype(np.int64)
    if len(member) and int(member.max()) >= len(ids):
        return "says that triangles came from a part that it does not name"
    counts = np.array([source.meshes[m].triangles for m in source.nodes.mesh[ids].tolist()])
    known = origin.triangle != MADE
    if (origin.triangle[known] >= counts[member[known]]).any():
        return "says that it came from triangles that the source does not have"
    return ""


def put_together(parts: list[Mesh], relative: F64, origin: Origin | None) -> Mesh:
    """The triangles that an origin names, in its order, in the space of the first part. relative: (P, 4, 4)."""
    if origin is None:
        return parts[0]
    known = origin.triangle != MADE
    member, triangle = origin.members()[known].astype(np.int64), origin.triangle[known].astype(np.int64)
    if len(parts) == 1:
        one = parts[0]
        return replace(one, indices=one.indices[triangle], material=one.material[triangle], recipe=None)
    sets, tints = min(len(p.uvs) for p in parts), min(len(p.colors) for p in parts)
    vertices = np.concatenate([[0], np.cumsum([p.vertices for p in parts])])
    faces = np.concatenate([[0], np.cumsum([p.triangles for p in parts])])
    mirrored = determinants(relative[:, :3, :3]) < 0
    indices = np.concatenate([
        (p.indices[:, ::-1] if flip else p.indices).astype(np.int64) + v
        for p, v, flip in zip(parts, vertices, mirrored, strict=False)
    ])  # fmt: skip
    rows = faces[member] + triangle

    def turned(name: str) -> AnyArray | None:
        if any(getattr(p, name) is None for p in parts):
            return None
        pieces = []
        for p, m, flip in zip(parts, relative, mirrored, strict=True):
            values = getattr(p, name).astype(np.float64)
            linear = m[:3, :3] if name == "tangents" else cofactors(m[:3, :3]) * (-1.0 if flip else 1.0)
            along = values[:, :3] @ linear.T
            along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-300)
            pieces.append(np.column_stack([along, values[:, 3:] * (-1.0 if flip else 1.0)]))
        return np.concatenate(pieces)

    positions = [p.positions.astype(np.float64) @ m[:3, :3].T + m[:3, 3] for p, m in zip(parts, relative, strict=True)]
    return Mesh(
        np.concatenate(positions),  # float64: parts may lie far from the first
        indices[rows].astype(np.uint32),
        np.concatenate([p.material for p in parts])[rows],
        turned("normals"),
        turned("tangents"),
        tuple(np.concatenate([p.uvs[i] for p in parts]) for i in range(sets)),
        tuple(np.concatenate([p.colors[i] for p in parts]) for i in range(tints)),
    )


def coverage(out: Traced, used: dict[int, list[tuple[int, int, int]]]) -> None:
    """Counts triangles of the source parts that no part of the result has, at the first part that has others."""
    source, result = out.source, out.result
    stretch = np.linalg.norm(source.nodes.world[:, :3, :3], ord=2, axis=(1, 2)) if len(used) else np.zeros(0)
    metre = source.convention.metres_per_unit
    known: dict[object, tuple[int, float, int]] = {}
    for i, pieces in used.items():
        mesh = source.meshes[source.nodes.mesh[i]]
        key = (int(source.nodes.mesh[i]), tuple((number, member) for _, number, member in pieces))
        if key not in known:
            times = np.zeros(mesh.triangles, np.int64)
            for _, number, member in pieces:
                origin = result.meshes[number].origin or Origin.all_of(mesh.triangles)
                mine = (origin.members() == member) & (origin.triangle != MADE)
                times += np.bincount(origin.triangle[mine], minlength=mesh.triangles)
            gone = times == 0
            corners = mesh.positions.astype(np.float64)[mesh.indices[gone]]
            height = float(heights(corners).max(initial=0.0)) if gone.any() else 0.0
            known[key] = int(gone.sum()), height, int(np.maximum(times - 1, 0).sum())
        gone_count, height, twice = known[key]
        k = pieces[0][0]
        out.missing[k] += gone_count
        out.height[k] = max(float(out.height[k]), height * float(stretch[i]) * metre)
        out.made[k] += twice


def without_made(out: Traced, middle: I64) -> None:
    """Takes triangles that a step made out of the result's meshes; they are counted where they are drawn."""
    nodes = out.result.nodes
    meshes = list(out.result.meshes)
    made = np.zeros(len(meshes) + 1, np.int64)
    for number, mesh in enumerate(meshes):
        if mesh.origin is None or len(mesh.origin.triangle) != mesh.triangles:
            continue
        known = mesh.origin.triangle != MADE
        made[number] = int((~known).sum())
        if made[number]:
            meshes[number] = mesh.with_triangles(known)
    out.made += np.where(out.exact, made[nodes.mesh[middle]], 0)
    if made.any():
        out.result = out.result.but(meshes=tuple(meshes))
