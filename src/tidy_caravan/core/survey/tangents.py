"""Checks of stored tangents: by them normal maps are lit."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np

from tidy_caravan.core.geometry.faults import broken_tangents, opposed_tangents
from tidy_caravan.core.geometry.lots import Lot
from tidy_caravan.core.geometry.tangents import channel_of_normal_map
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context, mesh_fact
from tidy_caravan.core.survey.places import around
from tidy_caravan.core.survey.surfaces import per_mesh_finding
from tidy_caravan.core.words import plural

CHANNELS = 2
"""UV sets that normal maps are looked for on: the first, and that of lightmaps."""

BROKEN = mesh_fact(
    "broken tangents",
    lambda m: int(broken_tangents(m).sum()),
    many=lambda lot: lot.counted(lot.of_vertex[broken_tangents(lot.all)]),
)


def against(channel: int) -> tuple[Callable[[Mesh], int], Callable[[Lot], list[int]]]:
    """How many triangles have tangents against a channel, of one mesh and of many."""
    return (
        lambda mesh: int(opposed_tangents(mesh, channel).sum()),
        lambda lot: lot.counted(lot.of_face[opposed_tangents(lot.all, channel)]),
    )


OPPOSED = [
    mesh_fact(f"tangents against UV set {k}", one, many=many)
    for k, (one, many) in enumerate(map(against, range(CHANNELS)))
]


@check("normals", "Broken tangents")
def bad_tangents(context: Context) -> Iterable[Finding]:
    """Stored tangents that are nought, no numbers, not of unit length or of no sign; and those that run against the UV set of the
    normal map that is lit by them."""
    scene = context.scene
    yield from per_mesh_finding(
        scene,
        context.numbers(BROKEN),
        code="tangents.broken",
        severity="error",
        title="Broken tangents",
        unit="vertices",
        text=lambda n, meshes, parts: (
            f"{plural(n, 'stored tangent is', 'stored tangents are')} zero, not of unit length or without a sign, in "
            f"{plural(meshes, 'mesh', 'meshes')}: normal maps are lit wrongly there."
        ),
        mend={"kind": "mend_tangents", "missing": False},
    )
    kinds, which = scene.slot_kinds
    channel = np.array([channel_of_normal_map(scene.materials, slots) for slots in kinds] or [-1])[which]
    values = np.zeros(len(scene.meshes), np.int64)
    for k in range(CHANNELS):
        if (channel == k).any():
            values = np.where(channel == k, context.numbers(OPPOSED[k]), values)
    yield from per_mesh_finding(
        scene,
        values,
        code="tangents.opposed",
        severity="warning",
        title="Tangents against their texture",
        unit="triangles",
        lines=around(lambda mesh: opposed_tangents(mesh, 0) | opposed_tangents(mesh, 1)),
        text=lambda n, meshes, parts: (
            f"{plural(n, 'triangle has', 'triangles have')} tangents that run against the UV set of their normal map, or have the "
            "other hand: what stands out of it looks pressed in."
        ),
        mend={"kind": "mend_tangents", "missing": False},
    )
