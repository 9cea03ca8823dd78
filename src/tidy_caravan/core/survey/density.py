"""Checks of density: triangles that shape nothing, and too few where a surface is to bend."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.conventions.evidence import name_stems, words_pattern
from tidy_caravan.core.geometry.lots import Lot
from tidy_caravan.core.geometry.regular import longest_edge, longest_edges
from tidy_caravan.core.geometry.simplify import flat_places
from tidy_caravan.core.geometry.vertices import equals
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import determinants
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
"""Edges along the size of a thing that it needs to bend."""


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
    """Vertices whose triangles all lie in one plane, away from borders and seams: without them nothing would change."""
    scene = context.scene
    spare, used = np.array([found or [0, 0] for found in context.each(FLAT)]).reshape(-1, 2).T
    hit = (spare > MOST_FLAT) & (spare > FLAT_SHARE * used) & (scene.instance_counts > 0)
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
    """Things that hang or wave, by name, whose longest edge is more than an eighth of their size."""
    scene = context.scene
    nodes, parts = scene.nodes, scene.nodes.parts
    if not len(parts):
        return
    stems, which = name_stems(scene)
    pattern = words_pattern(BENT)
    named = np.array([pattern.search(n) is not None for n in stems], np.bool_)[which]
    if not named.any():
        return
    edge = np.append(context.numbers(LONGEST).astype(np.float64), 0.0)
    size = np.array([float(np.linalg.norm(m.bounds[1] - m.bounds[0])) for m in scene.meshes] + [1.0])
    mesh = nodes.mesh[parts]
    hit = named & (edge[mesh] * SEGMENTS > size[mesh]) & (edge[mesh] > 0)
    if hit.any():
        rows = parts[hit]
        scale = np.abs(determinants(nodes.world[rows, :3, :3])) ** (1 / 3) * scene.convention.metres_per_unit
        wanted = float((size[mesh[hit]] * scale).min()) / SEGMENTS * 1000
        worst = float((edge[mesh[hit]] * scale).max()) * 1000
        yield Finding(
            code="density.coarse",
            severity="info",
            title="Too few segments to bend",
            count=len(rows),
            value=worst,
            limit=wanted,
            unit="mm",
            text=f"{plural(len(rows), 'part that hangs or waves, by name, has', 'parts that hang or wave, by name, have')} edges up to {worst:.0f} mm long: "
            "bent by wind or a displacement, they would fold like card.",
            parts=rows.tolist(),
            guess=True,
            mend={
                "kind": "subdivide",
                # three digits, and never more than the limit
                "edgeMm": float(f"{wanted * 0.99:.3g}"),
                "where": {"parts": scene.identities.given(nodes.source[rows].tolist())},
            },
        )
