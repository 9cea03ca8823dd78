"""What a cut laid open is filled: borders chained to outlines and holes, and triangles over exactly their corners."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64

TRIES = 64
"""Corners of an outline that crosses itself which are tried as ears before the flattest is taken."""


def fill(flat: F64, runs: I64) -> I64:
    """(T, 3) triangles over points (P, 2) that close borders (E, 2), running along each of them once.

    What a border that runs round to the left goes around is filled, looking towards the reader. One that runs to the
    right is a hole of the least outline around it, so that a hollow ball gets a ring, and a box within a box two fills,
    one for each; where nothing is around it, it is filled looking away. Borders that end somewhere, as where sides
    disagree, are filled where an odd number of them is around. No corner is added: a slit would be left. O(E log E), and
    O(N²) for outlines of N corners that cross themselves.
    """
    import shapely

    loops, loose = chained(flat, runs)
    areas = np.array([area(flat[loop]) for loop in loops])
    outer = [loop for loop, a in zip(loops, areas.tolist(), strict=True) if a > 0]
    inner = [loop for loop, a in zip(loops, areas.tolist(), strict=True) if a < 0]
    holes: dict[int, list[list[int]]] = defaultdict(list)
    around = np.full(len(inner), -1)
    if outer and inner:
        plans = [shapely.Polygon(flat[o]) for o in outer]
        spots = [shapely.make_valid(shapely.Polygon(flat[h])).representative_point() for h in inner]
        which, over = shapely.STRtree(plans).query(spots, predicate="intersects")
        size = areas[areas > 0][over]
        least = np.lexsort((size, which))
        fits = least[size[least] > -areas[areas < 0][which[least]]]
        some, first = np.unique(which[fits], return_index=True)
        around[some] = over[fits][first]
    out: list[I64] = []
    for hole, into in zip(inner, around.tolist(), strict=True):
        if into >= 0:
            holes[into].append(hole)
        else:
            out.append(within(flat, hole[::-1], [])[:, ::-1])
    out += [within(flat, loop, holes[k]) for k, loop in enumerate(outer)]
    if len(loose):
        out.append(of_either_way(flat, loose))
    return np.concatenate(out) if out else np.zeros((0, 3), np.int64)


def area(corners: F64) -> float:
    """Signed area of an outline (N, 2), above nought where it runs to the left."""
    x, y = (corners - corners[0]).T
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)


def chained(flat: F64, runs: I64) -> tuple[list[list[int]], I64]:
    """Loops that borders (E, 2) make, no point twice in one, and (L, 2) those that make none.

    Where several lead on, the leftmost is followed, so that what only touches stays two.
    """
    leads: dict[int, list[int]] = defaultdict(list)
    for a, b in runs.tolist():
        leads[a].append(b)
    loops: list[list[int]] = []
    loose: list[tuple[int, int]] = []
    for start in list(leads):
        while leads[start]:
            path, seen = [start], {start: 0}
            while leads[path[-1]]:
                here = path[-1]
                onward = leads[here]
                pick = 0 if len(onward) == 1 else leftmost(flat, path[-2] if len(path) > 1 else here, here, onward)
                to = onward.pop(pick)
                if to in seen:
                    loop = path[seen[to] :]
                    for v in loop[1:]:
                        del seen[v]
                    del path[seen[to] + 1 :]
                    loops.append(loop)
                else:
                    seen[to] = len(path)
                    path.append(to)
            loose += list(zip(path[:-1], path[1:], strict=True))
    return loops, np.array(loose, np.int64).reshape(-1, 2)


def leftmost(flat: F64, before: int, here: int, onward: list[int]) -> int:
    """Which of the points comes first from the left, back where one came from last."""
    u, (x, y) = flat[here] - flat[before], (flat[onward] - flat[here]).T
    turn = np.arctan2(u[0] * y - u[1] * x, u[0] * x + u[1] * y)
    return int(np.argmax(np.where(turn > np.pi - 1e-9, -np.pi, turn)))


def within(flat: F64, loop: list[int], holes: list[list[int]]) -> I64:
    """(T, 3) triangles within an outline that runs to the left and around its holes, over their corners alone."""
    import shapely

    shape = shapely.Polygon(flat[loop], [flat[h] for h in holes])
    names = loop + [v for h in holes for v in h]
    if shape.is_valid:
        more = triangles_in(flat, names, [shape])
        if len(more) == len(names) + 2 * len(holes) - 2 and (more >= 0).all():
            return more
    for hole in sorted(holes, key=lambda h: -flat[h, 0].max()):
        apart = np.linalg.norm(flat[loop][:, None] - flat[hole][None], axis=2)
        a, b = (int(k) for k in np.unravel_index(np.argmin(apart), apart.shape))
        loop = loop[: a + 1] + hole[b:] + hole[: b + 1] + loop[a:]
    return ears_of(flat, loop)


def triangles_in(flat: F64, names: Sequence[int], shapes: Sequence[Any]) -> I64:
    """(T, 3) triangles within polygons over named points, running to the left; -1 for a corner that is none of them."""
    import shapely

    made = shapely.get_parts(shapely.constrained_delaunay_triangles(shapes))
    lookup = {tuple(place): v for v, place in zip(names, flat[names].tolist(), strict=True)}
    corners = shapely.get_coordinates(made).reshape(-1, 4, 2)[:, :3].reshape(-1, 2)
    out = np.array([lookup.get(tuple(c), -1) for c in corners.tolist()], np.int64).reshape(-1, 3)
    a, b, c = (flat[out[:, k]] for k in range(3))
    turned = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) < (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    return np.where(turned[:, None], out[:, ::-1], out)


def ears_of(flat: F64, loop: list[int]) -> I64:
    """(N - 2, 3) triangles of an outline that may cross itself or run along itself: ears while there are some, else the
    flattest corner. Their areas add up to its own, and each of its edges is run once."""
    left = list(loop)
    out: list[tuple[int, int, int]] = []
    at = 0
    while len(left) > 3:
        p = flat[left]
        u, w = p - np.roll(p, 1, axis=0), np.roll(p, -1, axis=0) - p
        bend = u[:, 0] * w[:, 1] - u[:, 1] * w[:, 0]
        dents = p[bend <= 0]
        chosen = -1
        around = np.roll(np.arange(len(left)), -at)
        for k in around[bend[around] > 0][:TRIES].tolist():
            a, b, c = p[k - 1], p[k], p[(k + 1) % len(left)]
            sides = [
                (e[0] - s[0]) * (dents[:, 1] - s[1]) - (e[1] - s[1]) * (dents[:, 0] - s[0])
                for s, e in ((a, b), (b, c), (c, a))
            ]
            if not ((sides[0] > 0) & (sides[1] > 0) & (sides[2] >= 0)).any():
                chosen = k
                break
        if chosen < 0:
            chosen = int(np.argmin(np.abs(bend)))
        out.append((left[chosen - 1], left[chosen], left[(chosen + 1) % len(left)]))
        del left[chosen]
        at = chosen % len(left)
    out.append((left[0], left[1], left[2]))
    return np.array(out, np.int64)


def of_either_way(flat: F64, runs: I64) -> I64:
    """(T, 3) triangles of what an odd number of borders is around, whichever way they run."""
    import shapely

    found = shapely.get_parts(shapely.polygonize([shapely.LineString(ends) for ends in flat[runs]]))
    if not len(found):
        return np.zeros((0, 3), np.int64)
    rings = [shapely.Polygon(one.exterior) for one in found]
    depth = np.bincount(
        shapely.STRtree(rings).query(shapely.point_on_surface(found), predicate="within")[0], minlength=len(found)
    )
    more = triangles_in(flat, np.unique(runs).tolist(), found[depth % 2 == 1].tolist())
    return more[(more >= 0).all(axis=1)]
