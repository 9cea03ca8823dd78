"""Checks of triangles, normals, UV sets and pictures."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.faults import (
    broken_normals,
    degenerate,
    opposed_normals,
    repeated,
    told_apart,
    uv_areas,
)
from tidy_caravan.core.geometry.lots import Lot, uv_areas_of
from tidy_caravan.core.geometry.stretched import surface_scales
from tidy_caravan.core.geometry.vertices import (
    equals,
    joined,
    loose,
    many_sided_edges,
    many_sided_lines,
    not_finite,
)
from tidy_caravan.core.geometry.winding import sides_of
from tidy_caravan.core.lightmap.verify import overlaps_and_range
from tidy_caravan.core.scene import NO_LIGHTMAP, Material, Mesh, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, ranges
from tidy_caravan.core.scene.look import ROLES, reads, repeats_per_unit
from tidy_caravan.core.selection import heavy_meshes
from tidy_caravan.core.surroundings.content import picture_size
from tidy_caravan.core.survey.base import Finding, Severity, check, parts_with
from tidy_caravan.core.survey.context import Context, mesh_fact, none_of
from tidy_caravan.core.survey.faces import OPEN
from tidy_caravan.core.survey.places import around, in_meshes
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Work

FLAT_SHARE = 0.01
"""Part of a mesh's surface that may be without area in its first UV set."""
ONCE = 1.2
"""Repeats that a material covers on a mesh up to which it was laid out for one picture."""
OFF_SCALE = 2.0
"""Times that a repeat may be larger or smaller than it is on other parts of its material."""
INSTANCES_APART = 1.5
"""Ratio of the scales of two instances from which on their textures are told apart."""
MOSTLY = 0.5
"""Part of the surface with a picture that must repeat it for it to be one that is repeated."""
SCALES_TOLD = 100
"""Findings of it that are told one by one."""
SET_FAULTS = Work("faults of a UV set", 2, f"{__name__}:set_faults", native=False, figures_only=True)


def twice_of(lot: Lot) -> list[int]:
    """How many used vertices of each mesh are the same as another used one: all that are, less one of each kind."""
    first, used = joined(lot.all, 0.0, lot.of_vertex), lot.all.used
    kinds = np.unique(first[used])
    out: list[int] = (np.array(lot.counted(lot.of_vertex[used])) - lot.counted(lot.of_vertex[kinds])).tolist()
    return out


DEGENERATE = mesh_fact("degenerate triangles", lambda m: int(degenerate(m).sum()), surface=True, many=none_of)
REPEATED = mesh_fact("repeated triangles", lambda m: int(repeated(m).sum()), surface=True, many=none_of)
UNLIKE = mesh_fact("repeated triangles that differ", lambda m: told_apart(m, repeated(m)), many=none_of)
BROKEN = mesh_fact(
    "broken normals",
    lambda m: int(broken_normals(m).sum()),
    many=lambda lot: lot.counted(lot.of_vertex[broken_normals(lot.all)]),
)
OPPOSED = mesh_fact(
    "opposed normals",
    lambda m: int(opposed_normals(m).sum()),
    version=2,
    many=lambda lot: lot.counted(lot.of_face[opposed_normals(lot.all)]),
)
TURNED_OVER = mesh_fact(
    "triangles turned over", lambda m: int(sides_of(m).minor.sum()), version=2, surface=True, many=none_of
)
UNSURE = mesh_fact(
    "triangles turned over, or their neighbours", lambda m: sides_of(m).unsure, version=2, surface=True, many=none_of
)
ONE_SIDED = mesh_fact("sheets with one side", lambda m: int(sides_of(m).one_sided.sum()), surface=True, many=none_of)
LOOSE = mesh_fact(
    "vertices without triangle", loose, raw=True, surface=True, many=lambda lot: lot.counted(lot.of_vertex[~lot.used])
)
NO_NUMBERS = mesh_fact(
    "triangles that are no numbers", lambda m: int(not_finite(m).sum()), raw=True, surface=True, many=none_of
)
TWICE = mesh_fact(
    "vertices that stand twice", lambda m: int((equals(m)[m.used] != m.used).sum()), version=2, many=twice_of
)
MANY_SIDED = mesh_fact("edges of more than two triangles", many_sided_edges, version=2, surface=True, many=none_of)
UV_AREAS = mesh_fact("areas of the first UV set", lambda m: uv_areas(m).tolist(), version=2, many=uv_areas_of)


def set_faults(arrays: Mapping[str, AnyArray], channel: int) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: whether a UV set lies on itself, and how many triangles leave the map."""
    overlaps, outside = overlaps_and_range(arrays["uv"], arrays["indices"])
    return {}, {"overlaps": overlaps, "outside": outside}


def per_mesh_finding(
    scene: Scene,
    values: AnyArray,
    *,
    code: str,
    severity: Severity,
    title: str,
    text: Callable[[int, int, int], str],
    mend: dict[str, Any] | None = None,
    unit: str = "",
    unsure: AnyArray | None = None,
    lines: Callable[[Mesh], F64] | None = None,
) -> Iterable[Finding]:
    """One finding over the meshes where values (M,) > 0, of those that are used; text gets (sum, meshes, parts).

    unsure: (M,) of the values, for how many the mend is a guess. lines: (L, 2, 3) of a mesh, where the fault is.
    """
    values = np.where(scene.instance_counts > 0, values, 0).astype(np.int64)
    if (values > 0).any():
        parts = parts_with(scene, values > 0)
        yield Finding(
            code=code,
            severity=severity,
            title=title,
            count=len(parts),
            value=float(values.sum()),
            limit=0.0,
            unit=unit,
            text=text(int(values.sum()), int((values > 0).sum()), len(parts)),
            parts=parts,
            mend=mend,
            guess=unsure is not None and bool(((unsure > 0) & (values > 0)).any()),
            places=in_meshes(scene, values, unit, lines or (lambda mesh: np.zeros((0, 2, 3)))),
        )


def only_if(numbers: AnyArray, text: str) -> str:
    """A further sentence with the sum of the numbers, nothing when that is nought."""
    total = int(numbers.sum())
    return f" {text.format(total)}" if total else ""


@check("geometry", "Degenerate triangles")
def degenerate_triangles(context: Context) -> Iterable[Finding]:
    """Triangles that are a line or a point for the size of their mesh: they show nothing, and spoil normals and unwraps."""
    scene = context.scene
    return per_mesh_finding(
        scene,
        context.numbers(DEGENERATE),
        code="geometry.degenerate",
        lines=around(degenerate, each=True),
        severity="warning",
        title="Degenerate triangles",
        unit="triangles",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'triangle')} without area in {plural(meshes, 'mesh', 'meshes')}, seen by {plural(parts, 'part')}."
        ),
        mend={"kind": "drop_degenerates"},
    )


@check("geometry", "Repeated faces")
def repeated_faces(context: Context) -> Iterable[Finding]:
    """Triangles exactly where another of the same mesh stands, looking the same way: they flicker, and cost double."""
    unlike = context.numbers(UNLIKE)
    return per_mesh_finding(
        context.scene,
        context.numbers(REPEATED),
        code="geometry.repeated",
        lines=around(repeated, each=True),
        severity="warning",
        title="Repeated faces",
        unit="triangles",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'triangle stands', 'triangles stand')} exactly where another of the same mesh stands, in {plural(meshes, 'mesh', 'meshes')}: "
            "they flicker, and lightmaps cannot hold them."
            + only_if(unlike, "{} of them differ in material or texture coordinates; which one was meant is a guess.")
        ),
        mend={"kind": "drop_repeated"},
        unsure=unlike,
    )


CLEAN = {"kind": "clean_vertices"}


@check("geometry", "Vertices that stand twice, unused or no numbers")
def spare_vertices(context: Context) -> Iterable[Finding]:
    """Vertices of no use; those along seams, with another normal or other texture coordinates, are of use."""
    scene = context.scene
    yield from per_mesh_finding(
        scene,
        context.numbers(NO_NUMBERS),
        code="geometry.not-finite",
        severity="error",
        title="Places that are no numbers",
        unit="triangles",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'triangle has a corner', 'triangles have corners')} whose place is no number or infinite, in {plural(meshes, 'mesh', 'meshes')}: "
            "bounds, culling and shadows of the whole part break."
        ),
        mend=CLEAN,
    )
    yield from per_mesh_finding(
        scene,
        context.numbers(TWICE),
        code="geometry.unjoined",
        severity="info",
        title="Vertices that stand twice",
        unit="vertices",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'vertex stands', 'vertices stand')} where another does with everything alike, in {plural(meshes, 'mesh', 'meshes')}: no seam, only weight."
        ),
        mend=CLEAN,
    )
    yield from per_mesh_finding(
        scene,
        context.numbers(LOOSE),
        code="geometry.loose",
        severity="info",
        title="Unused vertices",
        unit="vertices",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'vertex belongs', 'vertices belong')} to no triangle, in {plural(meshes, 'mesh', 'meshes')}; receivers may count them into bounds."
        ),
        mend=CLEAN,
    )


@check("geometry", "Edges of more than two triangles")
def many_sided(context: Context) -> Iterable[Finding]:
    """Where three or more triangles meet along an edge there is no inside: walls that run into each other, mostly."""
    return per_mesh_finding(
        context.scene,
        context.numbers(MANY_SIDED),
        code="geometry.non-manifold",
        lines=many_sided_lines,
        severity="info",
        title="Edges of more than two triangles",
        unit="edges",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'edge has', 'edges have')} three triangles or more, in {plural(meshes, 'mesh', 'meshes')}: distance fields, "
            "unwraps and smoothing have to guess there."
        ),
        mend={"kind": "part_edges"},
        unsure=context.numbers(MANY_SIDED),
    )


@check("normals", "Missing normals")
def missing_normals(context: Context) -> Iterable[Finding]:
    """Meshes without normals, for which every receiver makes its own, smooth or flat."""
    scene = context.scene
    return per_mesh_finding(
        scene,
        np.array([m.normals is None and m.triangles > 0 for m in scene.meshes]),
        code="normals.missing",
        severity="warning",
        title="Missing normals",
        unit="meshes",
        text=lambda n, meshes, parts: (
            f"{plural(meshes, 'mesh has', 'meshes have')} no normals; every receiver invents its own."
        ),
        mend={"kind": "mend_normals"},
    )


@check("normals", "Broken normals")
def bad_normals(context: Context) -> Iterable[Finding]:
    """Stored normals that are nought, no numbers or not of unit length; triangles whose normals all point against them."""
    scene = context.scene
    yield from per_mesh_finding(
        scene,
        context.numbers(BROKEN),
        code="normals.broken",
        severity="error",
        title="Broken normals",
        unit="vertices",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'stored normal is', 'stored normals are')} zero or not of unit length, in {plural(meshes, 'mesh', 'meshes')}."
        ),
        mend={"kind": "mend_normals"},
    )
    yield from per_mesh_finding(
        scene,
        context.numbers(OPPOSED),
        code="normals.opposed",
        lines=around(opposed_normals),
        severity="warning",
        title="Normals against their face",
        unit="triangles",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'triangle has', 'triangles have')} stored normals that all point against the face: lit from the wrong side."
        ),
        # of a closed shell it is known which way its faces look; of open sheets it may be they that are the wrong way round
        unsure=context.numbers(OPEN),
        mend={"kind": "mend_normals", "opposed": True},
    )


@check("geometry", "Neighbours that disagree")
def disagreeing_faces(context: Context) -> Iterable[Finding]:
    """Triangles that run the other way than most of the sheet they hang on, over edges of exactly two triangles.

    Where nearly half of a sheet looks the other way, which half is the wrong one is a guess.
    """
    scene = context.scene
    unsure = context.numbers(UNSURE)
    yield from per_mesh_finding(
        scene,
        context.numbers(TURNED_OVER),
        code="faces.disagree",
        lines=around(lambda m: sides_of(m).minor),
        severity="warning",
        title="Faces turned over",
        unit="triangles",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'triangle runs', 'triangles run')} the other way than the rest of their sheet, in {plural(meshes, 'mesh', 'meshes')}: "
            "seen from behind where the others are seen from the front. The lens “Reversed faces” shows them."
            + only_if(unsure, "For {} of them it may as well be the others, nearly as large.")
        ),
        mend={"kind": "turn_faces"},
        unsure=unsure,
    )
    one_sided = parts_with(scene, context.numbers(ONE_SIDED) > 0)
    yield from per_mesh_finding(
        scene,
        context.numbers(ONE_SIDED),
        code="faces.one-sided",
        severity="warning",
        title="Twisted sheets",
        unit="sheets",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'sheet', 'sheets')} in {plural(meshes, 'mesh', 'meshes')} cannot look to one side everywhere, as a strip that is twisted once cannot: "
            "cut it, or give it two sides."
        ),
        mend={"kind": "two_sided", "where": {"parts": scene.identities.given(scene.nodes.source[one_sided].tolist())}},
    )


@check("texture coordinates", "Missing first UV set")
def missing_first_uv(context: Context) -> Iterable[Finding]:
    """Meshes without any UV set: images have no place on them."""
    scene = context.scene
    return per_mesh_finding(
        scene,
        np.array([not m.uvs and m.triangles > 0 for m in scene.meshes]),
        code="uv.first-missing",
        severity="warning",
        title="No first UV set",
        unit="meshes",
        text=lambda n, meshes, parts: (
            f"{plural(meshes, 'mesh has', 'meshes have')} no UV set at all; images cannot be laid on {plural(parts, 'part')}."
        ),
        mend={"kind": "first_uvs"},
    )


@check("texture coordinates", "First UV sets without area")
def flat_first_uv(context: Context) -> Iterable[Finding]:
    """Surface whose triangles are a line or a point in the first UV set: images smear along it."""
    scene = context.scene
    mesh, areas = pictured_areas(context)
    gone, every = (np.bincount(mesh, a, minlength=len(scene.meshes)) for a in (areas[:, 3], areas[:, 2:].sum(axis=1)))
    flat = gone > FLAT_SHARE * every
    parts = parts_with(scene, flat & (scene.instance_counts > 0))
    if parts:
        yield Finding(
            code="uv.first-flat",
            severity="warning",
            title="First UV set without area",
            count=len(parts),
            value=100 * float((gone[flat] / np.maximum(every[flat], 1e-300)).max()),
            limit=100 * FLAT_SHARE,
            unit="% of the surface",
            text=f"{plural(int(flat.sum()), 'mesh has', 'meshes have')} surface that is a line or a point in the first UV set: "
            f"images smear along it, on {plural(len(parts), 'part')}.",
            parts=parts,
            mend={
                "kind": "first_uvs",
                "anew": True,
                "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())},
            },
            guess=True,
        )


def pictured_areas(context: Context) -> tuple[I64, F64]:
    """(K,) meshes and (K, 4) the areas of their slots that show a picture, see `uv_areas`; in repeats² of that picture."""
    shown = textured(context.scene)
    rows = [(i, a) for i, each in enumerate(context.each(UV_AREAS)) for a in each or () if int(a[0]) in shown]
    areas = np.array([a for _, a in rows]).reshape(-1, 4)
    areas[:, 1] *= np.array([repeats_per_unit(m) for m in context.scene.materials])[areas[:, 0].astype(np.int64)]
    return np.array([i for i, _ in rows], np.int64), areas


def looks_alike(scene: Scene) -> I64:
    """(M,) a number for how each material looks, whatever it is called: exporters give every object one of its own."""
    pixels = [hash(image.data or (image.uri, image.name)) for image in scene.images]

    def of(use: TextureUse | None) -> object:
        image = scene.textures[use.texture].image if use and 0 <= use.texture < len(scene.textures) else -1
        return use and (replace(use, texture=0, extras=None), pixels[image] if 0 <= image < len(pixels) else None)

    def told(m: Material) -> object:
        bare = dict.fromkeys(ROLES)
        return replace(m, name="", extras=None, **bare), tuple(of(getattr(m, role)) for role in ROLES)  # type: ignore[arg-type]

    number: dict[object, int] = {}
    return np.array([number.setdefault(told(m), len(number)) for m in scene.materials], np.int64)


def textured(scene: Scene) -> set[int]:
    """Materials that show a picture by the first UV set."""
    return {i for i, m in enumerate(scene.materials) if reads(m, 0)}


@check("texture coordinates", "Texture scale", sees="shapes")
def texture_scale(context: Context) -> Iterable[Finding]:
    """How large a repeat is on the parts of materials that look alike, against the middle of them all by surface.

    Of a mesh with several materials each is asked by itself; a scale of the texture's own in the material counts. A set
    that covers its picture about once is laid out for it, as a board or a screen is: where most surface repeats that
    picture it is asked about, elsewhere it is not compared. Where most does not repeat it, as in an atlas, it is a guess.
    """
    scene = context.scene
    nodes, parts = scene.nodes, scene.nodes.parts
    mesh, areas = pictured_areas(context)
    mesh, areas = mesh[areas[:, 1] > 0], areas[areas[:, 1] > 0]
    if not len(mesh):
        return
    # every part with each pictured slot of its mesh
    count = np.bincount(mesh, minlength=len(scene.meshes) + 1)
    begin = np.cumsum(count) - count
    row = np.repeat(np.arange(len(parts)), count[nodes.mesh[parts]])
    entry = ranges(begin[nodes.mesh[parts]], count[nodes.mesh[parts]])
    linear = (surface_scales(scene, parts) * scene.convention.metres_per_unit)[row]
    flat, solid, slot = areas[entry, 1], areas[entry, 2] * linear**2, areas[entry, 0].astype(np.int64)
    once = (flat <= ONCE) & (flat >= 1 - (ONCE - 1))
    size = np.sqrt(np.divide(solid, flat, out=np.ones(len(row)), where=solid > 0))
    several = np.append(scene.by_slots(lambda slots: len(slots) > 1), False)[nodes.mesh[parts[row]]]
    look = looks_alike(scene)[slot]
    found: list[OffScale] = []
    shown = np.flatnonzero(solid > 0)
    shown = shown[np.argsort(look[shown], kind="stable")]
    for rows in np.split(shown, np.flatnonzero(np.diff(look[shown])) + 1) if len(shown) else ():
        repeats = float(solid[rows[flat[rows] > ONCE]].sum()) >= MOSTLY * float(solid[rows].sum())
        # what the others go by: what repeats it, or else what is not laid out for it
        told = rows[flat[rows] > ONCE] if repeats else rows[~once[rows]]
        if len(np.unique(mesh[entry[told]])) < 2 and (not repeats or len(np.unique(mesh[entry[rows]])) < 2):
            continue
        order = told[np.argsort(size[told])]
        share = np.cumsum(solid[order])
        middle = float(size[order[np.searchsorted(share, share[-1] / 2)]])
        asked = rows if repeats else told
        off = np.maximum(size[asked] / middle, middle / size[asked])
        asked, off = asked[off > OFF_SCALE], off[off > OFF_SCALE]
        guess = once[asked] | (not repeats)
        # those of one material have one mend, whatever it is called; of one of several it goes by its name
        kind = np.where(several[asked], slot[asked], -1) * 2 + guess
        for one in np.unique(kind).tolist():
            mine = asked[kind == one]
            worst = float(off[kind == one].max())
            found.append(OffScale(worst, int(slot[mine[0]]), mine, middle, bool(one % 2), one >= 0))
    found.sort(key=lambda f: -f.off)
    for one in found[:SCALES_TOLD]:
        mine = parts[row[one.rows]]
        name = scene.materials[one.slot].name
        mend = {
            "kind": "texture_scale",
            "metresPerRepeat": float(f"{one.middle:.4g}"),
            **({"material": name} if one.several else {}),
            "where": {"parts": scene.identities.given(nodes.source[mine].tolist())},
        }
        why = (
            ""
            if not one.guess
            else ": right for a board that shows it once, not for surface like the others"
            if once[one.rows].all()
            else ": the image is not repeated on most of them, as in an atlas, where that may be meant"
        )
        yield Finding(
            code="uv.scale",
            severity="warning",
            title="Texture out of scale",
            count=len(mine),
            value=one.off,
            limit=OFF_SCALE,
            unit="×",
            text=f"On {plural(len(mine), 'part')} a repeat of “{name or one.slot}” is {one.off:.3g} times larger or smaller than the {one.middle:.3g} m "
            f"that it measures elsewhere{why}.",
            parts=mine.tolist(),
            # one of several materials that has no name cannot be told to a step
            mend=mend if name or not one.several else None,
            guess=one.guess,
        )
    if rest := found[SCALES_TOLD:]:
        mine = np.unique(parts[row[np.concatenate([one.rows for one in rest])]])
        yield Finding(
            code="uv.scale",
            severity="warning",
            title="Texture out of scale",
            count=len(mine),
            value=rest[0].off,
            limit=OFF_SCALE,
            unit="×",
            text=f"On {plural(len(mine), 'more part')} repeats of {plural(len(rest), 'other material')} are up to {rest[0].off:.3g} times larger or smaller than "
            "elsewhere; each is told by itself once those before are put right.",
            parts=mine.tolist(),
        )


@dataclass(frozen=True)
class OffScale:
    """What is out of scale of one look. rows: (R,) of parts with a slot. middle: m of a repeat elsewhere. several: whether the
    meshes have other materials as well."""

    off: float
    slot: int
    rows: I64
    middle: float
    guess: bool
    several: bool


@check("texture coordinates", "Instances at different scales")
def instances_apart(context: Context) -> Iterable[Finding]:
    """Parts that share a mesh with a picture on it, at different scales: the picture is finer on the small ones."""
    scene = context.scene
    nodes, parts = scene.nodes, scene.nodes.parts
    shown = textured(scene)
    pictured = np.append(scene.by_slots(lambda slots: bool(shown & set(slots))), False)
    for i in np.flatnonzero(pictured).tolist():
        pictured[i] = bool(scene.meshes[i].uvs)
    rows = parts[pictured[nodes.mesh[parts]]]
    if not len(rows):
        return
    scale = surface_scales(scene, rows)
    least, most = np.full(len(scene.meshes), np.inf), np.zeros(len(scene.meshes))
    np.minimum.at(least, nodes.mesh[rows], scale)
    np.maximum.at(most, nodes.mesh[rows], scale)
    ratio = np.divide(most, least, out=np.ones(len(most)), where=(least > 0) & np.isfinite(least))
    hit = ratio > INSTANCES_APART
    if hit.any():
        found = rows[hit[nodes.mesh[rows]]]
        yield Finding(
            code="uv.instance-scale",
            severity="info",
            title="Instances at different scales",
            count=len(found),
            value=float(ratio[hit].max()),
            limit=INSTANCES_APART,
            unit="×",
            text=f"{plural(int(hit.sum()), 'mesh', 'meshes')} with pictures stand at scales up to {float(ratio[hit].max()):.3g} times apart, on {plural(len(found), 'part')}: "
            "the picture is that much finer on the small ones.",
            parts=found.tolist(),
        )


@check("texture coordinates", "Missing lightmap UV set")
def missing_second_uv(context: Context) -> Iterable[Finding]:
    """Meshes without a set at the lightmap channel, but heavy ones and those that are left without light on purpose."""
    scene, destination = context.scene, context.destination
    channel = destination.lightmap_channel
    # heavy meshes are not unwrapped unless asked for, and what a set spares lacks nothing either
    nodes = scene.nodes
    wanted = np.zeros(len(scene.meshes) + 1, np.bool_)
    wanted[nodes.mesh[(nodes.flags & NO_LIGHTMAP) == 0]] = True
    left_out = np.asarray(heavy_meshes(scene), np.bool_) | ~wanted[:-1]
    spared = {scene.meshes[i].id for i in np.flatnonzero(left_out).tolist()}
    without = np.array([len(m.uvs) <= channel and m.triangles > 0 for m in scene.meshes], np.bool_)
    if spared:
        without &= np.array([m.id not in spared for m in scene.meshes], np.bool_)
    return per_mesh_finding(
        scene,
        without,
        code="uv.second-missing",
        severity="warning",
        title="No lightmap UV set",
        unit="meshes",
        text=lambda n, meshes, parts: (
            f"{plural(meshes, 'mesh has', 'meshes have')} no UV set {channel}; baked light has no place on {plural(parts, 'part')}."
        ),
        mend={"kind": "lightmap_uvs"},
    )


@check("texture coordinates", "Lightmap UV set that cannot hold light")
def bad_lightmap_set(context: Context) -> Iterable[Finding]:
    """The set at the destination's lightmap channel overlaps itself or leaves 0–1: light of one place on another.

    Sets that pictures are read from are texture coordinates, and what is left without light on purpose is not asked.
    """
    scene, destination = context.scene, context.destination
    channel = destination.lightmap_channel
    reading = {i for i, m in enumerate(scene.materials) if reads(m, channel)}
    nodes = scene.nodes
    wanted = np.zeros(len(scene.meshes) + 1, np.bool_)
    wanted[nodes.mesh[(nodes.flags & NO_LIGHTMAP) == 0]] = True
    overlapping, outside = np.zeros(len(scene.meshes), np.bool_), np.zeros(len(scene.meshes), np.bool_)
    wanted[:-1] &= (scene.triangle_counts > 0) & ~scene.by_slots(lambda slots: bool(reading & set(slots)))
    asked = [i for i in np.flatnonzero(wanted[:-1]).tolist() if len(scene.meshes[i].uvs) > channel]

    def of_set(mesh: Mesh) -> dict[str, AnyArray]:
        return {"uv": mesh.uvs[channel], "indices": mesh.indices}

    for i, figures in context.measured(SET_FAULTS, asked, of_set, channel=channel).items():
        overlapping[i], outside[i] = figures["overlaps"] > 0, figures["outside"] > 0
    for code, marked, what in (
        ("uv.lightmap-overlaps", overlapping, "lies on itself"),
        ("uv.lightmap-range", outside, "leaves the map"),
    ):
        if marked.any():
            parts = parts_with(scene, marked)
            yield Finding(
                code=code,
                severity="warning",
                title="Lightmap UV set overlaps" if "overlaps" in code else "Lightmap UV set out of range",
                count=len(parts),
                value=float(marked.sum()),
                limit=0.0,
                unit="meshes",
                text=f"UV set {channel} of {plural(int(marked.sum()), 'mesh', 'meshes')} {what}; baked light would bleed from one place to another on {plural(len(parts), 'part')}.",
                parts=parts,
                mend={"kind": "lightmap_uvs"},
            )


@check("textures", "Missing and oversized images")
def pictures(context: Context) -> Iterable[Finding]:
    """Images that are not there or cannot be read, and such as are larger than the destination takes."""
    scene, destination = context.scene, context.destination
    missing = {i for i, image in enumerate(scene.images) if image.data is None}
    if missing:
        textures = {i for i, t in enumerate(scene.textures) if t.image in missing}
        materials = {i for i, m in enumerate(scene.materials) if any(u.texture in textures for u in m.uses())}
        hit = scene.by_slots(lambda slots: any(s in materials for s in slots))
        names = ", ".join(
            f"“{(scene.images[i].uri or scene.images[i].name or str(i))[:60]}”" for i in sorted(missing)[:3]
        )
        yield Finding(
            code="texture.missing",
            severity="error",
            title="Missing images",
            count=len(missing),
            value=float(len(missing)),
            limit=0.0,
            unit="images",
            text=f"{plural(len(missing), 'image is', 'images are')} not there or not readable: {names}. Send {'it' if len(missing) == 1 else 'them'} along with the scene.",
            parts=parts_with(scene, hit),
        )
    large = []
    for image in scene.images:
        if image.data is not None and max(picture_size(image.data)) > destination.max_texture:
            large.append(image)
    if large:
        yield Finding(
            code="texture.too-large",
            severity="warning",
            title="Images over the limit",
            count=len(large),
            value=float(max(max(picture_size(i.data or b"")) for i in large)),
            limit=float(destination.max_texture),
            unit="px",
            text=f"{plural(len(large), 'image is', 'images are')} larger than {destination.title} takes.",
        )
