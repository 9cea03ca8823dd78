"""Check of meshes that nodes stretch to several shapes: one cube that is walls, floors and posts."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.geometry.stretched import APART, other_shapes, put_apart
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.words import plural

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
    apart = put_apart(scene, hit)
    meshes, shapes = len(np.unique(scene.nodes.mesh[rows])), len(np.unique(apart.nodes.mesh[rows]))
    form = scene.nodes.world[rows, :3, :3]
    stretch = np.linalg.svd(form, compute_uv=False)
    worst = float((stretch[:, 0] / np.maximum(stretch[:, 2], 1e-300)).max())
    weight = sum(apart.meshes[i].nbytes for i in np.unique(apart.nodes.mesh[rows]).tolist())
    yield Finding(
        code="scale.shapes",
        severity="warning",
        title="One mesh in several shapes",
        count=len(rows),
        value=worst,
        limit=APART,
        unit="×",
        guess=shapes > MANY,
        text=f"{plural(len(rows), 'part is', 'parts are')} {plural(meshes, 'mesh', 'meshes')} that nodes stretch to {plural(shapes, 'shape')}, up to "
        f"{worst:.3g} times longer one way than another: a lightmap and a texture are drawn out as much. A mesh for each shape weighs "
        f"{weight / 1e3:.3g} kB in all; more are not drawn by that unless copies are drawn in one call.",
        parts=rows.tolist(),
        mend={
            "kind": "bake_scale",
            "stretched": "a mesh for each shape",
            "where": {"parts": scene.identities.given(scene.nodes.source[rows].tolist())},
        },
    )
