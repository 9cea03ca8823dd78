"""The yardstick: an object of three known, different edges with a mark on every axis, and the reading of answers.

From what the other side shows (three sizes, where the marks point) follow the factor, the axis map and the
handedness of its importer, and with them the convention that files for it have to be written in.
"""

from __future__ import annotations

import io
import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import PIL.Image
import PIL.ImageDraw
from pydantic import Field

from tidy_caravan.core.conventions.destinations import CamelModel, Destination, ImporterHabit, Proof, World
from tidy_caravan.core.geometry.shapes import box
from tidy_caravan.core.scene import Convention, Image, Material, Mesh, Scene, Texture, TextureUse, make_nodes
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.scene.convention import Axis, Handedness
from tidy_caravan.core.space.axes import axis_vector, basis
from tidy_caravan.core.space.convert import convert

EDGES_M = (1.0, 2.0, 3.0)
"""Sizes along X, Y and Z of the file, in metres."""
MARKS = ("one_block", "two_blocks", "three_blocks")
"""Marks at the far ends of X, Y and Z: so many blocks stand there."""
UNITS = {
    "metre": 1.0, "centimetre": 0.01, "millimetre": 0.001, "inch": 0.0254, "foot": 0.3048, "decimetre": 0.1,
    "kilometre": 1000.0,
}  # fmt: skip
UNIFORM = 0.02
"""Relative difference of the three factors from which on somebody misread."""
KNOWN = 0.01
"""Relative distance to a ratio of usual units within which a factor is that ratio."""
CHECKER_PX = 256


@dataclass(frozen=True)
class Block:
    name: str
    low: tuple[float, float, float]
    high: tuple[float, float, float]


def blocks() -> list[Block]:
    """A body with 0.2 m left for the marks at the far end of every axis; everything fills 0…1, 0…2, 0…3 exactly."""
    out = [Block("body", (0.0, 0.0, 0.0), (0.8, 1.8, 2.8))]
    for axis in range(3):
        count = axis + 1
        for k in range(count):
            low, high = [0.1, 0.1, 0.1], [0.3, 0.3, 0.3]
            across = (axis + 1) % 3
            low[axis], high[axis] = (0.8, 1.8, 2.8)[axis], EDGES_M[axis]
            low[across], high[across] = 0.1 + 0.25 * k, 0.25 + 0.25 * k
            out.append(Block(f"{MARKS[axis]}_{k + 1}", (low[0], low[1], low[2]), (high[0], high[1], high[2])))
    return out


def checker() -> bytes:
    """PNG of one metre: four fields and an arrow that points up in the picture."""
    picture = PIL.Image.new("RGB", (CHECKER_PX, CHECKER_PX), (244, 240, 232))
    draw = PIL.ImageDraw.Draw(picture)
    half = CHECKER_PX // 2
    for x, y in ((0, 0), (half, half)):
        draw.rectangle((x, y, x + half - 1, y + half - 1), fill=(214, 222, 218))
    draw.polygon(((half, 24), (half + 60, 110), (half - 60, 110)), fill=(15, 107, 100))
    draw.rectangle((half - 16, 110, half + 15, 200), fill=(15, 107, 100))
    draw.rectangle((0, 0, CHECKER_PX - 1, CHECKER_PX - 1), outline=(31, 42, 48), width=3)
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


def block_mesh(block: Block, convention: Convention, slot: int) -> Mesh:
    """A block in the file's numbers, with a first UV set of one repeat per metre, upright on its sides."""
    low, high = np.array(block.low), np.array(block.high)
    shape = box((high[0] - low[0], high[1] - low[1], high[2] - low[2]))
    metres = shape.positions + (low + high) / 2
    up = "XYZ".index(convention.up[-1])
    uv = np.zeros((len(metres), 2))
    axis = np.argmax(np.abs(shape.normals), axis=1)
    for k in range(3):
        rows = axis == k
        others = [a for a in range(3) if a != k]
        v_axis = up if up in others else others[1]
        uv[rows, 0] = metres[rows, next(a for a in others if a != v_axis)]
        uv[rows, 1] = -metres[rows, v_axis]
    return Mesh(
        (metres / convention.metres_per_unit).astype(np.float32),
        shape.indices,
        np.full(len(shape.indices), slot, np.int32),
        normals=shape.normals,
        uvs=(uv.astype(np.float32),),
        name=block.name,
    )


def yardstick(destination: Destination, fmt: str) -> Scene:
    """The yardstick as this destination is thought to want it in a format: in the numbers of its file convention.

    Its edges lie along X, Y and Z of those numbers, its pivot on the corner from which they start.
    """
    target = destination.file_convention(fmt)
    # edges and marks belong to the axes of the file, so it is made there; left-handed axes turn the winding
    plain = Convention(target.metres_per_unit, "Y", "-Z", "right")
    parts = blocks()
    meshes = [block_mesh(b, target, 0 if b.name == "body" else 1) for b in parts]
    count = len(parts) + 1
    nodes = make_nodes(
        [-1, *[0] * len(parts)],
        np.tile(np.eye(4), (count, 1, 1)),
        ["yardstick", *(b.name for b in parts)],
        mesh=[-1, *range(len(parts))],
    )
    scene = Scene(
        plain,
        nodes,
        tuple(meshes),
        (
            Material("checker_one_metre", metallic=0.0, roughness=0.9, base_color_texture=TextureUse(0)),
            Material("marks", (0.86, 0.39, 0.01, 1.0), 0.0, 0.9),
        ),
        (Texture(0),),
        (Image("checker_one_metre.png", "image/png", checker(), "checker_one_metre.png"),),
    )
    if target.handedness == "left":
        meshes = [
            Mesh(m.positions, m.indices[:, [0, 2, 1]], m.material, m.normals, uvs=m.uvs, name=m.name) for m in meshes
        ]
        scene = scene.but(meshes=tuple(meshes))
    return scene.but(convention=target)


class Answers(CamelModel):
    """What the other side shows.

    sizes: of the whole along its X, Y and Z. shown_in: the unit it shows them in. marks: where the ends with
    one, two and three blocks point. node_scale: the scale it shows on the object. picture: how the arrow lies.
    """

    sizes: tuple[float, float, float]
    shown_in: Literal["metre", "centimetre", "millimetre", "inch", "foot", "decimetre", "kilometre"] = "metre"
    marks: tuple[Axis, Axis, Axis]
    node_scale: float = Field(default=1.0, gt=0, lt=1e9)
    picture: Literal["upright", "upside-down", "mirrored", "missing", "not looked"] = "not looked"


class Reading(CamelModel):
    """What follows from answers. problems: why nothing follows; then `destination` is none.

    factor: size seen by size sent, both as lengths. axes: where the file's X, Y, Z end. mirrored: handedness
    differs. file: unit and axes that files have to be written in.
    """

    problems: list[str]
    sentence: str
    factor: float | None = None
    axes: tuple[Axis, Axis, Axis] | None = None
    mirrored: bool = False
    factor_in: Literal["vertices", "node scale", "nowhere"] = "nowhere"
    file: World | None = None
    remarks: list[str] = Field(default_factory=list)
    destination: Destination | None = None


def unit_word(metres: float) -> str:
    for word, size in UNITS.items():
        if abs(metres / size - 1) < KNOWN:
            return {"foot": "feet", "inch": "inches"}.get(word, word + "s")
    return f"units of {metres:.4g} m"


def known_ratio(factor: float) -> float | None:
    """The ratio of two usual units that a factor is, within KNOWN; None for a factor that is no unit."""
    sizes = list(UNITS.values())
    ratios = {a / b for a in sizes for b in sizes}
    best = min(ratios, key=lambda r: abs(math.log(r / factor)))
    return best if abs(factor / best - 1) < KNOWN else None


def read_answers(destination: Destination, fmt: str, answers: Answers, date: str = "") -> Reading:
    """Factor, axes, handedness and the destination that follows, or why the answers cannot be right."""
    sent = destination.file_convention(fmt)
    problems: list[str] = []
    lines = [m[-1] for m in answers.marks]
    if len(set(lines)) < 3:
        twice = next(x for x in "XYZ" if lines.count(x) > 1)
        who = [MARKS[k].replace("_", " ") for k in range(3) if lines[k] == twice]
        problems.append(
            f"Two marks cannot lie on one axis: {' and '.join(who)} are both said to point along {twice}. Look again."
        )
    if any(not (math.isfinite(s) and s > 0) for s in answers.sizes):
        problems.append("A size is nought or no number. Look again, or the object did not arrive.")
    if problems:
        return Reading(problems=problems, sentence=problems[0])
    p = np.column_stack([axis_vector(a) for a in answers.marks])
    shown = np.array(answers.sizes) * UNITS[answers.shown_in]
    along = np.abs(p).T @ shown
    factors = along / np.array(EDGES_M)
    middle = float(np.exp(np.log(factors).mean()))
    if factors.max() / factors.min() - 1 > UNIFORM:
        problems += misfit(answers, shown, factors)
        return Reading(problems=problems, sentence=problems[0])
    ratio = known_ratio(middle)
    if ratio is None:
        problems.append(
            f"The factor would be {middle:.4g}, and no two usual units differ by that. A size was misread, or somebody scaled the object by hand."
        )
        return Reading(problems=problems, sentence=problems[0], factor=middle, axes=answers.marks)
    factor = 1.0 if abs(ratio - 1) < 1e-9 else ratio
    mirrored = bool(np.linalg.det(p) < 0)
    scaled = abs(answers.node_scale - 1) > KNOWN
    factor_in: Literal["vertices", "node scale", "nowhere"] = (
        "node scale" if scaled else "nowhere" if factor == 1 else "vertices"
    )
    file = file_world(destination.world, p, float(f"{sent.metres_per_unit * factor:.12g}"))
    remarks = []
    if scaled:
        remarks.append(
            f"It shows a scale of {answers.node_scale:g} on the object: its importer leaves the factor on the node, where collision "
            "and lightmaps do not see it. Files in the unit found here arrive with scale 1."
            if abs(answers.node_scale * (1 / factor) - 1) < KNOWN or factor != 1
            else f"It shows a scale of {answers.node_scale:g} on the object although sizes are right; look into its importer's settings."
        )
    if answers.picture == "upside-down":
        remarks.append("The image arrived upside down: it counts v from the other end.")
    elif answers.picture == "mirrored":
        remarks.append("The image arrived mirrored: an axis was flipped without turning the surfaces with it.")
    elif answers.picture == "missing":
        remarks.append(
            "The image did not arrive: look where its importer searches for images, or send them inside the file."
        )
    sentence = sentence_of(sent, factor, p, mirrored)
    proof = Proof(date=date, sentence=sentence, factor=factor, factor_in=factor_in)
    old = destination.importers.get(fmt, ImporterHabit())
    habit = old.model_copy(update={"numbers": "measured", "file": file, "proof": proof})
    made = destination.model_copy(update={"importers": {**destination.importers, fmt: habit}, "built_in": False})
    return Reading(
        problems=[],
        sentence=sentence,
        factor=factor,
        axes=answers.marks,
        mirrored=mirrored,
        factor_in=factor_in,
        file=file,
        remarks=remarks,
        destination=made,
    )


def misfit(answers: Answers, shown: F64, factors: F64) -> list[str]:
    """Sizes and marks that contradict each other, or sizes that fit no one factor."""
    order = np.argsort(shown)
    by_size = shown[order] / np.array(EDGES_M)
    if by_size.max() / by_size.min() - 1 <= UNIFORM:
        longest = "XYZ"[int(order[2])]
        said = answers.marks[2]
        return [
            f"Sizes and marks contradict each other: the long edge lies along {longest}, and the three blocks, which stand at its "
            f"end, are said to point along {said}. One of the two was misread."
        ]
    text = ", ".join(f"{f:.4g}" for f in factors)
    return [
        f"The three sizes ask for three different factors ({text}); a unit has one. A size was misread, or the object was squeezed."
    ]


def file_world(world: World, p: F64, metres_per_unit: float) -> World:
    """Convention v of files such that P·v is right in the receiver's world: its axes seen back through P."""
    back = p.T @ basis(world.convention())

    def axis(v: F64) -> Axis:
        k = int(np.argmax(np.abs(v)))
        return ("-" if v[k] < 0 else "") + "XYZ"[k]  # type: ignore[return-value]

    turned = np.linalg.det(p) < 0
    other: dict[Handedness, Handedness] = {"right": "left", "left": "right"}
    return World(
        metres_per_unit=metres_per_unit,
        up=axis(back[:, 1]),
        forward=axis(back[:, 2]),
        handedness=other[world.handedness] if turned else world.handedness,
    )


def sentence_of(sent: Convention, factor: float, p: F64, mirrored: bool) -> str:
    """Such as “The other side reads your metres as centimetres and keeps the axes.”"""
    yours = unit_word(sent.metres_per_unit)
    if factor == 1.0:
        size = f"The other side reads your {yours} as {yours}"
    else:
        size = f"The other side reads your {yours} as {unit_word(sent.metres_per_unit * factor)}"
    if np.array_equal(p, np.eye(3)):
        return f"{size} and keeps the axes."
    names = []
    for k in range(3):
        row = int(np.argmax(np.abs(p[:, k])))
        names.append(f"{'XYZ'[k]} becomes {'-' if p[row, k] < 0 else ''}{'XYZ'[row]}")
    moved = [n for k, n in enumerate(names) if not n.endswith(f"becomes {'XYZ'[k]}")]
    return f"{size}; {', '.join(moved)}{', which mirrors the scene' if mirrored else ''}."


def rewritten(scene: Scene, destination: Destination, fmt: str) -> Scene:
    """A scene in the numbers that a destination's files of a format are to have."""
    return convert(scene, destination.file_convention(fmt))
