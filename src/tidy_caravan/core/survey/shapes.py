"""Check of meshes that nodes stretch to several shapes: one cube that is walls, floors and posts."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.geometry.stretched import other_shapes, shapes_of
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.words import plural, weight

MANY = 256
"""Shapes from which on it is asked whether each is to have a mesh."""


@check("transforms", "One mesh in several shapes")
def several_shapes(context: Context) -> Iterable[Finding]:
    """Simple meshes that nodes stretch more one way on some parts than on others: a lightmap or a texture that fits one part
    is drawn out on the next, and no one size, pivot or cell is that of the piece."""
    scene = context.scene
    hit = other_shapes(scene)
    rows = np.flatnonzero(hit)
    if not len(rows):
        return
    found = shapes_of(scene, hit)
    meshes = len(np.unique(scene.nodes.mesh[rows]))
    # those that are not stretched at all are a shape as well
    plain = hit.copy()
    plain[found.rows] = False
    shapes = len(found.mesh) + len(np.unique(scene.nodes.mesh[plain]))
    form = scene.nodes.world[rows, :3, :3]
    stretch = np.linalg.svd(form, compute_uv=False)
    worst = float((stretch[:, 0] / np.maximum(stretch[:, 2], 1e-300)).max())
    held = int(np.array([m.nbytes for m in scene.meshes])[found.mesh].sum())
    yield Finding(
        code="scale.shapes",
        severity="warning",
        title="One mesh in several shapes",
        count=len(rows),
        value=worst,
        limit=1.0,
        unit="×",
        guess=shapes > MANY,
        text=f"{plural(len(rows), 'part is', 'parts are')} {plural(meshes, 'mesh', 'meshes')} that nodes stretch to {plural(shapes, 'shape')}, up to "
        f"{worst:.3g} times longer one way than another: a lightmap and a texture are drawn out as much. A mesh for each shape weighs "
        f"{weight(held)} in all; draw calls grow only where copies go in one.",
        parts=rows.tolist(),
        mend={
            "kind": "bake_scale",
            "stretched": "a mesh for each shape",
            "where": {"parts": scene.identities.given(scene.nodes.source[rows].tolist())},
        },
    )
