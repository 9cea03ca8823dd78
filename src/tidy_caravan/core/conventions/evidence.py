"""Evidence for a unit: things of known human size, found by name or type, and what each factor would make of them."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict
from pydantic.alias_generators import to_camel

from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import HIDDEN, Convention, Scene
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.space.files import of_files, stated_by_file
from tidy_caravan.core.space.site import together

CANDIDATES = (0.001, 0.01, 0.0254, 0.1, 0.3048, 1.0, 10.0, 100.0, 1000.0)
"""What one unit may be, in metres: the usual ones and their usual mistakes."""
UNIT_NAMES = {
    0.001: "millimetre", 0.01: "centimetre", 0.0254: "inch", 0.1: "decimetre", 0.3048: "foot", 1.0: "metre",
    10.0: "ten metres", 100.0: "hundred metres", 1000.0: "kilometre",
}  # fmt: skip


METRIC = (0.001, 0.01, 1.0, 100.0, 1000.0)
"""Those that are proposed where only the size of the whole speaks."""
TALL = "door|leaf|person|passenger|lamp_?post|column|mast"
"""Words for things that are taller than wide."""
SMALLEST_M, LARGEST_M = 0.02, 20_000.0
"""Sizes that whole scenes have."""
MOST_OF_FILE = 100
SMALLEST_SEVERAL_M = 0.2
"""Size under which several parts are no scene of this trade, where nobody said what their numbers are and a small unit was
assumed."""
SEVERAL = 3
USUAL_M = 30.0
"""And about the size that most have."""
TALLEST_M = 1000.0
"""No building is higher; land that is does not stand on its own with walls around it."""
DISTINCT = 0.7
"""How far off usual sizes the likeliest unit makes things, by what the next one does, at the most, where as many fit."""
COARSEST_M = 500.0
"""Largest edge of the typical part beyond which a scene of several parts is drawn in another unit."""


@dataclass(frozen=True)
class HumanScale:
    """Things of known size: words and IFC classes that name them, and the range in metres of their height."""

    words: str
    label: str
    low: float
    high: float
    classes: tuple[str, ...] = ()


KNOWN = (
    HumanScale("door|doorleaf|leaf|tür(?:en|blatt)?|tuer(?:en|blatt)?|porte|puerta|porta|deur(?:en)?|dörr(?:ar)?", "door", 1.9, 2.4, ("IfcDoor",)),
    HumanScale("storey|floor_height|geschoss|étage|etage", "storey", 2.2, 5.0),
    HumanScale("seat|bench|chair|stool|stuhl|stühle|sitz|hocker|chaise|siège|banc|silla|sedia|panca|cadeira|stoel", "seat", 0.38, 1.1),
    HumanScale("step|stair_step|riser|stufen?|marche|escalón|gradino|trede", "step", 0.12, 0.22),
    HumanScale("railing|handrail|guardrail|balustrade|geländer|gelaender|garde-corps|barandilla|ringhiera|leuning", "railing", 0.85, 1.2, ("IfcRailing",)),
    HumanScale("person|human|passenger|visitor|mensch(?:en)?|personne|persona|pessoa|persoon", "person", 1.5, 2.0),
    HumanScale("gate|turnstile", "gate", 0.8, 2.2),
    HumanScale("window|glazing|fenster|fenêtre|fenetre|ventana|finestra|janela|raam|fönster", "window", 0.4, 5.0, ("IfcWindow",)),
)  # fmt: skip
"""Words as names of parts have them, in the languages of many who model; each in singular or plural."""


@dataclass(frozen=True)
class Evidence:
    """heights: extent along up in scene units of the parts of one kind of KNOWN."""

    kind: HumanScale
    parts: I64
    heights: F64

    def fitting(self, metres_per_unit: float) -> I64:
        """Parts whose height fits when one unit is that long."""
        metres = self.heights * metres_per_unit
        return self.parts[(metres >= self.kind.low) & (metres <= self.kind.high)]

    @property
    def weight(self) -> float:
        """A narrow range tells more than a wide one."""
        return 1.0 / math.log(self.kind.high / self.kind.low)


@dataclass(frozen=True)
class Told:
    """Parts of one unit and one set of axes: those of a scene, or of one of its files. name: the file's label, empty for the
    scene. which: their rows among the parts. boxes: (P, 2, 3) in numbers of the convention."""

    scene: Scene
    name: str
    convention: Convention
    which: I64
    boxes: F64

    @property
    def parts(self) -> I64:
        return self.scene.nodes.parts[self.which]

    @property
    def span(self) -> float:
        """Largest edge of what is shown, in metres; nought when that is nothing. Of several parts, of those that stand together."""
        shown = self.boxes[(self.scene.nodes.flags[self.parts] & HIDDEN) == 0]
        if not len(shown):
            return 0.0
        if len(shown) >= SEVERAL:
            shown = shown[together(shown, self.convention.metres_per_unit)]
        return float((shown[:, 1].max(axis=0) - shown[:, 0].min(axis=0)).max()) * self.convention.metres_per_unit


@kept
def as_told(scene: Scene) -> list[Told]:
    """The scene, or each of its files where there are several."""
    boxes = at_rest(scene).part_bounds
    every = np.arange(len(boxes))
    out = []
    for label, one in stated_by_file(scene).items():
        rows = every[of_files(scene, [label])[scene.nodes.parts]]
        corners = boxes[rows] @ linear_map(scene.convention, one.convention).T
        own = np.stack([corners.min(axis=1), corners.max(axis=1)], axis=1)
        out.append(Told(scene, label, one.convention, rows, own))
    return out or [whole_as_told(scene)]


def whole_as_told(scene: Scene) -> Told:
    """The scene as one, in its own convention."""
    boxes = at_rest(scene).part_bounds
    return Told(scene, "", scene.convention, np.arange(len(boxes)), boxes)


def evidence(told: Told, up: int | None = None) -> list[Evidence]:
    """Human-scale things by name and type. Names are looked at once each, whatever the number of parts.

    up: column of the axis along which heights are taken; the one that is told when None.
    """
    scene, parts = told.scene, told.parts
    if not len(parts):
        return []
    texts, which = name_stems(scene)
    which = which[told.which]
    up = "XYZ".index(told.convention.up[-1]) if up is None else up
    size = told.boxes[:, 1] - told.boxes[:, 0]
    out = []
    # most names fit none: those are told by one look
    any_kind = words_pattern("|".join(k.words for k in KNOWN))
    fitting = [i for i, n in enumerate(texts) if any_kind.search(n)]
    for kind in KNOWN:
        pattern = words_pattern(kind.words)
        named = np.zeros(len(texts), np.bool_)
        named[[i for i in fitting if pattern.search(texts[i])]] = True
        hit = named[which]
        if kind.classes:
            hit |= np.isin(parts, [i for i, c in ifc_classes(scene).items() if c in kind.classes])
        if hit.any():
            rows = np.flatnonzero(hit)
            out.append(Evidence(kind, parts[rows], size[rows, up]))
    return out


@kept
def ifc_classes(scene: Scene) -> dict[int, Any]:
    """The class of each node that an IFC file gives one."""
    return {
        i: e["ifc"].get("class")
        for i, e in scene.nodes.extras.items()
        if isinstance(e, dict) and isinstance(e.get("ifc"), dict)
    }


MOST_LETTERS = 200
DIGITS = str.maketrans("123456789", "000000000")


@kept
def name_stems(scene: Scene) -> tuple[list[str], I64]:
    """Distinct names of the parts in small letters with all digits alike, and (P,) which of them each part bears. Words that
    are told apart by a capital letter alone get a line between them.

    What is looked for in names are words: numbers between them say nothing, and there are thousands of those.
    """
    own = stems_of([scene.nodes.names[i] for i in scene.nodes.parts.tolist()])
    number = {name: k for k, name in enumerate(dict.fromkeys(own))}
    return list(number), np.array([number[name] for name in own], np.int64)


def stems_of(names: list[str]) -> list[str]:
    """The same of each of some names."""
    short = [name[:MOST_LETTERS] for name in names]
    out = in_small_letters("\0".join(short)).split("\0")  # all in one, which is several times quicker
    return out if len(out) == len(short) else [in_small_letters(name) for name in short]


def in_small_letters(text: str) -> str:
    """A line where a small letter is followed by a capital one, all letters small and all digits alike."""
    codes = np.frombuffer(text.encode("utf-32-le", "surrogatepass"), "<u4")
    small, capital = (
        ((codes >= a) & (codes <= z)) | ((codes >= other_a) & (codes <= other_z))
        for a, z, other_a, other_z in (map(ord, "azßÿ"), map(ord, "AZÀÞ"))
    )
    between = np.flatnonzero(small[:-1] & capital[1:]) + 1
    apart = np.insert(codes, between, ord("_")).tobytes().decode("utf-32-le", "surrogatepass")
    return apart.lower().translate(DIGITS)


@lru_cache(maxsize=64)
def words_pattern(words: str) -> re.Pattern[str]:
    """One of the words, in singular or plural, by itself."""
    return re.compile(rf"(?:^|[^a-z])(?:{words})s?(?:[^a-z]|$)")


@dataclass(frozen=True)
class Standing:
    """Things that are taller than wide, by name: along which column of their boxes most of them stand, how many do, of how many
    whose longest edge is clear. parts: all of them."""

    axis: int
    along: int
    clear: int
    parts: I64


def standing(told: Told) -> Standing | None:
    """Along which axis doors, people and posts stand; None where too few do, or where it is the stated one or no other by
    far."""
    texts, which = name_stems(told.scene)
    named = np.array([bool(words_pattern(TALL).search(t)) for t in texts] or [False], np.bool_)[which[told.which]]
    size = (told.boxes[:, 1] - told.boxes[:, 0])[named]
    second, longest = (np.sort(size, axis=1)[:, k] for k in (1, 2))
    clear = longest > 1.3 * second
    if clear.sum() < 2:
        return None
    counts = np.bincount(np.argmax(size, axis=1)[clear], minlength=3)
    best, up = int(np.argmax(counts)), "XYZ".index(told.convention.up[-1])
    if best == up or counts[best] <= 2 * counts[up] or counts[best] < 0.6 * clear.sum():
        return None
    return Standing(best, int(counts[best]), int(clear.sum()), told.parts[named])


def odd_size(told: Told) -> str:
    """What is odd about the size of something that holds nothing of known size, empty if nothing is."""
    size = told.span
    height, typical = heights(told)
    tall, coarse = height > TALLEST_M, typical > COARSEST_M
    if not size or not (size > LARGEST_M or size < SMALLEST_M or tall or coarse):
        return ""
    return (
        f"{size:.4g} m large"
        + (f" and {height:.4g} m high" if tall else "")
        + (f", its typical part {typical:.4g} m" if coarse else "")
    )


def too_small_for_several(told: Told) -> bool:
    """Whether an assumed unit makes a toy of several parts."""
    guessed = not told.convention.declared and told.convention.metres_per_unit < 1
    return guessed and len(told.parts) >= SEVERAL and 0 < told.span < SMALLEST_SEVERAL_M


def heights(told: Told) -> tuple[float, float]:
    """Height of the whole and largest edge of the typical part, in metres; noughts when there is too little to tell."""
    shown = (told.scene.nodes.flags[told.parts] & HIDDEN) == 0
    boxes = told.boxes[shown] * told.convention.metres_per_unit
    if not len(boxes):
        return 0.0, 0.0
    up = "XYZ".index(told.convention.up[-1])
    height = float(boxes[:, 1, up].max() - boxes[:, 0, up].min())
    edges = (boxes[:, 1] - boxes[:, 0]).max(axis=1)
    return height, float(np.median(edges)) if len(boxes) >= 3 else 0.0


class Candidate(BaseModel):
    """One unit that the scene may be in. fitting of total things of known size support it; parts are those.

    size: largest edge of the whole scene in metres then. example: one thing and its height then.
    """

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    metres_per_unit: float
    label: str
    stated: bool
    likeliest: bool = False
    fitting: int
    total: int
    score: float
    size: float
    example: str
    parts: list[int]


def candidates(told: Told) -> list[Candidate]:
    """The usual factors, likeliest first; a draw goes to what the file states, then to what makes usual sizes. At most
    one is `likeliest`.

    Heights are taken along the axis on which tall things stand. Where the file declares no axes and nothing fits along the
    assumed up axis, along the one on which most fits. The example says so.
    """
    stated = told.convention.metres_per_unit
    stands = standing(told)
    if stands is not None:
        found, lying = evidence(told, stands.axis), f" ({'XYZ'[stands.axis]} up)"
    else:
        found, lying = evidence(told), ""
    if stands is None and not told.convention.declared and found and not _best(found):
        axis, found = max(((a, evidence(told, a)) for a in range(3)), key=lambda one: _best(one[1]))
        if _best(found):
            lying = f" ({'XYZ'[axis]} up)"
    total = sum(len(e.parts) for e in found)
    span = told.span / stated
    out = []
    for factor in sorted({*CANDIDATES, stated}):
        fits = [(e, e.fitting(factor)) for e in found]
        best = max(fits, key=lambda f: len(f[1]) * f[0].weight, default=None)
        example = ""
        if best is not None:
            height = float(np.median(best[0].heights)) * factor
            example = (
                f"a {best[0].kind.label} would be {f'{height:.3g}' if height < 1000 else f'{height:.0f}'} m high{lying}"
            )
        out.append(
            Candidate(
                metres_per_unit=factor,
                label=UNIT_NAMES.get(factor, f"{factor:g} m"),
                stated=factor == stated,
                fitting=sum(len(f) for _, f in fits),
                total=total,
                score=_score(found, factor),
                size=span * factor,
                example=example,
                parts=[int(i) for _, f in fits for i in f][:1000],
            )
        )
    off = {c.metres_per_unit: _unusual(found, c.metres_per_unit) for c in out}
    out.sort(
        key=lambda c: (
            -round(c.score, 9),
            not c.stated,
            round(off[c.metres_per_unit], 6),
            abs(math.log(c.metres_per_unit / stated)),
        )
    )
    # windows may be of many sizes: of what fits alike the one that makes them usual
    clear = len(out) == 1 or out[0].stated or round(out[0].score, 9) > round(out[1].score, 9)
    clear = clear or off[out[0].metres_per_unit] < DISTINCT * off[out[1].metres_per_unit]
    if total and out[0].score > 0 and clear:
        out[0] = out[0].model_copy(update={"likeliest": True})
    elif not out[0].score:
        # nothing tells its size: what is stated, if the whole has a size that scenes have; else what gives it one comes first
        if not odd_size(told) and not too_small_for_several(told):
            out[0] = out[0].model_copy(update={"likeliest": bool(span)})
        elif usual := [c for c in out if c.metres_per_unit in METRIC and 1 <= c.size <= 2000]:
            # nobody draws in hundreds of metres without saying so
            likely = [c for c in usual if c.metres_per_unit <= 1 or told.convention.declared] or usual
            first = min(likely, key=lambda c: abs(math.log(c.size / USUAL_M)))
            out = [first, *(c for c in out if c is not first)]
    return out


def units_json(scene: Scene) -> tuple[list[Any], list[Any]]:
    """What speaks for each unit of the scene, and the same of each of several files with what it says, as JSON. Of a file's
    candidates the first MOST_OF_FILE parts."""

    def rows(told: Told) -> list[Any]:
        found = [c.model_dump(by_alias=True, mode="json") for c in candidates(told)]
        return [{**c, "parts": c["parts"][:MOST_OF_FILE]} for c in found] if told.name else found

    files = [
        {"file": told.name, "convention": told.convention.as_json(), "units": rows(told)}
        for told in as_told(scene)
        if told.name
    ]
    return rows(whole_as_told(scene)), files


def _score(found: list[Evidence], metres_per_unit: float) -> float:
    return sum(len(e.fitting(metres_per_unit)) / len(e.parts) * e.weight for e in found)


def _unusual(found: list[Evidence], metres_per_unit: float) -> float:
    """How far the things of known size are from the middles of their ranges, as logarithms, by what they tell."""
    middles = [math.sqrt(e.kind.low * e.kind.high) for e in found]
    heights = [max(float(np.median(e.heights)) * metres_per_unit, 1e-12) for e in found]
    return sum(abs(math.log(h / m)) * e.weight for e, h, m in zip(found, heights, middles, strict=True))


def _best(found: list[Evidence]) -> float:
    return max(_score(found, factor) for factor in CANDIDATES)
