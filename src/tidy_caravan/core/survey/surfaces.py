"""Checks of triangles, normals, UV sets and pictures."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.faults import (
    broken_normals,
    degenerate,
    opposed_normals,
    repeated,
    told_apart,
)
from tidy_caravan.core.geometry.lots import Lot
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
from tidy_caravan.core.scene import NO_LIGHTMAP, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.scene.look import reads
from tidy_caravan.core.selection import heavy_meshes
from tidy_caravan.core.surroundings.content import picture_size
from tidy_caravan.core.survey.base import Finding, Severity, check, parts_with
from tidy_caravan.core.survey.context import Context, mesh_fact, none_of
from tidy_caravan.core.survey.faces import OPEN
from tidy_caravan.core.survey.places import around, in_meshes
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Work

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
            f"{plural(n, 'triangle runs', 'triangles run')} the other way than the rest of {'its' if n == 1 else 'their'} sheet, in {plural(meshes, 'mesh', 'meshes')}: "
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
