"""Checks of stored tangents: by them normal maps are lit."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.geometry.faults import broken_tangents, opposed_tangents
from tidy_caravan.core.geometry.tangents import channel_of_normal_map
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context, mesh_fact
from tidy_caravan.core.survey.places import around
from tidy_caravan.core.survey.surfaces import per_mesh_finding
from tidy_caravan.core.words import plural

BROKEN = mesh_fact(
    "broken tangents",
    lambda m: int(broken_tangents(m).sum()),
    many=lambda lot: lot.counted(lot.of_vertex[broken_tangents(lot.all)]),
)


OPPOSED = mesh_fact(
    "tangents against the first UV set",
    lambda m: int(opposed_tangents(m, 0).sum()),
    many=lambda lot: lot.counted(lot.of_face[opposed_tangents(lot.all, 0)]),
)


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
    values = np.where(channel == 0, context.numbers(OPPOSED), 0)
    # hardly any normal map is on another set, and most of those are for lightmaps: they are not asked about of every mesh
    others = {scene.meshes[i].id: int(channel[i]) for i in np.flatnonzero(channel > 0).tolist()}
    for i in np.flatnonzero((channel > 0) & (scene.instance_counts > 0)).tolist():
        values[i] = opposed_tangents(scene.meshes[i], int(channel[i])).sum()
    yield from per_mesh_finding(
        scene,
        values,
        code="tangents.opposed",
        severity="warning",
        title="Tangents against their texture",
        unit="triangles",
        lines=around(lambda mesh: opposed_tangents(mesh, others.get(mesh.id, 0))),
        text=lambda n, meshes, parts: (
            f"{plural(n, 'triangle has', 'triangles have')} tangents that run against the UV set of their normal map, or have the "
            "other hand: what stands out of it looks pressed in."
        ),
        mend={"kind": "mend_tangents", "missing": False},
    )
