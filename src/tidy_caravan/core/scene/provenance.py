"""Where things of a result came from in the source, as arrays, and only where that is not one whole part.

A node tells the source node it came from (`Nodes.source`), one that was made of several tells all of them
(`Nodes.sources`). A mesh whose triangles are not simply those of the source part's mesh tells for each which one it
was, four to eight bytes a triangle.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.scene.arrays import I32, I64, U32, AnyArray, frozen

MADE = 2**32 - 1
"""Instead of a triangle's number: a step made it."""


@dataclass(frozen=True, eq=False)
class Origin:
    """For each of F triangles which one of the source it was.

    triangle: (F,) number in the mesh of the source part, MADE if there is none.
    member: (F,) which of the node's source parts, counted in `Nodes.sources`; None where all are of the first.
    """

    triangle: U32
    member: AnyArray | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "triangle", frozen(np.asarray(self.triangle, np.uint32)))
        if self.member is not None:
            object.__setattr__(self, "member", frozen(self.member))

    @classmethod
    def all_of(cls, triangles: int) -> Origin:
        """All triangles of one part, in order."""
        return cls(np.arange(triangles, dtype=np.uint32))

    def taken(self, rows: AnyArray) -> Origin:
        """Of the triangles `rows` (numbers or a mask) only."""
        return Origin(self.triangle[rows], None if self.member is None else self.member[rows])

    def where(self, rows: AnyArray) -> Origin:
        """Of the triangles `rows`, MADE where a row is MADE."""
        made = np.asarray(rows) == MADE
        taken = self.taken(np.where(made, 0, rows))
        return replace(taken, triangle=np.where(made, MADE, taken.triangle).astype(np.uint32))

    def through(self, later: Origin | None) -> Origin:
        """Of the triangles of a mesh that says itself which of these its own are; `later` None where they are all."""
        return self if later is None else self.where(later.triangle)

    def members(self) -> AnyArray:
        """(F,) which of the node's source parts."""
        return np.zeros(len(self.triangle), np.uint8) if self.member is None else self.member


def joined(origins: Sequence[Origin], counts: Sequence[int]) -> Origin:
    """Of parts that are put together in this order; counts: how many source parts each of them was made of."""
    kind = np.min_scalar_type(max(1, sum(counts)) - 1)
    first = np.concatenate([[0], np.cumsum(counts)[:-1]])
    members = [o.members().astype(np.int64) + f for o, f in zip(origins, first, strict=True)]
    return Origin(np.concatenate([o.triangle for o in origins]), np.concatenate(members).astype(kind))


@dataclass(frozen=True, eq=False)
class Touched:
    """Which steps of a route were for which node of the source.

    code: (S,) row of `steps`. steps: distinct combinations, as positions among the enabled steps.
    """

    code: I32
    steps: tuple[tuple[int, ...], ...] = ((),)

    def __post_init__(self) -> None:
        object.__setattr__(self, "code", frozen(np.asarray(self.code, np.int32)))

    @classmethod
    def none(cls, nodes: int) -> Touched:
        return cls(np.zeros(nodes, np.int32))

    def by(self, step: int, ids: I64) -> Touched:
        """The same after one more step, which was for the source nodes `ids`. O(S)."""
        new = np.zeros(len(self.code), np.bool_)
        new[ids[(ids >= 0) & (ids < len(new))]] = True
        found, code = np.unique(self.code * 2 + new, return_inverse=True)
        steps = [(*self.steps[c // 2], *([step] if c % 2 else [])) for c in found.tolist()]
        return replace(self, code=code.astype(np.int32), steps=tuple(steps))
