"""Step that takes parts apart: a lump into its pieces, a large one into such as can be culled, lit and addressed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.closest import closest_on
from tidy_caravan.core.geometry.cutting import cut
from tidy_caravan.core.geometry.pieces import (
    base_of,
    by_cell,
    by_face,
    by_halving,
    by_material,
    by_shell,
    pieces_of,
    put_at,
)
from tidy_caravan.core.geometry.vertices import not_finite
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.core.scene.nodes import with_parts
from tidy_caravan.core.scene.scene import with_meshes
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.words import plural

NEAR_M = 0.01
"""How far off a surface a picked point may lie, in metres of the destination's world."""
WHOLE = 1 + 1e-6
"""Part of a cell up to which a mesh is no larger than one."""
MOST_PIECES = 20_000
"""Pieces of one mesh from which on it is left as it is: they would be leaves, or gravel."""


@step
class SplitParts(Step):
    """Every piece becomes a part below the node of the old one, with its layer, its place in the world, and a pivot of its
    own. A mesh that parts share is split once, and they share its pieces. Cells and storeys are those of the world for a
    mesh that one part draws, and of the mesh's own space for shared ones. What is animated goes on moving as a whole;
    skinned parts and those with morph targets are left."""

    title = "Split"
    summary = "Takes parts apart by material, loose shell, storey, cell, vertices, size, a plane or picked points; nothing moves."

    phase = Phase.SPLIT
    once = False

    kind: Literal["split_parts"] = "split_parts"
    by: Literal["shells", "material", "storey", "cell", "vertices", "size", "plane", "picked"] = parameter(
        "shells",
        "By",
        "shells: what hangs together, solids that touch one by one; vertices and size: halved until no piece has more; plane: cut through triangles; "
        "picked: what is under the points, by itself",
    )
    storey_m: float = parameter(
        3.0, "Storey", "Height of the slices by storey", "m", only={"by": ["storey"]}, ge=0.1, le=1000
    )
    cell_m: float = parameter(10.0, "Cell", "Edge of the cells", "m", only={"by": ["cell"]}, ge=0.1, le=100_000)
    vertices: int = parameter(
        65_535, "Vertices", "A piece has no more", "vertices", only={"by": ["vertices"]}, ge=100, le=10_000_000
    )
    size_m: float = parameter(
        20.0, "Size", "No side of a piece is longer", "m", only={"by": ["size"]}, ge=0.01, le=100_000
    )
    axis: Literal["x", "y", "z"] = parameter(
        "x", "Plane across", "Axis of the destination's world", only={"by": ["plane"]}
    )
    at_m: float = parameter(0.0, "Plane at", "Where on that axis", "m", only={"by": ["plane"]}, ge=-1e8, le=1e8)
    points: list[tuple[float, float, float]] = parameter(
        [], "Picked points", "Places on what is to be split off, in the world of the destination", "m", pick="points", only={"by": ["picked"]},
        max_length=500,
    )  # fmt: skip
    take: Literal["shell", "face"] = parameter(
        "shell",
        "Under a point",
        "shell: all that hangs together there; face: the flat face there",
        only={"by": ["picked"]},
    )
    caps: bool = parameter(True, "Caps", "Fills what the plane lays open, where it was closed", only={"by": ["plane"]})
    pivot: Literal["base", "kept"] = parameter(
        "base", "Pivots", "base: the middle of each piece's underside; kept: where the part had it"
    )

    def effects(self) -> tuple[Effect, ...]:
        why = "Parts were split by a step."
        aspects: tuple[Aspect, ...] = (Aspect.PARTS, Aspect.NAMES, Aspect.TREE, Aspect.PIVOTS, Aspect.SHARING)
        if self.by == "plane":  # pieces of triangles are new ones
            aspects = (*aspects, Aspect.TRIANGLES, Aspect.MATERIALS)
        return (*(Effect(a, why=why) for a in aspects),)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        chosen = context.selected(self.where, scene) & (nodes.mesh >= 0)
        bent = chosen & ((nodes.skin >= 0) | np.array([bool(m.morphs) for m in scene.meshes] + [False])[nodes.mesh])
        rows = np.flatnonzero(chosen & ~bent)
        order = rows[np.argsort(nodes.mesh[rows], kind="stable")]
        used, begin = np.unique(nodes.mesh[order], return_index=True)
        users_of = np.split(order, begin[1:]) if len(order) else []
        up = axis_vector(scene.convention.up)
        grown = Grown(scene)
        too_many: list[int] = []
        whole: list[int] = []
        under = Under(self.points, self.take, scene, rows) if self.by == "picked" else None
        for k, (number, users) in enumerate(zip(used.tolist(), users_of, strict=True)):
            context.progress(k, len(used))
            mesh = scene.meshes[number]
            if mesh.triangles < 1 or (mesh.triangles < 2 and self.by != "plane"):
                continue
            if self.by == "plane":
                self.cut(mesh, scene, users, grown, up)
                continue
            bad = not_finite(mesh)
            label = under.labels(mesh, users) if under else self.labels(mesh, scene, users, up)
            # triangles that are nowhere go with the first piece
            label = np.where(bad, label[~bad].min(initial=0), label)
            count = int(label.max()) + 1
            if len(np.unique(label)) < 2:
                whole += users[np.isin(users, under.part)].tolist() if under else []
                continue
            if count > MOST_PIECES:
                too_many += users.tolist()
                continue
            pieces = [p for p in pieces_of(mesh, label) if p.triangles]
            grown.put(users, pieces, self.pivot == "base", up)
        out = grown.scene_of()
        changes = under.missed() if under else []
        if grown.split:
            parts = np.array(grown.split)
            text = f"{plural(len(parts), 'part')} split into {len(grown.parent)}"
            changes.append(Change(text=text, count=len(grown.parent), parts=identities_of(scene, parts)))
        if whole:
            text = f"{plural(len(whole), 'part stays', 'parts stay')} whole: nothing lies beside what was picked there"
            changes.append(Change(text=text, count=len(whole), parts=identities_of(scene, np.array(whole))))
        if bent.any():
            text = f"{plural(int(bent.sum()), 'part with a skin or morph targets stays', 'parts with a skin or morph targets stay')} whole"
            told = identities_of(scene, np.flatnonzero(bent))
            changes.append(Change(text=text, count=int(bent.sum()), problem=True, parts=told))
        if too_many:
            text = f"{plural(len(too_many), 'part')} would fall into more than {MOST_PIECES} pieces and stay whole"
            changes.append(
                Change(text=text, count=len(too_many), problem=True, parts=identities_of(scene, np.array(too_many)))
            )
        return out, changes

    def cut(self, mesh: Mesh, scene: Scene, users: I64, grown: Grown, up: F64) -> None:
        """Cuts a mesh for each of its users where the plane lies for it, and for those of one place once."""
        nodes = scene.nodes
        normal = np.eye(3)["xyz".index(self.axis)]
        offset = self.at_m / scene.convention.metres_per_unit
        # the plane in the space of the mesh: normal · (L x + t) = offset
        own = nodes.world[users, :3, :3].transpose(0, 2, 1) @ normal
        length = np.linalg.norm(own, axis=1)
        shift = (offset - nodes.world[users, :3, 3] @ normal) / np.maximum(length, 1e-300)
        own /= np.maximum(length, 1e-300)[:, None]
        size = float(np.linalg.norm(mesh.bounds[1] - mesh.bounds[0])) or 1.0
        kinds = np.round(np.column_stack([own * size, shift]) / (size * 1e-7))
        _, first, kind = np.unique(kinds, axis=0, return_index=True, return_inverse=True)
        sound = mesh.with_triangles(~not_finite(mesh)) if not_finite(mesh).any() else mesh
        for k, at in enumerate(first.tolist()):
            halves = [h for h in cut(sound, own[at], float(shift[at]), self.caps) if h is not None and h.triangles]
            if len(halves) > 1 and length[at] > 0:
                grown.put(users[kind.reshape(-1) == k], halves, self.pivot == "base", up)

    def labels(self, mesh: Mesh, scene: Scene, users: I64, up: F64) -> I64:
        """(F,) which piece each triangle of a mesh goes to."""
        if self.by == "material":
            return by_material(mesh)
        if self.by == "shells":
            return by_shell(mesh)
        metre = scene.convention.metres_per_unit
        world = scene.nodes.world[users[0]]
        scale = float(np.linalg.norm(scene.nodes.world[users, :3, :3], axis=1).max()) * metre
        if self.by == "vertices":
            return by_halving(mesh, most_vertices=self.vertices)
        if self.by == "size":
            return by_halving(mesh, size=self.size_m / scale)
        middles = mesh.positions.astype(np.float64)[mesh.indices].mean(axis=1)
        if len(users) == 1:
            middles, scale = middles @ world[:3, :3].T + world[:3, 3], metre
            high = np.abs(up)
        else:
            high = np.zeros(3)
            high[int(np.argmax(np.abs(np.linalg.inv(world[:3, :3]) @ up)))] = 1.0
        cell = high * self.storey_m if self.by == "storey" else np.full(3, self.cell_m)
        if len(users) > 1 and self.by == "cell" and (np.ptp(middles, axis=0) <= self.cell_m / scale * WHOLE).all():
            return np.zeros(len(middles), np.int64)  # no larger than a cell, wherever its own nought lies
        # cells stand about nought, storeys on the lowest place
        origin = np.where(high > 0, middles.min(axis=0), 0.0) if self.by == "storey" else np.zeros(3)
        return by_cell(middles, cell / scale, origin)


class Under:
    """What is under picked points: by mesh, the triangles of one or several parts."""

    def __init__(self, points: list[tuple[float, float, float]], take: str, scene: Scene, rows: I64) -> None:
        self.take, self.scene = take, scene
        self.metre = scene.convention.metres_per_unit
        self.points = np.array(points, np.float64).reshape(-1, 3) / self.metre
        self.part = np.full(len(self.points), -1, np.int64)
        self.far = np.full(len(self.points), np.inf)
        self.triangle = np.full(len(self.points), -1, np.int64)
        boxes = scene.part_bounds[np.searchsorted(scene.nodes.parts, rows)] if len(rows) else np.zeros((0, 2, 3))
        reach = NEAR_M / self.metre
        for k, point in enumerate(self.points):
            near = ((point >= boxes[:, 0] - reach) & (point <= boxes[:, 1] + reach)).all(axis=1)
            for row in rows[near].tolist():
                self.ask(k, row, reach)

    def ask(self, k: int, row: int, reach: float) -> None:
        """Whether a part lies under a point, nearer than those asked before."""
        mesh, world = self.scene.meshes[self.scene.nodes.mesh[row]], self.scene.nodes.world[row]
        corners = mesh.positions.astype(np.float64)[mesh.indices] @ world[:3, :3].T + world[:3, 3]
        point = self.points[k]
        boxed = np.flatnonzero(
            ((corners.min(axis=1) <= point + reach) & (corners.max(axis=1) >= point - reach)).all(axis=1)
        )
        if not len(boxed):
            return
        far = np.linalg.norm(closest_on(np.tile(point, (len(boxed), 1)), corners[boxed]) - point, axis=1)
        best = int(np.argmin(far))
        if far[best] <= reach and far[best] < self.far[k]:
            self.far[k], self.part[k], self.triangle[k] = far[best], row, boxed[best]

    def labels(self, mesh: Mesh, users: I64) -> I64:
        """(F,) 1 for the triangles under the points that lie on one of the users, 0 for the rest."""
        out = np.zeros(mesh.triangles, np.int64)
        mine = np.unique(self.triangle[np.isin(self.part, users)])
        if len(mine):
            label = by_shell(mesh) if self.take == "shell" else by_face(mesh)
            out[np.isin(label, label[mine])] = 1
        return out

    def missed(self) -> list[Change]:
        lost = np.flatnonzero(self.part < 0)
        if not len(lost):
            return []
        where = ", ".join("({:.3g}, {:.3g}, {:.3g})".format(*p) for p in (self.points[lost[:3]] * self.metre).tolist())
        text = f"{plural(len(lost), 'point lies', 'points lie')} on none of the parts, as at {where} m: pick again"
        return [Change(text=text, count=len(lost), problem=True)]


class Grown:
    """A scene that gets more parts, below the nodes that drew them before."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self.meshes = list(scene.meshes)
        self.split: list[int] = []
        self.parent: list[int] = []
        self.local: list[F64] = []
        self.mesh: list[int] = []
        self.names: list[str] = []
        self.origins = dict(scene.nodes.origins)

    def put(self, users: I64, pieces: list[Mesh], own_pivot: bool, up: F64) -> None:
        """The pieces of a mesh below each of its users, numbered."""
        world = self.scene.nodes.world[users[0], :3, :3]
        mine = np.linalg.inv(world) @ up if abs(np.linalg.det(world)) > 0 else up
        origins = [base_of(p, mine) for p in pieces] if own_pivot else [np.zeros(3)] * len(pieces)
        self.put_named(users, pieces, origins, [self.suffix(p, k) for k, p in enumerate(pieces)])

    def put_named(self, users: I64, pieces: list[Mesh], origins: Sequence[F64], names: list[str]) -> None:
        """The pieces of a mesh below each of its users, each with its own origin (3,) and name after that of the whole."""
        nodes = self.scene.nodes
        first = len(self.meshes)
        places = np.tile(np.eye(4), (len(pieces), 1, 1))
        for k, (piece, origin, name) in enumerate(zip(pieces, origins, names, strict=True)):
            places[k, :3, 3] = origin
            named = f"{piece.name}_{name}" if piece.name else ""
            self.meshes.append(replace(put_at(piece, origin) if np.any(origin) else piece, name=named))
        for user in users.tolist():
            own = self.origins.pop(user, None)
            at = len(nodes) + len(self.parent)
            self.split.append(user)
            self.parent += [user] * len(pieces)
            self.local += list(places)
            self.mesh += range(first, first + len(pieces))
            self.names += [f"{nodes.names[user]}_{name}" for name in names]
            if own is not None:  # the pieces say which of the mesh's triangles they are
                self.origins |= {at + k: own for k in range(len(pieces))}

    def suffix(self, piece: Mesh, k: int) -> str:
        """What tells a piece from the others: its material where it has one alone, and its number."""
        slots = piece.slots
        name = self.scene.materials[slots[0]].name if len(slots) == 1 and slots[0] >= 0 else ""
        return f"{name}_{k + 1:02}" if name else f"{k + 1:02}"

    def scene_of(self) -> Scene:
        """The scene with everything that was put; the old nodes draw nothing any more and stay as the groups."""
        if not self.parent:
            return self.scene
        nodes, above = self.scene.nodes, np.array(self.parent)
        column = nodes.mesh.copy()
        column[self.split] = -1
        gone = set(self.split)
        several = {len(nodes) + k: nodes.sources[i] for k, i in enumerate(self.parent) if i in nodes.sources}
        grown = with_parts(
            replace(nodes, mesh=column), above, np.array(self.local), self.names, self.mesh, nodes.layer[above],
            nodes.flags[above], nodes.source[above],
        )  # fmt: skip
        grown = replace(
            grown,
            sources={**{i: ids for i, ids in nodes.sources.items() if i not in gone}, **several},
            origins=self.origins,
        )
        return with_meshes(self.scene.but(nodes=grown), grown.mesh, self.meshes)
