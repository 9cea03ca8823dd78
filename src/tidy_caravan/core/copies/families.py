"""Families of meshes that are one shape in several places: by figures that no placement changes, then laid on each other.

The work is done over meshes of one kind (as many vertices and triangles, the same data on them) at once.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from tidy_caravan.core.copies.batch import Batch, Normal, clusters, figures, normal_form, unstacked
from tidy_caravan.core.copies.laid import Allowed, Laid, laid
from tidy_caravan.core.copies.placing import placing
from tidy_caravan.core.scene.arrays import F64, I32, I64, AnyArray, Bool
from tidy_caravan.core.work.heavy import Work

LOADS = ("scipy.sparse.csgraph", "scipy.spatial")
COPIES = Work("found copies", 6, f"{__name__}:copies_among", memory=6 << 30)
FIGURES = Work("figures of copies", 1, f"{__name__}:figures_alone", native=False, figures_only=True)
STRICTER = 1.001
"""Times what one may be off, for its size, from which on another is the more lenient of two."""
MOST_DESERTED = 200
"""Heads of a cluster without copies left that are laid on the others once more."""
MOST_IN_VAIN = 60
"""Times that a mesh of a cluster is laid on another in vain, on average, before the rest of it is left."""
PROBE = 12
"""Meshes that one is laid on before it is laid on all that are like it."""
FEW = 64
"""Others like a mesh from which on it is taken to have a copy among them."""
TELLING = 6
"""Figures by which those next to each other are looked for; more of them cost the search more than they tell."""
SAMPLE = 2000
"""Meshes by which those figures are chosen."""
CHUNK = 1 << 22
"""Numbers that are compared together."""
EXACT = 1 / 8
"""Part of what may be off below which a copy is one of this mesh and no other."""
SCALES = ("none", "uniform", "per_axis")


@dataclass
class Family:
    """members: rows of the batch, the one that the others were laid on first. linear, place: from that to each. vertices,
    triangles: (K, V), (K, F) of each those that lie on the first's."""

    members: I64
    linear: F64
    place: F64
    vertices: I32
    triangles: I32

    @classmethod
    def each(cls, rows: I64, batch: Batch) -> list[Family]:
        """One of each alone."""
        own = Laid.none(1, batch.points.shape[1], batch.faces.shape[1])
        return [cls(rows[k : k + 1], own.linear, own.place, own.vertices, own.triangles) for k in range(len(rows))]

    def with_(self, members: I64, result: Laid, fits: I64) -> Family:
        """With those that were found to fit."""
        return Family(
            np.concatenate([self.members, members]),
            np.concatenate([self.linear, result.linear[fits]]),
            np.concatenate([self.place, result.place[fits]]),
            np.concatenate([self.vertices, result.vertices[fits]]),
            np.concatenate([self.triangles, result.triangles[fits]]),
        )


@dataclass
class Found:
    families: list[Family] = field(default_factory=list)
    vain: int = 0
    """Meshes that were left without having been laid on all that they are like."""


def families_of(batch: Batch, allowed: Allowed) -> Found:
    """Families of two meshes at least."""
    found = Found()
    # copies that were scaled alike along all axes are found by sturdier figures than others
    first = Allowed("uniform" if allowed.per_axis else allowed.scale, allowed.mirror, allowed.up)
    whole = np.arange(len(batch))
    grown = grouped(batch, whole, first, found)
    if allowed.per_axis:
        heads = np.array([f.members[0] for f in grown], np.int64)
        for family in grouped(batch, heads, allowed, found):
            chosen = [int(np.flatnonzero(heads == m)[0]) for m in family.members]
            found.families.append(joined([grown[c] for c in chosen], family))
    else:
        found.families = grown
    found.families = [f for f in found.families if len(f.members) > 1]
    return found


def joined(families: list[Family], heads: Family) -> Family:
    """One family of several, whose heads were laid on the first of them."""
    one = heads
    return Family(
        np.concatenate([f.members for f in families]),
        np.concatenate([f.linear @ a for f, a in zip(families, one.linear, strict=True)]),
        np.concatenate([f.linear @ p + f.place for f, p in zip(families, one.place, strict=True)]),
        np.concatenate([f.vertices[:, v] for f, v in zip(families, one.vertices, strict=True)]),
        np.concatenate([f.triangles[:, t] for f, t in zip(families, one.triangles, strict=True)]),
    )


def grouped(batch: Batch, rows: I64, allowed: Allowed, found: Found) -> list[Family]:
    """Every one of the rows in a family, some alone, as they can be laid on each other."""
    some = batch.of(rows)
    normal = normal_form(some, allowed.per_axis)
    values, spare = figures(some, normal)
    label = clusters(values, spare)
    label[~normal.usable] = -1 - np.arange(int((~normal.usable).sum()))
    order = np.argsort(label, kind="stable")
    edges = np.flatnonzero(np.concatenate([[True], np.diff(label[order]) != 0, [True]]))
    alone = order[edges[:-1][np.diff(edges) == 1]]
    out = Family.each(rows[alone], batch)
    for begin, end in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
        if end - begin < 2:
            continue
        cluster = some.of(order[begin:end])
        forms = normal.of(order[begin:end])
        own, vain = in_cluster(cluster, forms, values[order[begin:end]], spare[order[begin:end]], allowed)
        found.vain += vain
        out += [replace(f, members=rows[order[begin:end][f.members]]) for f in own]
    return out


def in_cluster(batch: Batch, normal: Normal, values: F64, spare: F64, allowed: Allowed) -> tuple[list[Family], int]:
    """Families among meshes whose figures run into each other, and how many were left without having been laid on all
    that they are like. Only meshes whose own figures agree are laid on each other."""
    along, begins, ends = windows(values, spare)
    radii, blur = radii_of(normal)
    lonely = like_none(values[along], spare[along], radii[along], blur[along])
    # what fits only about is held for a head that it fits better, which the first may have been near to by chance
    waiting, held = ~lonely, np.full(len(along), np.inf)
    of_held = np.full(len(along), -1, np.int64)
    out: list[tuple[Family, Laid, I64]] = []
    # a head without copies may itself be one of a later head that may be off less for its size
    single, strict, heads = np.zeros(len(along), np.bool_), normal.blur[along], []
    spent, budget, left = 0, MOST_IN_VAIN * len(along) + 1000, 0
    first = np.argsort(heads_last(values[along], spare[along], normal.of(along), allowed), kind="stable").tolist()
    later = np.zeros(len(along), np.bool_)
    queue = deque(first)
    while queue:
        k = queue.popleft()
        if not waiting[k] or of_held[k] >= 0:
            continue
        head = along[k : k + 1]
        waiting[k] = False
        window = slice(begins[k], ends[k])
        places = begins[k] + np.flatnonzero(
            waiting[window] | (single[window] & (strict[window] > STRICTER * strict[k]))
        )
        asked = along[places]
        near = may_be_copies(values, spare, radii, blur, asked, np.full(len(asked), along[k]))
        asked, places = asked[near], places[near]
        if len(asked) > 4 * PROBE and not later[k]:
            # one of which a few others are no copies is a near twin of many, and has its turn when those are told
            few = asked[np.linspace(0, len(asked) - 1, PROBE).astype(np.int64)]
            if not laid(batch.of(head), normal.of(head), batch.of(few), normal.of(few), allowed).fits.any():
                later[k] = waiting[k] = True
                queue.append(k)
                continue
        if spent > budget:
            left += 1
            asked, places = asked[:0], places[:0]
        result = laid(batch.of(head), normal.of(head), batch.of(asked), normal.of(asked), allowed)
        fits = np.flatnonzero(result.fits)
        spent += len(asked) - len(fits)
        result, places = result.of(fits), places[fits]
        rest = result.off / batch.far[asked[fits]]
        better = np.flatnonzero(rest < held[places])
        held[places[better]], of_held[places[better]] = rest[better], len(out)
        waiting[places[better[rest[better] <= EXACT]]] = False
        single[places], single[k] = False, not len(fits)
        heads.append(k)
        out.append((Family.each(head, batch)[0], result, places))
    # a head whose copies all went to better ones may be a copy of another head itself
    held_by, at = np.bincount(of_held[of_held >= 0], minlength=len(out)), np.array(heads, np.int64)
    deserted = [n for n, k in enumerate(heads) if not held_by[n] and of_held[k] < 0 and len(out[n][2])]
    for n in deserted[:MOST_DESERTED]:
        k, one = heads[n], along[at[n : n + 1]]
        like = (np.abs(values[along[at]] - values[one]) <= spare[along[at]] + spare[one]).all(axis=1)
        for m in np.flatnonzero(like & (at != k)).tolist():
            if held_by[n] or of_held[heads[m]] >= 0:
                continue
            head = along[at[m : m + 1]]
            again = laid(batch.of(head), normal.of(head), batch.of(one), normal.of(one), allowed)
            if again.fits[0]:
                of_held[k] = len(out)
                held_by[m] += 1
                heads.append(heads[m])
                out.append((out[m][0], again, np.array([k])))
                break
    grown: dict[int, Family] = {}
    for n, (family, result, places) in enumerate(out):
        if of_held[heads[n]] < 0:
            mine = np.flatnonzero(of_held[places] == n)
            grown[heads[n]] = grown.get(heads[n], family).with_(along[places[mine]], result, mine)
    return [*grown.values(), *Family.each(along[lonely], batch)], left


def windows(values: F64, spare: F64) -> tuple[I64, I64, I64]:
    """(N,) rows along the figure that tells them best, and (N,) each where the window begins and ends that those lie in
    which may be copies."""
    column = int(np.argmax(np.ptp(values, axis=0) / spare.mean(axis=0)))
    along = np.argsort(values[:, column], kind="stable")
    reach = 2 * float(spare[:, column].max())
    begins = np.searchsorted(values[along, column], values[along, column] - reach)
    ends = np.searchsorted(values[along, column], values[along, column] + reach, side="right")
    return along, begins, ends


def radii_of(normal: Normal) -> tuple[F64, F64]:
    """(N, V) how far the vertices lie from the middle, least first, and (N,) by how much those of a copy may differ: cheap,
    and few that are none agree in that."""
    return np.sort(np.linalg.norm(normal.points, axis=2), axis=1), 2 * normal.blur + 1e-6


def like_others(values: F64, spare: F64, radii: F64, blur: F64) -> Bool:
    """(N,) rows that another may be a copy of, by figures (N, K) and radii (N, V), those of one cluster; all of them where most
    are like the next one, and to look closer costs as much as to lay them on each other."""
    along = windows(values, spare)[0]
    near = may_be_copies(values, spare, radii, blur, along[1:], along[:-1])
    if 2 * near.sum() >= len(along):
        return np.ones(len(along), np.bool_)
    alike = np.zeros(len(along), np.bool_)
    alike[along[1:][near]] = alike[along[:-1][near]] = True
    return ~like_none(values, spare, radii, blur, alike)


def like_none(values: F64, spare: F64, radii: F64, blur: F64, alike: Bool | None = None) -> Bool:
    """(N,) meshes of one cluster of which no other can be a copy. alike: (N,) those that are known to be like another.

    Each is asked about those next to it by the figures that tell most beside each other (columns that are pivots of a QR
    decomposition: Golub, 1965); one that has more than FEW of them within reach is taken to be like one of these.
    O(FEW · N log N).
    """
    out = np.zeros(len(values), np.bool_) if alike is None else alike.copy()
    size = np.floor(np.log2(blur / blur.min())).astype(np.int64)
    kinds = [np.flatnonzero(size == k) for k in np.unique(size).tolist()]
    for rows in kinds:
        for others in kinds:
            asked_nearest(values, spare, radii, blur, rows[~out[rows]], others, out)
    return ~out


def asked_nearest(values: F64, spare: F64, radii: F64, blur: F64, rows: I64, others: I64, out: Bool) -> None:
    """Notes in out (N,) which of the rows, and of the others, may be copies of each other. Each of both kinds may be off about
    as much as the rest of it: what may be off much does not widen the search for what may not."""
    if not len(rows) or not len(others):
        return
    from scipy.linalg import qr  # dear to load, and few scenes have so many meshes of one kind
    from scipy.spatial import cKDTree

    far = np.append(spare[rows].max(axis=0) + spare[others].max(axis=0), blur[rows].max() + blur[others].max())
    sample = others[:: max(1, len(others) // SAMPLE)]
    scale = np.concatenate([far[:-1], np.full(radii.shape[1], far[-1])])
    every = np.concatenate([values[sample], radii[sample]], axis=1) / scale
    telling = qr(every - every.mean(axis=0), mode="r", pivoting=True)[1][:TELLING]

    def scaled(some: I64) -> F64:
        picked = [values[some, k] if k < values.shape[1] else radii[some, k - values.shape[1]] for k in telling]
        table: F64 = np.column_stack(picked) / scale[telling]
        return table

    tree = cKDTree(scaled(others))
    most = min(FEW, len(others))
    for count in sorted({min(FEW // 8, most), most}):
        portions = int(np.ceil(len(rows) * count * (radii.shape[1] + 1) / CHUNK))
        full = []
        for some in np.array_split(rows, portions) if portions else []:
            _, at = tree.query(scaled(some), k=np.arange(1, count + 1), distance_upper_bound=1 + 1e-9, p=np.inf)
            found = np.append(others, -1)[at]
            there = (found >= 0) & (found != some[:, None])
            one, two = np.repeat(some, there.sum(axis=1)), found[there]
            near = may_be_copies(values, spare, radii, blur, one, two)
            out[one[near]] = out[two[near]] = True
            full.append(some[(found >= 0).all(axis=1)])
        rows = np.concatenate([rows[:0], *full])
        rows = rows[~out[rows]]
    if most < len(others):
        out[rows] = True


def may_be_copies(values: F64, spare: F64, radii: F64, blur: F64, one: I64, other: I64) -> Bool:
    """(P,) pairs of rows whose figures and radii agree."""
    out = np.asarray((np.abs(values[one] - values[other]) <= spare[one] + spare[other]).all(axis=1))
    left = np.flatnonzero(out)  # few pairs are left after the figures
    one, other = one[left], other[left]
    out[left] = np.abs(radii[one] - radii[other]).max(axis=1, initial=0.0) <= blur[one] + blur[other]
    return out


def heads_last(values: F64, spare: F64, normal: Normal, allowed: Allowed) -> F64:
    """(N,) by which a mesh is tried late as a head: first where most have the very same figures, so that near twins do not
    gather the copies of another; then what has three different widths, which says along which axes copies are stretched;
    then what may be off the least for its size, since smaller ones may be laid on it that it could not be laid on."""
    cells = np.rint(values / np.maximum(np.median(spare, axis=0) / 4, 1e-12))
    _, cell, times = np.unique(cells, axis=0, return_inverse=True, return_counts=True)
    order = -times[cell.reshape(-1)].astype(np.float64)
    gap = np.zeros(len(order))
    if allowed.per_axis:
        width = np.linalg.norm(normal.shape, axis=1)
        gap = np.minimum(width[:, 1] / width[:, 0], width[:, 2] / width[:, 1])
    out: F64 = np.empty(len(order))
    out[np.lexsort((normal.blur, -gap, order))] = np.arange(len(order))
    return out


def figures_alone(arrays: Mapping[str, AnyArray], far: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: the figures of one mesh that no turn, mirror or size changes, and how far those of a copy may be off. far: a part
    of what the outcome hangs on, and in the arrays."""
    batch = unstacked(arrays)
    normal = normal_form(batch, per_axis=False)
    values, spare = figures(batch, normal)
    return {}, {"values": values[0].tolist(), "spare": spare[0].tolist(), "usable": bool(normal.usable[0])}


def copies_among(
    arrays: Mapping[str, AnyArray], scale: str, mirror: bool, up: list[float]
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: families among meshes of one kind. Gives (K,) mesh and family of every member, the head of each family first,
    (K, 4, 4) from the family's prototype to it, (K,) how far a corner is off, (K, F) materials of the head's triangles and
    which of its own lies on each of them; and (families, 4, 4) from the head to the prototype."""
    batch = unstacked(arrays)
    allowed = Allowed(scale, mirror, np.array(up, np.float64))
    found = families_of(batch, allowed)
    frames, number = [], 0
    out: dict[str, list[AnyArray]] = {name: [] for name in ("mesh", "family", "matrix", "off", "slots", "triangles")}
    for family in found.families:
        targets = batch.points[family.members[:, None], family.vertices]
        placed = placing(targets, family.linear, family.place, batch.far[family.members], allowed.up, allowed.per_axis)
        good = np.flatnonzero(placed.good)
        if len(good) < 2 or good[0] != 0:
            continue
        out["mesh"].append(family.members[good])
        out["family"].append(np.full(len(good), number))
        out["matrix"].append(placed.matrices[good])
        out["off"].append(placed.off[good])
        out["slots"].append(
            np.take_along_axis(batch.slots[family.members[good]], family.triangles[good], axis=1).astype(np.int32)
        )
        out["triangles"].append(family.triangles[good])
        frames.append(placed.frame)
        number += 1
    if not number:
        return {}, {"vain": found.vain}
    return {**{k: np.concatenate(v) for k, v in out.items()}, "frame": np.stack(frames)}, {"vain": found.vain}
