"""UsdPreviewSurface networks into portable materials; the pictures themselves are read by the parent process."""

from __future__ import annotations

import json
import math
import os
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from pxr import UsdShade

from tidy_caravan.core.formats.usd.native.data import OWN, from_custom, plain
from tidy_caravan.core.scene import Image, Material, Note, Sampler, Texture, TextureUse
from tidy_caravan.core.scene.look import DISPLACEMENT, glowing

WRAPS = {"repeat": 10497, "mirror": 33648, "clamp": 33071, "black": 33071, "useMetadata": 10497}
LOST = ("clearcoat", "specularColor", "displacement")

USUAL = {"ior": 1.5, "opacityMode": "transparent", "occlusion": 1.0, "normal": (0.0, 0.0, 1.0)}
"""Inputs of which only the usual value, or an image, has a place here (UsdPreviewSurface)."""


@dataclass(frozen=True)
class Read:
    """One texture lookup: file, output channel, UV set and transform of it."""

    path: str
    channel: str
    varname: str
    wrap: tuple[int, int]
    offset: tuple[float, float]
    rotation: float
    scale: tuple[float, float]
    factor: tuple[float, ...] = (1.0, 1.0, 1.0, 1.0)
    bias: tuple[float, ...] = (0.0, 0.0, 0.0, 0.0)
    """The value is picture · factor + bias, channel by channel."""

    def share(self) -> float:
        """The factor of the channel that is read."""
        return self.factor["rgba".find(self.channel)] if self.channel in ("r", "g", "b", "a") else self.factor[0]


@dataclass
class Looks:
    """Materials by prim path and two-sidedness, equal ones once. varnames: UV sets a material reads, in order.

    packed: image index -> ((roughness path, channel), (metallic path, channel)), to be put together by the parent.
    """

    top: str
    time: Any
    notes: list[Note] = field(default_factory=list)
    materials: list[Material] = field(default_factory=list)
    varnames: list[tuple[str, ...]] = field(default_factory=list)
    textures: list[Texture] = field(default_factory=list)
    images: list[Image] = field(default_factory=list)
    packed: dict[int, tuple[tuple[str, str], tuple[str, str]]] = field(default_factory=dict)
    lost: dict[str, int] = field(default_factory=dict)
    _made: dict[tuple[str, bool], int] = field(default_factory=dict)
    _equal: dict[tuple[Material, str, tuple[str, ...]], int] = field(default_factory=dict)
    _texture_of: dict[tuple[Any, ...], int] = field(default_factory=dict)
    _image_of: dict[str, int] = field(default_factory=dict)

    def index(self, material: Any, double_sided: bool) -> int:
        """Slot of a bound UsdShade material, -1 for none."""
        if not material or not material.GetPrim():
            return -1
        key = (str(material.GetPath()), double_sided)
        if key not in self._made:
            made, names = self._read(material)
            self._made[key] = self._slot(replace(made, double_sided=double_sided), names)
        return self._made[key]

    def plain(self, color: tuple[float, float, float], double_sided: bool) -> int:
        """Slot for a prim that has a constant display colour and no material."""
        name = "colour_" + "".join(f"{round(c * 255):02x}" for c in color)
        return self._slot(Material(name, (*color, 1.0), 0.0, 0.9, double_sided=double_sided), ())

    def _slot(self, made: Material, names: tuple[str, ...]) -> int:
        key = (replace(made, extras=None), json.dumps(made.extras, sort_keys=True), names)
        if key not in self._equal:
            taken = {m.name for m in self.materials}
            if made.name in taken and made.double_sided:
                named = replace(made, name=f"{made.name}_two_sided")
            else:
                named = made
            self._equal[key] = len(self.materials)
            self.materials.append(named)
            self.varnames.append(names)
        return self._equal[key]

    def _read(self, material: Any) -> tuple[Material, tuple[str, ...]]:
        prim = material.GetPrim()
        name = prim.GetDisplayName() or prim.GetName()
        said = from_custom(prim.GetCustomData()) if prim.HasAuthoredCustomData() else {}
        said |= {p.GetName().removeprefix(OWN): plain(p.Get(self.time)) for p in own_attributes(prim)}
        out = Material(name, metallic=0.0, roughness=0.5, extras=said or None)
        shader, *_ = material.ComputeSurfaceSource()
        kind = shader.GetIdAttr().Get() if shader else None
        if not shader or kind != "UsdPreviewSurface":
            self.notes.append(
                Note("behind", "material.no-preview-surface", name[:120],
                     f"The material “{name[:80]}” has no UsdPreviewSurface (it has {kind or 'no surface'}); it is plain grey.")
            )  # fmt: skip
            return replace(out, base_color=(0.5, 0.5, 0.5, 1.0)), ()
        names: list[str] = []
        base, base_read = self._input(shader, "diffuseColor", (0.18, 0.18, 0.18))
        glow, glow_read = self._input(shader, "emissiveColor", (0.0, 0.0, 0.0))
        metal, metal_read = self._input(shader, "metallic", 0.0)
        rough, rough_read = self._input(shader, "roughness", 0.5)
        opacity, opacity_read = self._input(shader, "opacity", 1.0)
        threshold, _ = self._input(shader, "opacityThreshold", 0.0)
        _, normal_read = self._input(shader, "normal", (0.0, 0.0, 1.0))
        _, shade_read = self._input(shader, "occlusion", 1.0)
        alpha = float(np.clip(number(opacity, 1.0), 0, 1))
        out = replace(
            out,
            base_color=(*three(base), alpha),
            metallic=float(np.clip(number(metal, 0.0), 0, 1)),
            roughness=float(np.clip(number(rough, 0.5), 0, 1)),
        )
        out = glowing(out, three(glow))
        if base_read:
            tint = self._tint(base_read)
            out = replace(out, base_color_texture=self._use(base_read, names), base_color=(*tint, alpha))
        if glow_read:
            if any(glow_read.bias):
                self._lose("values added to images")
            out = glowing(replace(out, emissive_texture=self._use(glow_read, names)), three(glow_read.factor[:3]))
        if normal_read:
            # decoding a normal map doubles it and takes one off; what goes beyond is the strength of the map
            as_usual = normal_read.factor[:2] == (1.0, 1.0) and not any(normal_read.bias)
            strength_ = 1.0 if as_usual else round(float(normal_read.factor[0]) / 2, 6)
            out = replace(out, normal_texture=replace(self._use(normal_read, names), strength=strength_))
        if shade_read:
            share = float(np.clip(shade_read.share(), 0, 1))
            out = replace(out, occlusion_texture=replace(self._use(shade_read, names), strength=share))
        out = self._rough_metal(out, rough_read, metal_read, names)
        if opacity_read:
            if base_read and opacity_read.path == base_read.path and opacity_read.channel == "a":
                share = float(np.clip(opacity_read.factor[3], 0, 1))
                out = replace(out, alpha_mode="BLEND", base_color=(*out.base_color[:3], share))
            else:
                self._lose("opacity images")
        elif alpha < 1:
            out = replace(out, alpha_mode="BLEND")
        cut = number(threshold, 0.0)
        if cut > 0 and (opacity_read or alpha < 1):
            out = replace(out, alpha_mode="MASK", alpha_cutoff=cut)
        for what, usual in USUAL.items():
            given, read = self._input(shader, what, usual)
            if read is None and not np.array_equal(np.asarray(given), np.asarray(usual)):
                self._lose(f"{what} of materials")
        specular, _ = self._input(shader, "useSpecularWorkflow", 0)
        if number(specular, 0.0):
            self._lose("specular workflow")
        for lost in LOST:
            given, read = self._input(shader, lost, None)
            if read or (given is not None and np.asarray(given).any()):
                self._lose(f"{lost} of materials")
            if read and lost == DISPLACEMENT:
                out = replace(out, extras={DISPLACEMENT: os.path.basename(read.path), **(out.extras or {})})
        return out, tuple(names)

    def _tint(self, read: Read) -> tuple[float, float, float]:
        """What a colour picture is multiplied by; numbers that the portable material cannot hold are told."""
        tint = three(read.factor[:3])
        if max(tint) > 1 or any(read.bias[:3]):
            self._lose("values added to images" if any(read.bias[:3]) else "tints above one")
        return min(1.0, tint[0]), min(1.0, tint[1]), min(1.0, tint[2])

    def _lose(self, what: str) -> None:
        self.lost[what] = self.lost.get(what, 0) + 1

    def _rough_metal(self, out: Material, rough: Read | None, metal: Read | None, names: list[str]) -> Material:
        """One picture with roughness in green and metallic in blue; others are put together into one."""
        if rough is None and metal is None:
            return out
        main = rough or metal
        assert main is not None
        direct = all(r is None or (r.path == main.path and r.channel == c) for r, c in ((rough, "g"), (metal, "b")))
        if direct:
            use = self._use(main, names)
        else:
            key = "|".join(f"{r.path}:{r.channel}" if r else "" for r in (rough, metal))
            if key not in self._image_of:
                self._image_of[key] = len(self.images)
                self.packed[len(self.images)] = (
                    (rough.path, rough.channel) if rough else ("", ""),
                    (metal.path, metal.channel) if metal else ("", ""),
                )
                self.images.append(Image(f"{out.name}_roughness_metallic"))
            use = self._use(main, names, self._image_of[key])
        return replace(
            out,
            metallic_roughness_texture=use,
            roughness=float(np.clip(rough.share(), 0, 1)) if rough else out.roughness,
            metallic=float(np.clip(metal.share(), 0, 1)) if metal else out.metallic,
        )

    def _use(self, read: Read, names: list[str], image: int | None = None) -> TextureUse:
        if image is None:
            if read.path not in self._image_of:
                self._image_of[read.path] = len(self.images)
                self.images.append(Image(os.path.basename(read.path), uri=read.path))
            image = self._image_of[read.path]
        key = (image, read.wrap)
        if key not in self._texture_of:
            self._texture_of[key] = len(self.textures)
            self.textures.append(Texture(image, Sampler(wrap_s=read.wrap[0], wrap_t=read.wrap[1])))
        if read.varname not in names:
            names.append(read.varname)
        return TextureUse(
            self._texture_of[key],
            channel=names.index(read.varname),
            offset=read.offset,
            rotation=read.rotation,
            scale=read.scale,
        )

    def _input(self, shader: Any, name: str, spare: Any) -> tuple[Any, Read | None]:
        """Value of an input, or the texture that feeds it; interfaces of node graphs are followed."""
        given = shader.GetInput(name)
        if not given:
            return spare, None
        for attribute in UsdShade.Utils.GetValueProducingAttributes(given):
            owner = UsdShade.Shader(attribute.GetPrim())
            if owner and UsdShade.Output.IsOutput(attribute) and owner.GetIdAttr().Get() == "UsdUVTexture":
                return spare, self._texture(owner, attribute.GetBaseName())
            if not UsdShade.Output.IsOutput(attribute):
                if attribute.ValueMightBeTimeVarying():
                    self._lose("movement of materials")
                found = attribute.Get(self.time)
                return (spare if found is None else found), None
        return spare, None

    def _texture(self, shader: Any, channel: str) -> Read | None:
        asset, _ = self._input(shader, "file", None)
        if asset is None:
            return None
        authored = str(getattr(asset, "path", asset))
        resolved = str(getattr(asset, "resolvedPath", ""))
        path = authored
        if resolved and os.path.realpath(resolved).startswith(os.path.realpath(self.top) + os.sep):
            path = os.path.relpath(os.path.realpath(resolved), os.path.realpath(self.top))
        if not path:
            return None
        wraps = [str(self._input(shader, w, "useMetadata")[0]) for w in ("wrapS", "wrapT")]
        varname, offset, rotation, scale = self._coordinates(shader)
        return Read(
            path,
            channel,
            varname,
            (WRAPS.get(wraps[0], 10497), WRAPS.get(wraps[1], 10497)),
            offset,
            rotation,
            scale,
            self._four(shader, "scale", 1.0),
            self._four(shader, "bias", 0.0),
        )

    def _four(self, shader: Any, name: str, spare: float) -> tuple[float, ...]:
        """Four numbers of an input, finite ones; a single number counts for all."""
        given, _ = self._input(shader, name, None)
        values = [] if given is None else np.atleast_1d(np.asarray(given, np.float64)).tolist()
        values = values * 4 if len(values) == 1 else values
        return tuple(round(v, 9) if math.isfinite(v) else spare for v in (*values, *[spare] * 4)[:4])

    def _coordinates(self, shader: Any) -> tuple[str, tuple[float, float], float, tuple[float, float]]:
        """UV set and the 2D transform in front of the lookup, for coordinates whose v runs downwards."""
        sx = sy = 1.0
        tx = ty = angle = 0.0
        varname = "st"
        given = shader.GetInput("st")
        for _ in range(4):
            if not given:
                break
            sources = [a for a in UsdShade.Utils.GetValueProducingAttributes(given) if UsdShade.Output.IsOutput(a)]
            if not sources:
                break
            node = UsdShade.Shader(sources[0].GetPrim())
            kind = node.GetIdAttr().Get() or ""
            if kind == "UsdTransform2d":
                scale, _ = self._input(node, "scale", (1.0, 1.0))
                turn, _ = self._input(node, "rotation", 0.0)
                move, _ = self._input(node, "translation", (0.0, 0.0))
                sx, sy, angle = float(scale[0]), float(scale[1]), math.radians(float(turn))
                tx, ty = float(move[0]), float(move[1])
                given = node.GetInput("in")
                continue
            if kind.startswith("UsdPrimvarReader"):
                found, _ = self._input(node, "varname", "st")
                varname = str(found) or "st"
            break
        # F·A·F for the flip F(u, v) = (u, 1 − v): see KHR_texture_transform for the meaning of the result
        offset = (-math.sin(angle) * sy + tx, 1.0 - math.cos(angle) * sy - ty)
        clean = (round(offset[0], 12) + 0.0, round(offset[1], 12) + 0.0)
        return varname, clean, angle, (sx, sy)


def own_attributes(prim: Any) -> list[Any]:
    """Attributes that no schema knows: what an artist or a program says of a material."""
    own = (a for a in prim.GetAuthoredAttributes() if a.IsCustom() and a.HasValue())
    return [a for a in own if not a.GetName().startswith(("inputs:", "outputs:"))]


def three(color: Any) -> tuple[float, float, float]:
    values = [max(0.0, float(c)) if math.isfinite(float(c)) else 0.0 for c in color]
    return values[0], values[1], values[2]


def number(value: Any, spare: float) -> float:
    try:
        out = float(value)
    except (TypeError, ValueError):
        return spare
    return out if math.isfinite(out) else spare
