"""What lightmaps weigh, as it is told: for a texel size or for so many bytes, before anything is laid out for them."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.conventions.destinations import CamelModel, Destination
from tidy_caravan.core.lightmap.budget import Lit as LitParts
from tidy_caravan.core.lightmap.budget import at_budget, at_texel, bargains, too_small
from tidy_caravan.core.lightmap.lit import ceilings, limits_of, lit_parts, weights_of
from tidy_caravan.core.lightmap.seen import unseen
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import I64, Bool
from tidy_caravan.core.selection import Assignment
from tidy_caravan.core.work.heavy import Workshop

LISTED = 40


class MapSize(CamelModel):
    """How many parts have a map of that size, and what those weigh."""

    width: int
    height: int
    maps: int
    bytes: float


class PartMap(CamelModel):
    """texelM: metres of a texel on the part. areaM2: its surface. fill: part of the map that its islands cover."""

    name: str
    source: int
    width: int
    height: int
    texel_m: float
    area_m2: float
    fill: float
    weight: float
    bytes: float


class Saving(CamelModel):
    """coarser: by what part the texel size grows. saved: what part of the bytes goes."""

    texel_m: float
    coarser: float
    bytes: float
    saved: float


class LightReport(CamelModel):
    """texelM: of a part of weight 1, as asked or as the bytes are enough for. least: bytes of the smallest maps that there
    are. unseen: parts that nobody seems to see, 0 where it was not asked for. guessed: parts without a set of coordinates yet, whose fill is a guess. tooSmall: parts whose map is
    the largest there is, and coarser than wanted."""

    maps: int
    texel_m: float
    bytes: float
    least: float
    finest_m: float
    coarsest_m: float
    fill: float
    ceilings: int
    unseen: int
    guessed: int
    too_small: int
    bytes_per_texel: float
    sizes: list[MapSize]
    dearest: list[PartMap]
    bargains: list[Saving]


@dataclass(frozen=True)
class Ask:
    """texel_m: metres of a texel of weight 1. megabytes: of all maps; then the texel size follows. ceiling: weight of flat
    parts above head height; unseen: of what nobody sees. largest: texels along the largest map."""

    texel_m: float = 0.05
    megabytes: float | None = None
    ceiling: float = 0.5
    unseen: float = 1.0
    largest: int = 2048


@dataclass(frozen=True)
class Lamp:
    """What a budget has to know of a scene: nodes that get a map, their figures, which of them are ceilings."""

    rows: I64
    lit: LitParts
    flat: Bool
    names: list[str]
    sources: I64
    destination: Destination
    hidden: Bool | None = None
    """Which of them nobody sees, once it was asked for."""

    @classmethod
    def of(cls, scene: Scene, destination: Destination, assignment: Assignment | None = None) -> Lamp:
        """One pass over the scene. O(parts + triangles of meshes)."""
        rows, lit = lit_parts(scene, destination, assignment)
        names = [scene.nodes.names[i] for i in rows.tolist()]
        return cls(rows, lit, ceilings(scene, rows), names, scene.nodes.source[rows], destination)

    def looked_for(self, scene: Scene, workshop: Workshop) -> Lamp:
        """The same, knowing which parts nobody sees; none where that could not be found out."""
        found = unseen(scene, self.rows, workshop)
        return replace(self, hidden=np.zeros(len(self.rows), np.bool_) if isinstance(found, str) else found)

    def report(self, ask: Ask) -> LightReport:
        """The maps for what is asked. O(parts · sizes · log)."""
        limits = limits_of(self.destination, ask.largest)
        coarse = self.flat & (self.lit.weight == 1) & (ask.ceiling != 1)
        hidden = np.zeros(len(self.lit), np.bool_) if self.hidden is None or ask.unseen == 1 else self.hidden
        hidden = hidden & (self.lit.weight == 1)
        weight = weights_of(self.lit.weight, coarse, hidden, ask.ceiling, ask.unseen)
        lit = replace(self.lit, weight=weight, least=np.zeros(len(self.lit), np.int64))
        by_bytes = ask.megabytes is not None
        done = (
            at_budget(lit, ask.megabytes * 1e6, limits)
            if ask.megabytes is not None
            else at_texel(lit, ask.texel_m, limits)
        )
        each, bytes_ = done.texels_of(lit), done.size.prod(axis=1) * limits.bytes_per_texel
        sizes = Counter(map(tuple, done.size.tolist()))
        top = np.argsort(-bytes_, kind="stable")[:LISTED].tolist()
        return LightReport(
            maps=len(lit),
            texel_m=done.texel,
            bytes=done.bytes,
            least=at_budget(lit, 0.0, limits).bytes,
            finest_m=float(each.min()) if len(lit) else 0.0,
            coarsest_m=float(each.max()) if len(lit) else 0.0,
            fill=float(np.average(lit.fill, weights=bytes_)) if len(lit) else 0.0,
            ceilings=int(coarse.sum()),
            unseen=int(hidden.sum()),
            guessed=int((self.lit.least == 0).sum()),
            too_small=int(too_small(lit, done, limits).sum()),
            bytes_per_texel=limits.bytes_per_texel,
            sizes=[
                MapSize(width=w, height=h, maps=n, bytes=n * w * h * limits.bytes_per_texel)
                for (w, h), n in sorted(sizes.items(), key=lambda s: -s[0][0] * s[0][1])
            ],
            dearest=[
                PartMap(
                    name=self.names[k], source=int(self.sources[k]), width=int(done.size[k, 0]),
                    height=int(done.size[k, 1]), texel_m=float(each[k]), area_m2=float(lit.area[k]),
                    fill=float(lit.fill[k]), weight=float(weight[k]), bytes=float(bytes_[k]),
                )
                for k in top
            ],
            bargains=[
                Saving(texel_m=b.texel, coarser=b.coarser, bytes=b.bytes, saved=b.saved)
                for b in ([] if by_bytes else bargains(lit, ask.texel_m, limits))
            ],
        )  # fmt: skip
