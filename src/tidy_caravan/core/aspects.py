"""What a step may change, declared; the arrival believes these declarations and nothing else about steps."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Aspect(StrEnum):
    """One side of a scene that is judged by itself."""

    PARTS = "parts"
    """Which parts there are."""
    POSITIONS = "positions"
    TRIANGLES = "triangles"
    NORMALS = "normals"
    TANGENTS = "tangents"
    FIRST_UV = "first UV set"
    LIGHTMAP_UV = "lightmap UV set"
    FURTHER_UV = "further UV sets"
    MATERIALS = "materials"
    NAMES = "names"
    TREE = "tree"
    PIVOTS = "pivots"
    SHARING = "sharing"
    LIGHTS = "lights"
    CAMERAS = "cameras"
    CLIPS = "clips"


@dataclass(frozen=True)
class Effect:
    """An aspect that a step may change. within: how far, in the unit the aspect is measured in (millimetres,
    degrees); without it, as far as the step likes. why: the words that the arrival shows for it."""

    aspect: Aspect
    within: float | None = None
    why: str = ""


@dataclass(frozen=True)
class Declared:
    """What the steps of a route declare together."""

    effects: tuple[Effect, ...] = ()

    def free(self, aspect: Aspect) -> bool:
        """Whether the aspect may have changed without a bound."""
        return any(e.aspect is aspect and e.within is None for e in self.effects)

    def within(self, aspect: Aspect) -> float:
        """How far it may have changed: the bounds of all steps added up, infinite where one has none."""
        return sum(float("inf") if e.within is None else e.within for e in self.effects if e.aspect is aspect)

    def uv(self, number: int, lightmap: int) -> Aspect:
        """The aspect that UV set `number` belongs to, with the lightmap in channel `lightmap`."""
        if number == 0:
            return Aspect.FIRST_UV
        return Aspect.LIGHTMAP_UV if number == lightmap else Aspect.FURTHER_UV

    @property
    def words(self) -> list[str]:
        """One sentence for each distinct reason."""
        return list(dict.fromkeys(e.why for e in self.effects if e.why))
