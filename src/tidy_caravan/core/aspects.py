"""What a step may change, declared; the arrival believes these declarations and nothing else about steps."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from tidy_caravan.core.scene import Touched
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool


class Aspect(StrEnum):
    """One side of a scene that is judged by itself."""

    PARTS = "parts"
    """Which parts there are."""
    POSITIONS = "positions"
    TRIANGLES = "triangles"
    WINDING = "winding"
    NORMALS = "normals"
    TANGENTS = "tangents"
    FIRST_UV = "first UV set"
    LIGHTMAP_UV = "lightmap UV set"
    FURTHER_UV = "further UV sets"
    MATERIALS = "materials"
    NAMES = "names"
    TREE = "tree"
    PIVOTS = "pivots"
    ROTATION = "rotation"
    """Of nodes: which way their own axes point."""
    SHARING = "sharing"
    LIGHTS = "lights"
    CAMERAS = "cameras"
    CLIPS = "clips"
    DATA = "data"
    """What the source says of a node: class, type, names and values."""


@dataclass(frozen=True)
class Effect:
    """An aspect that a step may change. within: how far, in the unit the aspect is measured in (millimetres,
    degrees); without it, as far as the step likes. why: the words that the arrival shows for it."""

    aspect: Aspect
    within: float | None = None
    why: str = ""


@dataclass(frozen=True)
class Declared:
    """What the enabled steps of a route declare, step by step."""

    steps: tuple[tuple[Effect, ...], ...] = ()

    @property
    def effects(self) -> tuple[Effect, ...]:
        return tuple(e for one in self.steps for e in one)

    def free(self, aspect: Aspect) -> bool:
        """Whether the aspect may have changed without a bound on any part at all."""
        return any(e.aspect is aspect and e.within is None for e in self.effects)

    def bound(self, aspect: Aspect, steps: Iterable[int]) -> float:
        """How far these steps may change it: their bounds added up, infinite where one has none."""
        return sum(
            float("inf") if e.within is None else e.within for k in steps for e in self.steps[k] if e.aspect is aspect
        )

    def for_parts(self, touched: Touched | None, ids: I64, begin: I64 | None = None) -> Allowed:
        """What may have changed on K parts, an array each. O(ids).

        ids: source nodes that they came from, one each, or from begin[k] on those of part k. touched: which steps
        were for which node; without it all of them were for all.
        """
        every = [self.bound(a, range(len(self.steps))) for a in Aspect]
        rows = np.tile(np.array(every, np.float64), (len(ids), 1))
        if touched is not None:
            table = np.array([[self.bound(a, steps) for a in Aspect] for steps in touched.steps])
            known = (ids >= 0) & (ids < len(touched.code))
            rows[known] = table[touched.code[ids[known]]]
        # a part made of several may have changed in whatever one of them may
        return Allowed(rows if begin is None else np.maximum.reduceat(rows, begin, axis=0))

    @property
    def words(self) -> list[str]:
        """One sentence for each distinct reason."""
        return list(dict.fromkeys(e.why for e in self.effects if e.why))


@dataclass(frozen=True)
class Allowed:
    """How far each of K parts may have changed. bounds: (K, aspects), 0 for not at all, infinite for at will."""

    bounds: F64

    def free(self, aspect: Aspect) -> Bool:
        """(K,) True where the aspect may have changed without a bound."""
        out: Bool = np.isinf(self.bounds[:, ORDER[aspect]])
        return out

    def within(self, aspect: Aspect) -> F64:
        """(K,) how far it may have changed where it is bounded; 0 where it is free, which is not to be measured."""
        column = self.bounds[:, ORDER[aspect]]
        out: F64 = np.where(np.isinf(column), 0.0, column)
        return out

    def of(self, rows: AnyArray) -> Allowed:
        return Allowed(self.bounds[rows])


def uv_aspect(number: int, lightmap: int) -> Aspect:
    """The aspect that UV set `number` belongs to, with the lightmap in channel `lightmap`."""
    if number == 0:
        return Aspect.FIRST_UV
    return Aspect.LIGHTMAP_UV if number == lightmap else Aspect.FURTHER_UV


ORDER = {aspect: i for i, aspect in enumerate(Aspect)}
