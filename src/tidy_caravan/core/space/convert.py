"""A whole scene from one convention into another: vertices, nodes, lights, cameras, skins, clips.

With A = factor · P a point v becomes A·v and a matrix M becomes A·M·A⁻¹, so unit and axes end in
vertices and translations and never in a node's scale.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Channel, Clip, Convention, Mesh, Morph, Nodes, Recipe, Root, Scene, Skin
from tidy_caravan.core.scene.arrays import F32, F64, AnyArray
from tidy_caravan.core.scene.nodes import LATER, Rest
from tidy_caravan.core.space.axes import axis_map, unit_factor
from tidy_caravan.core.space.transforms import quaternions

TOGETHER = 1 << 17
"""Vertices of meshes that are turned together; a mesh of more is turned by itself."""
UNDER = "under"
NEXT, AFTER = [1, 2, 0], [2, 0, 1]
"""The other two of three axes, in their cyclic order."""


def convert(scene: Scene, target: Convention, tell: Tell = nobody) -> Scene:
    """The same scene in numbers of another convention. Nothing changes when they are equal.

    Cameras and lights look along their own -Z in every convention, as the file formats say; their
    nodes get the turn that keeps them pointing where they did, and their children the inverse.
    """
    p, factor = axis_map(scene.convention, target), unit_factor(scene.convention, target)
    if factor == 1.0 and np.array_equal(p, np.eye(3)):
        return scene.but(convention=target)
    scene = split_viewers(scene) if not np.array_equal(p, np.eye(3)) else scene
    turn = p if np.linalg.det(p) > 0 else p @ np.diag([-1.0, 1.0, 1.0])
    viewer = (scene.nodes.camera >= 0) | (scene.nodes.light >= 0)
    parent = scene.nodes.parent
    below = (parent >= 0) & viewer[parent]
    local = conjugated(scene.nodes.local, p, factor)
    local[viewer, :3, :3] = local[viewer, :3, :3] @ turn
    local[below, :3, :] = turn.T @ local[below, :3, :]
    nodes = replace(
        scene.nodes,
        local=local,
        rest={
            i: convert_rest(r, p, factor, turn, bool(viewer[i]), bool(below[i])) for i, r in scene.nodes.rest.items()
        },
    )
    return scene.but(
        convention=target,
        nodes=nodes,
        meshes=transform_meshes(scene.meshes, factor * p, tell),
        lights=tuple(
            replace(
                light,
                range=light.range * factor if light.range is not None else None,
                size=(light.size[0] * factor, light.size[1] * factor),
            )
            for light in scene.lights
        ),
        cameras=tuple(
            replace(
                c,
                znear=c.znear * factor,
                zfar=c.zfar * factor if c.zfar is not None else None,
                xmag=c.xmag * factor,
                ymag=c.ymag * factor,
            )
            for c in scene.cameras
        ),
        skins=tuple(
            Skin(
                s.joints,
                None if s.inverse_bind is None else conjugated(s.inverse_bind, p, factor),
                s.skeleton,
                s.name,
                s.extras,
            )
            for s in scene.skins
        ),
        clips=tuple(
            Clip(
                tuple(
                    convert_channel(c, p, factor, turn, bool(viewer[c.node]), bool(below[c.node]))
                    for c in clip.channels
                ),
                clip.name,
                clip.extras,
            )
            for clip in scene.clips
        ),
    )


def conjugated(matrices: F64, p: F64, factor: float) -> F64:
    """(N, 4, 4) A·M·A⁻¹ for A = factor · p."""
    out = matrices.copy()
    out[:, :3, :3] = p @ matrices[:, :3, :3] @ p.T
    out[:, :3, 3] = factor * (matrices[:, :3, 3] @ p.T)
    return out


def transform_mesh(mesh: Mesh, linear: F64) -> Mesh:
    """The mesh under a 3×3 map; a mirror flips winding and tangent sign. Normals by the cofactor matrix."""
    return transform_meshes([mesh], linear)[0]


def transform_meshes(meshes: Sequence[Mesh], linear: F64, tell: Tell = nobody) -> tuple[Mesh, ...]:
    """The same for many; tell hears how many are done. Small ones are turned together, which costs a part of it."""
    before = np.cumsum([0, *(m.vertices for m in meshes)])
    out: list[Mesh] = []
    begin = 0
    while begin < len(meshes):
        tell(begin, len(meshes))
        end = max(begin + 1, int(np.searchsorted(before, before[begin] + TOGETHER, side="right")) - 1)
        out += _under(meshes[begin:end], linear)
        begin = end
    return tuple(out)


def _under(meshes: Sequence[Mesh], linear: F64) -> list[Mesh]:
    """Meshes under a map, their arrays as if they were one."""
    mirrored = bool(np.linalg.det(linear) < 0)
    cofactor = cofactors(linear) * (-1.0 if mirrored else 1.0)
    positions = _apply(np.concatenate([m.positions for m in meshes]), linear)
    normal = [m.normals for m in meshes if m.normals is not None]
    normals, stretch = _unit(np.concatenate(normal), cofactor) if normal else (positions[:0], np.zeros(0))
    tangent = [m.tangents for m in meshes if m.tangents is not None]
    tangents = np.concatenate(tangent) if tangent else np.zeros((0, 4), np.float32)
    hand = tangents[:, 3:] * (-1.0 if mirrored else 1.0)
    tangents = np.column_stack([_unit(tangents[:, :3], linear)[0], hand]).astype(np.float32)
    out, at, normal_at, tangent_at = [], 0, 0, 0
    for mesh in meshes:
        count = mesh.vertices
        new: dict[str, Any] = {"positions": positions[at : at + count]}
        at += count
        stretched = None
        if mesh.normals is not None:
            new["normals"], stretched = normals[normal_at : normal_at + count], stretch[normal_at : normal_at + count]
            normal_at += count
        if mesh.tangents is not None:
            new["tangents"] = tangents[tangent_at : tangent_at + count]
            tangent_at += count
        if mirrored:
            new["indices"] = mesh.indices[:, [0, 2, 1]]
        if mesh.morphs:
            new["morphs"] = tuple(_morph(m, linear, cofactor, stretched) for m in mesh.morphs)
        if mesh.recipe is not None:
            new["recipe"] = put_under(mesh.recipe, linear)
        out.append(replace(mesh, **new))
    return out


def put_under(recipe: Recipe, linear: F64) -> Recipe:
    """The recipe of what is put under a map once more."""
    return replace(recipe, values={**recipe.values, UNDER: (linear @ map_of(recipe)).ravel().tolist()})


def map_of(recipe: Recipe) -> F64:
    """(3, 3) the map that a recipe's mesh has been put under since it was made."""
    return np.array(recipe.values.get(UNDER, np.eye(3)), np.float64).reshape(3, 3)


def cofactors(linear: F64) -> F64:
    """(..., 3, 3) cofactor matrices: det · inverse transposed, also for singular maps."""
    one, other = linear[..., NEXT, :], linear[..., AFTER, :]
    out: F64 = one[..., NEXT] * other[..., AFTER] - one[..., AFTER] * other[..., NEXT]
    return out


def _apply(vectors: F32, linear: F64) -> F32:
    out: F32 = (vectors.astype(np.float64) @ linear.T + 0.0).astype(np.float32)
    return out


def _unit(vectors: F32, linear: F64) -> tuple[F32, F64]:
    """Directions under a map with their old length, and how much the map stretched each."""
    wide = vectors.astype(np.float64)
    before = np.linalg.norm(wide, axis=1)
    moved = wide @ linear.T
    after = np.linalg.norm(moved, axis=1)
    ratio: F64 = np.where(before > 0, after / np.where(before > 0, before, 1.0), 1.0)
    ratio = np.where(ratio > 0, ratio, 1.0)
    return (moved / ratio[:, None] + 0.0).astype(np.float32), ratio


def _morph(morph: Morph, linear: F64, cofactor: F64, stretch: F64 | None) -> Morph:
    normals = None
    if morph.normals is not None and stretch is not None:
        normals = ((morph.normals.astype(np.float64) @ cofactor.T) / stretch[:, None]).astype(np.float32)
    size = abs(float(np.linalg.det(linear))) ** (1 / 3) or 1.0
    return Morph(
        None if morph.positions is None else _apply(morph.positions, linear),
        normals,
        None if morph.tangents is None else _apply(morph.tangents, linear / size),
        morph.name,
    )


def convert_rest(rest: Rest, p: F64, factor: float, turn: F64, viewer: bool, below: bool) -> Rest:
    t, r, s = (np.array([v], dtype=np.float64) for v in rest)
    t, r, s = (
        _translations(t, p, factor, turn, below),
        _rotations(r, p, turn, viewer, below),
        _scales(s, p, turn, viewer),
    )
    return tuple(t[0].tolist()), tuple(r[0].tolist()), tuple(s[0].tolist())


def convert_channel(channel: Channel, p: F64, factor: float, turn: F64, viewer: bool, below: bool) -> Channel:
    wide = channel.values.astype(np.float64)
    if channel.path == "translation":
        wide = _translations(wide, p, factor, turn, below)
    elif channel.path == "rotation":
        wide = _rotations(wide, p, turn, viewer, below)
    elif channel.path == "scale":
        wide = _scales(wide, p, turn, viewer)
    return replace(channel, values=wide.astype(np.float32))


def _translations(t: F64, p: F64, factor: float, turn: F64, below: bool) -> F64:
    out: F64 = factor * (t @ p.T)
    return out @ turn if below else out


def _rotations(q: F64, p: F64, turn: F64, viewer: bool, below: bool) -> F64:
    sign = float(np.sign(np.linalg.det(p)))
    out = np.column_stack([sign * (q[:, :3] @ p.T), q[:, 3]])
    extra: F64 = quaternions(turn[None])[0]
    if viewer:
        out = multiply(out, np.broadcast_to(extra, out.shape))
    if below:
        out = multiply(np.broadcast_to(extra * (-1, -1, -1, 1), out.shape), out)
    return out


def _scales(s: F64, p: F64, turn: F64, viewer: bool) -> F64:
    out = s @ np.abs(p).T
    return out @ np.abs(turn) if viewer else out


def multiply(a: AnyArray, b: AnyArray) -> F64:
    """(N, 4) Hamilton products of xyzw quaternions."""
    av, aw, bv, bw = a[:, :3], a[:, 3:], b[:, :3], b[:, 3:]
    vector = aw * bv + bw * av + np.cross(av, bv)
    scalar = aw * bw - (av * bv).sum(axis=1, keepdims=True)
    return np.column_stack([vector, scalar])


def split_viewers(scene: Scene) -> Scene:
    """Nodes that both draw a mesh and carry a camera or light pass the latter to a new child node."""
    nodes = scene.nodes
    both = np.flatnonzero((nodes.mesh >= 0) & ((nodes.camera >= 0) | (nodes.light >= 0)))
    return hung_below(scene, both, ("camera", "light"))


def one_thing_each(scene: Scene) -> Scene:
    """The same, and a light beside a camera on one node gets a child node of its own: for formats of typed nodes."""
    scene = split_viewers(scene)
    both = np.flatnonzero((scene.nodes.camera >= 0) & (scene.nodes.light >= 0))
    return hung_below(scene, both, ("light",))


def hung_below(scene: Scene, rows: AnyArray, what: tuple[str, ...]) -> Scene:
    """The scene whose nodes `rows` pass their camera, light or both to a new child that stands where they do."""
    nodes = scene.nodes
    if not len(rows):
        return scene
    count = len(rows)
    none = np.full(count, -1, np.int32)

    def passed_on(column: str) -> AnyArray:
        own = getattr(nodes, column)
        if column not in what:
            return np.concatenate([own, none])
        kept = own.copy()
        kept[rows] = -1
        return np.concatenate([kept, own[rows]])

    grown = Nodes(
        parent=np.concatenate([nodes.parent, rows.astype(np.int32)]),
        local=np.concatenate([nodes.local, np.tile(np.eye(4), (count, 1, 1))]),
        mesh=np.concatenate([nodes.mesh, none]),
        light=passed_on("light"),
        camera=passed_on("camera"),
        skin=np.concatenate([nodes.skin, none]),
        flags=np.concatenate([nodes.flags, nodes.flags[rows]]),
        layer=np.concatenate([nodes.layer, nodes.layer[rows]]),
        source=np.concatenate([nodes.source, none.astype(np.int64)]),
        names=(*nodes.names, *(f"{nodes.names[i]}_view" for i in rows.tolist())),
        extras=nodes.extras,
        rest=nodes.rest,
        sources=nodes.sources,
        origins=nodes.origins,
        ids=nodes.ids,
        lightmap=np.concatenate([nodes.lightmap, np.zeros((count, LATER["lightmap"]), np.int32)]),
        page=np.concatenate([nodes.page, np.zeros((count, LATER["page"]), np.int32)]),
    )
    return scene.but(nodes=grown)


def keep_nodes(scene: Scene, keep: AnyArray) -> Scene:
    """The scene with only the nodes marked in keep (N,); parents of kept nodes must be kept."""
    nodes = scene.nodes
    renumber = np.full(len(nodes) + 1, -1, np.int32)
    renumber[:-1][keep] = np.arange(int(keep.sum()), dtype=np.int32)
    kept = np.flatnonzero(keep)

    def new(i: int) -> int:
        return int(renumber[i])

    slim = Nodes(
        parent=renumber[nodes.parent[kept]],
        local=nodes.local[kept],
        mesh=nodes.mesh[kept],
        light=nodes.light[kept],
        camera=nodes.camera[kept],
        skin=nodes.skin[kept],
        flags=nodes.flags[kept],
        layer=nodes.layer[kept],
        source=nodes.source[kept],
        names=tuple(nodes.names[i] for i in kept.tolist()),
        extras={new(i): e for i, e in nodes.extras.items() if keep[i]},
        rest={new(i): r for i, r in nodes.rest.items() if keep[i]},
        sources={new(i): ids for i, ids in nodes.sources.items() if keep[i]},
        origins={new(i): own for i, own in nodes.origins.items() if keep[i]},
        ids={new(i): own for i, own in nodes.ids.items() if keep[i]},
        lightmap=nodes.lightmap[kept],
        page=nodes.page[kept],
    )
    return scene.but(
        nodes=slim,
        roots=tuple(Root(tuple(new(n) for n in r.nodes if keep[n]), r.name, r.extras) for r in scene.roots),
        skins=tuple(
            Skin(
                tuple(new(j) for j in s.joints),
                s.inverse_bind,
                new(s.skeleton) if s.skeleton >= 0 else -1,
                s.name,
                s.extras,
            )
            for s in scene.skins
        ),
        clips=tuple(
            Clip(tuple(replace(c, node=new(c.node)) for c in clip.channels if keep[c.node]), clip.name, clip.extras)
            for clip in scene.clips
        ),
    )
