"""Checks of unit, axes and node scale: numbers that look right and are wrong."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from pydantic.alias_generators import to_camel

from tidy_caravan.core.conventions.evidence import LARGEST_M, SMALLEST_M, Told, as_told, candidates, odd_size, standing
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool, determinants
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.space.common_scale import SCALE_TOLERANCE, flattened, shared_out, to_the_right
from tidy_caravan.core.space.files import of_files, stated_by_file
from tidy_caravan.core.space.site import FAR_M, SITE, near_parts
from tidy_caravan.core.space.transforms import polar, sheared_ones, skew
from tidy_caravan.core.surroundings.world import ranks, untouchable
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Workshop
from tidy_caravan.core.work.whole import asked_again, digest_of

UNIT_RATIOS = np.array(
    sorted(
        {
            float(f"{a / b:.12g}")
            for a in (0.001, 0.01, 0.0254, 0.3048, 1.0)
            for b in (0.001, 0.01, 0.0254, 0.3048, 1.0)
            if not 0.09 < a / b < 11
        }
    )
)
"""Factors between the units that scenes are drawn in; ten and less is a scale that people choose as well."""
TENS = np.array([0.1, 10.0, 12.0, 1 / 12.0, 2.54, 1 / 2.54])
"""Factors that are a unit only where nearly everything bears them."""
SAME = 1e-3
"""Part by which two scales are one."""
NONE = 1e-4
"""What a scale differs from one by that is none."""
FLOAT_ERROR_MM = 0.1
"""Rounding of float32, distance · 2⁻²⁴, from which on it is seen."""

NOWHERE_M = 1e15
"""As far as anything is said to be: what has no place in numbers, or one beyond this, is that far."""

KEEPS_SCALE = "scales that stay"


@check("units", "Unit plausibility")
def unit_plausible(context: Context) -> Iterable[Finding]:
    """Tests the usual factors against things of known size; with none, the size of the whole. Each of several files by itself."""
    for told in as_told(context.scene):
        found = candidates(told)
        stated = next(c for c in found if c.stated)
        best = found[0]
        if best.score:
            if (
                best.likeliest
                and not best.stated
                and best.fitting >= 0.5 * best.total
                and best.score > 2 * stated.score
            ):
                yield Finding(
                    code="unit.implausible",
                    severity="error",
                    title=of_one("Wrong unit", told),
                    count=best.fitting,
                    guess=True,
                    text=f"As the file stands, {stated.example}; with one unit = {best.metres_per_unit:g} m, {best.example}, and "
                    f"{best.fitting} of {best.total} things of known size fit where {stated.fitting} do as stated.",
                    value=stated.metres_per_unit,
                    limit=best.metres_per_unit,
                    unit="m per unit",
                    parts=best.parts,
                    mend=read_otherwise(told, metres_per_unit=best.metres_per_unit),
                )
            continue
        why = odd_size(told)
        if why:
            yield Finding(
                code="unit.implausible",
                severity="warning",
                title=of_one("Wrong unit", told),
                count=1,
                guess=True,
                text=f"The whole {'file' if told.name else 'scene'} is {why}, and {'nothing of known size in it fits any usual unit' if stated.total else 'nothing in it has a name that tells its size'}.",
                value=stated.size,
                limit=LARGEST_M if stated.size > 1 else SMALLEST_M,
                unit="m",
                parts=told.parts.tolist() if told.name else [],
                mend=None if best.stated else read_otherwise(told, metres_per_unit=best.metres_per_unit),
            )


def of_one(title: str, told: Told) -> str:
    """The title of a finding, with the file that it is about where there are several."""
    return f"{title}: {told.name}"[:200] if told.name else title


def read_otherwise(told: Told, **corrections: object) -> dict[str, object]:
    """The mend that reads a scene, or one of its files, in another unit or other axes."""
    if told.name:
        return {
            "kind": "match_units_axes",
            "files": [{"file": told.name, **{to_camel(k): v for k, v in corrections.items()}}],
        }
    return {"kind": "match_units_axes", **{to_camel(f"source_{k}"): v for k, v in corrections.items()}}


@check("units", "Up axis plausibility")
def axes_plausible(context: Context) -> Iterable[Finding]:
    """Doors, people and lamp posts are taller than wide: their longest axis should be up. In each of several files."""
    for told in as_told(context.scene):
        stands = standing(told)
        if stands is None:
            continue
        axis = "XYZ"[stands.axis]
        yield Finding(
            code="axes.up-implausible",
            severity="error",
            title=of_one("Wrong up axis", told),
            count=stands.along,
            guess=True,
            text=f"{stands.along} of {plural(stands.clear, 'tall thing')} by name {'stands' if stands.along == 1 else 'stand'} along {axis}, while {told.convention.up} is stated as up.",
            parts=stands.parts.tolist(),
            mend=read_otherwise(told, up=axis),
        )


@check("units", "Undeclared unit and axes")
def convention_declared(context: Context) -> Iterable[Finding]:
    """Asks for the unit of formats that have none, with the likeliest as the proposal; taking it settles the matter. For
    each of several files that say nothing."""
    scene = context.scene
    if scene.convention.declared:
        return
    for told in as_told(scene):
        if told.convention.declared or not len(told.parts):
            continue
        found = candidates(told)
        best = next((c for c in found if c.likeliest), None)
        proposal = best or found[0]
        why = (
            f": {best.example}"
            if best is not None and best.fitting
            else f": the whole would measure {proposal.size:.4g} m"
        )
        yield Finding(
            code="unit.undeclared",
            severity="warning",
            title=f"Which unit has {told.name}?"[:200] if told.name else "Which unit?",
            count=1,
            guess=True,
            value=proposal.metres_per_unit,
            unit="m per unit",
            text=f"The format declares no unit and no axes; {told.convention.label()} was assumed. Proposed: {proposal.label}{why}. "
            "The Unit page of the Load station shows what speaks for each.",
            parts=told.parts.tolist() if told.name else [],
            mend=read_otherwise(told, metres_per_unit=proposal.metres_per_unit),
        )


def _match() -> dict[str, object]:
    return {"kind": "match_units_axes"}


@check("transforms", "Node scale that hides a unit", sees="stored")
def hidden_unit(context: Context) -> Iterable[Finding]:
    """Uniform world scale by the ratio of two units: the mesh is a hundredth of what it shows, and mesh-space work breaks.

    A stretched part is one that was modelled so, and so is a primitive of size one or two made larger.
    """
    scene = context.scene
    nodes = scene.nodes
    parts = nodes.parts
    if not len(parts):
        return
    linear = nodes.world[parts, :3, :3]
    scale = np.abs(determinants(linear)) ** (1 / 3)
    # the squares of the stretches, whose differences are about twice as large
    gram = linear.transpose(0, 2, 1) @ linear
    off = np.abs(gram - (scale**2)[:, None, None] * np.eye(3)).sum(axis=(1, 2))
    uniform = off <= 0.1 * SAME * scale**2
    rest = np.flatnonzero(~uniform)
    stretch = np.linalg.svd(linear[rest], compute_uv=False)
    uniform[rest] = (stretch[:, 0] - stretch[:, 2]) <= SAME * np.maximum(stretch[:, 0], 1e-300)
    near = uniform & (np.abs(scale[:, None] / UNIT_RATIOS - 1).min(axis=1) < SAME)
    ten = uniform & (np.abs(scale[:, None] / TENS - 1).min(axis=1) < SAME)
    if len(parts) >= 5 and ten.mean() >= 0.8:
        near |= ten
    if near.any() and near.mean() < 0.5:
        near &= ~np.array([unit_primitive(m) for m in scene.meshes] + [False])[nodes.mesh[parts]]
    if near.any():
        # one size of a mesh that others draw in another is no unit, and does not go into the vertices
        near[near] = ~keeps_scale(scene, parts[near], context.destination.negative_scale, context.workshop)
    if near.any():
        rows = parts[near]
        typical = float(np.median(scale[near]))
        yield Finding(
            code="scale.hidden-unit",
            severity="error",
            title="Node scale hides a unit",
            count=len(rows),
            value=typical,
            limit=1.0,
            unit="×",
            text=f"{plural(len(rows), 'part draws', 'parts draw')} at the right size only through a node scale of {typical:.4g}; "
            "collision, distance fields and lightmap sizes are computed in mesh space and go wrong.",
            parts=[int(i) for i in rows],
            mend=_match(),
        )
    # a stretch one way that is made up for another way leaves the volume as it was
    uneven = ~uniform
    uneven[uneven] = ~sheared_ones(nodes.world[parts[uneven]])
    rest = ~near & ((np.abs(scale - 1) > NONE) | uneven) & (scale > 0)
    if rest.any():
        rows = parts[rest]
        odd = np.linalg.svd(linear[rest & uneven], compute_uv=False)
        unevenly = (
            f"; {plural(len(odd), 'is', 'are')} stretched unevenly by it, up to {float((odd[:, 0] / odd[:, 2]).max()):.3g} times more one way than another"
            if len(odd)
            else ""
        )
        kept = keeps_scale(scene, rows, context.destination.negative_scale, context.workshop)
        why = (
            f"; {plural(int(kept.sum()), 'cannot lose it', 'cannot lose it')}, having to move or share a mesh with parts of another size"
            if kept.any()
            else ""
        )
        yield Finding(
            code="scale.left",
            severity="info",
            title="Scale left by modelling",
            count=len(rows),
            value=float(np.median(scale[rest])),
            limit=1.0,
            unit="×",
            text=f"{plural(len(rows), 'part carries', 'parts carry')} a node scale other than 1{unevenly}{why}.",
            parts=[int(i) for i in rows],
            mend=None if kept.all() else _match(),
        )


def keeps_scale(scene: Scene, rows: I64, negative_scale: bool, workshop: Workshop) -> Bool:
    """(K,) which of some parts have a scale that does not go into their vertices: they move, or it is the one that is left to their
    nodes, since others draw their mesh as well."""
    nodes = scene.nodes
    parts = nodes.parts[np.isin(nodes.mesh[nodes.parts], nodes.mesh[rows])]
    right, mirror = to_the_right(scene.convention)
    linear, mesh = nodes.world[parts, :3, :3], ranks(nodes.mesh[parts])
    still, above = untouchable(scene)[parts], nodes.children_count[parts] > 0

    def asked() -> dict[str, AnyArray]:
        residual = polar(linear, right)[1]
        out = still | flattened(residual)
        free, left = np.flatnonzero(~out), residual[~out]
        left[np.abs(left - np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE] = np.eye(3)
        _, kind_of, _, bake, _ = shared_out(mesh[free], left, above[free], negative_scale, mirror)
        out[free[(bake == np.eye(3)).all(axis=(1, 2))[kind_of]]] = True
        return {"kept": out}

    content = digest_of([linear, mesh, still, above, right, mirror, negative_scale])
    kept = np.zeros(len(nodes), np.bool_)
    kept[parts] = asked_again(workshop, KEEPS_SCALE, 1, content, asked)["kept"]
    return kept[rows]


def unit_primitive(mesh: Mesh) -> bool:
    """A shape of size one or two on all three axes, as modelling programs make them before they are scaled."""
    size = mesh.bounds[1] - mesh.bounds[0]
    return bool((np.minimum(np.abs(size - 1), np.abs(size - 2)) < 1e-6).all())


@check("transforms", "Far from the origin")
def far_from_origin(context: Context) -> Iterable[Finding]:
    """What float32 makes of the furthest vertex, where recentring would halve it at least; and parts far apart from the others."""
    scene = context.scene
    boxes = scene.part_bounds
    if not len(boxes):
        return
    metres = scene.convention.metres_per_unit
    near = near_parts(scene)
    if not near.all():
        yield far_apart(scene, boxes, near)
    low, high = boxes[near, 0].min(axis=0), boxes[near, 1].max(axis=0)
    furthest = float(np.linalg.norm(np.maximum(np.abs(low), np.abs(high)))) * metres
    error = furthest * 2.0**-24 * 1000
    radius = float(np.linalg.norm(high - low)) / 2 * metres
    if error < FLOAT_ERROR_MM or furthest < 2 * radius or not np.isfinite(error):
        return
    east, north, up = np.rint(linear_map(scene.convention, SITE) @ ((low + high) / 2)).tolist()
    yield Finding(
        code="origin.far",
        severity="warning",
        title="Far from the origin",
        count=int(near.sum()),
        value=error,
        limit=FLOAT_ERROR_MM,
        unit="mm",
        text=f"The scene reaches {furthest / 1000:.1f} km from the origin, where float32 rounds to {error:.2g} mm: surfaces jitter. "
        f"Recentred it would be {radius * 2.0**-24 * 1000:.2g} mm; the offset is kept.",
        parts=scene.nodes.parts[near].tolist(),
        mend={"kind": "recentre", "east": east, "north": north, "up": up},
    )


def far_apart(scene: Scene, boxes: F64, near: Bool) -> Finding:
    """Says which parts (P,) do not stand with the others, and of which files all do not."""
    parts, metres = scene.nodes.parts, scene.convention.metres_per_unit
    middle = boxes[near].mean(axis=(0, 1))
    with np.errstate(over="ignore", invalid="ignore"):
        way = (boxes[~near] / 2).sum(axis=1) - middle
        away = np.linalg.norm(np.clip(np.nan_to_num(way * metres, nan=NOWHERE_M), -NOWHERE_M, NOWHERE_M), axis=1)
    lost = parts[~near][np.argsort(-away, kind="stable")]
    files = [(label, of_files(scene, [label])[parts]) for label in stated_by_file(scene)]
    whole = [label for label, rows in files if rows.any() and not (rows & near).any()]
    given = scene.identities.given(scene.nodes.source[lost].tolist())
    what = plural(len(lost), "part stands", "parts stand")
    names = ", ".join(f"“{scene.nodes.names[i]}”" for i in lost[:3].tolist())
    of = f", all of {' and of '.join(f'“{x}”' for x in whole)}," if whole else ""
    error = float(away.max()) * 2.0**-24 * 1000
    told = f"{'it was' if len(lost) == 1 else 'they were'} forgotten there"
    told = "its coordinates are those of another frame" if whole else told
    return Finding(
        code="origin.apart",
        severity="warning",
        title="Far from the other parts",
        count=len(lost),
        value=float(away.max()) / 1000,
        limit=FAR_M / 1000,
        unit="km",
        text=f"{what}{of} {'up to ' if len(lost) > 1 else ''}{away.max() / 1000:.4g} km away from the others ({names}). With the "
        f"origin near the one, float32 rounds the other to {error:.2g} mm, and shadows, like all that goes by the size of the "
        f"scene, get as coarse. Perhaps {told}.",
        guess=True,
        parts=lost.tolist(),
        mend=None
        if whole or not given
        else {"kind": "set", "name": "Far from the others", "added": given, "treatment": {"leaveOut": True}},
    )


@check("transforms", "Mirrored, sheared and flattened nodes", sees="stored")
def odd_transforms(context: Context) -> Iterable[Finding]:
    """Parts drawn mirrored, where the destination does not take that; sheared by a parent that is stretched; of no thickness."""
    scene, destination = context.scene, context.destination
    nodes = scene.nodes
    parts = nodes.parts
    if not len(parts):
        return
    linear = nodes.world[parts, :3, :3]
    determinant = determinants(linear)
    mirrored = parts[determinant < 0]
    if len(mirrored):
        accepted, whose = destination.negative_scale, "its" if len(mirrored) == 1 else "their"
        yield Finding(
            code="transform.mirrored",
            severity="info" if accepted else "error",
            title="Mirrored parts",
            count=len(mirrored),
            text=f"{plural(len(mirrored), 'part is', 'parts are')} mirrored by a negative scale, which {destination.title} "
            f"{'accepts' if accepted else f'does not accept; {whose} faces would turn inside out'}.",
            parts=[int(i) for i in mirrored],
            mend=None if accepted else _match(),
        )
    size = np.linalg.norm(linear, axis=1).max(axis=1)
    flat = parts[np.abs(determinant) <= 1e-12 * size**3]
    if len(flat):
        yield Finding(
            code="transform.flattened",
            severity="warning",
            title="Parts scaled to nothing",
            count=len(flat),
            text=f"{plural(len(flat), 'part is', 'parts are')} scaled to zero along an axis.",
            parts=[int(i) for i in flat],
        )
    sheared = sheared_ones(nodes.world[parts])
    sheared &= np.abs(determinant) > 1e-12 * size**3
    if sheared.any():
        rows = parts[sheared]
        askew = skew(linear[sheared])
        yield Finding(
            code="transform.sheared",
            severity="warning",
            title="Sheared parts",
            count=len(rows),
            value=float(askew.max()),
            limit=0.0,
            unit="°",
            text=f"{plural(len(rows), 'part is', 'parts are')} sheared by a stretched parent, up to {askew.max():.2g}° off right angles; no receiver can hold that as "
            "translation, rotation and scale, so it must go into the mesh.",
            parts=[int(i) for i in rows],
            mend=_match(),
        )
