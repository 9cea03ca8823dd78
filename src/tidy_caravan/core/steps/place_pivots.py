"""Step: pivots where they are of use, with the world as it was."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.leaf import leaf_of
from tidy_caravan.core.geometry.stretched import uneven_stretch
from tidy_caravan.core.pace import Tell, paced
from tidy_caravan.core.scene import Mesh, Scene, extreme_points
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.clips import moved_in_place
from tidy_caravan.core.space.convert import split_viewers
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    step,
    with_meshes,
)
from tidy_caravan.core.surroundings.world import outside, pinned
from tidy_caravan.core.words import plural

End = Literal["low", "middle", "high"]
DEEPEST = 64
"""Parts hung below each other up to which their pivots go to the origin of the uppermost."""
AT = {
    "base": "the base centre of the part",
    "centre": "the centre of the part",
    "corner": "a corner of the part",
    "hinge": "the hinge",
    "group": "the origin of the group",
    "world": "the world origin",
    "point": "the given point",
}
ENDS = {"low": 0.0, "middle": 0.5, "high": 1.0}
AGREE = 1e-6
"""Part of a mesh's size within which all its users want the pivot at one place."""
HARMLESS_M = 1e-5
"""Steps of float32 that nobody sees."""
TWICE = 2.0
"""How much further from a pivot than from the old one, or from the world's origin, vertices may come to lie beyond that."""


@step
class PlacePivots(Step):
    """Moves pivots: mesh' = T⁻¹·mesh, node' = node·T, children' = T⁻¹·child.

    Every instance of a shared mesh gets the same move, so sharing and the world stay as they are. The underside is
    that towards the ground, however a part is turned; instances that stand differently go by the way most stand. Where
    instances would want different places of one mesh (the world origin for a row of benches) they are left, and told.
    """

    title = "Place pivots"
    summary = "Brings pivots to the base, centre, corner or hinge of their part, to their group's origin or a point; nothing moves in the world."

    phase = Phase.GEOMETRY
    once = False

    kind: Literal["place_pivots"] = "place_pivots"
    at: Literal["base", "centre", "corner", "hinge", "group", "world", "point"] = parameter(
        "base",
        "Pivot at",
        "base: middle of the underside in the world; corner: of the part's own box, as below; hinge: the upright edge "
        "of a leaf, away from its handle; group: origin of the node above; world: the world origin; point: as below",
    )
    only_far: bool = parameter(True, "Only far ones", "Leave pivots that lie within reach of their part")
    x: End = parameter(
        "low", "Corner, along X", "Of the part's own box; three times middle is its centre", only={"at": ["corner"]}
    )
    y: End = parameter("low", "Corner, along Y", "As along X", only={"at": ["corner"]})
    z: End = parameter("low", "Corner, along Z", "As along X", only={"at": ["corner"]})
    edge: Literal["found", "low", "high"] = parameter(
        "found",
        "Hinge edge",
        "found: away from the handle, or where the pivot is nearer; low, high: across the leaf",
        only={"at": ["hinge"]},
    )
    point_x: float = parameter(
        0.0, "Point, X", "In the world of the destination", "m", pick="x", only={"at": ["point"]}, ge=-1e8, le=1e8
    )
    point_y: float = parameter(
        0.0, "Point, Y", "As X, in its axes", "m", pick="y", only={"at": ["point"]}, ge=-1e8, le=1e8
    )
    point_z: float = parameter(
        0.0, "Point, Z", "As X, in its axes", "m", pick="z", only={"at": ["point"]}, ge=-1e8, le=1e8
    )

    def effects(self) -> tuple[Effect, ...]:
        why = "Pivots were moved by a step; the distance to the old ones is shown and not held against the package."
        return (Effect(Aspect.PIVOTS, why=why), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        # a light or camera on the node of a part would move with its pivot
        before, scene = len(scene.nodes), split_viewers(scene)
        nodes = scene.nodes
        chosen = np.append(chosen, np.zeros(len(nodes) - before, np.bool_)) & (nodes.mesh >= 0)
        held = chosen & pinned(scene)
        chosen &= ~held
        if self.only_far:
            held[nodes.parts] &= outside(scene)[1]
        stay = np.flatnonzero(held)
        text = f"{plural(len(stay), 'part stays, since a clip or bones move it', 'parts stay, since clips or bones move them')} about where the pivot is"
        staying = [Change(text=text, count=len(stay), parts=identities_of(scene, stay))] if len(stay) else []
        out, notes = scene, list[Change]()
        done = np.zeros(len(nodes), np.bool_)
        for _ in range(DEEPEST if self.at == "group" else 1):  # a group that is a part itself has moved its origin
            shift, notes = self.shifts(out, np.flatnonzero(chosen), context)
            move = np.where(chosen[:, None], shift[out.nodes.mesh], 0.0)
            moved = (move != 0).any(axis=1)
            if not moved.any():
                break
            out = moved_pivots(out, moved, move, shift, context.progress)
            done |= moved
        notes = [*notes, *staying]
        if not done.any():
            return scene, notes
        count = int(done.sum())
        text = f"{plural(count, 'pivot')} moved to {AT[self.at]}"
        return out, [Change(text=text, count=count, parts=identities_of(scene, np.flatnonzero(done))), *notes]

    def shifts(self, scene: Scene, rows: I64, context: StepContext) -> tuple[F64, list[Change]]:
        """(M + 1, 3) where the pivot of each mesh is to be, in its own space, noughts for those that stay; and what is
        to be said of others. rows: the chosen parts."""
        nodes = scene.nodes
        shift = np.zeros((len(scene.meshes) + 1, 3))
        if not len(rows):
            return shift, []
        order = rows[np.argsort(nodes.mesh[rows], kind="stable")]
        used, begin = np.unique(nodes.mesh[order], return_index=True)
        apart: list[int] = []
        unsure: list[int] = []
        no_leaf: list[int] = []
        far_off: list[int] = []
        up = axis_vector(scene.convention.up)
        far = np.ones(len(nodes), np.bool_)
        if self.only_far:
            far[nodes.parts] = outside(scene)[1]
        for k, (i, users) in enumerate(zip(used.tolist(), np.split(order, begin[1:]), strict=True)):
            context.progress(k, len(used))
            mesh = scene.meshes[i]
            box = mesh.bounds
            size = float(np.linalg.norm(box[1] - box[0]))
            if not far[users].any():
                continue
            target = box[0] + (box[1] - box[0]) * np.array([ENDS[self.x], ENDS[self.y], ENDS[self.z]])
            if self.at == "centre":
                target = box.mean(axis=0)
            elif self.at == "base":
                target = underside(mesh, nodes.world[users, :3, :3], up)
            elif self.at == "hinge":
                one, way = stance(nodes.world[users, :3, :3], up)
                stretch = uneven_stretch(nodes.world[users[one], :3, :3])
                leaf = leaf_of(mesh, way, stretch)
                if leaf is None:
                    no_leaf += users.tolist()
                    continue
                if self.edge == "found" and not leaf.sure:
                    unsure += users.tolist()
                low = leaf.low if self.edge == "found" else self.edge == "low"
                target = np.linalg.solve(stretch, leaf.hinge(low))
            elif self.at in ("group", "world", "point"):
                wanted = self.in_the_mesh(scene, users)
                if np.ptp(wanted, axis=0).max() > AGREE * size:
                    apart += users.tolist()
                    continue
                target = wanted[0]
            if too_far(box, target, nodes.world[users], scene.convention.metres_per_unit):
                far_off += users.tolist()
                continue
            # what float32 cannot tell from there is there
            if np.abs(target).max() > max(AGREE * size, 2 * float(np.spacing(np.float32(np.abs(box).max())))):
                shift[i] = target
        told = (
            (apart, "stay: they share a mesh, and what is wanted would be another place of it for each"),
            (unsure, "got the hinge at the edge that was nearer to their pivot: nothing in their shape tells which it is"),
            (far_off, "stay: that far from their pivot their vertices, kept in 32 bits, would lose more than the world around them does"),
            (no_leaf, "are no leaves, thin and upright, and stay"),
        )  # fmt: skip
        return shift, [
            Change(text=f"{plural(len(n), 'part')} {text}", count=len(n), parts=identities_of(scene, np.array(n)))
            for n, text in told
            if n
        ]

    def in_the_mesh(self, scene: Scene, users: I64) -> F64:
        """(K, 3) where the wanted place of the world lies in the mesh, for each of its users."""
        nodes = scene.nodes
        places = np.zeros((len(users), 3))
        if self.at == "group":
            parent = nodes.parent[users]
            places = np.where((parent >= 0)[:, None], nodes.world[parent, :3, 3], 0.0)
        elif self.at == "point":
            places += np.array([self.point_x, self.point_y, self.point_z]) / scene.convention.metres_per_unit
        back = affine_inverse(nodes.world[users])
        out: F64 = np.einsum("kij,kj->ki", back[:, :3, :3], places) + back[:, :3, 3]
        return out


def moved_pivots(scene: Scene, moved: Bool, move: F64, shift: F64, tell: Tell) -> Scene:
    """The scene with the pivots of some nodes (N,) moved by `move` (N, 3) in their own space. shift: (M + 1, 3) the same
    by mesh."""
    nodes = scene.nodes
    by: F64 = (nodes.local[:, :3, :3] @ move[:, :, None])[:, :, 0]
    below = np.flatnonzero((nodes.parent >= 0) & moved[nodes.parent])
    by[below] -= move[nodes.parent[below]]
    meshes = list(scene.meshes)
    table = np.full(len(meshes) + 1, -1, np.int32)
    for i in paced(np.unique(nodes.mesh[moved]).tolist(), tell):
        table[i] = len(meshes)
        shifted = (scene.meshes[i].positions.astype(np.float64) - shift[i]).astype(np.float32)
        meshes.append(replace(scene.meshes[i], positions=shifted))
    column = np.where(moved, table[nodes.mesh], nodes.mesh).astype(np.int32)
    return with_meshes(moved_in_place(scene, by), column, meshes, tell)


def too_far(box: F64, target: F64, worlds: F64, metres: float) -> bool:
    """Whether vertices about a pivot there have float32 steps of more than HARMLESS_M, and coarser than about their own one
    and than places in the world have. box: (2, 3) of the mesh. worlds: (K, 4, 4) of its users. metres: of a unit."""
    own, there = np.abs(box).max(), np.abs(box - target).max()
    stretch = np.linalg.norm(worlds[:, :3, :3], axis=1).max(axis=1)
    reach = (np.abs(worlds[:, :3, 3]).max(axis=1) / np.where(stretch > 0, stretch, 1.0)).max()
    step = float(np.spacing(np.float32(there))) * float(stretch.max()) * metres
    return bool(step > HARMLESS_M and there > TWICE * max(own, reach))


def stance(linear: F64, up: F64) -> tuple[int, F64]:
    """One of a mesh's users (K, 3, 3) that stands as most of them do, and (3,) the way up in the mesh's own space then.

    up: (3,) the signed axis of the world. Users whose up is the same direction in the mesh stand alike.
    """
    ways = np.einsum("kij,i->kj", linear, up)
    length = np.linalg.norm(ways, axis=1, keepdims=True)
    keys = np.round(ways / np.where(length > 0, length, 1.0), 3) + 0.0
    _, first, counts = np.unique(keys, axis=0, return_index=True, return_counts=True)
    one = int(first[np.argmax(counts)])
    return one, keys[one]


def underside(mesh: Mesh, linear: F64, up: F64) -> F64:
    """(3,) middle of a mesh's underside, in its own space, as most of its users (K, 3, 3) stand. up: as in `stance`."""
    one, _ = stance(linear, up)
    whole = np.eye(4)
    whole[:3, :3] = linear[one]
    points = extreme_points(mesh) @ linear[one].T
    box = np.array([points.min(axis=0), points.max(axis=0)])
    middle = box.mean(axis=0)
    axis = int(np.argmax(np.abs(up)))
    middle[axis] = box[0 if up[axis] > 0 else 1, axis]
    out: F64 = affine_inverse(whole[None])[0, :3, :3] @ middle
    return out
