"""MTL material files: the portable part of each material, translated with its numbers."""

from __future__ import annotations

import math
from dataclasses import replace

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.bundle import Bundle
from tidy_caravan.core.formats.pictures import picture
from tidy_caravan.core.scene import Image, Material, Note, Texture, TextureUse

OPTIONS = {
    "-blendu": 1,
    "-blendv": 1,
    "-boost": 1,
    "-bm": 1,
    "-cc": 1,
    "-clamp": 1,
    "-imfchan": 1,
    "-mm": 2,
    "-o": 3,
    "-s": 3,
    "-t": 3,
    "-texres": 1,
    "-type": 1,
}


class MaterialTable:
    """Materials by name, in order of first mention; those no file defines stay plain, with a note."""

    def __init__(self, bundle: Bundle, notes: list[Note]) -> None:
        self.bundle, self.notes = bundle, notes
        self.materials: list[Material] = []
        self.textures: list[Texture] = []
        self.images: list[Image] = []
        self._index: dict[str, int] = {}
        self._defined: dict[str, Material] = {}
        self._texture_of: dict[str, int] = {}

    def index(self, name: str) -> int:
        if name not in self._index:
            self._index[name] = len(self.materials)
            if name in self._defined:
                self.materials.append(self._defined[name])
            else:
                self.materials.append(Material(name, metallic=0.0))
                self.notes.append(
                    Note(
                        "behind",
                        "material.undefined",
                        name[:120],
                        f"The material “{name[:80]}” is used and no MTL file defines it; it is plain white.",
                    )
                )
        return self._index[name]

    def load(self, names: str) -> None:
        """Reads one library, or several separated by blanks when no file has the whole name."""
        data = self._find(names)
        if data is not None:
            self.parse(data.decode("utf-8", errors="replace"), names)
            return
        parts = names.split()
        for part in parts if len(parts) > 1 else [names]:
            data = self._find(part)
            if data is None:
                self.notes.append(
                    Note(
                        "behind",
                        "material.library-missing",
                        part[:120],
                        f"The material file “{part[:120]}” was not found beside the scene.",
                    )
                )
            else:
                self.parse(data.decode("utf-8", errors="replace"), part)

    def _find(self, name: str) -> bytes | None:
        try:
            return self.bundle.find(name)
        except UnusableInput as error:
            self.notes.append(Note("damaged", "material.unreachable", name[:120], f"{error.what}."))
            return None

    def parse(self, text: str, where: str) -> None:
        name, current = "", Material()
        for number, line in enumerate(text.splitlines(), 1):
            word, _, rest = line.strip().partition(" ")
            rest = rest.strip()
            if word == "newmtl":
                if name:
                    self._defined[name] = current
                name, current = rest, Material(rest, metallic=0.0, roughness=0.9)
                continue
            if not name or not word or word.startswith("#"):
                continue
            try:
                current = self.field(current, word.lower(), rest)
            except ValueError:
                self.notes.append(
                    Note(
                        "damaged",
                        "import.damaged",
                        f"{where[:80]}, line {number}",
                        f"“{line.strip()[:60]}” cannot be read and was left out.",
                    )
                )
        if name:
            self._defined[name] = current
        for known, index in self._index.items():
            if known in self._defined:
                self.materials[index] = self._defined[known]

    def field(self, m: Material, word: str, rest: str) -> Material:
        """The material with one line applied. Raises ValueError for unreadable numbers."""
        if word == "kd":
            r, g, b = _rgb(rest)
            return replace(m, base_color=(r, g, b, m.base_color[3]))
        if word in ("d", "tr"):
            value = _unit(rest.split()[-1])
            alpha = value if word == "d" else 1.0 - value
            mode = m.alpha_mode if alpha >= 1.0 else "BLEND"
            return replace(m, base_color=(*m.base_color[:3], alpha), alpha_mode=mode)
        if word == "ke":
            return replace(m, emissive=_rgb(rest))
        if word == "ns":  # Blinn-Phong exponent to roughness, Karis 2013
            return replace(m, roughness=min(1.0, math.sqrt(2.0 / (max(0.0, _finite(rest)) + 2.0))))
        if word == "pr":
            return replace(m, roughness=_unit(rest))
        if word == "pm":
            return replace(m, metallic=_unit(rest))
        if word == "map_kd":
            return replace(m, base_color_texture=self.use(rest))
        if word in ("norm", "map_bump", "bump"):
            return replace(m, normal_texture=self.use(rest))
        if word == "map_ke":
            return replace(m, emissive_texture=self.use(rest))
        return m

    def use(self, rest: str) -> TextureUse | None:
        tokens = rest.split()
        at = 0
        while at < len(tokens) and tokens[at].lower() in OPTIONS:
            at += 1 + OPTIONS[tokens[at].lower()]
        path = " ".join(tokens[at:])
        if not path:
            raise ValueError
        if path not in self._texture_of:
            self.images.append(picture(self.bundle, path, self.notes))
            self.textures.append(Texture(len(self.images) - 1))
            self._texture_of[path] = len(self.textures) - 1
        return TextureUse(self._texture_of[path])


def _finite(text: str) -> float:
    value = float(text.split()[0]) if text else math.nan
    if not math.isfinite(value):
        raise ValueError
    return value


def _unit(text: str) -> float:
    return min(1.0, max(0.0, _finite(text)))


def _rgb(text: str) -> tuple[float, float, float]:
    values = [_unit(v) for v in text.split()[:3]]
    if len(values) == 1:
        values *= 3
    if len(values) != 3:
        raise ValueError
    return values[0], values[1], values[2]
