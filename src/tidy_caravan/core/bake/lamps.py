"""Lamps of a scene as flat arrays, in photometric units."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray

DIRECTIONAL, POINT, SPOT = 0, 1, 2


def lamp_arrays(scene: Scene, centre: F64, lamps: float) -> dict[str, AnyArray]:
    """Lamps that are switched on: (L,) kind, (L, 3) place, direction they shine in, and power by colour (lux of the sun,
    candela of the others), (L, 3) range in metres, cosines of inner and outer angle."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    rows = np.flatnonzero((nodes.light >= 0) & ((nodes.flags & HIDDEN) == 0)).tolist()
    kinds = {"directional": DIRECTIONAL, "point": POINT, "spot": SPOT}
    lights = [scene.lights[nodes.light[i]] for i in rows]
    way = [-nodes.world[i, :3, 2] / max(float(np.linalg.norm(nodes.world[i, :3, 2])), 1e-30) for i in rows]
    return {
        "lamp_kind": np.array([kinds[x.kind] for x in lights], np.int64),
        "lamp_place": np.array([nodes.world[i, :3, 3] * metre - centre for i in rows]).reshape(-1, 3),
        "lamp_way": np.array(way).reshape(-1, 3),
        "lamp_power": np.array([np.array(x.color) * x.intensity * lamps for x in lights]).reshape(-1, 3),
        "lamp_limits": np.array(
            [(x.range * metre if x.range else np.inf, np.cos(x.inner_cone), np.cos(x.outer_cone)) for x in lights]
        ).reshape(-1, 3),
    }
