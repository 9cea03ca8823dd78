"""Files of one haul that each have a unit and axes of their own: what each says, and one of them read in others.

A scene of several files has one convention, into which all were brought. What a file's own numbers were taken for is kept
beside it, so that a file that lies, or says nothing, can be corrected without the others.
"""

from __future__ import annotations

from collections.abc import Container, Mapping
from dataclasses import dataclass, replace
from itertools import permutations, product
from typing import Any

import numpy as np

from tidy_caravan.core.scene import Convention, Scene
from tidy_caravan.core.scene.arrays import F64, I32, I64, Bool
from tidy_caravan.core.scene.identity import spans_of
from tidy_caravan.core.space.axes import axis_map, basis, linear_map
from tidy_caravan.core.space.convert import convert, split_viewers
from tidy_caravan.core.space.site import SITE, read_as, taken_off

STATED = "stated"
"""Key of the scene's extras: by file label, metres per unit, up, forward, handedness, whether the file says so, offset."""
SAME = 1e-12
"""Part by which two maps are one."""


@dataclass(frozen=True)
class Stated:
    """What the numbers of a file are taken for. offset: what reading took off them, metres as in `taken_off`."""

    convention: Convention
    offset: tuple[float, float, float] = (0.0, 0.0, 0.0)

    @classmethod
    def of(cls, scene: Scene) -> Stated:
        east, north, up = taken_off(scene).tolist()
        return cls(scene.convention, (east, north, up))

    def under(self, change: F64, convention: Convention) -> Stated:
        east, north, up = (change @ self.offset).tolist()
        return Stated(convention, (east, north, up))


def stated_by_file(scene: Scene) -> dict[str, Stated]:
    """What the numbers of each of several files are taken for, as it counts now; empty for a single one."""
    out = {}
    for label, (*convention, offset) in (scene.extras.get(STATED) or {}).items():
        out[label] = Stated(Convention(*convention), tuple(offset))
    return out


def with_stated(scene: Scene, stated: Mapping[str, Stated]) -> Scene:
    """The scene that says so, and that its unit is known only where that of every file is."""
    told = {}
    for label, one in stated.items():
        c = one.convention
        told[label] = [c.metres_per_unit, c.up, c.forward, c.handedness, c.declared, list(one.offset)]
    known = all(s.convention.declared for s in stated.values())
    return scene.but(convention=replace(scene.convention, declared=known), extras={**scene.extras, STATED: told})


def of_files(scene: Scene, labels: Container[str]) -> Bool:
    """(N,) nodes that came in one of these files, and what steps hung below them."""
    source = scene.nodes.source
    came = np.zeros(int(source.max(initial=-1)) + 2, np.bool_)
    for name, begin, count in spans_of(scene.extras):
        if name in labels:
            came[begin : begin + count] = True
    came[-1] = False  # made by a step
    return scene.nodes.under(came[np.minimum(source, len(came) - 1)])


def convention_of(linear: F64, declared: bool = True) -> Convention:
    """The convention that a map (3, 3) into the site's metres is one of. Raises ValueError where there is none."""
    factor = abs(float(np.linalg.det(linear))) ** (1 / 3)
    for metres in (float(f"{factor:.12g}"), factor):
        for (up, forward), *signs, hand in product(permutations("XYZ", 2), ("", "-"), ("", "-"), ("right", "left")):
            one = Convention(metres, signs[0] + up, signs[1] + forward, hand, declared)  # type: ignore[arg-type]
            if np.abs(linear_map(one, SITE) - linear).max() <= SAME * factor:
                return one
    raise ValueError("no unit and axes are that map")


def read_in(scene: Scene, convention: Convention) -> Scene:
    """The same numbers in another convention, and those of all its files with them."""
    if convention == scene.convention:
        return scene
    stated = stated_by_file(scene)
    if not stated:
        return read_as(scene, convention)
    change = linear_map(convention, SITE) @ np.linalg.inv(linear_map(scene.convention, SITE))
    told = convention.declared and not scene.convention.declared
    now = {}
    for label, one in stated.items():
        own = convention_of(change @ linear_map(one.convention, SITE), one.convention.declared or told)
        now[label] = one.under(change, own)
    return with_stated(read_as(scene, convention), now)


def files_read_in(scene: Scene, wanted: Mapping[str, Convention]) -> Scene:
    """The scene with some of its several files read in other conventions, each about its own origin; the others stay as they
    are. Raises KeyError for a file that it does not have, CaravanError for impossible axes. O(nodes + vertices) for files that
    differ alike."""
    stated = stated_by_file(scene)
    now, alike = dict(stated), dict[Convention, list[str]]()
    for label, convention in wanted.items():
        before = stated[label]
        basis(convention)  # complains of axes that cannot be
        change = linear_map(convention, SITE) @ np.linalg.inv(linear_map(before.convention, SITE))
        now[label] = before.under(change, convention)
        if np.abs(change - np.eye(3)).max() > SAME:
            alike.setdefault(convention_of(change @ linear_map(scene.convention, SITE)), []).append(label)
    if now == stated:
        return scene
    out = scene
    for other, labels in alike.items():
        out = only_below(out, labels, other)
    out = set_off(out, {k: np.subtract(now[k].offset, stated[k].offset) for k in wanted})
    return with_stated(out, now)


def set_off(scene: Scene, metres: Mapping[str, F64]) -> Scene:
    """Files moved as a whole, each in the axes of the site as it has them itself."""
    local = scene.nodes.local.copy()
    back = np.linalg.inv(linear_map(scene.convention, SITE))
    for name, begin, _ in spans_of(scene.extras):
        if begin > 0 and name in metres:
            top = local[begin - 1]
            top[:3, 3] += top[:3, :3] @ back @ metres[name]
    return scene.but(nodes=replace(scene.nodes, local=local))


def only_below(scene: Scene, labels: Container[str], other: Convention) -> Scene:
    """The scene whose nodes of some files were numbers of another convention, and are brought into its own."""
    if not np.array_equal(axis_map(other, scene.convention), np.eye(3)):
        scene = split_viewers(scene.but(identity=scene.identities))
    nodes = scene.nodes
    mine = of_files(scene, labels)
    cut = {name: Cut.of(getattr(nodes, name), mine, len(table)) for name, table in tables_of(scene).items()}
    some = {name: cut[name].some(table) for name, table in tables_of(scene).items()}
    mesh, light, camera, skin = cut["mesh"], cut["light"], cut["camera"], cut["skin"]
    slim = replace(nodes, mesh=mesh.slim, light=light.slim, camera=camera.slim, skin=skin.slim)
    turned = convert(with_tables(scene.but(convention=other, nodes=slim), some), scene.convention)
    local = nodes.local.copy()
    local[mine] = turned.nodes.local[mine]
    rest = {i: turned.nodes.rest[i] if mine[i] else r for i, r in nodes.rest.items()}
    clips = tuple(
        replace(old, channels=tuple(b if mine[a.node] else a for a, b in zip(old.channels, new.channels, strict=True)))
        for old, new in zip(scene.clips, turned.clips, strict=True)
    )
    new = tables_of(turned)
    whole = {name: cut[name].put_back(table, new[name]) for name, table in tables_of(scene).items()}
    column = replace(
        nodes, local=local, rest=rest, mesh=mesh.column, light=light.column, camera=camera.column, skin=skin.column
    )
    return with_tables(scene.but(nodes=column, clips=clips), whole)


def tables_of(scene: Scene) -> dict[str, tuple[Any, ...]]:
    """What nodes refer to by number and is written in a unit, by the column that refers to it."""
    return {"mesh": scene.meshes, "light": scene.lights, "camera": scene.cameras, "skin": scene.skins}


def with_tables(scene: Scene, tables: Mapping[str, tuple[Any, ...]]) -> Scene:
    return scene.but(meshes=tables["mesh"], lights=tables["light"], cameras=tables["camera"], skins=tables["skin"])


@dataclass(frozen=True)
class Cut:
    """What some nodes use of a table. used: its rows. slim: (N,) the column, of those nodes alone, in these rows. at: where
    each row goes when it was changed, behind the table where others use it as well. column: (N,) the column then."""

    used: I64
    slim: I32
    at: I64
    column: I32

    @classmethod
    def of(cls, column: I32, mine: Bool, length: int) -> Cut:
        own = mine & (column >= 0)
        used = np.unique(column[own]).astype(np.int64)
        shared = np.isin(used, column[~mine])
        at = np.where(shared, length + np.cumsum(shared) - 1, used)
        slim = np.where(own, np.searchsorted(used, column), -1).astype(np.int32)
        out = column.copy()
        out[own] = at[slim[own]]
        return cls(used, slim, at, out)

    def some(self, table: tuple[Any, ...]) -> tuple[Any, ...]:
        return tuple(table[i] for i in self.used.tolist())

    def put_back(self, table: tuple[Any, ...], changed: tuple[Any, ...]) -> tuple[Any, ...]:
        """The table with its changed rows."""
        out = [*table, *([None] * int((self.at >= len(table)).sum()))]
        for i, one in zip(self.at.tolist(), changed, strict=True):
            out[i] = one
        return tuple(out)
