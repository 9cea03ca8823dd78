"""Lamps of a scene as flat arrays, in photometric units."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.bake.mix import BRIGHTNESS
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray

DIRECTIONAL, POINT, SPOT = 0, 1, 2


def lamp_arrays(scene: Scene, centre: F64) -> dict[str, AnyArray]:
    """Lamps that are switched on: (L,) kind, (L, 3) place, direction they shine in, and power by colour (lux of the sun,
    candela of the others), (L, 3) range in metres, cosines of inner and outer angle. And of surfaces that shine, (T, 3, 3)
    triangles, (T, 3) what they emit, and (T,) which of them each is of."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    on = np.flatnonzero((nodes.light >= 0) & ((nodes.flags & HIDDEN) == 0)).tolist()
    rows = [i for i in on if not scene.lights[nodes.light[i]].surface]
    panels = [panel(scene, i, centre) for i in on if scene.lights[nodes.light[i]].surface]
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
        "panel_corners": np.concatenate([np.zeros((0, 3, 3)), *(c for c, _ in panels)]),
        "panel_emission": np.concatenate([np.zeros((0, 3)), *(e for _, e in panels)]),
        "panel_lamp": np.repeat(np.arange(len(panels)), [len(c) for c, _ in panels]),
    }


def panel(scene: Scene, node: int, centre: F64) -> tuple[F64, F64]:
    """(T, 3, 3) triangles of a surface that shines, in metres, and (T, 3) candela per m² of each: as many candela as the light
    has, seen from where it shines brightest (a cylinder from its side). None of what gives no light or has no surface."""
    light, world = scene.lights[scene.nodes.light[node]], scene.nodes.world[node]
    wide, high = light.size
    corners = PANELS[light.surface]() * (wide, high, high)
    axes = world[:3, :3] / np.maximum(np.linalg.norm(world[:3, :3], axis=0), 1e-300)
    placed = (corners @ axes.T + world[:3, 3]) * scene.convention.metres_per_unit - centre
    if np.linalg.det(axes) < 0:
        placed = placed[:, ::-1]
    area = np.linalg.norm(np.cross(placed[:, 1] - placed[:, 0], placed[:, 2] - placed[:, 0]), axis=1).sum() / 2
    seen = area / np.pi if light.surface == "cylinder" else area
    power = np.maximum(np.nan_to_num(np.array(light.color) * light.intensity, nan=0.0, posinf=0.0, neginf=0.0), 0.0)
    if not (power.any() and seen > 0 and np.isfinite(seen)):
        return np.zeros((0, 3, 3)), np.zeros((0, 3))
    return placed, np.tile(power / seen, (len(placed), 1))


def rectangle() -> F64:
    """(2, 3, 3) of size one about the origin, facing along -Z as lights do."""
    x, y = 0.5, 0.5
    return np.array([[[-x, -y, 0], [x, y, 0], [x, -y, 0]], [[-x, -y, 0], [-x, y, 0], [x, y, 0]]])


def disk() -> F64:
    """(T, 3, 3) of diameter one, facing along -Z."""
    rim = around()
    return np.stack([np.zeros_like(rim), np.roll(rim, -1, axis=0), rim], axis=1)


def cylinder() -> F64:
    """(T, 3, 3) the side of one along X, of length and diameter one, facing outward."""
    one = around()[:, [2, 0, 1]]
    other = np.roll(one, -1, axis=0)
    left, right = np.array([-0.5, 0, 0]), np.array([0.5, 0, 0])
    return np.concatenate([
        np.stack([one + left, other + left, other + right], axis=1), np.stack([one + left, other + right, one + right], axis=1)
    ])  # fmt: skip


def around() -> F64:
    """(AROUND, 3) a circle of diameter one in the plane of X and Y, counter-clockwise."""
    angle = np.arange(AROUND) / AROUND * 2 * np.pi
    return np.column_stack([np.cos(angle) / 2, np.sin(angle) / 2, np.zeros(AROUND)])


AROUND = 24
"""Corners of what is round."""
PANELS: dict[str, Callable[[], F64]] = {
    "rectangle": rectangle, "disk": disk, "cylinder": cylinder,
}  # fmt: skip


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
    sides = 1 + arrays["two_sided"][arrays["material"][glows]]
    return Powers(
        float(bright[kind == DIRECTIONAL].sum()),
        float((bright * angle)[kind != DIRECTIONAL].sum() + lumen(arrays["panel_corners"], arrays["panel_emission"])),
        lumen(corners, arrays["emission"][glows] * sides[:, None]),
    )


def lumen(corners: F64, emission: AnyArray) -> float:
    """What triangles (T, 3, 3) give to their front that emit (T, 3) candela per m²."""
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    return float((area * (emission @ BRIGHTNESS)).sum() * np.pi)
