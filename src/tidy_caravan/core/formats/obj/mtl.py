"""MTL material files: the portable part of each material, translated with its numbers."""

from __future__ import annotations

import math
from dataclasses import replace

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.encoding import in_utf8
from tidy_caravan.core.formats.shared.images import picture
from tidy_caravan.core.scene import Image, Material, Note, Sampler, Texture, TextureUse
from tidy_caravan.core.scene.look import DISPLACEMENT, LARGEST_GLOW, glowing

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
UNREAD = {"-blendu", "-blendv", "-boost", "-cc", "-mm", "-texres", "-type"}
NOTHING = {"ka": {0.0, 1.0}, "ni": {1.0}, "tf": {1.0}, "sharpness": {60.0}}
"""Numbers that say nothing, where that is not nought: ambient light is the receiver's, and 60 what the format falls back to."""


class MaterialTable:
    """Materials by name, in order of first mention; those no file defines stay plain, with a note."""

    def __init__(self, bundle: Bundle, notes: list[Note]) -> None:
        self.bundle, self.notes = bundle, notes
        self.materials: list[Material] = []
        self.textures: list[Texture] = []
        self.images: list[Image] = []
        self.unread: dict[str, int] = {}
        self._index: dict[str, int] = {}
        self._defined: dict[str, Material] = {}
        self._texture_of: dict[str, int] = {}
        self._image_of: dict[str, int] = {}
        self._bumps: set[str] = set()
        """Materials whose normal map is a guess."""

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
            self.parse(in_utf8(data, names, self.notes).decode(), names)
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
                self.parse(in_utf8(data, part, self.notes).decode(), part)

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
        for one in sorted(self._bumps & set(self._defined)):
            text = "A bump image was taken for a normal map; look at it."
            note = Note("guess", "material.bump", one[:120], text)
            if note not in self.notes:
                self.notes.append(note)
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
            return glowing(m, _rgb(rest, LARGEST_GLOW))
        if word == "illum" and rest.split()[:1] == ["0"]:
            return replace(m, unlit=True)
        if word == "ns":  # Blinn-Phong exponent to roughness, Karis 2013
            return replace(m, roughness=min(1.0, math.sqrt(2.0 / (max(0.0, _finite(rest)) + 2.0))))
        if word == "pr":
            return replace(m, roughness=_unit(rest))
        if word == "pm":
            return replace(m, metallic=_unit(rest))
        if word == "map_kd":
            return replace(m, base_color_texture=self.use(rest))
        if word == "norm":
            self._bumps.discard(m.name)
            return replace(m, normal_texture=self.use(rest))
        if word in ("map_bump", "bump"):
            if m.normal_texture is not None and m.name not in self._bumps:  # a true normal map says more
                self.told_lost(m.name, word)
                return m
            self._bumps.add(m.name)
            return replace(m, normal_texture=self.use(rest))
        if word in ("disp", "map_disp"):
            self.told_lost(m.name, word, f"; its file name goes on as the data “{DISPLACEMENT}”")
            path, _ = options_of(rest)
            return replace(m, extras={**(m.extras or {}), DISPLACEMENT: path.replace("\\", "/").rsplit("/", 1)[-1]})
        if word == "map_ke":
            glow = m.emissive if m.emissive != (0.0, 0.0, 0.0) else (1.0, 1.0, 1.0)
            return replace(m, emissive_texture=self.use(rest), emissive=glow)
        if word == "map_d":
            return self.opacity(m, self.use(rest))
        if word in ("map_pr", "map_pm"):
            return self.rough_metal(m, word, rest)
        if word.startswith(("map_", "disp", "decal", "refl", "bump", "norm")):
            self.told_lost(m.name, word)
        elif not (word == "illum" or says_nothing(word, rest)):
            self.unread[word] = self.unread.get(word, 0) + 1
        return m

    def opacity(self, m: Material, use: TextureUse) -> Material:
        """An opacity picture travels where it is the alpha of the colour picture."""
        base = m.base_color_texture
        if base is None or self.textures[base.texture].image != self.textures[use.texture].image:
            self.told_lost(m.name, "map_d")
            return m
        return replace(m, alpha_mode="BLEND")

    def rough_metal(self, m: Material, word: str, rest: str) -> Material:
        """Roughness in green and metallic in blue of one picture; others are told as lost."""
        use = self.use(rest)
        held = m.metallic_roughness_texture
        fits = channel_named(rest) == ("g" if word == "map_pr" else "b")
        if not fits or (held is not None and held != use):
            self.told_lost(m.name, word)
            return m
        return replace(m, metallic_roughness_texture=use)

    def told_lost(self, name: str, word: str, but: str = "") -> None:
        text = f"“{word}” of the material “{name[:80]}” has no place in a portable material and stays behind{but}."
        note = Note("behind", "material.lost", name[:120], text)
        if note not in self.notes:
            self.notes.append(note)

    def use(self, rest: str) -> TextureUse:
        """A picture with its options: scale, offset, clamping and strength count. Raises ValueError without a path."""
        path, given = options_of(rest)
        clamped = given.get("-clamp", ["off"])[:1] == ["on"]
        key = f"{path}|{clamped}"
        if key not in self._texture_of:
            if path not in self._image_of:
                self._image_of[path] = len(self.images)
                self.images.append(picture(self.bundle, path, self.notes))
            sampler = Sampler(wrap_s=33071, wrap_t=33071) if clamped else None
            self.textures.append(Texture(self._image_of[path], sampler))
            self._texture_of[key] = len(self.textures) - 1
        sx, sy = _pair(given.get("-s", []), 1.0)
        ox, oy = _pair(given.get("-o", []), 0.0)
        for word in given.keys() & UNREAD:
            self.unread[f"{word} of images"] = self.unread.get(f"{word} of images", 0) + 1
        if "-t" in given and any(_finite(v) != 0 for v in given["-t"]):
            self.told_lost(path, "-t")
        # v counts upwards in the format and downwards in the scene: 1 - (sy·(1 - v) + oy)
        offset = (ox + 0.0, round(1.0 - sy - oy, 12) + 0.0)
        strength = _finite(given["-bm"][0]) if given.get("-bm") else 1.0
        return TextureUse(self._texture_of[key], offset=offset, scale=(sx, sy), strength=strength)


def options_of(rest: str) -> tuple[str, dict[str, list[str]]]:
    """The path that a statement names, and its options with their values. Raises ValueError without a path."""
    tokens = rest.split()
    at = 0
    given: dict[str, list[str]] = {}
    while at < len(tokens) and tokens[at].lower() in OPTIONS:
        word = tokens[at].lower()
        values = tokens[at + 1 : at + 1 + OPTIONS[word]]
        if word in ("-o", "-s", "-t"):  # the second and third number may be left out
            values = values[:1] + [v for v in values[1:] if _is_number(v)]
        given[word] = values
        at += 1 + len(values)
    path = " ".join(tokens[at:])
    if not path:
        raise ValueError
    return path, given


def _finite(text: str) -> float:
    value = float(text.split()[0]) if text else math.nan
    if not math.isfinite(value):
        raise ValueError
    return value


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _pair(values: list[str], spare: float) -> tuple[float, float]:
    found = [_finite(v) for v in values[:2]]
    return (found + [spare] * 2)[0], (found + [spare] * 2)[1]


def channel_named(rest: str) -> str:
    """The channel that -imfchan asks for, such as g; empty when it says nothing."""
    words = rest.lower().split()
    return words[words.index("-imfchan") + 1] if "-imfchan" in words[:-1] else ""


def _unit(text: str) -> float:
    return min(1.0, max(0.0, _finite(text)))


def says_nothing(word: str, rest: str) -> bool:
    """Whether a number that has no place here is the usual one."""
    try:
        values = {float(v) for v in rest.split()}
    except ValueError:
        return False
    return values <= NOTHING.get(word, {0.0})


def _rgb(text: str, most: float = 1.0) -> tuple[float, float, float]:
    values = [min(most, max(0.0, _finite(v))) for v in text.split()[:3]]
    if len(values) == 1:
        values *= 3
    if len(values) != 3:
        raise ValueError
    return values[0], values[1], values[2]
