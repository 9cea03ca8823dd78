"""COLLADA images, effects and materials into portable materials, with what could not be translated told.

Shading models of profile_COMMON (constant, Lambert, Phong, Blinn; chapter 8 of 1.4.1) become metallic-roughness:
diffuse is base colour, shininess becomes roughness (Karis 2013), specular colour is told as lost.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np

from tidy_caravan.core.formats.collada.xml import FILTERS, Document, Element, label, number, numbers, text_of
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.images import picture
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.scene import Image, Material, Note, Sampler, Texture, TextureUse
from tidy_caravan.core.scene.look import LARGEST_GLOW, glowing
from tidy_caravan.core.space.srgb import linear

MODELS = ("constant", "lambert", "phong", "blinn")
WRAPS = {"WRAP": 10497, "MIRROR": 33648, "CLAMP": 33071, "BORDER": 33071, "NONE": 33071}


@dataclass
class Looks:
    """Materials by id, made when first used. texcoords: per material, the names its textures are read by."""

    document: Document
    bundle: Bundle
    notes: list[Note]
    travels: Travels
    materials: list[Material] = field(default_factory=list)
    textures: list[Texture] = field(default_factory=list)
    images: list[Image] = field(default_factory=list)
    texcoords: dict[int, list[str]] = field(default_factory=dict)
    _made: dict[str, int] = field(default_factory=dict)
    _image_of: dict[str, int] = field(default_factory=dict)
    _texture_of: dict[tuple[int, Sampler], int] = field(default_factory=dict)

    def material(self, url: str) -> int:
        """Index of the material at a local address; -1 with a note when there is none."""
        if url in self._made:
            return self._made[url]
        element = self.document.target(url)
        if element is None or element.tag != "material":
            self.notes.append(
                Note("behind", "material.undefined", url[:120], f"The material “{url[:80]}” is not in the file.")
            )
            self._made[url] = -1
            return -1
        made, names = self._material(element)
        self._made[url] = len(self.materials)
        self.texcoords[len(self.materials)] = names
        self.materials.append(made)
        return self._made[url]

    def _material(self, element: Element) -> tuple[Material, list[str]]:
        name = label(element)
        plain = Material(name, metallic=0.0, roughness=0.9)
        use = element.find("instance_effect")
        effect = self.document.target(use.get("url")) if use is not None else None
        profile = effect.find("profile_COMMON") if effect is not None else None
        if use is None or effect is None or profile is None:
            self.notes.append(
                Note(
                    "behind",
                    "material.no-common-profile",
                    name[:120],
                    "The effect has no common profile; it is plain white.",
                )
            )
            return plain, []
        params: dict[str, Element] = {
            p.get("sid"): p for p in (*effect.findall("newparam"), *profile.findall("newparam"),
                                      *profile.findall("technique/newparam"))
        }  # fmt: skip
        params |= {p.get("ref"): p for p in use.findall("setparam")}
        model = next((m for m in profile.iterfind("technique/*") if m.tag in MODELS), None)
        if model is None:
            return plain, []
        names: list[str] = []
        return self._shading(model, params, profile, plain, names), names

    def _shading(
        self, model: Element, params: dict[str, Element], profile: Element, plain: Material, names: list[str]
    ) -> Material:
        out = plain
        diffuse, diffuse_map = self._colour(model.find("diffuse"), params, names)
        glow, glow_map = self._colour(model.find("emission"), params, names, LARGEST_GLOW)
        if model.tag == "constant":
            diffuse, diffuse_map = glow or diffuse, glow_map or diffuse_map
            glow, glow_map = None, None
            out = replace(out, unlit=True)
        if diffuse is not None:
            out = replace(out, base_color=(*linear(diffuse[:3]).tolist(), 1.0))
        if diffuse_map is not None:
            out = replace(out, base_color_texture=diffuse_map, base_color=(1.0, 1.0, 1.0, out.base_color[3]))
        if glow is not None:
            out = glowing(out, linear(np.maximum(0.0, glow[:3])).tolist())
        if glow_map is not None:
            out = replace(out, emissive_texture=glow_map, emissive=(1.0, 1.0, 1.0))
        shine = model.find("shininess/float")
        if shine is not None:
            value = max(0.0, number(shine, 0.0))
            # exporters write exponents, and some a share of one; a share says so by staying below one
            out = replace(out, roughness=1.0 - value if value < 1 else min(1.0, math.sqrt(2.0 / (value + 2.0))))
        out = self._opacity(model, params, out, names)
        bump = next((b for b in profile.iter("bump") if b.find("texture") is not None), None)
        if bump is not None:
            use = self._use(bump.find("texture"), params, names)
            if use is not None:
                out = replace(out, normal_texture=use)
                self.notes.append(
                    Note(
                        "guess",
                        "material.bump",
                        out.name[:120],
                        "A bump image was taken for a normal map; look at it.",
                    )
                )
        if any(text_of(d) in ("1", "true") for d in profile.iter("double_sided")):
            out = replace(out, double_sided=True)
        specular, _ = self._colour(model.find("specular"), params, [])
        if specular is not None and max(specular[:3]) > 0.25:
            self.travels.behind("specular colours", 1, "the portable material has roughness and metallic instead")
        if model.find("reflective") is not None and number(model.find("reflectivity/float"), 0.0) > 0:
            self.travels.behind("reflection settings", 1, "the portable material has roughness and metallic instead")
        return out

    def _opacity(self, model: Element, params: dict[str, Element], out: Material, names: list[str]) -> Material:
        """transparent and transparency by the formulas of the specification's chapter 7, four modes."""
        element = model.find("transparent")
        mode = element.get("opaque", "A_ONE") if element is not None else "A_ONE"
        factor = number(model.find("transparency/float"), 1.0)
        color, picture_use = self._colour(element, params, names)
        if element is None and model.find("transparency") is None:
            return out
        if picture_use is not None:
            if out.base_color_texture is not None and picture_use.texture == out.base_color_texture.texture:
                share = factor if 0.0 < factor <= 1.0 else 1.0
                return replace(out, alpha_mode="BLEND", base_color=(*out.base_color[:3], share))
            self.travels.behind("opacity images", 1, "opacity has to be the alpha of the base colour image")
            return out
        rgba = color or (1.0, 1.0, 1.0, 1.0)
        luminance = 0.212671 * rgba[0] + 0.715160 * rgba[1] + 0.072169 * rgba[2]
        opacity = {
            "A_ONE": rgba[3] * factor,
            "A_ZERO": 1.0 - rgba[3] * factor,
            "RGB_ONE": luminance * factor,
            "RGB_ZERO": 1.0 - luminance * factor,
        }.get(mode, 1.0)
        if opacity <= 0.0:
            # written the wrong way round so often that everything invisible is taken for everything visible
            self.notes.append(
                Note(
                    "guess",
                    "material.transparency",
                    out.name[:120],
                    "Its opacity is nought by the letter of the format; it was taken as opaque.",
                )
            )
            return out
        if opacity >= 0.999:
            return out
        return replace(out, base_color=(*out.base_color[:3], min(1.0, opacity)), alpha_mode="BLEND")

    def _colour(
        self, element: Element | None, params: dict[str, Element], names: list[str], most: float = 1.0
    ) -> tuple[tuple[float, ...] | None, TextureUse | None]:
        if element is None:
            return None, None
        texture = element.find("texture")
        if texture is not None:
            return None, self._use(texture, params, names)
        holder = element.find("color")
        if holder is None and element.find("param") is not None:
            given = params.get(element.find("param").get("ref"))
            holder = next((c for c in given if str(c.tag).startswith("float")), None) if given is not None else None
        if holder is None:
            return None, None
        try:
            values = np.clip(np.nan_to_num(numbers(holder)), 0.0, most).tolist()
        except ValueError:
            return None, None
        return (tuple([*values, 1.0][:4]), None) if len(values) >= 3 else (None, None)

    def _use(self, texture: Element, params: dict[str, Element], names: list[str]) -> TextureUse | None:
        image, sampler = self._sampled(texture.get("texture", ""), params)
        if image is None:
            return None
        index = self._image(image)
        key = (index, sampler)
        if key not in self._texture_of:
            self._texture_of[key] = len(self.textures)
            self.textures.append(Texture(index, sampler))
        name = texture.get("texcoord", "")
        if name not in names:
            names.append(name)
        return TextureUse(self._texture_of[key], channel=names.index(name))

    def _sampled(self, name: str, params: dict[str, Element]) -> tuple[Element | None, Sampler]:
        """Image element behind a sampler, through 1.4 surfaces or 1.5 instances; some name the image itself."""
        sampler = Sampler()
        given = params.get(name)
        inner = given.find("sampler2D") if given is not None else None
        if inner is not None:
            near = FILTERS.get(text_of(inner.find("magfilter")))
            sampler = Sampler(
                mag=near if near in (9728, 9729) else None,
                min=FILTERS.get(text_of(inner.find("minfilter"))),
                wrap_s=WRAPS.get(text_of(inner.find("wrap_s")), 10497),
                wrap_t=WRAPS.get(text_of(inner.find("wrap_t")), 10497),
            )
            direct = inner.find("instance_image")
            if direct is not None:
                return self.document.target(direct.get("url")), sampler
            surface = params.get(text_of(inner.find("source")))
            holder = surface.find("surface/init_from") if surface is not None else None
            return self.document.by_id.get(text_of(holder)), sampler
        found = self.document.by_id.get(name)
        return (found if found is not None and found.tag == "image" else None), sampler

    def _image(self, element: Element) -> int:
        key = element.get("id") or ""
        if key not in self._image_of:
            init = element.find("init_from")
            path = text_of(init) or text_of(element.find("init_from/ref"))
            made = picture(
                self.bundle, path.removeprefix("file:///").removeprefix("file://"), self.notes, where=key[:120]
            )
            self._image_of[key] = len(self.images)
            self.images.append(made)
        return self._image_of[key]
