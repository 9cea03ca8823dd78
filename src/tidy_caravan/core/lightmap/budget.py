"""Texel budgets: what maps parts get for a texel size, and the texel size that so many bytes are enough for.

A part's map holds its surface at the texel size, divided by its weight, with what islands leave empty; its size is one
that the destination takes. All sizes a part can have are steps of a stair; a budget takes the stairs one step at a time, those
that the coarsest texels need first.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Literal

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, Bool

Maps = Literal["square", "powers", "blocks"]
BLOCK = 4
"""Texels of a block that is compressed together, each way."""
LEAST = 16
"""Texels along the smallest map."""
FINEST, COARSEST = 1e-4, 1e3
"""Metres of a texel within which a budget is looked for."""
BARGAIN = 1.25
"""Coarser sizes up to this factor are looked at for bargains …"""
WORTH = 0.08
"""… that save this part of the bytes at least."""
MOST_BARGAINS, LOOKED_AT = 4, 24


@dataclass(frozen=True)
class Lit:
    """Parts that get light, as arrays of length P. area: m² of surface in the world. fill: part of its map that a part's
    islands cover. aspect: height by width of its map. weight: how much finer than the others. shows: how much it
    counts among equals when bytes are scarce. least: texels along its map that the padding was laid out for. fills, aspects:
    (P, S) both by the size of the map, in the order of `steps_of`, where they are known; 0 where islands do not fit."""

    area: F64
    fill: F64
    aspect: F64
    weight: F64
    shows: F64
    least: I64
    fills: F64 | None = None
    aspects: F64 | None = None

    def __len__(self) -> int:
        return len(self.area)

    def of(self, rows: Bool | I64) -> Lit:
        return Lit(**{f.name: v[rows] for f in fields(self) if (v := getattr(self, f.name)) is not None})


@dataclass(frozen=True)
class Limits:
    """What maps a destination takes, and what one texel weighs."""

    maps: Maps
    most: int
    bytes_per_texel: float
    least: int = LEAST


@dataclass(frozen=True)
class Budgeted:
    """size: (P, 2) texels of each part's map. texel: metres of a texel of weight 1. bytes: of all maps."""

    size: I64
    texel: float
    bytes: float

    def texels_of(self, lit: Lit) -> F64:
        """(P,) metres of a texel on each part, as its map really has them."""
        out: F64 = np.sqrt(lit.area / np.maximum(lit.fill * self.size.prod(axis=1), 1e-30))
        return out


def widths(lit: Lit, texel: F64 | float) -> F64:
    """(P,) texels along the maps at a texel size in metres, of any size."""
    wanted = texel / lit.weight
    out: F64 = np.sqrt(lit.area / np.maximum(lit.fill * lit.aspect, 1e-30)) / wanted
    return out


def at_texel(lit: Lit, texel: float, limits: Limits) -> Budgeted:
    """The maps of all parts at a texel size: the next larger size that there is. O(P)."""
    if lit.fills is None:
        size = sized(np.maximum(widths(lit, texel), lit.least), lit.aspect, limits)
    else:
        steps = steps_of(limits)
        good = (edges(lit, steps) <= texel * (1 + 1e-9)) & (steps >= lit.least[:, None])
        first = np.where(good.any(axis=1), good.argmax(axis=1), len(steps) - 1)
        size = sizes_of(lit, steps, limits)[np.arange(len(lit)), first]
    return Budgeted(size, texel, float(size.prod(axis=1).sum()) * limits.bytes_per_texel)


def sized(width: F64, aspect: F64, limits: Limits) -> I64:
    """(P, 2) the sizes that maps of so many texels along come in."""
    width = np.clip(width * (1 - 1e-9), 1.0, None)
    if limits.maps == "blocks":
        along = np.ceil(width / BLOCK) * BLOCK
        across = np.ceil(width * aspect / BLOCK) * BLOCK
    else:
        along = 2.0 ** np.ceil(np.log2(width))
        across = along if limits.maps == "square" else along * 2.0 ** np.round(np.log2(aspect))
    both = np.stack([along, np.maximum(across, BLOCK)], axis=1)
    out: I64 = np.clip(both, [limits.least, BLOCK if limits.maps != "square" else limits.least], limits.most).astype(
        np.int64
    )
    return out


def steps_of(limits: Limits) -> I64:
    """(S,) texels along the maps that there are, of blocks some of them."""
    if limits.maps == "blocks":
        count = max(1, limits.most // BLOCK)
        steps = np.unique(np.round(np.geomspace(1, count, min(count, 120)))).astype(np.int64) * BLOCK
    else:
        steps = 2 ** np.arange(int(np.log2(max(1, limits.most))) + 1)
    out: I64 = steps[steps >= limits.least]
    return out


def edges(lit: Lit, steps: I64) -> F64:
    """(P, S) metres of a texel of weight 1 that maps of those sizes are enough for; endless where islands do not fit. A larger
    map is never worse."""
    if lit.fills is None or lit.aspects is None:
        return widths(lit, 1.0)[:, None] / steps
    cover = lit.fills * lit.aspects
    one = np.sqrt(lit.area[:, None] / np.where(cover > 0, cover, np.nan)) * lit.weight[:, None] / steps
    return np.minimum.accumulate(np.where(np.isnan(one), np.inf, one), axis=1)


def sizes_of(lit: Lit, steps: I64, limits: Limits) -> I64:
    """(P, S, 2) the maps of all sizes."""
    aspect = np.repeat(lit.aspect, len(steps)) if lit.aspects is None else lit.aspects.reshape(-1)
    return sized(np.tile(steps, len(lit)).astype(np.float64), aspect, limits).reshape(len(lit), len(steps), 2)


def stairs(lit: Lit, limits: Limits) -> tuple[I64, F64, I64]:
    """Every size that parts can grow to from their least: (S,) part, (S,) texel size in metres at which it is wanted, the
    coarsest first, of equal ones what shows most; and (S, 2) the size. O(P · sizes · log)."""
    steps = steps_of(limits)
    # a size is wanted as soon as the one below it is too small
    texel = np.concatenate([np.full((len(lit), 1), np.inf), edges(lit, steps)[:, :-1]], axis=1)
    # what padding needs is there from the beginning
    texel[np.broadcast_to(steps, texel.shape) <= np.maximum(lit.least, limits.least)[:, None]] = np.inf
    part = np.repeat(np.arange(len(lit)), len(steps))
    size = sizes_of(lit, steps, limits).reshape(-1, 2)
    order = np.lexsort((-np.repeat(lit.shows, len(steps)), -np.round(np.log(texel.reshape(-1)), 9)))
    return part[order], texel.reshape(-1)[order], size[order]


def at_budget(lit: Lit, budget: float, limits: Limits) -> Budgeted:
    """The finest maps that so many bytes are enough for: stairs as far as they go, and then those of others that still
    fit, in their order. Less than the smallest maps of all cannot be had. O(P · sizes · log)."""
    if not len(lit):
        return Budgeted(np.zeros((0, 2), np.int64), 0.0, 0.0)
    part, texel, size = stairs(lit, limits)
    texels = size.prod(axis=1).astype(np.float64)
    steps = len(part) // len(lit)
    by_part = np.argsort(part, kind="stable")
    own = texels[by_part].reshape(len(lit), steps)
    grown = np.diff(own, axis=1, prepend=0.0).reshape(-1)
    cost = np.empty(len(part))
    cost[by_part] = grown
    cost *= limits.bytes_per_texel
    total = np.cumsum(cost)
    taken = total <= budget
    last = int(taken.sum())
    level = np.bincount(part[:last], minlength=len(lit))
    left = budget - (total[last - 1] if last else 0.0)
    if last < len(part):
        level, left = filled_up(part[last:], cost[last:], level, left, steps)
    given = np.bincount(part[np.isinf(texel)], minlength=len(lit))
    level = np.maximum(level, given)
    chosen = size[by_part].reshape(len(lit), steps, 2)[np.arange(len(lit)), level - 1]
    later = texel[last:][np.isfinite(texel[last:])]
    reached = float(later[0]) if len(later) else FINEST
    spent = float(chosen.prod(axis=1).sum()) * limits.bytes_per_texel
    return Budgeted(chosen, min(max(reached, FINEST), COARSEST), spent)


def filled_up(part: I64, cost: F64, level: I64, left: float, steps: int) -> tuple[I64, float]:
    """Steps of parts that still fit after the first that did not: each part's next one, in the order of the stairs, as many
    times over as there are any."""
    level = level.copy()
    order = np.argsort(part, kind="stable")
    begin = np.searchsorted(part[order], np.arange(len(level)))
    count = np.searchsorted(part[order], np.arange(len(level)), side="right") - begin
    gone = np.zeros(len(level), np.int64)
    while True:
        open_ = np.flatnonzero(gone < count)
        next_ = order[begin[open_] + gone[open_]]
        fits = cost[next_] <= left
        open_, next_ = open_[fits], next_[fits]
        if not len(open_):
            return np.minimum(level, steps), left
        for k in np.argsort(next_, kind="stable").tolist():
            price = float(cost[next_[k]])
            if price <= left:
                left -= price
                gone[open_[k]] += 1
                level[open_[k]] += 1


def too_small(lit: Lit, found: Budgeted, limits: Limits) -> Bool:
    """(P,) parts whose map is the largest that there is, and has coarser texels than they were to have."""
    longest: Bool = found.size.max(axis=1) == limits.most
    return longest & (found.texels_of(lit) > 1.001 * found.texel / lit.weight)


@dataclass(frozen=True)
class Bargain:
    """A coarser texel size near the wanted one that saves much."""

    texel: float
    coarser: float
    bytes: float
    saved: float


def bargains(lit: Lit, texel: float, limits: Limits) -> list[Bargain]:
    """Texel sizes a little coarser than the wanted one at which maps fit the next smaller size: how much coarser, and what part
    of the bytes they save; each better than the one before. O(P · sizes)."""
    now = at_texel(lit, texel, limits)
    if not len(lit) or now.bytes <= 0:
        return []
    _, wanted, _ = stairs(lit, limits)
    near = np.unique(wanted[np.isfinite(wanted) & (wanted > texel) & (wanted <= texel * BARGAIN)])
    if len(near) > LOOKED_AT:
        near = near[np.linspace(0, len(near) - 1, LOOKED_AT).astype(np.int64)]
    found: list[Bargain] = []
    best = WORTH
    for size in near.tolist():
        then = at_texel(lit, size * (1 + 1e-9), limits)
        saved = 1 - then.bytes / now.bytes
        if saved >= best + (0.05 if found else 0.0):
            found.append(Bargain(size, size / texel - 1, then.bytes, saved))
            best = saved
    return found[-MOST_BARGAINS:] if len(found) > MOST_BARGAINS else found
