"""Boxes of parts and meshes, and what is known of them from the scene that one was made from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, Bool, ranges
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.scene.mesh import Mesh
from tidy_caravan.core.scene.nodes import Nodes

OF_SURFACES = ("triangles", "vertices", "used", "bounds", "begins", "surface_id")
"""What meshes know of themselves that hangs on positions and triangles alone."""


@dataclass(frozen=True, eq=False)
class BoxesBefore:
    """Boxes of a scene that this one was made from. parts: (P, 2, 3), of its nodes. meshes: (M, 2, 3), if they were asked for.

    new_part: (P,) parts that have other surfaces since. new_mesh: (M,) the meshes that are others since.
    """

    parts: F64
    meshes: F64 | None
    nodes: Nodes
    new_part: Bool
    new_mesh: Bool

    def through(self, before: tuple[Nodes, Sequence[Mesh]], made: tuple[Nodes, Sequence[Mesh]]) -> BoxesBefore | None:
        """The same behind one more change; None where there are other parts now. O(parts + meshes)."""
        (nodes, meshes), (new_nodes, new_meshes) = before, made
        parts = new_nodes.parts
        if not np.array_equal(parts, nodes.parts):
            return None
        old, new = nodes.mesh[parts].astype(np.int64), new_nodes.mesh[parts].astype(np.int64)
        pairs, which = np.unique(old * max(1, len(new_meshes)) + new, return_inverse=True)
        old, new = np.divmod(pairs, max(1, len(new_meshes)))
        stays = np.ones(len(pairs), np.bool_)
        if meshes is not new_meshes or nodes.mesh is not new_nodes.mesh:
            of_pair = ((meshes[i], new_meshes[j]) for i, j in zip(old.tolist(), new.tolist(), strict=True))
            stays[:] = [b is a or keeps_surface_of(b, a) for a, b in of_pair]
        new_part = ~stays[which] | self.new_part
        same = len(new_meshes) == len(meshes)
        new_mesh = np.ones(len(new_meshes), np.bool_)
        if same and self.meshes is not None:
            new_mesh[new[stays & (old == new)]] = False
            new_mesh |= self.new_mesh
        return replace(self, meshes=self.meshes if same else None, new_part=new_part, new_mesh=new_mesh)

    def fresh(self, nodes: Nodes) -> Bool:
        """(P,) parts whose boxes are not those of before."""
        moved = np.zeros(len(nodes.parts), np.bool_)
        if nodes.local is not self.nodes.local or nodes.parent is not self.nodes.parent:
            moved = (nodes.world[nodes.parts] != self.nodes.world[nodes.parts]).any(axis=(1, 2))
        return moved | self.new_part


def some_of(order: I64, starts: list[tuple[int, int, int]], chosen: Bool) -> tuple[I64, list[tuple[int, int, int]]]:
    """Of `Scene.parts_by_mesh` the parts that are chosen (P,), in its order, and the meshes that have any."""
    ends = np.concatenate([[0], np.cumsum(chosen)])
    mesh, begin, end = np.array(starts, np.int64).reshape(-1, 3).T
    begin, end = ends[begin], ends[end]
    left = end > begin
    return order[chosen], list(zip(mesh[left].tolist(), begin[left].tolist(), end[left].tolist(), strict=True))


def keeps_surface_of(mesh: Mesh, before: Mesh) -> bool:
    """Whether a mesh holds the very positions and triangles of another, whose box and surface it then knows as well; equal
    ones that are held twice are not looked at."""
    if mesh.positions is not before.positions or mesh.indices is not before.indices:
        return False
    mesh.__dict__.update({name: before.__dict__[name] for name in OF_SURFACES if name in before.__dict__})
    return True


def boxes_of_small(meshes: Sequence[Mesh], users: I64, world: F64) -> F64:
    """(P, 2, 3) boxes of the parts of many small meshes, as one array of vertices.

    users: (M,) parts of each mesh, P together. world: (P, 4, 4) where they stand, in the order of the meshes.
    """
    vertex = np.cumsum([0, *(m.vertices for m in meshes)])
    points = np.concatenate([m.positions for m in meshes])
    usable = np.zeros(len(points), np.bool_)
    corners = np.concatenate([m.indices for m in meshes]).astype(np.int64)
    face = np.array([m.triangles for m in meshes])
    usable[(corners + np.repeat(vertex[:-1], face)[:, None]).ravel()] = True
    usable |= np.repeat(face == 0, np.diff(vertex))
    usable &= np.isfinite(points).all(axis=1)
    count = np.diff(np.concatenate([[0], np.cumsum(usable)])[vertex])
    x, y, z = points[usable].astype(np.float64).T
    of_part = np.repeat(np.arange(len(meshes)), users)
    each, first = count[of_part], (np.cumsum(count) - count)[of_part]
    vertices = ranges(first, each)
    x, y, z = x[vertices], y[vertices], z[vertices]
    out = np.repeat(world[:, None, :3, 3], 2, axis=1)
    there = each > 0
    starts = (np.cumsum(each) - each)[there]
    for axis in range(3):
        a, b, c = (np.repeat(world[:, axis, k], each) for k in range(3))
        moved = a * x + b * y + c * z
        if len(moved):
            out[there, 0, axis] += np.minimum.reduceat(moved, starts)
            out[there, 1, axis] += np.maximum.reduceat(moved, starts)
    return out


def usable_points(mesh: Mesh) -> F64:
    """(K, 3) finite vertices that triangles use; all finite ones where there is no triangle."""
    points = mesh.positions[mesh.used] if len(mesh.indices) else mesh.positions
    return points[np.isfinite(points).all(axis=1)].astype(np.float64)


@kept
def extreme_points(mesh: Mesh) -> F64:
    """(K, 3) vertices that suffice for bounds under any linear map: the hull's, if it is smaller.

    Falls back to all used vertices for flat or tiny meshes. O(V log V).
    """
    points = usable_points(mesh)
    if len(points) > 200:
        from scipy.spatial import ConvexHull, QhullError

        try:
            points = points[np.unique(ConvexHull(points).vertices)]
        except (QhullError, ValueError):
            points = np.unique(points, axis=0)
    return points
