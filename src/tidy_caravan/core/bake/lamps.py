"""Lamps of a scene as flat arrays, in photometric units."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.bake.mix import BRIGHTNESS
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray

DIRECTIONAL, POINT, SPOT = 0, 1, 2


def lamp_arrays(scene: Scene, centre: F64) -> dict[str, AnyArray]:
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
        "lamp_power": np.maximum(
            np.nan_to_num(
                np.array([np.array(x.color) * x.intensity for x in lights]).reshape(-1, 3), posinf=0.0, neginf=0.0
            ),
            0.0,
        ),
        "lamp_limits": np.array(
            [(x.range * metre if x.range else np.inf, np.cos(x.inner_cone), np.cos(x.outer_cone)) for x in lights]
        ).reshape(-1, 3),
    }


@dataclass(frozen=True)
class Powers:
    """What the file's lights come to. sun: lux of all suns, across their light. lamps, glow: lumen of all other lamps and of all
    surfaces that glow."""

    sun: float = 0.0
    lamps: float = 0.0
    glow: float = 0.0


def powers(arrays: Mapping[str, AnyArray]) -> Powers:
    """Of a world's arrays. A point gives 4π lumen a candela; a spot what its cone, which fades as the square between both of
    its angles, lets out; a surface π a candela and side."""
    kind, bright = arrays["lamp_kind"], arrays["lamp_power"] @ BRIGHTNESS
    inner, outer = arrays["lamp_limits"][:, 1], arrays["lamp_limits"][:, 2]
    angle = np.where(kind == SPOT, 2 * np.pi * ((1 - inner) + (inner - outer) / 3), 4 * np.pi)
    glows = np.flatnonzero(arrays["emission"].any(axis=1))
    corners = arrays["points"][arrays["faces"][glows]].astype(np.float64)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    sides = 1 + arrays["two_sided"][arrays["material"][glows]]
    return Powers(
        float(bright[kind == DIRECTIONAL].sum()),
        float((bright * angle)[kind != DIRECTIONAL].sum()),
        float((area * sides * (arrays["emission"][glows] @ BRIGHTNESS)).sum() * np.pi),
    )
