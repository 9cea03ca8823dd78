"""glTF materials, textures and images (3.9, 3.8) with their supported extensions."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal, cast

from tidy_caravan.core.formats.gltf.accessors import Accessors, data_uri
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.images import as_named, picture, sniff_image, taken
from tidy_caravan.core.formats.shared.json_fields import (
    Damage,
    get_bool,
    get_int,
    get_number,
    get_object,
    get_text,
    get_vector,
)
from tidy_caravan.core.scene import Image, Material, Note, Sampler, Texture, TextureUse

ALTERNATIVES = ("EXT_texture_webp", "KHR_texture_basisu")
"""Extensions of textures that name a picture in another form."""


def no_image() -> Image:
    return Image()


def no_sampler() -> Sampler:
    return Sampler()


def no_texture() -> Texture:
    return Texture()


def no_material() -> Material:
    return Material(name="")


def fallback_images(document: dict[str, Any]) -> set[str]:
    """Places of images that stand only in for others: named by a texture's extension while its own source is
    another picture, and by no texture as its source."""
    sources, others = set[int](), set[int]()
    entries = document.get("textures")
    for entry in entries if isinstance(entries, list) else []:
        if not isinstance(entry, dict):
            continue
        own = entry.get("source")
        extensions = entry.get("extensions")
        found = [
            e["source"]
            for k in ALTERNATIVES
            if isinstance(extensions, dict)
            and isinstance(e := extensions.get(k), dict)
            and isinstance(e.get("source"), int)
        ]
        if isinstance(own, int):
            sources.add(own)
            others.update(found)
        else:
            sources.update(found)
    return {f"images[{i}]" for i in others - sources}


def without_fallbacks(
    images: tuple[Image, ...], textures: tuple[Texture, ...], fallbacks: set[str]
) -> tuple[tuple[Image, ...], tuple[Texture, ...]]:
    """Images without those that only stood in for others, and textures that refer to what is left."""
    if not fallbacks:
        return images, textures
    kept = [i for i in range(len(images)) if f"images[{i}]" not in fallbacks]
    place = {old: new for new, old in enumerate(kept)}
    return tuple(images[i] for i in kept), tuple(replace(t, image=place.get(t.image, -1)) for t in textures)


def read_image(
    entry: dict[str, Any], where: str, accessors: Accessors, bundle: Bundle, notes: list[Note], fallback: bool = False
) -> Image:
    """fallback: another form of a picture that the file also holds in one that is read."""
    if fallback:
        text = "A second form of an image (KTX2, WebP) stays behind; the file's own PNG or JPEG of it travels."
        notes.append(Note("behind", "texture.second-form", where, text))
        return Image()
    name = get_text(entry, "name", where)
    uri = get_text(entry, "uri", where)
    mime = get_text(entry, "mimeType", where)
    data: bytes | None = None
    if uri.startswith("data:"):
        accessors.budget.take(len(uri), where)
        mime, data = data_uri(uri, where)
        uri = ""
    elif uri:
        image = picture(bundle, uri, notes, where=where)
        png = image.mime == "image/png"  # also of what was another format in the file
        uri = as_named(uri) if png else uri
        return replace(
            image,
            name=as_named(name) if png else name,
            mime=image.mime or mime,
            uri=uri[:200],
            extras=entry.get("extras"),
        )
    elif "bufferView" in entry:
        data = bytes(accessors.view(get_int(entry, "bufferView", where, 0))[0])
    else:
        raise Damage("has neither an address nor a buffer view", where=where)
    if data is not None:
        found = sniff_image(data)
        if found and mime and mime != found:
            text = f"The image says {mime[:40]} and holds {found}; the content was believed."
            notes.append(Note("guess", "texture.mislabelled", where, text))
        made = taken(Image(name, mime, None, uri, entry.get("extras")), data, notes, where)
        return replace(made, mime=made.mime or mime)
    return Image(name, mime, data, uri, entry.get("extras"))


def read_sampler(entry: dict[str, Any], where: str) -> Sampler:
    def filter_code(key: str, codes: tuple[int, ...]) -> int | None:
        if key not in entry:
            return None
        value = get_int(entry, key, where, 0)
        if value not in codes:
            raise Damage(f"{key} is the unknown code {value}", where=where)
        return value

    wraps = (33071, 33648, 10497)
    return Sampler(
        filter_code("magFilter", (9728, 9729)),
        filter_code("minFilter", (9728, 9729, 9984, 9985, 9986, 9987)),
        filter_code("wrapS", wraps) or 10497,
        filter_code("wrapT", wraps) or 10497,
        get_text(entry, "name", where),
        entry.get("extras"),
    )


def read_texture(entry: dict[str, Any], where: str, images: int, samplers: tuple[Sampler, ...]) -> Texture:
    image = get_int(entry, "source", where, -1, 0, images - 1) if "source" in entry else -1
    extensions = get_object(entry, "extensions", where)
    for key in ALTERNATIVES:
        if image < 0 and key in extensions:
            image = get_int(get_object(extensions, key, where), "source", where, -1, 0, images - 1)
    sampler = get_int(entry, "sampler", where, -1, 0, len(samplers) - 1) if "sampler" in entry else -1
    return Texture(
        image, samplers[sampler] if sampler >= 0 else None, get_text(entry, "name", where), entry.get("extras")
    )


def read_use(entry: dict[str, Any], where: str, textures: int, strength: str = "") -> TextureUse:
    transform = get_object(get_object(entry, "extensions", where), "KHR_texture_transform", where)
    return TextureUse(
        texture=get_int(entry, "index", where, -1, 0, textures - 1) if "index" in entry else _no_index(where),
        channel=get_int(entry, "texCoord", where, 0, 0, 15),
        offset=cast("tuple[float, float]", get_vector(transform, "offset", where, (0.0, 0.0))),
        rotation=get_number(transform, "rotation", where, 0.0),
        scale=cast("tuple[float, float]", get_vector(transform, "scale", where, (1.0, 1.0))),
        transform_channel=get_int(transform, "texCoord", where, 0, 0, 15) if "texCoord" in transform else None,
        strength=get_number(entry, strength, where, 1.0) if strength else 1.0,
        extras=entry.get("extras"),
    )


def _no_index(where: str) -> int:
    raise Damage("names no texture", where=where)


@dataclass
class MaterialReader:
    """Reads one material; a damaged field falls back to its default with a note."""

    where: str
    textures: int
    notes: list[Note]

    def use(self, entry: dict[str, Any], key: str, strength: str = "") -> TextureUse | None:
        if key not in entry:
            return None
        try:
            return read_use(get_object(entry, key, self.where), f"{self.where}.{key}", self.textures, strength)
        except Damage as damage:
            self.notes.append(
                Note("damaged", "import.damaged", f"{self.where}.{key}", f"Left out, because {damage.sentence()}.")
            )
            return None

    def colour(self, entry: dict[str, Any], key: str, default: tuple[float, ...]) -> tuple[float, ...]:
        values = get_vector(entry, key, self.where, default)
        return tuple(min(1.0, max(0.0, v)) for v in values)


def read_material(entry: dict[str, Any], where: str, textures: int, notes: list[Note]) -> Material:
    r = MaterialReader(where, textures, notes)
    pbr = get_object(entry, "pbrMetallicRoughness", where)
    extensions = get_object(entry, "extensions", where)
    strength = get_object(extensions, "KHR_materials_emissive_strength", where)
    mode = get_text(entry, "alphaMode", where, "OPAQUE")
    if mode not in ("OPAQUE", "MASK", "BLEND"):
        notes.append(
            Note("damaged", "import.damaged", where, f"The alpha mode “{mode[:40]}” is unknown; it is opaque now.")
        )
        mode = "OPAQUE"
    return Material(
        name=get_text(entry, "name", where),
        base_color=cast("tuple[float, float, float, float]", r.colour(pbr, "baseColorFactor", (1.0, 1.0, 1.0, 1.0))),
        metallic=get_number(pbr, "metallicFactor", where, 1.0, 0, 1),
        roughness=get_number(pbr, "roughnessFactor", where, 1.0, 0, 1),
        emissive=cast("tuple[float, float, float]", r.colour(entry, "emissiveFactor", (0.0, 0.0, 0.0))),
        emissive_strength=get_number(strength, "emissiveStrength", where, 1.0, 0),
        base_color_texture=r.use(pbr, "baseColorTexture"),
        metallic_roughness_texture=r.use(pbr, "metallicRoughnessTexture"),
        normal_texture=r.use(entry, "normalTexture", "scale"),
        occlusion_texture=r.use(entry, "occlusionTexture", "strength"),
        emissive_texture=r.use(entry, "emissiveTexture"),
        alpha_mode=cast('Literal["OPAQUE", "MASK", "BLEND"]', mode),
        alpha_cutoff=get_number(entry, "alphaCutoff", where, 0.5, 0),
        double_sided=get_bool(entry, "doubleSided", where),
        unlit="KHR_materials_unlit" in extensions,
        extras=entry.get("extras"),
    )
