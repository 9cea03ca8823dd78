"""Recipes: what is not yet a mesh, made into one as finely as asked, and made again when asked otherwise.

A recipe keeps the parameters of the source; the mesh that it gives keeps the recipe. So the conversion can
be changed later by a step, until another step moves the vertices.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.corners import corner_mesh
from tidy_caravan.core.geometry.shapes import MOST_SEGMENTS, Triangles, primitive, segments_for
from tidy_caravan.core.geometry.smoothing import corner_normals
from tidy_caravan.core.geometry.subdivision import Cage, refine
from tidy_caravan.core.geometry.triangulate import fan_or_ears, with_holes
from tidy_caravan.core.geometry.tubes import along, ribbon, samples_for, tube
from tidy_caravan.core.scene import Mesh, Nodes, Recipe
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, AnyArray
from tidy_caravan.core.space.convert import UNDER, map_of, transform_mesh

TURNS: dict[str, F64] = {
    "Z": np.eye(3),
    "X": np.array([[0, 0, 1], [1, 0, 0], [0, 1, 0]], np.float64),
    "Y": np.array([[0, 1, 0], [0, 0, 1], [1, 0, 0]], np.float64),
}
"""Rotations that bring Z to the named axis."""
DEFAULT_TOLERANCE_MM = 2.0
SMOOTH_UP_TO_DEG = 40.0
MOST_FACES = 4_000_000
COUNTED_EXACTLY = 200_000
"""Triangles up to which figures are counted by making the shape."""
CHORD = "chord"
"""Key of a recipe's values: the tolerance it was made with, in its own numbers."""
LEVEL_BUDGET = 200_000
"""Faces of one subdivision surface that the level of the first conversion stays below."""


def stretch_of(nodes: Nodes, meshes: int) -> F64:
    """(M,) by how much the parts that use a mesh stretch it at the most (spectral norm); 1 where none does. What is said of
    a shape in millimetres is said of it as it stands, so its scene's metres are to be multiplied with this. O(parts)."""
    out = np.zeros(meshes)
    parts = nodes.parts[np.isfinite(nodes.world[nodes.parts, :3, :3]).all(axis=(1, 2))]
    np.maximum.at(out, nodes.mesh[parts], np.linalg.norm(nodes.world[parts, :3, :3], 2, axis=(1, 2)))
    return np.where(np.isfinite(out) & (out > 0), out, 1.0)


@dataclass(frozen=True)
class Fineness:
    """How fine a conversion is made; what does not concern a kind is ignored. None: by the others or default.

    tolerance_mm: largest distance of a chord from its arc. segments: of a full circle, instead. level: rounds
    of subdivision.
    """

    tolerance_mm: float | None = None
    segments: int | None = None
    level: int | None = None

    def as_setting(self) -> dict[str, Any]:
        return {
            k: v
            for k, v in (("toleranceMm", self.tolerance_mm), ("segments", self.segments), ("level", self.level))
            if v is not None
        }

    @classmethod
    def of(cls, recipe: Recipe) -> Fineness:
        s = recipe.setting
        return cls(s.get("toleranceMm"), s.get("segments"), s.get("level"))


def make(recipe: Recipe, fineness: Fineness, metres_per_unit: float, name: str = "") -> Mesh | None:
    """The mesh of a recipe, which carries it with the fineness used; None when it has no surface.

    Raises ValueError when it would have more than MOST_FACES faces.
    """
    return made_with(recipe, fineness, tolerance_of(recipe, fineness, metres_per_unit), metres_per_unit, name)


def as_it_was(recipe: Recipe, metres_per_unit: float) -> Mesh | None:
    """The mesh as it was made before, whatever its unit is taken for since."""
    fineness = Fineness.of(recipe)
    tolerance = float(recipe.values.get(CHORD, 0.0)) or tolerance_of(recipe, fineness, metres_per_unit)
    return made_with(recipe, fineness, tolerance, metres_per_unit)


def made_with(
    recipe: Recipe, fineness: Fineness, tolerance: float, metres_per_unit: float, name: str = ""
) -> Mesh | None:
    """tolerance: in the recipe's own numbers."""
    fineness = settled(recipe, fineness)
    if (about := estimate(recipe, fineness, metres_per_unit)) > 4 * MOST_FACES:
        raise ValueError(f"it would take about {about:,} triangles")
    if recipe.kind == "subdivision":
        mesh = subdivided(recipe, fineness.level or 0, name)
    else:
        shape = shape_of(recipe, fineness.segments, tolerance)
        if shape is None or not len(shape.indices):
            return None
        slot = int(recipe.values.get("material", -1))
        mesh = Mesh(
            shape.positions.astype(np.float32),
            shape.indices,
            np.full(len(shape.indices), slot, np.int32),
            normals=shape.normals,
            uvs=(shape.uv,),
            name=name,
        )
    if mesh is None:
        return None
    if UNDER in recipe.values:
        mesh = transform_mesh(mesh, map_of(recipe))
    values = {**recipe.values, CHORD: tolerance}
    return replace(mesh, recipe=replace(recipe, values=values, setting=fineness.as_setting()))


def fineness_now(recipe: Recipe, metres_per_unit: float) -> Fineness:
    """How fine a mesh is, as its unit is taken and with what it was put under since it was made."""
    fineness, chord = Fineness.of(recipe), recipe.values.get(CHORD)
    if fineness.tolerance_mm is None or chord is None:
        return fineness
    stretch = float(np.linalg.norm(map_of(recipe), 2)) or 1.0
    return replace(fineness, tolerance_mm=float(f"{float(chord) * stretch * metres_per_unit * 1000:.9g}"))


def tolerance_of(recipe: Recipe, fineness: Fineness, metres_per_unit: float) -> float:
    """Largest distance of a chord from its arc in the recipe's own numbers, that is none larger in the scene's."""
    stretch = float(np.linalg.norm(map_of(recipe), 2)) or 1.0
    return (fineness.tolerance_mm or DEFAULT_TOLERANCE_MM) / 1000 / metres_per_unit / stretch


def settled(recipe: Recipe, fineness: Fineness) -> Fineness:
    """Only what concerns the kind, with defaults filled in."""
    if recipe.kind == "subdivision":
        level = fineness.level
        return Fineness(level=int(recipe.setting.get("level", 1)) if level is None else level)
    if recipe.values.get("shape") in ("box", "plane"):
        return Fineness()
    if fineness.segments is not None:
        return Fineness(segments=int(np.clip(fineness.segments, 3, MOST_SEGMENTS)))
    return Fineness(tolerance_mm=fineness.tolerance_mm or DEFAULT_TOLERANCE_MM)


def estimate(recipe: Recipe, fineness: Fineness, metres_per_unit: float) -> int:
    """About how many triangles a fineness would give, by closed forms; nothing is made. O(control points)."""
    fineness = settled(recipe, fineness)
    tolerance = tolerance_of(recipe, fineness, metres_per_unit)
    v = recipe.values
    if recipe.kind == "subdivision":
        corners, counts = len(recipe.arrays["corner"]), len(recipe.arrays["counts"])
        return 2 * corners * int(4 ** max(0, (fineness.level or 0) - 1)) if fineness.level else corners - 2 * counts
    if recipe.kind in ("primitive", "extrusion"):
        if v.get("shape") in ("box", "plane"):
            return 12
        around = max(3, fineness.segments or segments_for(float(v.get("radius", 0.0)), tolerance))
        if v.get("shape") in ("sphere", "capsule"):
            return around * (around + 2)
        return 4 * around if "radius" in v else 4 * sum(len(a) for a in recipe.arrays.values())
    points = np.asarray(recipe.arrays["points"], np.float64)
    widths = np.asarray(recipe.arrays["widths"], np.float64)
    around = fineness.segments or segments_for(float(widths.max(initial=0.0)) / 2, tolerance)
    total, at = 0, 0
    for n in np.asarray(recipe.arrays["counts"], np.int64).tolist():
        if n >= 2:
            samples = samples_for(points[at : at + n], str(v["basis"]), bool(v.get("closed", False)), tolerance)
            total += 2 * n * samples * (1 if "normals" in recipe.arrays else max(3, around))
        at += n
    return total


def triangles_at(recipe: Recipe, fineness: Fineness, metres_per_unit: float) -> int:
    """Triangles that a fineness would give, without making them where that is dear; an estimate for large ones."""
    about = estimate(recipe, fineness, metres_per_unit)
    if about > COUNTED_EXACTLY:
        return about
    if recipe.kind == "subdivision":
        level = settled(recipe, fineness).level or 0
        corners = len(recipe.arrays["corner"])
        if recipe.values.get("scheme") == "loop":
            return int(4**level) * (corners - 2 * len(recipe.arrays["counts"]))
        return corners - 2 * len(recipe.arrays["counts"]) if level == 0 else 2 * corners * int(4 ** (level - 1))
    mesh = make(recipe, fineness, metres_per_unit)
    return mesh.triangles if mesh is not None else 0


def level_for(faces: int) -> int:
    """Level of the first conversion: two, or less for a dense cage."""
    return next((level for level in (2, 1) if faces * 4**level <= LEVEL_BUDGET), 0)


def turned_to(shape: Triangles, axis: str) -> Triangles:
    turn = TURNS[axis]
    return replace(shape, positions=shape.positions @ turn.T, normals=(shape.normals @ turn.T).astype(np.float32))


def shape_of(recipe: Recipe, segments: int | None, tolerance: float) -> Triangles | None:
    v = dict(recipe.values)
    if recipe.kind == "primitive":
        count = segments or segments_for(float(v.get("radius", 0.0)), tolerance)
        return turned_to(primitive(str(v["shape"]), v, max(3, count)), str(v.get("axis", "Z")))
    if recipe.kind == "extrusion":
        return extruded(recipe, segments, tolerance)
    return swept(recipe, segments, tolerance)


def swept(recipe: Recipe, segments: int | None, tolerance: float) -> Triangles | None:
    """All curves of one prim as tubes, or ribbons where they have normals."""
    points: F64 = np.asarray(recipe.arrays["points"], np.float64)
    counts: I64 = np.asarray(recipe.arrays["counts"], np.int64)
    widths: F64 = np.asarray(recipe.arrays["widths"], np.float64)
    facing = recipe.arrays.get("normals")
    basis, closed = str(recipe.values["basis"]), bool(recipe.values.get("closed", False))
    around = segments or segments_for(float(widths.max(initial=0.0)) / 2, tolerance)
    out: list[Triangles] = []
    at = 0
    for n in counts.tolist():
        own = points[at : at + n]
        columns = [own, widths[at : at + n, None]]
        if facing is not None:
            columns.append(np.asarray(facing[at : at + n], np.float64))
        at += n
        if n < 2:
            continue
        samples = samples_for(own, basis, closed, tolerance)
        line = along(np.concatenate(columns, axis=1), basis, closed, samples)
        moved = np.append(True, np.linalg.norm(np.diff(line[:, :3], axis=0), axis=1) > 1e-12)
        line = line[moved]
        if len(line) < 2:
            continue
        if facing is not None and not closed:
            out.append(ribbon(line[:, :3], line[:, 3], line[:, 4:7]))
        else:
            out.append(tube(line[:, :3], line[:, 3] / 2, closed, max(3, around)))
    return joined(out)


def extruded(recipe: Recipe, segments: int | None, tolerance: float) -> Triangles | None:
    """A profile of straight pieces and one circle kind, pushed along a direction, with caps.

    arrays: outline (N, 2), holes: rings one after another with hole_counts. values: radius (a circle
    instead of the outline), inner (radius of its hole), depth, direction, frame (16 numbers of a rigid
    4 × 4 matrix, row by row, that places it in the mesh).
    """
    v = recipe.values
    rings: list[F64] = []
    if "radius" in v:
        n = max(3, segments or segments_for(float(v["radius"]), tolerance))
        angle = np.arange(n) / n * 2 * np.pi
        circle = np.stack([np.cos(angle), np.sin(angle)], axis=1)
        rings = [circle * float(v["radius"])]
        if float(v.get("inner", 0.0)) > 0:
            rings.append(circle[::-1] * float(v["inner"]))
    else:
        rings = [np.asarray(recipe.arrays["outline"], np.float64)]
        at = 0
        for n in np.asarray(recipe.arrays.get("hole_counts", ()), np.int64).tolist():
            rings.append(np.asarray(recipe.arrays["holes"][at : at + n], np.float64))
            at += n
    depth = np.asarray(v["direction"], np.float64) * float(v["depth"])
    flat = np.concatenate(rings)
    base = np.column_stack([flat, np.zeros(len(flat))])
    caps = with_holes(base, [len(r) for r in rings])
    pieces = []
    for shift, faces, normal in ((np.zeros(3), caps[:, [0, 2, 1]], -1.0), (depth, caps, 1.0)):
        pieces.append(
            Triangles(
                base + shift, faces.astype(np.uint32), np.tile(np.array((0, 0, normal), np.float32), (len(base), 1)),
                np.column_stack([base[:, 0], -base[:, 1]]).astype(np.float32),
            )
        )  # fmt: skip
    for ring in rings:
        pieces.append(wall(ring, depth, smooth="radius" in v))
    whole = joined(pieces)
    if whole is None or "frame" not in v:
        return whole
    frame = np.array(v["frame"], np.float64).reshape(4, 4)
    return replace(
        whole,
        positions=whole.positions @ frame[:3, :3].T + frame[:3, 3],
        normals=(whole.normals @ frame[:3, :3].T).astype(np.float32),
    )


def wall(ring: F64, depth: F64, smooth: bool) -> Triangles:
    """The side of an extrusion: a corner at every vertex of the ring, or, smooth, one surface with a single seam."""
    n = len(ring)
    edge = np.roll(ring, -1, axis=0) - ring
    run = np.append(0.0, np.cumsum(np.linalg.norm(edge, axis=1)))
    side = np.column_stack([edge[:, 1], -edge[:, 0], np.zeros(n)])
    side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-30)
    if smooth:
        around = side + np.roll(side, 1, axis=0)
        normals = (around / np.maximum(np.linalg.norm(around, axis=1, keepdims=True), 1e-30))[np.arange(n + 1) % n]
        at, along, first = np.arange(n + 1) % n, run, 2 * np.arange(n)
    else:
        normals = np.repeat(side, 2, axis=0)
        at = np.column_stack([np.arange(n), np.arange(1, n + 1) % n]).ravel()
        along, first = np.column_stack([run[:-1], run[1:]]).ravel(), 4 * np.arange(n)
    base = np.column_stack([ring, np.zeros(n)])[at]
    height = float(np.linalg.norm(depth))
    uv = np.column_stack([np.repeat(along, 2), np.tile((height, 0.0), len(at))])
    # below and above by turns
    indices = np.concatenate([first[:, None] + (0, 2, 3), first[:, None] + (0, 3, 1)]).astype(np.uint32)
    return Triangles(
        np.stack([base, base + depth], axis=1).reshape(-1, 3),
        indices,
        np.repeat(normals, 2, axis=0).astype(np.float32),
        uv.astype(np.float32),
    )


def joined(pieces: list[Triangles]) -> Triangles | None:
    if not pieces:
        return None
    base = np.cumsum([0, *(len(p.positions) for p in pieces)])
    return Triangles(
        np.concatenate([p.positions for p in pieces]),
        np.concatenate([p.indices + np.uint32(b) for p, b in zip(pieces, base.tolist(), strict=False)]),
        np.concatenate([p.normals for p in pieces]),
        np.concatenate([p.uv for p in pieces]),
    )


def subdivided(recipe: Recipe, level: int, name: str) -> Mesh | None:
    a: dict[str, AnyArray] = dict(recipe.arrays)
    corners = len(a["corner"])
    if corners * 4 ** max(0, level - 1) > MOST_FACES:
        raise ValueError(f"level {level} would give more than {MOST_FACES} faces")
    uvs = tuple(np.asarray(a[f"uv{k}"], np.float64) for k in range(int(recipe.values.get("uvs", 0))))
    cage = Cage(
        np.asarray(a["points"], np.float64),
        np.asarray(a["corner"], np.int64),
        np.asarray(a["counts"], np.int64),
        uvs,
        edges=np.asarray(a.get("edges", np.zeros((0, 2))), np.int64).reshape(-1, 2),
        sharpness=np.asarray(a.get("sharpness", np.zeros(0)), np.float64),
        corners=np.asarray(a.get("corners", np.zeros(0)), np.int64),
        corner_sharpness=np.asarray(a.get("cornerSharpness", np.zeros(0)), np.float64),
    )
    fine = refine(cage, str(recipe.values["scheme"]), level)
    triangles, owner = fan_or_ears(fine.points[fine.corner], fine.counts)
    flat = triangles.ravel()
    corner = fine.corner[flat]
    crease = SMOOTH_UP_TO_DEG if level else 30.0
    normals: F32 = corner_normals(fine.points, corner.reshape(-1, 3), crease).reshape(-1, 3)
    slots: I32 = np.asarray(a.get("material", np.full(len(cage.counts), -1)), np.int32)
    mesh, _ = corner_mesh(
        fine.points,
        corner,
        np.full(len(triangles), 3, np.int64),
        normals=np.round(normals, 6),
        uvs=[u[flat].astype(np.float32) for u in fine.uvs],
        material=slots[fine.face[owner]],
        name=name,
    )
    return mesh
