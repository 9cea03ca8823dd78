"""The scene as light sees it: triangles with what they reflect, give and let through, lamps, and the sky; flat arrays."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from tidy_caravan.core.bake.lamps import DIRECTIONAL, lamp_arrays
from tidy_caravan.core.bake.textures import Textures
from tidy_caravan.core.geometry.rays import Caster
from tidy_caravan.core.scene import HIDDEN, Material, Mesh, Scene
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, U8, AnyArray, Bool
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.surroundings.world import Table, middle_of, placed

STEADY = 16.0
"""Metres: the origin moves by that much only, so that places that stay keep their numbers when something is added."""
STEP = 1 / 255
"""Of a colour: what no screen shows is not told."""
GUIDE = 1024
SOLID, BLENDED = -2.0, -1.0
"""Instead of a cut-out's limit: of what lets nothing through, and of what lets a part through."""


def world_arrays(scene: Scene) -> dict[str, AnyArray]:
    """Everything that light meets, in metres about the middle of the scene. Lights of the file are in lux and candela; what a
    surface emits is taken for candela per m²."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    shown = np.flatnonzero((nodes.mesh >= 0) & ((nodes.flags & HIDDEN) == 0))
    table = Table.of(scene.meshes)
    found = placed(table, nodes.mesh[shown].astype(np.int64), nodes.world[shown])
    points = found.points * metre
    centre = np.rint(middle_of(scene) * metre / STEADY) * STEADY
    # a mirror turns triangles over; what is drawn shows the same side as before
    turned = (np.linalg.det(nodes.world[shown][:, :3, :3]) < 0)[found.part]
    faces = np.where(turned[:, None], found.faces[:, ::-1], found.faces)
    slot = np.concatenate([np.zeros(0, np.int32), *(m.material for m in scene.meshes)])
    own = table.face[nodes.mesh[shown][found.part]] + found.local
    looks = [*scene.materials, Material(base_color=(0.7, 0.7, 0.7, 1.0), metallic=0.0)]
    material = np.where(slot < 0, len(looks) - 1, slot).astype(np.int64)
    textures = Textures(scene, looks)
    texture, pixels = textures.base()
    coordinates = np.zeros((1, 3, 2), np.float32)  # compiled code is given some in any case
    if (texture[:, 0] >= 0).any():
        coordinates = textures.coordinates(scene.meshes, "base_color_texture")[own]
        coordinates = np.where(turned[:, None, None], coordinates[:, ::-1], coordinates)
    # what glows is told of each triangle, its texture as the mean over it
    power = positive([np.array(m.emissive) * m.emissive_strength for m in looks])
    emission = textures.glow(material, textures.coordinates(scene.meshes, "emissive_texture")) * power[material]
    arrays: dict[str, AnyArray] = {
        "points": (points - centre).astype(np.float32),
        "faces": faces.astype(np.int32),
        "material": material[own].astype(np.int32),
        "albedo": positive([np.array(m.base_color[:3]) * (1 - textures.metallic(m)) for m in looks]),
        "emission": emission[own].astype(np.float32),
        "alpha": positive([m.base_color[3] for m in looks]),
        "cutoff": np.array([LIMITS.get(m.alpha_mode, m.alpha_cutoff) for m in looks]),
        "texture": texture,
        "pixels": pixels,
        "coordinates": coordinates,
        "tint": tints(scene.meshes)[own] if any(m.colors for m in scene.meshes) else np.zeros((0, 4), np.float32),
        "two_sided": np.array([m.double_sided for m in looks]),
        "centre": centre,
        "up": axis_vector(scene.convention.up).astype(np.float64),
    }
    return arrays | lamp_arrays(scene, centre)


def tints(meshes: Sequence[Mesh]) -> F32:
    """(F, 4) what the triangles of all meshes multiply their material's colour and opacity with: the mean of their corners'
    first colours (glTF 2.0, section 3.9.2), ones without."""
    each = [positive(m.colors[0][m.indices]).mean(axis=1) if m.colors else np.ones((m.triangles, 4)) for m in meshes]
    return np.concatenate([np.zeros((0, 4)), *each]).astype(np.float32)


def positive(values: Sequence[Any] | AnyArray) -> F64:
    """Numbers, nought for those that are none or negative: a surface takes no light away."""
    return np.maximum(np.nan_to_num(np.array(values, np.float64), nan=0.0, posinf=0.0, neginf=0.0), 0.0)


LIMITS = {"OPAQUE": SOLID, "BLEND": BLENDED}


def unread(scene: Scene) -> list[str]:
    """What of the materials a bake takes another way than they say, in words."""
    drawn = sorted({s for m in scene.meshes for s in m.slots if s >= 0})
    looks = [scene.materials[s] for s in drawn]
    textures = Textures(scene, looks)
    glow = [m.name for m in looks if any(m.emissive) and textures.pixels_of(m.emissive_texture, m.name) is not None]
    metal = [m.name for m in looks if textures.pixels_of(m.metallic_roughness_texture, m.name) is not None]
    for m in looks:
        textures.pixels_of(m.base_color_texture, m.name)
    lights = [scene.lights[k] for k in scene.nodes.light[scene.nodes.light >= 0].tolist()]
    odd = [x.name for x in lights if not all(0 <= v < np.inf for v in (x.intensity, *x.color))]
    odd += [
        m.name for m in looks if not all(0 <= v < np.inf for v in (*m.base_color, *m.emissive, m.emissive_strength))
    ]
    told = []
    tinted = [m.name for m in scene.meshes if m.colors and np.ptp(m.colors[0][m.indices], axis=1).max(initial=0) > STEP]
    for what, names in (
        ("of colours of vertices, the mean on each triangle", tinted),
        ("nothing, where a power or a colour is negative or no number", odd),
        ("of what glows, the mean of its texture on each triangle", glow),
        ("how metallic a surface is, by the mean of its texture", metal),
        ("no texture, since the image is missing or cannot be read", list(dict.fromkeys(textures.missing))),
    ):
        if names:
            more = f" and {len(names) - 3} more" if len(names) > 3 else ""
            told.append(f"Taken for the light: {what} ({', '.join(n or '?' for n in names[:3])}{more})")
    return told


@dataclass(frozen=True)
class Emitters:
    """Triangles that give light, (T, 3, 3) each. chances: how likely each of them and those before it are asked, by their power;
    guide: where among them the search for a chance begins, by its first digits. density: how likely a place is, per m²."""

    corners: F64
    emission: F32
    normal: F64
    both: Bool
    chances: F64
    guide: I64
    density: F64

    @classmethod
    def of(cls, corners: F64, emission: F32, normal: F64, both: Bool) -> Emitters:
        area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
        power = area * emission.sum(axis=1, dtype=np.float64)
        total = max(float(power.sum()), 1e-300)
        chances = np.cumsum(power) / total
        guide = np.searchsorted(chances, np.arange(GUIDE) / GUIDE)
        return cls(corners, emission, normal, both, chances, guide, power / np.maximum(area * total, 1e-300))

    def __len__(self) -> int:
        return len(self.corners)


class World:
    """What `world_arrays` made, with the tree that rays are cast in."""

    def __init__(self, arrays: Mapping[str, Any]) -> None:
        self.points: F32 = arrays["points"]
        self.faces: I32 = arrays["faces"]
        self.caster = Caster(self.points, self.faces)
        self.material: I32 = arrays["material"]
        self.albedo: F64 = arrays["albedo"]
        self.emission: F32 = arrays["emission"]
        self.alpha: F64 = arrays["alpha"]
        self.cutoff: F64 = arrays["cutoff"]
        self.texture: I64 = arrays["texture"]
        self.pixels: U8 = arrays["pixels"]
        self.coordinates: F32 = arrays["coordinates"]
        self.tint: F32 | None = arrays["tint"] if len(arrays["tint"]) else None
        self.reach = float(np.linalg.norm(np.ptp(self.points, axis=0))) + 1.0 if len(self.points) else 1.0
        """Metres from any place to outside."""
        self.both: Bool = arrays["two_sided"][self.material]
        self.up: F64 = arrays["up"]
        sun = arrays["lamp_kind"] == DIRECTIONAL
        columns = [arrays[f"lamp_{k}"] for k in ("kind", "place", "way", "power", "limits")]
        self.suns, self.lamps = (tuple(column[rows] for column in columns) for rows in (sun, ~sun))
        corners = self.points[self.faces].astype(np.float64)
        cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        length = np.linalg.norm(cross, axis=1)
        self.area: F64 = length / 2
        self.normal: F64 = cross / np.maximum(length, 1e-300)[:, None]
        glowing = np.flatnonzero(self.area * self.emission.sum(axis=1, dtype=np.float64) > 0)
        self.glow = Emitters.of(corners[glowing], self.emission[glowing], self.normal[glowing], self.both[glowing])
        self.density: F64 = np.zeros(len(self.faces))
        """(F,) how likely a place of each surface that gives light is, per m²."""
        self.density[glowing] = self.glow.density
        panels, light = arrays["panel_corners"], arrays["panel_emission"]
        across = np.cross(panels[:, 1] - panels[:, 0], panels[:, 2] - panels[:, 0])
        across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-300)
        every, of_lamp = np.ones(len(panels), np.bool_), arrays["panel_lamp"]
        each = [of_lamp == k for k in range(int(of_lamp.max(initial=-1)) + 1)]
        self.panels, *self.each_panel = (
            Emitters.of(panels[own], light[own].astype(np.float32), across[own], ~every[own]) for own in (every, *each)
        )
        """Lamps that are surfaces, together and one by one: no ray meets them, as none meets those that are points."""
        pictures = arrays["pixels"][:-1, 3].min(initial=255) < 255
        see_through = (self.cutoff > SOLID) & ((self.alpha < 1) | ((self.texture[:, 0] >= 0) & pictures))
        see_through = see_through[self.material]
        if self.tint is not None:
            see_through |= (self.cutoff > SOLID)[self.material] & (self.tint[:, 3] < 1)
        self.clear = bool(see_through.any())
        """Whether anything lets light through."""
        self.of_glass: I64 = np.flatnonzero(see_through)
        """Triangles that do; rays to lamps ask them apart from those that stop all light."""
        self.glass = Caster(self.points, self.faces[see_through])
        self.solid = Caster(self.points, self.faces[~see_through]) if self.clear else self.caster
