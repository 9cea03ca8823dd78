"""How surfaces look on both sides: materials as numbers, pictures by their pixels, by what the format can hold."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import PIL.Image

from tidy_caravan.core.arrival.data import equal_data, keys_apart, of_object
from tidy_caravan.core.formats.shared.received import OPACITY_IMAGE
from tidy_caravan.core.scene import Material, Scene, TextureUse
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.scene.look import channel_of
from tidy_caravan.core.space.srgb import coded, linear

NUMBER_LIMIT = 1e-5
"""Relative difference of a factor that texts of nine digits and float32 make."""
NAMED = 6
"""Keys of data that are told by name."""
PIXEL_LIMIT = 1
"""Steps of 255 that a tint may be rounded by when it goes into a picture."""
ROLES = {
    "base colour": "base_color_texture",
    "metallic and roughness": "metallic_roughness_texture",
    "normal": "normal_texture",
    "occlusion": "occlusion_texture",
    "emission": "emissive_texture",
}
Look = dict[str, Any]


@dataclass(frozen=True)
class Picture:
    """Pixels that a material reads. tint: linear factors (3,) that have to be multiplied in first."""

    data: bytes
    tint: tuple[float, float, float] = (1.0, 1.0, 1.0)


def look_of(scene: Scene, material: Material) -> Look:
    """The portable look of a material, one entry per thing that can be told apart."""
    opaque = material.alpha_mode == "OPAQUE"
    out: Look = {
        "base colour": tuple(material.base_color[:3]),
        "opacity": 1.0 if opaque else material.base_color[3],
        "alpha mode": material.alpha_mode,
        "metallic": material.metallic,
        "roughness": material.roughness,
        "emission": tuple(e * material.emissive_strength for e in material.emissive),
        "two-sided": material.double_sided,
        "unlit": material.unlit,
    }
    if isinstance(material.extras, dict) and OPACITY_IMAGE in material.extras:
        out["opacity from an image"] = material.extras[OPACITY_IMAGE]
    if material.alpha_mode == "MASK":
        out["alpha cut-off"] = material.alpha_cutoff
    for role, name in ROLES.items():
        use: TextureUse | None = getattr(material, name)
        texture = scene.textures[use.texture] if use is not None else None
        image = scene.images[texture.image] if texture is not None and texture.image >= 0 else None
        if use is None or texture is None or image is None or image.data is None:
            continue
        sampler = texture.sampler
        out[f"{role} texture"] = Picture(image.data)
        out[f"data of the {role} texture"] = [
            of_object(e) for e in (image.extras, texture.extras, use.extras, sampler.extras if sampler else None)
        ]
        out[f"name of the {role} texture"] = image.name.removesuffix(".webp")  # which is written as PNG
        out[f"UV set of the {role} texture"] = channel_of(use)
        out[f"placing of the {role} texture"] = (*use.offset, use.rotation, *use.scale)
        wraps = (sampler.wrap_s, sampler.wrap_t) if sampler is not None else (10497, 10497)
        out[f"repeat of the {role} texture"] = in_words(wraps, "across", "upwards")
        filters = (sampler.mag, sampler.min) if sampler is not None else (None, None)
        out[f"filter of the {role} texture"] = in_words(filters, "from near", "from afar")
        if role in ("normal", "occlusion"):
            out[f"strength of the {role} texture"] = use.strength
    return out


MODES = {
    10497: "repeat",
    33071: "clamp to the edge",
    33648: "mirrored repeat",
    9728: "nearest",
    9729: "linear",
    9984: "nearest of the nearest mipmap",
    9985: "linear in the nearest mipmap",
    9986: "nearest of two mipmaps",
    9987: "linear between mipmaps",
}
"""What the numbers of glTF's samplers mean (glTF 2.0, 5.26)."""


def in_words(modes: tuple[int | None, int | None], first: str, second: str) -> str:
    """What a sampler does with an image along two ways."""
    one, other = ("left to the receiver" if not m else MODES.get(m, str(m)) for m in modes)
    return one if one == other else f"{one} {first} and {other} {second}"


Expect = Callable[[Look, Material], Look]


def as_gltf(look: Look, material: Material) -> Look:
    """glTF 2.0 holds all of it; the glow of an unlit surface means nothing."""
    if material.unlit:
        look.pop("emission")
    return look


def as_usd(look: Look, material: Material) -> Look:
    """UsdPreviewSurface: an unlit surface glows in its colour; two-sidedness belongs to the mesh; no glow, no picture."""
    look.pop("two-sided")
    unlit = look.pop("unlit")
    for key in [k for k in look if k.startswith(("filter of", "name of", "data of"))]:
        look.pop(key)
    if unlit:
        look["emission"], look["base colour"] = look["base colour"], (0.0, 0.0, 0.0)
        for key in [k for k in look if "emission texture" in k]:
            look.pop(key)
        for key in [k for k in look if "base colour texture" in k]:
            look[key.replace("base colour", "emission")] = look.pop(key)
    elif not any(look["emission"]):
        for key in [k for k in look if "emission texture" in k]:
            look.pop(key)
    return look


def as_collada(look: Look, material: Material) -> Look:
    """The common profile: no metal, one shininess, colour or picture, tints in the pictures, one kind of opacity."""
    unlit = look["unlit"]
    roughness = max(material.roughness, 0.02)
    exponent = max(1.0, 2.0 / roughness**2 - 2.0)
    kept: Look = {"two-sided": look["two-sided"], "unlit": unlit, "opacity": look["opacity"]}
    kept["alpha mode"] = "OPAQUE" if look["alpha mode"] == "OPAQUE" else "BLEND"
    if not unlit:
        kept["roughness"] = float(np.sqrt(2.0 / (exponent + 2.0)))
    for role in ("base colour", "emission", "normal"):
        picture = look.get(f"{role} texture")
        if unlit and role != "base colour":
            continue
        if picture is None:
            if role != "normal":
                kept[role] = look[role]
            continue
        tint = {"base colour": material.base_color[:3], "emission": material.emissive}.get(role, (1.0, 1.0, 1.0))
        kept[f"{role} texture"] = Picture(picture.data, (tint[0], tint[1], tint[2]))
        for what in ("UV set", "repeat", "filter"):
            kept[f"{what} of the {role} texture"] = look[f"{what} of the {role} texture"]
    return kept


def as_obj(look: Look, material: Material) -> Look:
    """MTL: placing and UV set are in the coordinates; no occlusion, no cut-off, no two-sidedness."""
    kept = {k: look[k] for k in ("base colour", "opacity", "metallic", "roughness", "emission", "unlit")}
    for role in ("base colour", "metallic and roughness", "normal", "emission"):
        if f"{role} texture" in look:
            kept[f"{role} texture"] = look[f"{role} texture"]
    kept["opacity from an image"] = material.alpha_mode != "OPAQUE" and "base colour texture" in look
    if "strength of the normal texture" in look:
        kept["strength of the normal texture"] = look["strength of the normal texture"]
    return kept


EXPECTED: dict[str, Expect] = {"gltf": as_gltf, "usd": as_usd, "collada": as_collada, "obj": as_obj}


@dataclass
class Pictures:
    """Compares pictures by their pixels; each pair is decoded once."""

    known: dict[tuple[bytes, bytes, tuple[float, ...]], float] = field(default_factory=dict)

    def apart(self, a: Picture, b: Picture) -> float:
        """Largest difference in steps of 255, after a's tint; infinite when sizes differ or one cannot be decoded."""
        if a.data == b.data and a.tint == (1.0, 1.0, 1.0):
            return 0.0
        key = (hashlib.sha256(a.data).digest(), hashlib.sha256(b.data).digest(), a.tint)
        if key not in self.known:
            self.known[key] = self._apart(a, b)
        return self.known[key]

    @staticmethod
    def _apart(a: Picture, b: Picture) -> float:
        first, second = pixels(a.data), pixels(b.data)
        if first is None or second is None or first.shape != second.shape:
            return float("inf")
        if a.tint != (1.0, 1.0, 1.0):
            first = multiplied(first, a.tint)
        return float(np.abs(first.astype(np.int16) - second.astype(np.int16)).max(initial=0))


def pixels(data: bytes) -> AnyArray | None:
    """(H, W, 4) bytes, or None for what is no picture."""
    try:
        with PIL.Image.open(io.BytesIO(data)) as image:
            return np.asarray(image.convert("RGBA"))
    except (OSError, ValueError, SyntaxError, PIL.Image.DecompressionBombError):
        return None


def multiplied(image: AnyArray, tint: tuple[float, float, float]) -> AnyArray:
    """sRGB pixels times a linear factor."""
    every = linear(np.arange(256) / 255)
    out = image.copy()
    for k, factor in enumerate(tint):
        table = np.rint(coded(np.clip(every * factor, 0, 1)) * 255).astype(np.uint8)
        out[:, :, k] = table[image[:, :, k]]
    return out


def differences(expected: Look, found: Look, pictures: Pictures) -> list[str]:
    """One phrase for each thing that is not as expected; only what is expected is looked at, and pictures too many."""
    out = []
    for key, value in expected.items():
        other = found.get(key)
        if isinstance(value, Picture):
            if other is None:
                out.append(f"{key} is missing")
            elif (apart := pictures.apart(value, other)) > (PIXEL_LIMIT if value.tint != (1.0, 1.0, 1.0) else 0):
                what = "is another image" if apart == float("inf") else f"is off by {apart:.0f} of 255"
                out.append(f"{key} {what}")
        elif key.startswith("data of"):
            if other is not None and not equal_data(value, other):  # one that is missing is told as such
                names = ", ".join(f"“{k[:60]}”" for k in keys_apart(value, other)[:NAMED])
                out.append(f"{key} differ{f' in {names}' if names else ''}")
        elif isinstance(value, str | bool):
            if other != value:
                out.append(f"{key} is {told(other)} instead of {told(value)}")
        elif "texture" in key and expected_picture(key) in expected and expected_picture(key) not in found:
            continue  # told above
        elif not near(value, other):
            out.append(f"{key} is {told(other)} instead of {told(value)}")
    out += [f"{key} that nobody sent" for key, v in found.items() if isinstance(v, Picture) and key not in expected]
    return out


def expected_picture(key: str) -> str:
    return key.rpartition(" of the ")[2]


def near(a: Any, b: Any) -> bool:
    if b is None:
        return False
    x, y = np.atleast_1d(np.array(a, np.float64)), np.atleast_1d(np.array(b, np.float64))
    return x.shape == y.shape and bool((np.abs(x - y) <= NUMBER_LIMIT * np.maximum(1.0, np.abs(x))).all())


def told(value: Any) -> str:
    if value is None:
        return "not there"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, tuple):
        return "(" + ", ".join(f"{v:.4g}" for v in value) + ")"
    return f"{value:.4g}" if isinstance(value, float) else str(value)
