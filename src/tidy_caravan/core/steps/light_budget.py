"""Step: every part's own lightmap gets its size, for a texel size or for so many bytes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.stretched import as_it_looks, stretched_meshes
from tidy_caravan.core.lightmap.budget import (
    BLOCK,
    Budgeted,
    Limits,
    Lit,
    at_budget,
    at_texel,
    bargains,
    steps_of,
    too_small,
    widths,
)
from tidy_caravan.core.lightmap.lit import ceilings, limits_of, lit_parts, weights_of
from tidy_caravan.core.lightmap.seen import unseen
from tidy_caravan.core.lightmap.unwrap import RELAY, time_limit
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F32, I32, I64
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    replace_meshes,
    step,
)
from tidy_caravan.core.words import figure, plural
from tidy_caravan.core.work.heavy import Done, Piece, content_of
from tidy_caravan.core.work.isolation import Lost

BEGIN = 0.75
"""What a layout is taken to fill of its map as long as none is known."""
LISTED = 20
ROUNDS = 24
"""Times that sizes are asked for again, as layouts for them turn out otherwise."""


@step
class LightBudget(Step):
    """Chooses the size of each part's lightmap by its surface in the world, the weight of its set and the fill of its set of
    coordinates, in sizes that the destination takes; copies have light of their own. Where a map is smaller or larger than
    the one that its islands were laid out for, they are laid out anew, so that padding keeps its texels."""

    title = "Texel budget"
    summary = "Sizes of lightmaps for a texel size, or the finest that so many megabytes are enough for."

    phase = Phase.LIGHT

    kind: Literal["light_budget"] = "light_budget"
    by: Literal["texel", "megabytes"] = parameter(
        "texel", "By", "texel: a texel size; megabytes: what all maps may weigh"
    )
    texel_m: float = parameter(
        0.05, "Texel", "Edge of a lightmap texel on a part of weight 1", "m", only={"by": ["texel"]}, ge=0.0005, le=100
    )
    megabytes: float = parameter(
        64.0, "Megabytes", "Of all lightmaps together", "MB", only={"by": ["megabytes"]}, ge=0.001, le=1_000_000
    )
    ceilings: float = parameter(
        0.5, "Weight of ceilings", "Flat parts above head height are plain and far away; 1 treats them like the rest",
        "×", gt=0, le=10,
    )  # fmt: skip
    unseen: float = parameter(
        1.0, "Weight of what nobody sees",
        "Parts that neither a camera nor a walkable place sees, by rays; a guess. 1 treats them like the rest, and casts none",
        "×", gt=0, le=10,
    )  # fmt: skip
    largest: int = parameter(2048, "Largest map", "No map is longer", "texels", ge=16, le=8192)
    padding_texels: int = parameter(
        4, "Padding", "Least distance between islands at the size chosen", "texels", ge=1, le=64
    )
    on_blocks: bool = parameter(
        False, "Islands on blocks",
        "Where islands are laid out anew, none shares a block of 4 × 4 texels with another; for sizes of powers of two",
    )  # fmt: skip

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.LIGHTMAP_UV), Effect(Aspect.SHARING))

    def found(self, lit: Lit, limits: Limits, spent: float) -> Budgeted:
        """Maps for a texel size, or for what is left of the megabytes when so many bytes are spent."""
        if self.by == "texel":
            return at_texel(lit, self.texel_m, limits)
        return at_budget(lit, self.megabytes * 1e6 - spent, limits)

    def lit(self, scene: Scene, context: StepContext) -> tuple[I64, Lit, I64, I64, str]:
        """Nodes that get a map, what the budget has to know of them, those of them that are ceilings, those that nobody sees,
        and why that could not be found out."""
        rows, lit = lit_parts(scene, context.destination, context.assignment)
        mine = context.selected(self.where, scene)[rows]
        rows, lit = rows[mine], lit.of(mine)
        flat = ceilings(scene, rows) & (lit.weight == 1) & (self.ceilings != 1)
        hidden, failed = np.zeros(len(rows), np.bool_), ""
        if self.unseen != 1 and len(rows):
            found = unseen(scene, rows, context.workshop, context.progress)
            hidden, failed = (hidden, found) if isinstance(found, str) else (found & (lit.weight == 1), "")
        weight = weights_of(lit.weight, flat, hidden, self.ceilings, self.unseen)
        return rows, replace(lit, weight=weight), rows[flat], rows[hidden], failed

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        rows, lit, flat, hidden, failed = self.lit(scene, context)
        if not len(rows):
            return scene, []
        limits = limits_of(context.destination, self.largest)
        sheets = Sheets(scene, rows, lit, limits, self.padding_texels, context, BLOCK if self.on_blocks else 0)
        kept = sheets.chosen(lambda given, spent: self.found(given, limits, spent))
        out = sheets.scene_of()
        sizes = with_sizes(out, rows, kept.size)
        # other maps than before lie on no page yet
        page = np.where((sizes == out.nodes.lightmap).all(axis=1)[:, None], out.nodes.page, 0).astype(np.int32)
        nodes = replace(out.nodes, lightmap=sizes, page=page)
        changes = [*self.told(scene, rows, sheets.lit, kept, limits, flat), *sheets.told(kept.texel)]
        if len(hidden):
            text = f"{plural(len(hidden), 'part')} that no camera and no walkable place seems to see, at weight {self.unseen:g}"
            changes.append(Change(text=text, count=len(hidden), parts=identities_of(scene, hidden)))
        if failed:
            changes.append(Change(text=f"What nobody sees could not be found out: {failed}", count=0, problem=True))
        return out.but(nodes=nodes), changes

    def told(self, scene: Scene, rows: I64, lit: Lit, kept: Budgeted, limits: Limits, flat: I64) -> list[Change]:
        each = kept.texels_of(lit)
        sizes = Counter(map(tuple, kept.size.tolist()))
        most = ", ".join(f"{figure(n)} of {w} × {h}" for (w, h), n in sizes.most_common(3))
        text = (
            f"{plural(len(rows), 'lightmap')} of {kept.bytes / 1e6:.3g} MB, {100 * kept.texel:.3g} cm a texel wanted, "
            f"{100 * each.min():.3g} to {100 * each.max():.3g} cm as the maps have them; {most}"
        )
        changes = [Change(text=text, count=len(rows), parts=identities_of(scene, rows))]
        if self.by == "megabytes" and kept.bytes > self.megabytes * 1e6:
            over = f"{self.megabytes:g} MB are not enough for the smallest maps of {plural(len(rows), 'part')}: {kept.bytes / 1e6:.3g} MB"
            changes.append(Change(text=over, count=len(rows), problem=True))
        if (small := too_small(lit, kept, limits)).any():
            text = f"{plural(int(small.sum()), 'part has', 'parts have')} the largest map, {limits.most} texels, and coarser texels than wanted: cut them, or allow larger ones"
            changes.append(
                Change(text=text, count=int(small.sum()), problem=True, parts=identities_of(scene, rows[small]))
            )
        if len(flat):
            changes.append(
                Change(
                    text=f"{plural(len(flat), 'flat part')} above head height taken for ceilings, at weight {self.ceilings:g}",
                    count=len(flat), parts=identities_of(scene, flat),
                )
            )  # fmt: skip
        if self.by == "texel":
            for one in bargains(lit, self.texel_m, limits)[-1:]:
                text = f"{one.coarser:.0%} coarser ({100 * one.texel:.3g} cm) would save {one.saved:.0%} of the bytes"
                changes.append(Change(text=text, count=0))
        return changes


@dataclass(frozen=True)
class Laid:
    """A layout: width and height of its map, what it fills of it, and its coordinates (V, 2)."""

    wide: int
    high: int
    fill: float
    uv: F32


class Sheets:
    """The sets of coordinates of all lit parts' meshes, laid out for the maps that are asked for.

    What a layout fills of its map goes by the map's size: of every mesh the layouts are made that a choice hangs on, for
    the size that is chosen and the one below it, until all that it hangs on is known. What it begins with does not count,
    so that a second time finds the same.
    """

    def __init__(
        self, scene: Scene, rows: I64, lit: Lit, limits: Limits, padding: int, context: StepContext, step: int = 0
    ) -> None:
        self.scene, self.rows, self.limits, self.padding, self.context = scene, rows, limits, padding, context
        self.step = step
        self.channel = context.destination.lightmap_channel
        self.used, self.own = np.unique(scene.nodes.mesh[rows].astype(np.int64), return_inverse=True)
        """(M,) meshes, and (P,) which of them each part's is."""
        self.was = np.zeros((len(self.used), 2), np.int64)
        """Maps that the sets are laid out for; 0 where that is not known, and they stay."""
        sizes = scene.nodes.lightmap[rows].astype(np.int64)
        order = np.argsort(-sizes[:, 0], kind="stable")  # the smallest is written last
        self.was[self.own[order]] = sizes[order]
        self.was[[len(scene.meshes[i].uvs) <= self.channel for i in self.used.tolist()]] = 0
        # maps that other parts keep, which share a mesh with these: no set may be laid out for more than the least of them
        others = np.full(len(scene.meshes), np.iinfo(np.int64).max)
        rest = np.setdiff1d(np.flatnonzero((scene.nodes.mesh >= 0) & (scene.nodes.lightmap[:, 0] > 0)), rows)
        np.minimum.at(others, scene.nodes.mesh[rest], scene.nodes.lightmap[rest, 0].astype(np.int64))
        self.others = others[self.used]
        # what padding needs goes by the layouts, where they are made anew
        self.lit = replace(lit, least=np.where(self.was[self.own, 0] > 0, 0, lit.least))
        self.sizes = steps_of(limits)
        self.known: dict[tuple[int, int], Laid] = {}
        """By mesh of those used and width asked for."""
        self.stuck: dict[int, str] = {}
        """Meshes that cannot be laid out anew for any map up to the largest, and why; they keep what they have."""

    def chosen(self, found: Callable[[Lit, float], Budgeted]) -> Budgeted:
        """The sizes of all maps, once all layouts are known that they hang on; sets are laid out for the smallest.

        found: asked for what all but the stuck ones get, and told how many bytes these weigh."""
        stairs_of = self.as_laid if self.limits.maps == "blocks" else self.by_size
        smallest = np.full(len(self.used), np.iinfo(np.int64).max)
        for _ in range(ROUNDS):
            kept = self.with_stuck(found, stairs_of(smallest))
            smallest = self.others.copy()
            np.minimum.at(smallest, self.own, kept.size[:, 0])
            movable = np.flatnonzero((self.was[:, 0] > 0) & [i not in self.stuck for i in range(len(self.used))])
            asked = {(i, int(smallest[i])) for i in movable.tolist()}
            if self.limits.maps != "blocks":
                asked |= {(i, w // 2) for i, w in asked if w // 2 >= self.sizes[0]}
            asked -= self.known.keys()
            if not asked:
                break
            self.lay_out(sorted(asked))
        # a layout may need a larger map than what was known of it said
        laid = [self.known.get((i, width)) for i, width in enumerate(smallest.tolist())]
        self.floor = np.array([0 if one is None else one.wide for one in laid], np.int64)
        self.smallest = np.maximum(smallest, self.floor)
        last = replace(stairs_of(smallest), least=self.as_laid(smallest).least)
        self.lit = self.as_laid(smallest)
        return self.with_stuck(found, last)

    def with_stuck(self, found: Callable[[Lit, float], Budgeted], lit: Lit) -> Budgeted:
        """What is found for the others, and for stuck ones what they have."""
        stuck = np.isin(self.own, list(self.stuck))
        size = self.scene.nodes.lightmap[self.rows].astype(np.int64)
        spent = float(size[stuck].prod(axis=1).sum()) * self.limits.bytes_per_texel
        kept = found(lit.of(~stuck), spent)
        size[~stuck] = kept.size
        return Budgeted(size, kept.texel, kept.bytes + spent)

    def by_size(self, smallest: I64) -> Lit:
        """What a budget has to know, with what layouts for each size fill, as far as that is known, and guessed from the
        nearest otherwise. Beyond the smallest map of a mesh the others have the same layout."""
        fills, aspects = np.full((2, len(self.used), len(self.sizes)), np.nan)
        index = {int(width): k for k, width in enumerate(self.sizes)}
        for (i, width), laid in self.known.items():
            if (k := index.get(width)) is None:  # what parts beside these have
                continue
            fits = laid.wide == width
            fills[i, k], aspects[i, k] = (laid.fill, laid.high / laid.wide) if fits else (0.0, 1.0)
        current = np.zeros(len(self.used))
        current[self.own] = self.lit.fill
        shape = np.zeros(len(self.used))
        shape[self.own] = self.lit.aspect
        still = self.was[:, 0] == 0
        fills[still], aspects[still] = current[still, None], shape[still, None]
        for table, first in ((fills, np.full(len(self.used), BEGIN)), (aspects, shape)):
            for k in range(len(self.sizes) - 2, -1, -1):  # from the next larger one that is known
                table[:, k] = np.where(np.isnan(table[:, k]), table[:, k + 1], table[:, k])
            table[:, 0] = np.where(np.isnan(table[:, 0]), first, table[:, 0])
            for k in range(1, len(self.sizes)):
                below = np.where(table[:, k - 1] > 0, table[:, k - 1], first)
                table[:, k] = np.where(np.isnan(table[:, k]), below, table[:, k])
        at = np.minimum(np.searchsorted(self.sizes, smallest), len(self.sizes) - 1)[:, None]
        beyond = (np.arange(len(self.sizes)) > at) & (np.take_along_axis(fills, at, 1) > 0)
        fills = np.where(beyond, np.take_along_axis(fills, at, 1), fills)
        aspects = np.where(beyond, np.take_along_axis(aspects, at, 1), aspects)
        return replace(self.lit, fills=fills[self.own], aspects=aspects[self.own])

    def as_laid(self, smallest: I64) -> Lit:
        """What a budget has to know, as the layouts for those maps (M,) are."""
        fill = np.zeros(len(self.used))
        fill[self.own] = self.lit.fill
        aspect, least = np.zeros(len(self.used)), np.zeros(len(self.used), np.int64)
        aspect[self.own] = self.lit.aspect
        fill[(self.was[:, 0] > 0) & [i not in self.stuck for i in range(len(self.used))]] = BEGIN
        for i, width in enumerate(smallest.tolist()):
            if (laid := self.known.get((i, width))) is not None:
                fill[i], aspect[i], least[i] = laid.fill, laid.high / laid.wide, laid.wide
        return replace(self.lit, fill=fill[self.own], aspect=aspect[self.own], least=least[self.own])

    def lay_out(self, asked: list[tuple[int, int]]) -> None:
        """Lays out sets for maps of so many texels; those that nothing comes of stay as they are."""
        pieces = []
        stretched = stretched_meshes(self.scene)
        for i, width in asked:
            m = self.scene.meshes[self.used[i]]
            positions = as_it_looks(m, stretched.get(int(self.used[i])))
            arrays = {"positions": positions, "indices": m.indices, "uv": m.uvs[self.channel]}
            parameters = {
                "resolution": width, "padding": self.padding, "most": self.limits.most,
                "square": self.limits.maps == "square", "step": self.step,
            }  # fmt: skip
            pieces.append(Piece(content_of(arrays), arrays, parameters, time_limit(m.triangles), m.triangles))
        outcomes = self.context.workshop.do(RELAY, pieces, self.context.progress)
        for (i, width), outcome in zip(asked, outcomes, strict=True):
            if isinstance(outcome, Done) and outcome.arrays:
                f = outcome.figures
                laid = Laid(f["resolution"], f["height"], f["fill"], outcome.arrays["uv"])
                self.known[i, width] = self.known[i, laid.wide] = laid
            else:
                self.stuck[i] = outcome.reason if isinstance(outcome, Lost) else str(outcome.figures["why"])

    def scene_of(self) -> Scene:
        made: dict[int, Mesh] = {}
        for i, width in enumerate(self.smallest.tolist()):
            laid = self.known.get((i, width))
            # what came out as it was is left as it was
            if laid is not None and i not in self.stuck and (laid.wide, laid.high) != tuple(self.was[i].tolist()):
                mesh = int(self.used[i])
                m = self.scene.meshes[mesh]
                sets = tuple(laid.uv if k == self.channel else own for k, own in enumerate(m.uvs))
                made[mesh] = replace(m, uvs=sets)
        return replace_meshes(self.scene, np.flatnonzero(np.isin(self.scene.nodes.mesh, list(made))), made)[0]

    def told(self, texel: float) -> list[Change]:
        out = []
        for i, why in list(self.stuck.items())[:LISTED]:
            mesh, parts = self.scene.meshes[self.used[i]], self.rows[self.own == i]
            text = f"“{mesh.name or mesh.id[:8]}” keeps its map of {self.was[i, 0]} × {self.was[i, 1]} texels: {why}"
            out.append(Change(text=text, count=len(parts), problem=True, parts=identities_of(self.scene, parts)))
        stayed = self.rows[widths(self.lit, texel) < 0.499 * self.floor[self.own]]
        if not len(stayed):
            return out
        text = f"{plural(len(stayed), 'part needs', 'parts need')} a larger map than asked for: their islands do not fit a smaller one with {self.padding} texels between them"
        return [*out, Change(text=text, count=len(stayed), parts=identities_of(self.scene, stayed))]


def with_sizes(scene: Scene, rows: I64, size: I64) -> I32:
    """(N, 2) the sizes of all parts' maps, with those of some rows anew."""
    out = scene.nodes.lightmap.copy()
    out[rows] = size
    return out
