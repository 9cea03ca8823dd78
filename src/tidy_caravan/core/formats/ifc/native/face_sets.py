"""Face sets of an IFC file with what the geometry library leaves out of them: images with their coordinates, and colours by
triangle (ISO 16739-1, IfcIndexedTriangleTextureMap, IfcIndexedColourMap)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from tidy_caravan.core.formats.ifc.native.round import TOLERANCE_M, axes, mapping
from tidy_caravan.core.geometry.corners import corner_mesh
from tidy_caravan.core.geometry.smoothing import corner_normals
from tidy_caravan.core.scene import Image, Material, Mesh, Sampler, Texture, TextureUse
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64

MOST_COLORS = 256
"""Colours of one face set up to which each is a material of its own."""
CLAMPED, REPEATED = 33071, 10497
CREASE_DEG = 30.0


@dataclass
class Looks:
    """The materials of an import, and those that images and colours make of them."""

    materials: list[Material]
    images: list[Image] = field(default_factory=list)
    textures: list[Texture] = field(default_factory=list)
    used: set[int] = field(default_factory=set)
    """Maps and images of the file that came into the scene."""
    _slot: dict[tuple[Any, ...], int] = field(default_factory=dict)
    _texture: dict[int, int] = field(default_factory=dict)

    def forget_since(self, before: tuple[int, int, int, set[int]]) -> None:
        """Takes back what was made for a mesh that is not used; `before` is what `mark` gave."""
        materials, images, textures, self.used = before
        del self.materials[materials:], self.images[images:], self.textures[textures:]
        self._slot = {k: v for k, v in self._slot.items() if v < materials}
        self._texture = {k: v for k, v in self._texture.items() if v < textures}

    def mark(self) -> tuple[int, int, int, set[int]]:
        return len(self.materials), len(self.images), len(self.textures), set(self.used)

    def of(self, key: tuple[Any, ...], base: int, **changes: Any) -> int:
        """The number of a material like the one with the number `base`, but for some changes."""
        if key not in self._slot:
            self._slot[key] = len(self.materials)
            plain = self.materials[base] if base >= 0 else Material("", metallic=0.0, roughness=0.8)
            self.materials.append(replace(plain, **changes))
        return self._slot[key]

    def texture(self, image: Any) -> int:
        """The number of an image of the file as a texture, -1 for what cannot be had."""
        if image.id() not in self._texture:
            self._texture[image.id()] = self._made(image)
        return self._texture[image.id()]

    def _made(self, image: Any) -> int:
        if image.is_a("IfcImageTexture"):
            path = str(getattr(image, "URLReference", None) or getattr(image, "UrlReference", None) or "")
            made = Image(path.replace("\\", "/").rsplit("/", 1)[-1][:200], "", None, path[:300])
        elif image.is_a("IfcBlobTexture"):
            bits = str(image.RasterCode)
            data = int(bits, 2).to_bytes(len(bits) // 8, "big") if bits and len(bits) % 8 == 0 else b""
            made = Image(f"image {image.id()}", "", data)
        else:
            return -1
        self.images.append(made)
        wrap = {True: REPEATED, False: CLAMPED}
        self.textures.append(
            Texture(len(self.images) - 1, Sampler(wrap_s=wrap[bool(image.RepeatS)], wrap_t=wrap[bool(image.RepeatT)]))
        )
        return len(self.textures) - 1


def dressed(
    product: Any, made: Mesh | None, slots: Mapping[int, int], scale: float, origin: F64 | None, looks: Looks
) -> Mesh | None:
    """The mesh of a product whose body is face sets alone, with their images and colours. None for all others, and unless
    it fills the same box as the library's mesh, from which `origin` (3,) was taken off.

    slots: the material of each item of the body.
    """
    if made is None or getattr(product, "HasOpenings", None):
        return None
    before = looks.mark()
    try:
        found = face_sets(product, scale)
        if found is None:
            return None
        fresh = body_of(*found, slots, made, scale, origin, looks)
    except (RuntimeError, AttributeError, ValueError, TypeError, IndexError, ArithmeticError):
        fresh = None
    if fresh is None or not np.abs(fresh.bounds - made.bounds).max() <= 2 * TOLERANCE_M:
        looks.forget_since(before)
        return None
    return fresh


def face_sets(product: Any, scale: float) -> tuple[F64, list[Any]] | None:
    """Where the face sets of a body stand in metres, and they; None unless it is nothing else, and one bears a map."""
    bodies = [r for r in product.Representation.Representations if str(r.RepresentationIdentifier or "Body") == "Body"]
    if len(bodies) != 1:
        return None
    items, frame = list(bodies[0].Items or ()), np.eye(4)
    if len(items) == 1 and items[0].is_a("IfcMappedItem"):
        source = items[0].MappingSource
        frame = mapping(items[0].MappingTarget, scale) @ np.linalg.inv(axes(source.MappingOrigin, scale))
        items = list(source.MappedRepresentation.Items or ())
    if not items or not all(i.is_a("IfcTriangulatedFaceSet") for i in items):
        return None
    return (frame, items) if any(texture_map(i) is not None or i.HasColours for i in items) else None


def texture_map(item: Any) -> Any:
    """The map of a face set whose images can be had, or None."""
    for one in getattr(item, "HasTextures", None) or ():
        if one.is_a("IfcIndexedTriangleTextureMap") and one.Maps:
            return one
    return None


def body_of(
    frame: F64, items: list[Any], slots: Mapping[int, int], made: Mesh, scale: float, origin: F64 | None, looks: Looks
) -> Mesh | None:
    """All face sets of a body as one mesh."""
    points: list[F64] = []
    faces: list[I64] = []
    uvs: list[F32] = []
    material: list[I32] = []
    begin, mapped = 0, False
    for item in items:
        own = np.array(item.Coordinates.CoordList, np.float64).reshape(-1, 3) * scale
        index = np.array(item.CoordIndex, np.int64).reshape(-1, 3) - 1
        if getattr(item, "PnIndex", None):
            index = np.array(item.PnIndex, np.int64)[index] - 1
        if len(index) == 0 or index.min() < 0 or index.max() >= len(own):
            return None
        base = slots.get(item.id(), made.slots[0] if len(made.slots) == 1 else -1)
        row = np.full(len(index), base, np.int32)
        coordinates = np.zeros((len(index), 3, 2), np.float32)
        if (found := texture_map(item)) is not None and (number := looks.texture(found.Maps[0])) >= 0:
            coordinates = coordinates_of(found, index)
            whole = 1.0 if base < 0 else looks.materials[base].base_color[3]
            plain = str(found.Maps[0].Mode or "").upper() != "MODULATE"
            change = {"base_color": (1.0, 1.0, 1.0, whole)} if plain else {}
            row[:] = looks.of(("image", base, number), base, base_color_texture=TextureUse(number), **change)
            looks.used |= {found.id(), found.Maps[0].id()}
            mapped = True
        elif item.HasColours and (colors := colors_of(item, base, looks)) is not None:
            row = colors
        points.append(own)
        faces.append(index + begin)
        uvs.append(coordinates)
        material.append(row)
        begin += len(own)
    every = np.concatenate(points) @ frame[:3, :3].T + frame[:3, 3] - (0.0 if origin is None else origin)
    places, place = np.unique(every, axis=0, return_inverse=True)
    corner = place.reshape(-1)[np.concatenate(faces)]
    normals = np.round(corner_normals(places, corner, CREASE_DEG), 6).astype(np.float32)
    mesh, _ = corner_mesh(
        places, corner.ravel(), np.full(len(corner), 3, np.int64), normals=normals.reshape(-1, 3),
        uvs=[np.concatenate(uvs).reshape(-1, 2)] if mapped else [], material=np.concatenate(material), name=made.name,
    )  # fmt: skip
    return mesh


def coordinates_of(found: Any, index: I64) -> F32:
    """(F, 3, 2) coordinates of the corners, with v down from the top of the image, where IFC has t up from its foot."""
    table = np.array(found.TexCoords.TexCoordsList, np.float64).reshape(-1, 2)
    given = getattr(found, "TexCoordIndex", None)
    number = np.array(given, np.int64).reshape(-1, 3) - 1 if given else index
    if number.shape != index.shape or number.min() < 0 or number.max() >= len(table):
        raise ValueError("the texture coordinates are not those of the triangles")
    move = getattr(found.Maps[0], "TextureTransform", None)
    if move is not None:
        s = float(move.Scale or 1.0)
        x = np.array(getattr(move.Axis1, "DirectionRatios", (1.0, 0.0)), np.float64)
        y = np.array(getattr(move.Axis2, "DirectionRatios", (-x[1], x[0])), np.float64)
        axis = np.stack([x / np.linalg.norm(x), y / np.linalg.norm(y)]) * s
        table = table @ axis + np.array(move.LocalOrigin.Coordinates, np.float64)[:2]
    out: F64 = table[number]
    out[..., 1] = 1.0 - out[..., 1]
    return out.astype(np.float32)


def colors_of(item: Any, base: int, looks: Looks) -> I32 | None:
    """(F,) materials of the triangles by their colours; None for too many of them."""
    (found,) = item.HasColours[:1]
    table = np.clip(np.array(found.Colours.ColourList, np.float64).reshape(-1, 3), 0.0, 1.0)
    number = np.array(found.ColourIndex, np.int64) - 1
    if len(number) != len(item.CoordIndex) or number.min() < 0 or number.max() >= len(table):
        raise ValueError("the colours are not those of the triangles")
    kinds, kind = np.unique(table[number], axis=0, return_inverse=True)
    if len(kinds) > MOST_COLORS:
        return None
    opacity = getattr(found, "Opacity", None)
    alpha = float(opacity) if opacity is not None else (looks.materials[base].base_color[3] if base >= 0 else 1.0)
    name = looks.materials[base].name if base >= 0 else ""
    out = []
    for rgb in kinds:
        linear = np.where(rgb <= 0.04045, rgb / 12.92, ((rgb + 0.055) / 1.055) ** 2.4)
        shown = "".join(f"{round(255 * float(c)):02x}" for c in rgb)
        color = (float(linear[0]), float(linear[1]), float(linear[2]), alpha)
        mode = "BLEND" if alpha < 1 else "OPAQUE"
        changes = {"name": f"{name} {shown}".strip(), "base_color": color, "alpha_mode": mode}
        out.append(looks.of(("colour", base, *color), base, **changes))
    looks.used.add(found.id())
    return np.array(out, np.int32)[kind.reshape(-1)]


def only_used(meshes: list[Mesh], materials: list[Material]) -> tuple[list[Mesh], list[Material]]:
    """Without the materials that others took the place of on every face."""
    used = sorted({s for m in meshes for s in m.slots if s >= 0})
    table = np.full(len(materials) + 1, -1, np.int32)
    table[used] = np.arange(len(used))
    out = []
    for mesh in meshes:
        recipe = mesh.recipe
        if recipe is not None and "material" in recipe.values:
            recipe = replace(recipe, values={**recipe.values, "material": int(table[recipe.values["material"]])})
        out.append(replace(mesh, material=table[mesh.material], recipe=recipe))
    return out, [materials[i] for i in used]
