"""Step: every part's own lightmap gets its size, for a texel size or for so many bytes."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.lightmap.budget import (
    BLOCK,
    Budgeted,
    Limits,
    Lit,
    at_budget,
    at_texel,
    bargains,
    too_small,
    widths,
)
from tidy_caravan.core.lightmap.lit import ceilings, limits_of, lit_parts, weights_of
from tidy_caravan.core.lightmap.seen import unseen
from tidy_caravan.core.lightmap.unwrap import RELAY, time_limit
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import I32, I64
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
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Done, Piece

ROUNDS = 5
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
    texel_m: float = parameter(0.05, "Texel", "Edge of a lightmap texel on a part of weight 1", "m", ge=0.0005, le=100)
    megabytes: float = parameter(64.0, "Megabytes", "Of all lightmaps together", "MB", ge=0.001, le=1_000_000)
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

    def found(self, lit: Lit, limits: Limits) -> Budgeted:
        return (
            at_texel(lit, self.texel_m, limits) if self.by == "texel" else at_budget(lit, self.megabytes * 1e6, limits)
        )

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
        for _ in range(ROUNDS):
            kept = self.found(sheets.lit, limits)
            if not sheets.laid_out_for(kept.size[:, 0]):
                break
        kept = self.found(sheets.within(), limits)
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
        most = ", ".join(f"{n} of {w} × {h}" for (w, h), n in sizes.most_common(3))
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


class Sheets:
    """The sets of coordinates of all lit parts' meshes, laid out for the maps that are asked for."""

    def __init__(
        self, scene: Scene, rows: I64, lit: Lit, limits: Limits, padding: int, context: StepContext, step: int = 0
    ) -> None:
        self.scene, self.rows, self.limits, self.padding, self.context = scene, rows, limits, padding, context
        self.step = step
        self.channel = context.destination.lightmap_channel
        self.mesh = scene.nodes.mesh[rows].astype(np.int64)
        count = len(scene.meshes)
        self.now = np.zeros((count, 2), np.int64)
        """Maps that the sets are laid out for, by mesh; 0 where that is not known, and they stay."""
        sizes = scene.nodes.lightmap[rows]
        order = np.argsort(-sizes[:, 0], kind="stable")  # the smallest is written last
        self.now[self.mesh[order]] = sizes[order]
        self.was = self.now.copy()
        # maps that other parts keep, which share a mesh with these: no set may be laid out for more than the least of them
        self.others = np.full(count, np.iinfo(np.int64).max)
        rest = np.setdiff1d(np.flatnonzero((scene.nodes.mesh >= 0) & (scene.nodes.lightmap[:, 0] > 0)), rows)
        np.minimum.at(self.others, scene.nodes.mesh[rest], scene.nodes.lightmap[rest, 0].astype(np.int64))
        self.floor = np.zeros(count, np.int64)
        """Maps that are known to be the smallest that a mesh's islands fit."""
        self.made: dict[int, Mesh] = {}
        self.fill = np.zeros(count)
        self.fill[self.mesh] = lit.fill
        self.lit = replace(lit, least=self.floor[self.mesh])

    def laid_out_for(self, width: I64) -> bool:
        """Lays out every mesh for the smallest map (P,) that any of its parts gets; whether one did not fit, or its map got
        another shape, so that sizes have to be asked for again."""
        smallest = self.others.copy()
        np.minimum.at(smallest, self.mesh, width)
        used = np.unique(self.mesh)
        waiting = [
            i
            for i in used[(self.now[used, 0] > 0) & (smallest[used] != self.now[used, 0])].tolist()
            if len(self.scene.meshes[i].uvs) > self.channel
        ]
        pieces = []
        for i in waiting:
            m = self.scene.meshes[i]
            arrays = {"positions": m.positions, "indices": m.indices, "uv": m.uvs[self.channel]}
            parameters = {
                "resolution": int(smallest[i]), "padding": self.padding, "most": self.limits.most,
                "square": self.limits.maps == "square", "step": self.step,
            }  # fmt: skip
            pieces.append(Piece(f"{m.id} {self.channel}", arrays, parameters, time_limit(m.triangles), m.triangles))
        before = self.now.copy(), self.fill.copy()
        for i, outcome in zip(waiting, self.context.workshop.do(RELAY, pieces, self.context.progress), strict=True):
            if isinstance(outcome, Done) and outcome.arrays:
                m = self.scene.meshes[i]
                sets = tuple(outcome.arrays["uv"] if k == self.channel else own for k, own in enumerate(m.uvs))
                self.made[i] = replace(m, uvs=sets)
                self.now[i] = outcome.figures["resolution"], outcome.figures["height"]
                self.fill[i] = outcome.figures["fill"]
                if self.now[i, 0] > smallest[i]:
                    self.floor[i] = self.now[i, 0]
            else:  # what it has is what fits
                self.floor[i] = self.now[i, 0]
        aspect = self.now[:, 1] / np.maximum(self.now[:, 0], 1)
        known = self.now[self.mesh, 0] > 0
        self.lit = replace(
            self.lit,
            fill=self.fill[self.mesh],
            aspect=np.where(known, aspect[self.mesh], self.lit.aspect),
            least=self.floor[self.mesh],
        )
        return bool((before[0] != self.now).any() or (before[1] != self.fill).any())

    def within(self) -> Lit:
        """What a budget has to know, with maps never smaller than those that the sets are laid out for."""
        return replace(self.lit, least=np.maximum(self.lit.least, self.now[self.mesh, 0]))

    def scene_of(self) -> Scene:
        # what came out as it was is left as it was
        self.made = {i: m for i, m in self.made.items() if (self.now[i] != self.was[i]).any()}
        return replace_meshes(self.scene, np.flatnonzero(np.isin(self.scene.nodes.mesh, list(self.made))), self.made)[0]

    def told(self, texel: float) -> list[Change]:
        stayed = self.rows[widths(self.lit, texel) < 0.999 * self.floor[self.mesh]]
        if not len(stayed):
            return []
        text = f"{plural(len(stayed), 'part needs', 'parts need')} a larger map than asked for: their islands do not fit a smaller one with {self.padding} texels between them"
        return [Change(text=text, count=len(stayed), parts=identities_of(self.scene, stayed))]


def with_sizes(scene: Scene, rows: I64, size: I64) -> I32:
    """(N, 2) the sizes of all parts' maps, with those of some rows anew."""
    out = scene.nodes.lightmap.copy()
    out[rows] = size
    return out
