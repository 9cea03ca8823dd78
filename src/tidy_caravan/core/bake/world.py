"""The scene as light sees it: triangles with what they reflect, give and let through, lamps, and the sky; flat arrays."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.rays import Caster
from tidy_caravan.core.scene import HIDDEN, Material, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.surroundings.world import Table, placed

DIRECTIONAL, POINT, SPOT = 0, 1, 2
MOST_ALBEDO = 0.95
"""Of a white that reflects everything, light would never end."""
PASSES = 8
"""Transparent surfaces one after the other that a ray goes through."""


@dataclass(frozen=True)
class Sky:
    """luminance: (3,) candela per m² of the sky above the horizon; ground: below it."""

    luminance: tuple[float, float, float] = (0.0, 0.0, 0.0)
    ground: tuple[float, float, float] = (0.0, 0.0, 0.0)


def world_arrays(scene: Scene, sky: Sky, lamps: float = 1.0) -> dict[str, AnyArray]:
    """Everything that light meets, in metres about the middle of the scene. lamps: what the power of all lamps is multiplied
    with. Lights of the file are in lux and candela; what a surface emits is taken for candela per m²."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    shown = np.flatnonzero((nodes.mesh >= 0) & ((nodes.flags & HIDDEN) == 0))
    table = Table.of(scene.meshes)
    found = placed(table, nodes.mesh[shown].astype(np.int64), nodes.world[shown])
    points = found.points * metre
    centre = (points.min(axis=0) + points.max(axis=0)) / 2 if len(points) else np.zeros(3)
    # a mirror turns triangles over; what is drawn shows the same side as before
    mirrored = np.linalg.det(nodes.world[shown][:, :3, :3]) < 0
    faces = np.where(mirrored[found.part][:, None], found.faces[:, ::-1], found.faces)
    slot = np.concatenate([np.zeros(0, np.int32), *(m.material for m in scene.meshes)])
    material = slot[table.face[nodes.mesh[shown][found.part]] + found.local].astype(np.int64)
    looks = [*scene.materials, Material(base_color=(0.7, 0.7, 0.7, 1.0), metallic=0.0)]
    arrays: dict[str, AnyArray] = {
        "points": points - centre,
        "faces": faces,
        "material": np.where(material < 0, len(looks) - 1, material),
        "albedo": np.array([np.minimum(np.array(m.base_color[:3]) * (1 - m.metallic), MOST_ALBEDO) for m in looks]),
        "emission": np.array([np.array(m.emissive) * m.emissive_strength * lamps for m in looks]),
        "alpha": np.array([1.0 if m.alpha_mode == "OPAQUE" else cut(m) for m in looks]),
        "two_sided": np.array([m.double_sided for m in looks]),
        "centre": centre,
        "up": axis_vector(scene.convention.up).astype(np.float64),
        "sky": np.array(sky.luminance, np.float64),
        "ground": np.array(sky.ground, np.float64),
    }
    return arrays | lamp_arrays(scene, centre, lamps)


def unread(scene: Scene) -> list[str]:
    """What of the materials a bake does not go by, in words."""
    drawn = {s for m in scene.meshes for s in m.slots if s >= 0}
    looks = [scene.materials[s] for s in sorted(drawn)]
    told = []
    for what, there in (
        ("the base colour without its texture", [m.base_color_texture for m in looks]),
        (
            "what glows without its texture",
            [m.emissive_texture if any(m.emissive) else None for m in looks],
        ),
        (
            "what is transparent by the factor alone, without its texture",
            [m.base_color_texture if m.alpha_mode != "OPAQUE" else None for m in looks],
        ),
    ):
        names = [m.name or "?" for m, t in zip(looks, there, strict=True) if t is not None]
        if names:
            more = f" and {len(names) - 3} more" if len(names) > 3 else ""
            told.append(f"Taken for the light: {what}, of {', '.join(names[:3])}{more}")
    return told


def cut(material: Material) -> float:
    """How much of the light a surface stops: a cut-out all or nothing, by its factor."""
    alpha = material.base_color[3]
    return alpha if material.alpha_mode == "BLEND" else float(alpha >= material.alpha_cutoff)


def lamp_arrays(scene: Scene, centre: F64, lamps: float) -> dict[str, AnyArray]:
    """Lamps that are switched on: (L,) kind, (L, 3) place, direction they shine in, and power by colour, (L, 3) range in metres,
    cosines of inner and outer angle."""
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


class World:
    """What `world_arrays` made, with the tree that rays are cast in."""

    def __init__(self, arrays: Mapping[str, Any]) -> None:
        self.points: F64 = arrays["points"]
        self.faces: I64 = arrays["faces"]
        self.caster = Caster(self.points, self.faces)
        self.material: I64 = arrays["material"]
        self.albedo: F64 = arrays["albedo"]
        self.emission: F64 = arrays["emission"]
        self.alpha: F64 = arrays["alpha"]
        self.two_sided: AnyArray = arrays["two_sided"]
        self.up: F64 = arrays["up"]
        self.sky: F64 = arrays["sky"]
        self.ground: F64 = arrays["ground"]
        self.lamps = {k: arrays[f"lamp_{k}"] for k in ("kind", "place", "way", "power", "limits")}
        corners = self.points[self.faces]
        cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        length = np.linalg.norm(cross, axis=1)
        self.area: F64 = length / 2
        self.normal: F64 = cross / np.maximum(length, 1e-300)[:, None]
        power = self.area * self.emission[self.material].sum(axis=1)
        self.glowing: I64 = np.flatnonzero(power > 0)
        """Triangles that give light."""
        self.chances: F64 = np.cumsum(power[self.glowing]) / max(float(power.sum()), 1e-300)
        """How likely each of them and those before it are asked, by their power."""
        self.density: F64 = power / np.maximum(self.area * max(float(power.sum()), 1e-300), 1e-300)
        """(F,) how likely a place of each is, per m²."""
        self.clear = bool((self.alpha[self.material] < 1).any())

    def hits(self, start: F64, way: F64, rng: np.random.Generator) -> tuple[F64, I64]:
        """First surfaces that stop rays: distance and triangle, infinite and -1 without one. What is transparent lets as many
        through as its alpha says, by chance."""
        far, hit = self.caster.first_hits(start, way)
        if not self.clear:
            return far, hit
        gone = np.zeros(len(start))
        asked = np.arange(len(start))
        for _ in range(PASSES):
            asked = asked[hit[asked] >= 0]
            alpha = self.alpha[self.material[hit[asked]]]
            asked = asked[(alpha < 1) & (rng.random(len(asked)) >= alpha)]
            if not len(asked):
                break
            gone[asked] += far[asked] + shift(start[asked])
            on = start[asked] + way[asked] * gone[asked, None]
            far[asked], hit[asked] = self.caster.first_hits(on, way[asked])
        return np.where(np.isfinite(far), far + gone, np.inf), hit


def shift(places: F64) -> F64:
    """(N,) metres that rays begin off their surface: a tenth of a millimetre, and what float32 leaves of the place."""
    out: F64 = 1e-4 + np.abs(places).max(axis=1) * 2.0**-20
    return out
