"""What is known of the meshes of a scene, a column for each fact, made from those of a scene with mostly the same meshes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import repeat
from operator import call
from typing import Any
from weakref import ref

import numpy as np

from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import I64, AnyArray, Bool, frozen


@dataclass
class Columns:
    """Facts of M meshes. meshes: which they are, held weakly: to know them again must not keep them.

    every: by mesh all that is known of it by the fact's name, None where nothing is. unasked: those in use of which nothing
    is known yet; what is found of them is put into `every` before a column is asked for. rows, before: where a mesh stood
    in the columns of the scene before, -1 for none.
    """

    meshes: list[ref[Mesh]]
    every: list[dict[str, Any] | None]
    unasked: list[int]
    rows: I64
    before: Columns | None = None
    _told: dict[str, list[Any]] = field(default_factory=dict)
    _numbers: dict[str, AnyArray] = field(default_factory=dict)

    @classmethod
    def of(cls, meshes: Sequence[Mesh], used: Bool, before: Columns | None) -> Columns:
        """used: (M,) whether a part uses it; nothing is said of the others."""
        every: list[dict[str, Any] | None] = [None] * len(meshes)
        rows = np.full(len(meshes), -1)
        if before is not None and meshes:
            rows = before.places(meshes)
            every = [before.every[row] if row >= 0 else None for row in rows.tolist()]
            for i in np.flatnonzero(~used).tolist():
                every[i] = None
            before.before = None  # only the last one is looked at
        unasked = [i for i in np.flatnonzero(used).tolist() if every[i] is None]
        rows[unasked] = -1
        rows[~used] = -1
        return cls(list(map(ref, meshes)), every, unasked, rows, before)

    def places(self, meshes: Sequence[Mesh]) -> I64:
        """(N,) where the very same meshes stand here, -1 for those that do not."""
        here = list(map(call, self.meshes))  # they live as long as they are looked for, and no other gets their number
        row = dict(zip(map(id, here), range(len(here)), strict=True))
        return np.fromiter(map(row.get, map(id, meshes), repeat(-1)), np.int64, len(meshes))

    def told(self, name: str) -> list[Any]:
        """(M) a fact, None where it is not known."""
        if name not in self._told:
            old = self.before._told.get(name) if self.before is not None else None
            out = list(map(old.__getitem__, self.rows.tolist())) if old else [None] * len(self.every)
            for i in self._fresh if old else range(len(out)):
                found = self.every[i]
                out[i] = None if found is None else found[name]
            self._told[name] = out
        return self._told[name]

    def numbers(self, name: str) -> AnyArray:
        """(M,) a fact that is a number; 0 where there is none."""
        if name not in self._numbers:
            old = self.before._numbers.get(name) if self.before is not None else None
            told = self.told(name)
            if old is None or not len(old):
                out = np.array([found or 0 for found in told])
            else:
                fresh = np.array([told[i] or 0 for i in self._fresh])
                out = old[self.rows].astype(np.result_type(old, fresh) if len(fresh) else old.dtype)
                out[self._fresh] = fresh
            self._numbers[name] = frozen(out)
        return self._numbers[name]

    @cached_property
    def _fresh(self) -> list[int]:
        return np.flatnonzero(self.rows < 0).tolist()
