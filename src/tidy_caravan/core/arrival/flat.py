"""What formats without a tree make of a scene: one lump that is told apart by place, and coordinates laid out."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from tidy_caravan.core.arrival.placed import Placed
from tidy_caravan.core.arrival.surfaces import ordered
from tidy_caravan.core.formats.shared.received import DOUBTS, PART_OF_TRIANGLE, POINTS_OF_LUMP
from tidy_caravan.core.scene import Mesh, Scene, TextureUse, make_nodes
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.core.scene.look import channel_of
from tidy_caravan.core.words import plural


def with_parts(arrived: Scene, result: Scene) -> Scene:
    """The one mesh of a lump cut into the result's parts: in their order where the triangles lie there, else by place.

    Every part of the result with triangles gets one node, in order, be it empty.
    """
    here, there = Placed.of(result), Placed.of(arrived)
    parts = [i for i in result.nodes.parts.tolist() if result.meshes[result.nodes.mesh[i]].triangles]
    centres: list[F64] = []
    for i in parts:
        mesh = result.meshes[result.nodes.mesh[i]]
        points = mesh.positions.astype(np.float64) @ here.linear.T
        world = here.worlds[i]
        centres.append((points @ world[:3, :3].T + world[:3, 3])[mesh.indices].mean(axis=1))
    wanted: F64 = np.concatenate(centres) if centres else np.zeros((0, 3))
    owner: I64 = np.repeat(np.arange(len(parts)), [len(c) for c in centres]) if centres else np.zeros(0, np.int64)
    lump = arrived.meshes[0] if arrived.meshes else None
    if lump is None or not len(wanted):
        count = len(parts)
        nodes = make_nodes(np.full(count, -1), np.tile(np.eye(4), (count, 1, 1)), [""] * count)
        return arrived.but(nodes=nodes, meshes=())
    place = arrived.nodes.world[int(arrived.nodes.parts[0])]
    every: F64 = arrived.extras.get(POINTS_OF_LUMP, lump.positions.astype(np.float64) + place[:3, 3])
    found = (every @ there.linear.T)[lump.indices].mean(axis=1)
    limit = 1e-4 + 1e-6 * float(np.abs(wanted).max())
    doubts: list[str] = []
    if len(found) == len(wanted) and np.linalg.norm(found - wanted, axis=1).max() <= limit:
        of = owner
        doubts = said_of_parts(arrived, result, np.array(parts, np.int64)[owner])
    else:
        of = owner[np.asarray(cKDTree(wanted).query(found)[1])]
    local = np.tile(np.eye(4), (len(parts), 1, 1))
    meshes: list[Mesh] = []
    column = np.full(len(parts), -1, np.int32)
    for k in range(len(parts)):
        rows = np.flatnonzero(of == k)
        if not len(rows):
            continue
        used, inverse = np.unique(lump.indices[rows], return_inverse=True)
        points = every[used]
        local[k, :3, 3] = np.rint(points.mean(axis=0))
        column[k] = len(meshes)
        meshes.append(
            Mesh(
                (points - local[k, :3, 3]).astype(np.float32),
                inverse.reshape(-1, 3).astype(np.uint32),
                lump.material[rows],
                None if lump.normals is None else lump.normals[used],
                uvs=tuple(u[used] for u in lump.uvs),
                colors=tuple(c[used] for c in lump.colors),
            )
        )
    names = [result.nodes.names[i] for i in parts]
    nodes = make_nodes(np.full(len(parts), -1), local, names, mesh=column)
    extras = {**arrived.extras, DOUBTS: [*arrived.extras.get(DOUBTS, ()), *doubts]}
    return arrived.but(nodes=nodes, meshes=tuple(meshes), extras=extras)


def said_of_parts(arrived: Scene, result: Scene, node: I64) -> list[str]:
    """What the file says otherwise of the part that each triangle belongs to, where the format says so. node: (F,) of the
    result."""
    if PART_OF_TRIANGLE not in arrived.extras:
        return []
    said = arrived.extras[PART_OF_TRIANGLE]
    number: I64 = np.searchsorted(result.nodes.parts, node)
    if said is None or len(said) != len(number):
        return ["the file does not say which part a triangle belongs to"]
    wrong = np.flatnonzero(said != number)
    if not len(wrong):
        return []
    first = result.nodes.paths[int(node[wrong[0]])]
    return [f"the file says of {plural(len(wrong), 'triangle')}, such as one of “{first}”, that another part has it"]


def expected_coordinates(scene: Scene, a: Mesh, b: Mesh) -> dict[int, tuple[F64, F64]]:
    """The one set of OBJ by corner (F, 3, 2): every material's own set, placed as its main picture is.

    offset + rotation · scale · uv, as KHR_texture_transform has it.
    """
    faces, slots = ordered(a)
    first = np.zeros((len(faces), 3, 2))
    for slot in np.unique(slots).tolist():
        rows = np.flatnonzero(slots == slot)
        use = main_use(scene, slot)
        channel = channel_of(use) if use is not None else 0
        if use is None or channel >= len(a.uvs):
            first[rows] = a.uvs[0][faces[rows]]
            continue
        uv = a.uvs[channel].astype(np.float64)[faces[rows]] * use.scale
        turn = np.array([[np.cos(use.rotation), np.sin(use.rotation)], [-np.sin(use.rotation), np.cos(use.rotation)]])
        first[rows] = uv @ turn.T + use.offset
    other, _ = ordered(b)
    return {0: (first, b.uvs[0].astype(np.float64)[other])}


def main_use(scene: Scene, slot: int) -> TextureUse | None:
    """The picture by which a material's one set is chosen: that of the base colour, else its first."""
    if slot < 0:
        return None
    material = scene.materials[slot]
    return material.base_color_texture or next(iter(material.uses()), None)
