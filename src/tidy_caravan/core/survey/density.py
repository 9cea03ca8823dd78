"""Checks of density: triangles that shape nothing, and too few where a surface is to bend."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.conventions.evidence import name_stems, words_pattern
from tidy_caravan.core.geometry.lots import Lot
from tidy_caravan.core.geometry.regular import longest_edge, longest_edges
from tidy_caravan.core.geometry.simplify import flat_places
from tidy_caravan.core.geometry.vertices import equals
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import Bool
from tidy_caravan.core.scene.look import DISPLACEMENT
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.survey.base import Finding, check, parts_with
from tidy_caravan.core.survey.context import Context, mesh_fact
from tidy_caravan.core.words import plural

MOST_FLAT = 1000
"""Vertices of a mesh that may lie within flat surface without a word …"""
FLAT_SHARE = 0.3
"""… and part of all its vertices."""
BENT = (
    "flag|banner|curtain|cloth|tarpaulin|awning|sail|drape|drapery|"
    "fahnen?|flaggen?|vorhang|vorhänge|segel|markise|drapeau|rideaux?|voile|bâche|bandera|cortina|toldo|vela|"
    "bandiera|tenda|vlag|gordijn|zeil"
)
"""Names of what hangs or waves, and is meant to bend."""
SEGMENTS = 8
"""Edges along the size of a thing that it needs to bend …"""
SEGMENTS_DISPLACED = 32
"""… and of a surface that a displacement map is to shape, at the least."""
DISPLACED = "displaced|displacement|disp|height ?map|höhenkarte|verschiebung"
"""Names of materials that are displaced."""


def flat(mesh: Mesh) -> list[int]:
    """Vertices within flat surface, and all that are used; of those that are the same in everything one."""
    if mesh.triangles <= MOST_FLAT:
        return [0, 0]
    return [flat_places(mesh), int((equals(mesh)[mesh.used] == mesh.used).sum())]


def flat_of(lot: Lot) -> list[list[int] | None]:
    """The same of meshes without that many triangles."""
    return [[0, 0] if n <= MOST_FLAT else None for n in lot.triangles.tolist()]


def longest_of(lot: Lot) -> list[float]:
    """The longest edge of each mesh."""
    longest = np.zeros(len(lot))
    np.maximum.at(longest, lot.of_face, longest_edges(lot.all.positions, lot.all.indices))
    out: list[float] = longest.tolist()
    return out


FLAT = mesh_fact("vertices within flat surface", flat, version=2, many=flat_of)
LONGEST = mesh_fact("longest edge", lambda m: longest_edge(m.positions, m.indices), surface=True, many=longest_of)


@check("density", "Triangles that shape nothing")
def too_fine(context: Context) -> Iterable[Finding]:
    """Vertices whose triangles all lie in one plane, away from borders and seams: without them nothing would change. Surfaces
    with a displacement map need them."""
    scene = context.scene
    spare, used = np.array([found or [0, 0] for found in context.each(FLAT)]).reshape(-1, 2).T
    hit = (spare > MOST_FLAT) & (spare > FLAT_SHARE * used) & (scene.instance_counts > 0)
    hit &= ~with_displacement(scene)
    if hit.any():
        parts = parts_with(scene, hit)
        count = int(spare[hit].sum())
        yield Finding(
            code="density.fine",
            severity="info",
            title="Triangles that shape nothing",
            count=len(parts),
            value=float(count),
            limit=float(MOST_FLAT),
            unit="vertices",
            text=f"{plural(count, 'vertex lies', 'vertices lie')} within flat surface of {plural(int(hit.sum()), 'mesh', 'meshes')}, away from every border and seam; "
            "without them the shape would be the same. Surfaces that are displaced or painted by vertex need them.",
            parts=parts,
            guess=True,
            mend={
                "kind": "simplify",
                "errorMm": 0.1,
                "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())},
            },
        )


@check("density", "Too few segments to bend")
def too_coarse(context: Context) -> Iterable[Finding]:
    """Things that hang or wave, by name, whose longest edge is more than an eighth of their size, and surfaces whose
    material has a displacement map, or is called so, with edges of more than a thirty-second."""
    scene = context.scene
    nodes, parts = scene.nodes, scene.nodes.parts
    if not len(parts):
        return
    stems, which = name_stems(scene)
    pattern = words_pattern(BENT)
    hangs = np.array([pattern.search(n) is not None for n in stems], np.bool_)[which]
    displaced = np.append(with_displacement(scene), False)[nodes.mesh[parts]]
    yield from coarse(
        context,
        displaced,
        SEGMENTS_DISPLACED,
        "Too few segments for a displacement",
        "part whose material is displaced has",
        "parts whose materials are displaced have",
        "what the map holds between their ends would be lost",
    )
    yield from coarse(
        context,
        hangs & ~displaced,
        SEGMENTS,
        "Too few segments to bend",
        "part that hangs or waves, by name, has",
        "parts that hang or wave, by name, have",
        "bent by wind or a displacement, they would fold like card",
    )


def with_displacement(scene: Scene) -> Bool:
    """(M,) meshes that draw a material of which its source says that it is displaced, or that is called so."""
    pattern = words_pattern(DISPLACED)
    told = [
        i
        for i, m in enumerate(scene.materials)
        if (isinstance(m.extras, dict) and DISPLACEMENT in m.extras) or pattern.search(m.name.lower())
    ]
    if not told:
        return np.zeros(len(scene.meshes), np.bool_)
    return np.array([bool(np.isin(m.material, told).any()) for m in scene.meshes], np.bool_)


def coarse(
    context: Context, asked: Bool, segments: int, title: str, one: str, many: str, why: str
) -> Iterable[Finding]:
    """Of the parts asked about (P,) those with edges of more than their size divided by so many segments; one finding for
    all that want edges of about the same length, since what is right for a pennant is too much for a sail."""
    scene = context.scene
    rows = scene.nodes.parts[asked]
    if not len(rows):
        return
    mesh = scene.nodes.mesh[rows]
    edge = context.numbers(LONGEST).astype(np.float64)
    boxes = scene.mesh_boxes
    size = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    hit = (edge * segments > size) & (edge > 0)
    # as the step reckons: a mesh as its largest part draws it
    to_mm = scales(scene, largest=True) * 1000
    wanted = size * to_mm / segments
    octave = np.floor(np.log2(np.maximum(wanted, 1e-9)))
    for step in np.unique(octave[mesh[hit[mesh]]]).tolist():
        some = hit & (octave == step)
        found = rows[some[mesh]]
        drawn = np.unique(mesh[some[mesh]])
        limit, worst = float(wanted[drawn].min()), float((edge * to_mm)[drawn].max())
        yield Finding(
            code="density.coarse",
            severity="info",
            title=title,
            count=len(found),
            value=worst,
            limit=limit,
            unit="mm",
            text=f"{plural(len(found), one, many)} edges up to {worst:.0f} mm long: {why}.",
            parts=found.tolist(),
            guess=True,
            mend={
                "kind": "subdivide",
                "edgeMm": below(limit),
                "where": {"parts": scene.identities.given(scene.nodes.source[found].tolist())},
            },
        )


def below(limit: float) -> float:
    """The limit in three digits, and never more."""
    step = 10.0 ** (np.floor(np.log10(limit)) - 2)
    return float(f"{np.floor(limit / step * (1 - 1e-9)) * step:.6g}")
