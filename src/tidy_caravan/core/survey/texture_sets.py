"""Checks of the first UV set: surface without area in it, textures out of scale, instances at different scales."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from tidy_caravan.core.geometry.faults import uv_areas
from tidy_caravan.core.geometry.lots import uv_areas_of
from tidy_caravan.core.geometry.stretched import surface_scales
from tidy_caravan.core.scene import Material, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F64, I64, ranges
from tidy_caravan.core.scene.look import ROLES, reads, repeats_per_unit
from tidy_caravan.core.survey.base import Finding, check, parts_with
from tidy_caravan.core.survey.context import Context, mesh_fact
from tidy_caravan.core.words import plural

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
UV_AREAS = mesh_fact("areas of the first UV set", lambda m: uv_areas(m).tolist(), version=2, many=uv_areas_of)


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


@dataclass(frozen=True)
class OffScale:
    """What is out of scale of one look. parts: (R,) nodes. middle: m of a repeat elsewhere. once: whether all of them show their
    image about once. several: whether the meshes have other materials as well."""

    off: float
    slot: int
    parts: I64
    middle: float
    guess: bool
    once: bool
    several: bool


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
            shown_once = bool(once[mine].all())
            found.append(
                OffScale(worst, int(slot[mine[0]]), parts[row[mine]], middle, bool(one % 2), shown_once, one >= 0)
            )
    found.sort(key=lambda f: -f.off)
    yield from map(partial(told_of, scene), found[:SCALES_TOLD])
    if rest := found[SCALES_TOLD:]:
        mine = np.unique(np.concatenate([one.parts for one in rest]))
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


def told_of(scene: Scene, one: OffScale) -> Finding:
    """The finding, with the mend that goes by the material's name where the meshes have others as well."""
    name = scene.materials[one.slot].name
    mend = {
        "kind": "texture_scale",
        "metresPerRepeat": float(f"{one.middle:.4g}"),
        **({"material": name} if one.several else {}),
        "where": {"parts": scene.identities.given(scene.nodes.source[one.parts].tolist())},
    }
    why = (
        ""
        if not one.guess
        else ": right for a board that shows it once, not for surface like the others"
        if one.once
        else ": the image is not repeated on most of them, as in an atlas, where that may be meant"
    )
    return Finding(
        code="uv.scale",
        severity="warning",
        title="Texture out of scale",
        count=len(one.parts),
        value=one.off,
        limit=OFF_SCALE,
        unit="×",
        text=f"On {plural(len(one.parts), 'part')} a repeat of “{name or one.slot}” is {one.off:.3g} times larger or smaller than the {one.middle:.3g} m "
        f"that it measures elsewhere{why}.",
        parts=one.parts.tolist(),
        # one of several materials that has no name cannot be told to a step
        mend=mend if name or not one.several else None,
        guess=one.guess,
    )


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
            text=f"{plural(int(hit.sum()), 'mesh with images stands', 'meshes with images stand')} at scales up to {float(ratio[hit].max()):.3g} times apart, on {plural(len(found), 'part')}: "
            "the image is that much finer on the small ones.",
            parts=found.tolist(),
        )
