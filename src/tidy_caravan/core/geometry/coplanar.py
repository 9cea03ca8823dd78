"""Triangles that lie on each other: candidates by normal and box, then the area of their overlap.

Two surfaces that lie in one plane and look the same way are drawn at the same depth, and flicker. Candidates are found
by sorting, never by comparing all with all; the overlap is clipped exactly.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.normals import frame_across
from tidy_caravan.core.scene.arrays import F64, I64, Bool, ranges

ANGLE = np.radians(0.1)
"""Two planes are one below this angle between them."""
CELL = 0.004
"""Edge of the cells that unit normals are sorted into; more than twice the angle."""
FEW = 160
"""Triangles up to which each is compared with each."""
LONG_RUN = 256
"""Candidates of one key from which on they are looked up by place."""
CHUNK = 1 << 21


@dataclass(frozen=True)
class Flat:
    """Triangles to be compared. corners: (T, 3, 3). group: (T,) only triangles of one group are compared. side: (T,) 0
    or 1, of the larger and the smaller thing; only those of different sides are, all of them where it is None. two_sided: (T,)
    drawn from both sides."""

    corners: F64
    group: I64
    side: I64 | None
    two_sided: Bool


@dataclass(frozen=True)
class Overlaps:
    """(K,) pairs: first and second triangle, area that both cover, how far the planes are apart there, and (K, 3) the
    middle of the overlap."""

    first: I64
    second: I64
    area: F64
    distance: F64
    middle: F64

    def some(self, rows: Bool | I64) -> Overlaps:
        """Those of rows, as a mask (K,) or numbers."""
        return Overlaps(self.first[rows], self.second[rows], self.area[rows], self.distance[rows], self.middle[rows])


def overlapping(flat: Flat, apart: F64, width: F64) -> Overlaps:
    """Pairs of triangles that lie on each other. apart: (T,) distance of planes below which they are one. width: (T,)
    overlaps narrower than that are seams, not overlaps. O(T log T) plus the pairs of like normal and place."""
    corners = flat.corners
    vectors = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    doubled = np.linalg.norm(vectors, axis=1)
    longest = longest_of(corners[:, [1, 2, 0]] - corners)
    # what is thinner than the seams has no normal to speak of
    usable = doubled > width * longest
    normals = vectors / np.where(doubled > 0, doubled, 1.0)[:, None]
    low, high = boxes_of(corners)
    low -= apart[:, None]
    high += apart[:, None]
    found = [candidates(flat, normals, low, high, np.flatnonzero(usable), opposed=False)]
    if flat.two_sided.any():
        # back to back: a thing that shows its back lies before a larger one, or both show theirs. What stands on a sheet
        # that shows its back is seen to do so from under the floor alone
        shown = usable & (flat.two_sided if flat.side is None else flat.two_sided | (flat.side == 0))
        found.append(candidates(flat, normals, low, high, np.flatnonzero(shown), opposed=True))
    pairs = np.concatenate(found)
    outs = [
        narrow(corners, normals, apart, width, pairs[at : at + CHUNK // 4]) for at in range(0, len(pairs), CHUNK // 4)
    ]
    if not outs:
        none = np.zeros(0, np.int64)
        return Overlaps(none, none, np.zeros(0), np.zeros(0), np.zeros((0, 3)))
    return Overlaps(*(np.concatenate([getattr(o, name) for o in outs]) for name in Overlaps.__dataclass_fields__))


def keys_of(group: I64, cells: I64) -> I64:
    """(N,) one number for group and cell of the normal; cells: (N, 3) small integers."""
    span = int(2 / CELL) + 8
    shifted = cells + span // 2
    out: I64 = ((group * span + shifted[:, 0]) * span + shifted[:, 1]) * span + shifted[:, 2]
    return out


def candidates(flat: Flat, normals: F64, low: F64, high: F64, rows: I64, opposed: bool) -> I64:
    """(K, 2) pairs of rows of one group whose normals may be within the angle and whose boxes meet."""
    if len(rows) < 2:
        return np.zeros((0, 2), np.int64)
    side = flat.side
    if side is None and len(rows) <= FEW:
        return one_by_one(flat.group, normals, low, high, rows, opposed)
    asking = rows if side is None else rows[side[rows] == 0]
    asked = rows if side is None else rows[side[rows] == 1]
    keys = keys_of(flat.group[asked], np.floor(normals[asked] / CELL).astype(np.int64))
    order = np.argsort(keys, kind="stable")
    asked, keys = asked[order], keys[order]
    ways = -normals[asking] if opposed else normals[asking]
    lower = np.floor((ways - ANGLE) / CELL).astype(np.int64)
    upper = np.floor((ways + ANGLE) / CELL).astype(np.int64)
    out: list[I64] = []
    for corner in range(8):
        bits = np.array([corner & 1, corner >> 1 & 1, corner >> 2 & 1], np.bool_)
        mine = np.flatnonzero((~bits | (upper != lower)).all(axis=1))
        if not len(mine):
            continue
        wanted = keys_of(flat.group[asking[mine]], np.where(bits, upper[mine], lower[mine]))
        begin = np.searchsorted(keys, wanted, side="left")
        count = np.searchsorted(keys, wanted, side="right") - begin
        short = (count > 0) & (count <= LONG_RUN)
        for some in portions(count[short]):
            at = np.flatnonzero(short)[some]
            first = np.repeat(asking[mine[at]], count[at])
            second = asked[ranges(begin[at], count[at])]
            out.append(meeting(first, second, low, high, side is None))
        for start in np.unique(begin[count > LONG_RUN]).tolist():
            here = (begin == start) & (count > LONG_RUN)
            run = asked[start : start + int(count[here][0])]
            out.append(by_place(asking[mine[here]], run, normals, low, high, side is None))
    return np.concatenate(out) if out else np.zeros((0, 2), np.int64)


def one_by_one(group: I64, normals: F64, low: F64, high: F64, rows: I64, opposed: bool) -> I64:
    """The same for a few triangles, each with each: sorting them would cost more."""
    cosine = normals[rows] @ normals[rows].T
    alike = (-cosine if opposed else cosine) >= np.cos(ANGLE)
    alike &= group[rows][:, None] == group[rows]
    first, second = np.nonzero(np.triu(alike, 1))
    return meeting(rows[first], rows[second], low, high, True)


def portions(count: I64) -> list[slice]:
    """Slices whose counts add up to a chunk."""
    ends = np.cumsum(count)
    cuts = np.searchsorted(ends, np.arange(CHUNK, int(ends[-1]) if len(ends) else 0, CHUNK))
    edges = np.unique(np.concatenate([[0], cuts, [len(count)]]))
    return [slice(int(a), int(b)) for a, b in zip(edges[:-1], edges[1:], strict=True)]


def meeting(first: I64, second: I64, low: F64, high: F64, once: bool) -> I64:
    """(K, 2) those of the pairs whose boxes meet; once: each pair one way round."""
    keep = first < second if once else np.ones(len(first), np.bool_)
    for axis in range(3):
        keep &= (low[first, axis] <= high[second, axis]) & (low[second, axis] <= high[first, axis])
    return np.column_stack([first[keep], second[keep]])


def by_place(asking: I64, run: I64, normals: F64, low: F64, high: F64, once: bool) -> I64:
    """The same where many have one normal: looked up in their plane."""
    import shapely

    axis = int(np.argmax(np.abs(normals[run[0]])))
    a, b = (k for k in range(3) if k != axis)

    def boxes(rows: I64) -> Any:
        return shapely.box(low[rows, a], low[rows, b], high[rows, a], high[rows, b])

    mine, other = shapely.STRtree(boxes(run)).query(boxes(asking))
    return meeting(asking[mine], run[other], low, high, once)


def narrow(corners: F64, normals: F64, apart: F64, width: F64, pairs: I64) -> Overlaps:
    """The pairs that do overlap, with their areas."""
    first, second = pairs.T
    near = np.abs(np.einsum("ki,ki->k", normals[first], normals[second])) >= np.cos(ANGLE)
    # the planes at the middle of the second: cheap, and off by what the angle makes of a triangle's size at most
    middle = corners[second].mean(axis=1)
    off = np.abs(np.einsum("ki,ki->k", middle - corners[first, 0], normals[first]))
    reach = longest_of(corners[second] - middle[:, None])
    limit = np.minimum(apart[first], apart[second])
    near &= off <= limit + reach * ANGLE
    first, second, limit = first[near], second[near], limit[near]
    origin = corners[first, 0]
    across, along = frame_across(normals[first])
    frame = np.stack([across, along], axis=2)
    one = (corners[first] - origin[:, None]) @ frame
    other = (corners[second] - origin[:, None]) @ frame
    seam = np.minimum(width[first], width[second])
    cross = ~separated(one, other, seam)
    first, second, limit, seam, frame, origin = (x[cross] for x in (first, second, limit, seam, frame, origin))
    area, around, middle2 = clipped(one[cross], other[cross])
    wide = 2 * area > seam * around
    middle2 = middle2[wide]
    first, second, limit, frame, origin = (x[wide] for x in (first, second, limit, frame, origin))
    middle = origin + np.einsum("kij,kj->ki", frame, middle2)
    distance = np.abs(np.einsum("ki,ki->k", middle - corners[second, 0], normals[second]))
    one_plane = distance <= limit
    return Overlaps(first[one_plane], second[one_plane], area[wide][one_plane], distance[one_plane], middle[one_plane])


def boxes_of(corners: F64) -> tuple[F64, F64]:
    """(T, 3) smallest and largest of the corners (T, 3, 3); numpy's own reduction is slow along so short an axis."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    return np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)


def longest_of(vectors: F64) -> F64:
    """(T,) length of the longest of three vectors (T, 3, 3)."""
    squares = np.einsum("tki,tki->tk", vectors, vectors)
    out: F64 = np.sqrt(np.maximum(np.maximum(squares[:, 0], squares[:, 1]), squares[:, 2]))
    return out


def clipped(one: F64, other: F64) -> tuple[F64, F64, F64]:
    """What pairs of triangles (N, 3, 2) share: (N,) area, (N,) length of its outline, (N, 2) middle of its corners."""
    poly, count = clip(one, other)
    row = np.arange(len(one))[:, None]
    step = np.arange(7)[None, :]
    there = step < count[:, None]
    after = np.where(step + 1 < count[:, None], step + 1, 0)
    base = poly[:, :1]
    area = np.abs((cross2(poly - base, poly[row, after] - base) * there).sum(axis=1)) / 2
    around = (np.linalg.norm(poly[row, after] - poly, axis=2) * there).sum(axis=1)
    middle = (poly * there[..., None]).sum(axis=1) / np.maximum(count, 1)[:, None]
    return area, around, middle


def clip(one: F64, other: F64) -> tuple[F64, I64]:
    """The outlines that pairs of triangles (N, 3, 2) share: (N, 7, 2) corners, and (N,) how many of them count.

    The first is cut along each side of the second (Sutherland and Hodgman, 1974), all pairs at once.
    """
    count = np.full(len(one), 3)
    poly = np.zeros((len(one), 7, 2))
    poly[:, :3] = one
    row = np.arange(len(one))[:, None]
    way = np.sign(cross2(other[:, 1] - other[:, 0], other[:, 2] - other[:, 0]))
    for k in range(3):
        start, along = other[:, k], other[:, (k + 1) % 3] - other[:, k]
        inside = cross2(along[:, None], poly - start[:, None]) * way[:, None]
        step = np.arange(7)[None, :]
        there = step < count[:, None]
        after = np.where(step + 1 < count[:, None], step + 1, 0)
        next_inside, next_ = inside[row, after], poly[row, after]
        stays = there & (inside >= 0)
        cut = there & ((inside >= 0) != (next_inside >= 0))
        share = inside / np.where(cut, inside - next_inside, 1.0)
        crossing = poly + (next_ - poly) * share[..., None]
        # a corner that stays, then the place where its side is cut
        keep = np.stack([stays, cut], axis=2).reshape(len(one), 14)
        place = np.stack([poly, crossing], axis=2).reshape(len(one), 14, 2)
        at = np.cumsum(keep, axis=1) - 1
        poly = np.zeros((len(one), 7, 2))
        n, m = np.nonzero(keep & (at < 7))
        poly[n, at[n, m]] = place[n, m]
        count = np.minimum(keep.sum(axis=1), 7)
    return poly, count.astype(np.int64)


def outlines(one: F64, other: F64) -> tuple[F64, I64]:
    """(L, 2, 3) the lines around what pairs of triangles (N, 3, 3) that lie in one plane share, in the plane of the first;
    and (L,) the pair of each, ascending."""
    normals = np.cross(one[:, 1] - one[:, 0], one[:, 2] - one[:, 0])
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    frame = np.stack(frame_across(normals / np.where(length > 0, length, 1.0)), axis=2)
    origin = one[:, 0]
    poly, count = clip((one - origin[:, None]) @ frame, (other - origin[:, None]) @ frame)
    solid = origin[:, None] + np.einsum("kij,knj->kni", frame, poly)
    step = np.arange(7)[None, :]
    after = np.where(step + 1 < count[:, None], step + 1, 0)
    lines: F64 = np.stack([solid, np.take_along_axis(solid, after[:, :, None], axis=1)], axis=2)
    kept = (step < count[:, None]) & (count[:, None] > 2)
    return lines[kept], np.nonzero(kept)[0]


def cross2(a: F64, b: F64) -> F64:
    """Signed area of the parallelogram of two vectors (…, 2)."""
    out: F64 = a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]
    return out


def separated(one: F64, other: F64, seam: F64) -> Bool:
    """(N,) True for triangles (N, 3, 2) that have a line between them, up to a seam (N,) of overlap.

    Two convex outlines are apart when one lies beyond an edge of the other (separating axes); most are after the
    first edges, and only the rest is asked on.
    """
    out = np.zeros(len(one), np.bool_)
    left = np.arange(len(one))
    for swap in (False, True):
        for k in range(3):
            a, b = (other[left], one[left]) if swap else (one[left], other[left])
            x, y = a[:, k, 0], a[:, k, 1]
            dx, dy = a[:, (k + 1) % 3, 0] - x, a[:, (k + 1) % 3, 1] - y
            long = np.hypot(dx, dy)
            inside = np.sign(dx * (a[:, (k + 2) % 3, 1] - y) - dy * (a[:, (k + 2) % 3, 0] - x))
            scale = np.where(long > 0, inside / np.where(long > 0, long, 1.0), 0.0)
            far = [(dx * (b[:, m, 1] - y) - dy * (b[:, m, 0] - x)) * scale for m in range(3)]
            apart = np.maximum(np.maximum(far[0], far[1]), far[2]) <= seam[left]
            out[left[apart]] = True
            left = left[~apart]
    return out
