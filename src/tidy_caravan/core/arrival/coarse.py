"""How far the surfaces of a level of detail come away from the whole ones, measured both ways."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.closest import furthest
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop

LOADS = ("tidy_caravan.core.geometry.nearest", "tidy_caravan.core.compiled")
APART = Work("a level and the whole", 3, f"{__name__}:surfaces_apart", figures_only=True)
LOOSER = 1.001
"""Rounding of the bound to its digits, as a part of it."""
STEPS = 8.0
"""Rounding of vertices: so many float32 steps at the mesh's own extent."""
BEYOND = 4.0
"""Bounds within which a distance is measured; further away it is only said to be further."""


def surfaces_apart(arrays: Mapping[str, AnyArray], reach: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on a pair of meshes: the largest distance of the corners and middles of either's triangles from the other, and how
    far those of a material lie from where it is on the whole; -1 beyond the reach."""
    one, other = (arrays[f"{k} positions"].astype(np.float64)[arrays[f"{k} indices"]] for k in ("whole", "coarse"))
    worst = max(furthest(one, other, reach), furthest(other, one, reach))
    was, now = arrays["whole material"], arrays["coarse material"]
    astray, slot = 0.0, -1
    if len(np.unique(was)) > 1 or not np.isin(now, was).all():
        for m in np.unique(now).tolist():
            far = furthest(other[now == m], one[was == m], reach) if (was == m).any() else np.inf
            if far > astray:
                astray, slot = far, m
    figures = {"worst": worst, "astray": astray}
    return {}, {**{k: v if np.isfinite(v) else -1.0 for k, v in figures.items()}, "slot": slot}


def too_coarse(whole: Scene, coarse: Scene, error_mm: float, workshop: Workshop, tell: Tell) -> tuple[float, list[str]]:
    """The largest distance in millimetres over all parts, and a sentence for each mesh that is beyond the bound.

    Both scenes have the same parts in the same order.
    """
    nodes = whole.nodes
    pairs = np.unique(np.column_stack([nodes.mesh[nodes.parts], coarse.nodes.mesh[nodes.parts]]), axis=0)
    largest = scales(whole, largest=True)
    asked = [(i, k) for i, k in pairs.tolist() if whole.meshes[i].id != coarse.meshes[k].id]

    def piece(one: Mesh, other: Mesh, metres: float) -> Piece:
        arrays = {
            "whole positions": one.positions,
            "whole indices": one.indices,
            "coarse positions": other.positions,
            "coarse indices": other.indices,
            "whole material": one.material,
            "coarse material": other.material,
        }
        size = one.triangles + other.triangles
        rounding = STEPS * float(np.spacing(np.abs(one.bounds).max().astype(np.float32)))
        reach = float(f"{BEYOND * (error_mm / 1000 / metres + rounding):.9g}")
        return Piece(one.id + other.id, arrays, {"reach": reach}, 60 + size / 500, size)

    pieces = [piece(whole.meshes[i], coarse.meshes[k], float(largest[i])) for i, k in asked]
    worst, told = 0.0, []
    for (i, _), outcome in zip(asked, workshop.do(APART, pieces, tell), strict=True):
        name = whole.meshes[i].name or whole.meshes[i].id[:8]
        if not isinstance(outcome, Done):
            told.append(f"how far “{name}” comes away could not be measured: {outcome.reason}")
            continue
        one = whole.meshes[i]
        step = float(np.spacing(np.abs(one.bounds).max().astype(np.float32))) * float(largest[i]) * 1000
        limit = error_mm * LOOSER + STEPS * step
        far = float(outcome.figures["worst"]) * float(largest[i]) * 1000
        if far < 0:
            told.append(f"“{name}” comes away by more than {BEYOND * error_mm:.2g} mm, limit {error_mm:.2g} mm")
        elif far > limit:
            told.append(f"“{name}” comes away by {far:.3g} mm, limit {error_mm:.3g} mm")
        worst = max(worst, far)
        astray, slot = float(outcome.figures["astray"]) * float(largest[i]) * 1000, int(outcome.figures["slot"])
        if astray < 0 or astray > limit:
            called = f"“{whole.materials[slot].name}”" if slot >= 0 else "what has no material"
            by = f"{astray:.3g} mm" if astray >= 0 else f"more than {BEYOND * error_mm:.2g} mm"
            told.append(f"{called} of “{name}” lies {by} from where it is on the whole, limit {error_mm:.3g} mm")
    return worst, told
