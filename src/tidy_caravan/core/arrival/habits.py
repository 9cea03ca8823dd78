"""Stand-in receivers with habits, good and bad, that answer the yardstick's questions by themselves."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import numpy as np

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.conventions.yardstick import MARKS, UNITS, Answers, blocks, yardstick
from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.formats.registry import format_named, receive, write
from tidy_caravan.core.scene import Scene, make_nodes
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.scene.convention import Axis
from tidy_caravan.core.space.axes import axis_vector

Shown = Literal["metre", "centimetre", "millimetre", "inch", "foot"]


@dataclass(frozen=True)
class Habit:
    """unit: metres that its importer takes one number of the file for. axes: where it puts the file's X, Y, Z.

    in_node: it leaves the factor on the node. shown: the unit of the sizes that it shows.
    """

    name: str
    title: str
    unit: float = 1.0
    axes: tuple[Axis, Axis, Axis] = ("X", "Y", "Z")
    in_node: bool = False
    shown: Shown = "metre"

    @property
    def map(self) -> F64:
        return np.column_stack([axis_vector(a) for a in self.axes])


HABITS: tuple[Habit, ...] = (
    Habit("metres", "takes numbers for metres, keeps the axes"),
    Habit("centimetres", "takes numbers for centimetres, keeps the axes", 0.01, shown="centimetre"),
    Habit("centimetres-in-node", "takes numbers for centimetres and leaves the factor on the node", 0.01, in_node=True),
    Habit("millimetres", "takes numbers for millimetres", 0.001, shown="millimetre"),
    Habit("inches", "takes numbers for inches", 0.0254, shown="inch"),
    Habit("feet", "takes numbers for feet and shows metres", 0.3048),
    Habit("hundredfold", "multiplies by a hundred, for centimetres that are none", 100.0),
    Habit("tilts", "stands the scene up: Y becomes Z, as for Y-up files", 1.0, ("X", "Z", "-Y")),
    Habit("swaps", "swaps Y and Z and mirrors the scene by it", 1.0, ("X", "Z", "Y")),
    Habit("mirrors", "flips X and mirrors the scene by it", 1.0, ("-X", "Y", "Z")),
    Habit(
        "turned-centimetres",
        "takes centimetres and turns the scene about its up axis",
        0.01,
        ("Y", "-X", "Z"),
        shown="centimetre",
    ),
    Habit("upside-down-inches", "takes inches and turns everything over", 0.0254, ("X", "-Y", "-Z"), True, "foot"),
)


def habit_named(name: str) -> Habit:
    for habit in HABITS:
        if habit.name == name:
            return habit
    raise CaravanError(
        f"there is no stand-in with the habit “{name[:60]}”; known are {', '.join(h.name for h in HABITS)}",
        code="habit.unknown",
    )


def through(habit: Habit, points: F64) -> F64:
    """(N, 3) numbers of a file as places in the receiver's world, in metres."""
    out: F64 = habit.unit * (points @ habit.map.T)
    return out


def answer_of(habit: Habit, destination: Destination, fmt: str) -> Answers:
    """What it shows of the yardstick, which is written for it into a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="caravan-yardstick-") as folder:
        for name, data in yardstick_files(destination, fmt).items():
            path = Path(folder) / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        return answer(Path(folder) / f"yardstick.{fmt}", destination, fmt, habit)


def yardstick_files(destination: Destination, fmt: str) -> dict[str, bytes]:
    """The yardstick as it is downloaded. Raises CaravanError for a format that cannot be written."""
    return write(yardstick(destination, fmt), fmt, "yardstick").files


def shown_boxes(file: Path, destination: Destination, fmt: str, habit: Habit) -> tuple[Scene, F64]:
    """The file read by a third-party reader, and (P, 2, 3) the boxes of its parts as the receiver shows them."""
    scene = receive(file, destination, fmt)
    if not format_named(fmt).ability.parts and len(scene.meshes) == 1:
        scene = in_blocks(scene, len(blocks()))
    corners = np.stack([through(habit, scene.part_bounds[:, k]) for k in range(2)], axis=1)
    return scene, np.stack([corners.min(axis=1), corners.max(axis=1)], axis=1)


def in_blocks(scene: Scene, count: int) -> Scene:
    """One lump cut into as many blocks of equally many triangles, in the order of the file: as the eye tells them."""
    lump = scene.meshes[0]
    pieces = np.array_split(np.arange(lump.triangles), count)
    meshes = tuple(replace(lump, indices=lump.indices[p], material=lump.material[p]) for p in pieces)
    local = np.tile(scene.nodes.local[:1], (count, 1, 1))
    return scene.but(nodes=make_nodes(np.full(count, -1), local, [""] * count, mesh=np.arange(count)), meshes=meshes)


def answer(file: Path, destination: Destination, fmt: str, habit: Habit) -> Answers:
    """Reads a yardstick as a receiver with that habit does. Raises UnusableInput when it is no yardstick."""
    scene, boxes = shown_boxes(file, destination, fmt, habit)
    names = [scene.nodes.names[i] for i in scene.nodes.parts.tolist()]
    known = [b.name for b in blocks()]
    if not set(known) <= set(names):
        if len(names) != len(known):
            raise UnusableInput("this is no yardstick", where=file.name)
        names = known  # formats without names keep the order
    low, high = boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)
    body = boxes[names.index("body")].mean(axis=0)
    marks: list[Axis] = []
    for axis, mark in enumerate(MARKS):
        rows = [k for k, n in enumerate(names) if n.startswith(mark)]
        # the far face of the marks touches the outer box on one side only: that side is where they point
        touching = [
            (side, k)
            for k in range(3)
            for side, edge in (("", high), ("-", low))
            if all(abs(boxes[r, 1 if side == "" else 0, k] - edge[k]) < 1e-6 * max(1.0, abs(edge[k])) for r in rows)
            and abs(boxes[names.index("body"), 1 if side == "" else 0, k] - edge[k]) > 1e-3 * (high[k] - low[k])
        ]
        if len(touching) != 1:
            raise UnusableInput(f"the mark {axis + 1} cannot be told apart ({body})"[:120], where=file.name)
        side, k = touching[0]
        marks.append(side + "XYZ"[k])  # type: ignore[arg-type]
    sizes = (high - low) / UNITS[habit.shown]
    return Answers(
        sizes=(float(sizes[0]), float(sizes[1]), float(sizes[2])),
        shown_in=habit.shown,
        marks=(marks[0], marks[1], marks[2]),
        node_scale=habit.unit if habit.in_node else 1.0,
        picture="upright" if scene.meshes and all(m.uvs for m in scene.meshes) else "missing",
    )
