"""Materials, textures and images: how surfaces look, in the portable metallic-roughness model."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any, Literal


@dataclass(frozen=True)
class Image:
    """A picture file as it is stored. `data` is None when the file was not found."""

    name: str = ""
    mime: str = ""
    data: bytes | None = None
    uri: str = ""
    extras: Any = None


@dataclass(frozen=True)
class Sampler:
    """Filter and wrap codes as in glTF 2.0, 3.8.4 (they are those of OpenGL)."""

    mag: int | None = None
    min: int | None = None
    wrap_s: int = 10497
    wrap_t: int = 10497
    name: str = ""
    extras: Any = None


@dataclass(frozen=True)
class Texture:
    """An image with a sampler; `image` is an index into the scene's images, -1 for none."""

    image: int = -1
    sampler: Sampler | None = None
    name: str = ""
    extras: Any = None


@dataclass(frozen=True)
class TextureUse:
    """One use of a texture by a material.

    texture: index into the scene's textures. channel: UV set. offset, rotation (radians), scale:
    KHR_texture_transform. strength: normal scale or occlusion strength.
    """

    texture: int
    channel: int = 0
    offset: tuple[float, float] = (0.0, 0.0)
    rotation: float = 0.0
    scale: tuple[float, float] = (1.0, 1.0)
    transform_channel: int | None = None
    strength: float = 1.0
    extras: Any = None


ROLES = (
    "base_color_texture", "metallic_roughness_texture", "normal_texture", "occlusion_texture", "emissive_texture"
)  # fmt: skip
"""Fields of a material that are uses of textures."""


@dataclass(frozen=True)
class Material:
    """Portable material; colours are linear factors."""

    name: str = ""
    base_color: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    metallic: float = 1.0
    roughness: float = 1.0
    emissive: tuple[float, float, float] = (0.0, 0.0, 0.0)
    emissive_strength: float = 1.0
    base_color_texture: TextureUse | None = None
    metallic_roughness_texture: TextureUse | None = None
    normal_texture: TextureUse | None = None
    occlusion_texture: TextureUse | None = None
    emissive_texture: TextureUse | None = None
    alpha_mode: Literal["OPAQUE", "MASK", "BLEND"] = "OPAQUE"
    alpha_cutoff: float = 0.5
    double_sided: bool = False
    unlit: bool = False
    extras: Any = None

    def uses(self) -> tuple[TextureUse, ...]:
        every = (
            self.base_color_texture,
            self.metallic_roughness_texture,
            self.normal_texture,
            self.occlusion_texture,
            self.emissive_texture,
        )
        return tuple(u for u in every if u is not None)


DISPLACEMENT = "displacement"
"""In the data of a material: the displacement map that its source gives it, by file name. Portable materials have no place
for the map itself."""
LARGEST_GLOW = 1000.0
"""Emission above one is brightness; beyond this it is damage."""


def glowing(material: Material, color: Iterable[float]) -> Material:
    """The material with that linear emission (3,), which may be above one: colour and strength are kept apart."""
    red, green, blue = color
    top = max(1.0, red, green, blue)
    return replace(material, emissive=(red / top, green / top, blue / top), emissive_strength=top)


def channel_of(use: TextureUse) -> int:
    """The UV set that a texture is read from."""
    return use.channel if use.transform_channel is None else use.transform_channel


def reads(material: Material, channel: int) -> bool:
    """Whether any picture of the material is read from that UV set."""
    return any(channel_of(u) == channel for u in material.uses())


def repeats_per_unit(material: Material) -> float:
    """Repeats² of its picture on one unit² of the first UV set: what the texture's own scale makes of the coordinates.

    Of several textures that are read from that set the base colour's counts, and else the first. 1 where none is, and
    where a scale of zero shows one point of the picture all over.
    """
    use = next((u for u in material.uses() if channel_of(u) == 0), None)
    return (abs(use.scale[0] * use.scale[1]) or 1.0) if use else 1.0
