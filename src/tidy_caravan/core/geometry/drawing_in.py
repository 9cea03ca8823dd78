"""Vertices drawn into a neighbour one after the other, the cheapest first; compiled. What may go is said in simplify.py.

A place is where vertices stand; its star are the triangles around it, its ring the places beside it. Triangles are never
moved in memory: each corner knows the next one at its place, so that two stars become one by one link.
"""

from __future__ import annotations

from heapq import heappop, heappush

import numpy as np

from tidy_caravan.core.compiled import compiled

TURN = 0.5
"""Least cosine between a triangle before and after: nothing folds over."""
SHADING = 0.77
"""Least cosine between the normals of a vertex and the one it is drawn into: forty degrees."""
THIN = 1e-4
"""Least height of a triangle that comes to be, as a part of its longest side."""
STAR = 24
"""Vertices of more triangles stay: fans and poles."""
EVENLY = 1e-3
"""Part of the bound by which a place waits when another was drawn into it: stars stay small where all cost the same."""
AGAIN = 64
"""Changes around a place that are counted for that, before it begins anew."""
SWEEPS = 8
"""Times that all places are asked: one may go after others further off went."""
PLACE, TIMES, OWN, THEIRS, SLOT, WAY, CREASE = range(7)
"""Columns of a ring: the place, triangles at the edge to it, the vertex at either end, the material, forward ones less
backward ones, and whether the edge is to be kept."""


@compiled
def drawn_in(  # type: ignore[no-untyped-def]
    points, place, wedge, material, before, normals, flats, values, kinds, bound, least
):
    """Which triangles are left, which have other corners now, and by place how far the surface may have come away.

    points: (P, 3). place, wedge: (F, 3) places and vertices, changed here. material: (F,). before: (F, 3) unit normals that
    triangles have now: many small turns are a large one. normals: (V, 3) or (0, 3). flats: (U, V, 2) texture coordinates.
    values: (V, A) what else runs over the surface, one being what it may differ by. kinds: (V,) numbers that tell regions apart; where two meet
    nothing is drawn in.
    bound: length. least: triangles that stay. O(F log F).
    """
    faces, count = place.shape[0], points.shape[0]
    alive, changed = np.ones(faces, np.bool_), np.zeros(faces, np.bool_)
    head, tail, follow = np.full(count, -1), np.full(count, -1), np.full(3 * faces, -1)
    for c in range(3 * faces):
        p = place[c // 3, c % 3]
        if head[p] < 0:
            head[p] = c
        else:
            follow[tail[p]] = c
        tail[p] = c
    error, shift = np.zeros(count), np.zeros(count)
    version, marks = np.zeros(count, np.int64), np.zeros(count, np.int64)
    star, facing = np.empty(STAR, np.int64), np.empty((STAR, 3))
    ring, costs = np.empty((2 * STAR, 7), np.int64), np.empty((2 * STAR, 2))
    own, into = np.empty(2, np.int64), np.empty(2, np.int64)
    left, stamp = faces, 0
    for _ in range(SWEEPS):
        queue = [(0.0, 0, 0)]
        queue.pop()
        for p in range(count):
            if head[p] >= 0:
                n = star_of(p, alive, head, tail, follow, star)
                m = ring_of(n, star, place, wedge, material, ring)
                cost = prices(p, n, m, star, facing, ring, costs, points, place, error, bound)
                if cost <= bound:
                    heappush(queue, (cost + waits(p, version[p], bound), p, version[p]))
        gone = 0
        while len(queue) and left - 2 >= least:
            key, u, known = heappop(queue)
            if known != version[u] or head[u] < 0:
                continue
            n = star_of(u, alive, head, tail, follow, star)
            m = ring_of(n, star, place, wedge, material, ring)
            prices(u, n, m, star, facing, ring, costs, points, place, error, bound)
            later = waits(u, version[u], bound)
            while True:
                best = -1
                for i in range(m):
                    if costs[i, 0] <= bound and (
                        best < 0
                        or costs[i, 0] < costs[best, 0]
                        or (costs[i, 0] == costs[best, 0] and costs[i, 1] < costs[best, 1])
                    ):
                        best = i
                if best < 0:
                    break
                if costs[best, 0] + later > key * (1 + 1e-12) + 1e-300:
                    # what seemed cheaper is not allowed; others come first
                    heappush(queue, (costs[best, 0] + later, u, known))
                    break
                v = ring[best, PLACE]
                stamp += 1
                pairs = allowed(
                    u, v, best, n, m, star, facing, ring, points, place, wedge, before, normals, kinds, alive, head, follow,
                    marks, stamp, own, into,
                )  # fmt: skip
                off = np.inf
                if pairs > 0:
                    off = shift[u] + shifted(v, n, star, points, place, wedge, flats, values, bound, own, into, pairs)
                if not off <= 1.0:
                    costs[best, 0] = np.inf
                    continue
                for i in range(n):
                    f, k = star[i] // 3, star[i] % 3
                    if place[f, 0] == v or place[f, 1] == v or place[f, 2] == v:
                        alive[f] = False
                        left -= 1
                    else:
                        place[f, k] = v
                        wedge[f, k] = into[0] if pairs == 1 or wedge[f, k] == own[0] else into[1]
                        changed[f] = True
                follow[tail[v]] = head[u]
                tail[v] = tail[u]
                head[u] = -1
                error[v] = max(error[v], costs[best, 0])
                shift[v] = max(shift[v], off)
                gone += 1
                touched = [ring[i, PLACE] for i in range(m)]
                for p in touched:
                    if head[p] < 0:
                        continue
                    version[p] += 1
                    n = star_of(p, alive, head, tail, follow, star)
                    m = ring_of(n, star, place, wedge, material, ring)
                    cost = prices(p, n, m, star, facing, ring, costs, points, place, error, bound)
                    if cost <= bound:
                        heappush(queue, (cost + waits(p, version[p], bound), p, version[p]))
                break
        if not gone or left - 2 < least:
            break
    return alive, changed, error


@compiled
def waits(place, version, bound):  # type: ignore[no-untyped-def]
    """What a place waits longer than its cost: with each change around it, and scattered below that, so that of equal costs
    no side of a mesh is the first."""
    return EVENLY * bound * (((place * 2654435761) % 1000003) / 1000003 + version % AGAIN)


@compiled
def star_of(p, alive, head, tail, follow, star):  # type: ignore[no-untyped-def]
    """How many live corners stand at a place, filled into `star`; 0 where they are more than it holds."""
    n, last, c = 0, -1, head[p]
    while c >= 0:
        after = follow[c]
        if alive[c // 3]:
            if n < star.shape[0]:
                star[n] = c
            n += 1
            last = c
        elif last < 0:
            head[p] = after
        else:
            follow[last] = after
        c = after
    tail[p] = last
    return n if n <= star.shape[0] else 0


@compiled
def ring_of(n, star, place, wedge, material, ring):  # type: ignore[no-untyped-def]
    """How many places are beside that of a star, and `ring` filled in."""
    m = 0
    for i in range(n):
        f, k = star[i] // 3, star[i] % 3
        for way in (1, -1):
            j = (k + way) % 3
            at = 0
            while at < m and ring[at, PLACE] != place[f, j]:
                at += 1
            if at == m:
                ring[m, PLACE], ring[m, TIMES], ring[m, OWN], ring[m, THEIRS] = place[f, j], 1, wedge[f, k], wedge[f, j]
                ring[m, SLOT], ring[m, WAY], ring[m, CREASE] = material[f], way, 0
                m += 1
                continue
            ring[at, TIMES] += 1
            ring[at, WAY] += way
            if ring[at, OWN] != wedge[f, k] or ring[at, THEIRS] != wedge[f, j] or ring[at, SLOT] != material[f]:
                ring[at, CREASE] = 1
    for at in range(m):
        if ring[at, TIMES] != 2 or ring[at, WAY] != 0:
            ring[at, CREASE] = 1
    return m


@compiled
def prices(u, n, m, star, facing, ring, costs, points, place, error, bound):  # type: ignore[no-untyped-def]
    """The least cost of drawing a place into one of its ring; `costs` (M, 2) cost and length of each way, infinite where it
    may not go; `facing` (N, 3) the unit normals of its star.

    The cost is the distance to the planes around it (Garland and Heckbert, 1997), or from its crease, and what came
    before.
    """
    creases, many = 0, False
    for i in range(m):
        creases += ring[i, CREASE]
        many = many or ring[i, TIMES] > 2
    for i in range(m):
        costs[i, 0] = costs[i, 1] = np.inf
    if many or (creases != 0 and creases != 2):
        return np.inf
    for i in range(n):
        f = star[i] // 3
        a, b, c = place[f, 0], place[f, 1], place[f, 2]
        x, y, z = crossed(points[a], points[b], points[c])
        size = np.sqrt(x * x + y * y + z * z)
        size = size if size > 1e-300 else 1e-300
        facing[i, 0], facing[i, 1], facing[i, 2] = x / size, y / size, z / size
    least = np.inf
    for i in range(m):
        if ring[i, CREASE] != (creases == 2):
            continue
        v = ring[i, PLACE]
        x, y, z = points[v, 0] - points[u, 0], points[v, 1] - points[u, 1], points[v, 2] - points[u, 2]
        total = 0.0
        for j in range(n):
            off = x * facing[j, 0] + y * facing[j, 1] + z * facing[j, 2]
            total += off * off
        far = np.sqrt(total)
        if creases == 2:
            for j in range(m):
                if ring[j, CREASE] and j != i:
                    far = max(far, from_line(points[u], points[v], points[ring[j, PLACE]]))
        costs[i, 0] = far + error[u]
        costs[i, 1] = x * x + y * y + z * z
        if not costs[i, 0] <= bound:
            costs[i, 0] = np.inf
        least = min(least, costs[i, 0])
    return least


@compiled
def crossed(a, b, c):  # type: ignore[no-untyped-def]
    """The normal of a triangle, as long as twice its area."""
    ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@compiled
def from_line(p, a, b):  # type: ignore[no-untyped-def]
    """Distance of a point from the line between two."""
    x, y, z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    px, py, pz = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    long = x * x + y * y + z * z
    t = (px * x + py * y + pz * z) / long if long > 0 else 0.0
    t = min(max(t, 0.0), 1.0)
    return np.sqrt((px - t * x) ** 2 + (py - t * y) ** 2 + (pz - t * z) ** 2)


@compiled
def allowed(  # type: ignore[no-untyped-def]
    u, v, at, n, m, star, facing, ring, points, place, wedge, before, normals, kinds, alive, head, follow, marks, stamp,
    own, into,
):  # fmt: skip
    """How many vertices u has, 0 where it may not be drawn into v: nothing may fold over or tear.

    `own` and `into` say what becomes of its vertices: those of v in the triangles between both.
    """
    pairs, between = 0, 0
    for i in range(n):
        f, k = star[i] // 3, star[i] % 3
        for j in range(3):
            if place[f, j] != v:
                continue
            between += 1
            mine, other = wedge[f, k], wedge[f, j]
            known = -1
            for q in range(pairs):
                if own[q] == mine:
                    known = q
            if known >= 0:
                if into[known] != other:
                    return 0
            elif pairs == 2:
                return 0
            else:
                own[pairs], into[pairs] = mine, other
                pairs += 1
    if between != ring[at, TIMES] or between > 2:
        return 0
    for q in range(pairs):
        a, b = own[q], into[q]
        if normals.shape[0]:
            alike = normals[a, 0] * normals[b, 0] + normals[a, 1] * normals[b, 1] + normals[a, 2] * normals[b, 2]
            if not alike >= SHADING:
                return 0
    # neighbours of both must be the third corners of the triangles between them
    for i in range(m):
        marks[ring[i, PLACE]] = stamp
    common, c = 0, head[v]
    while c >= 0:
        f = c // 3
        if alive[f]:
            for j in range(3):
                p = place[f, j]
                if p != v and p != u and marks[p] == stamp:
                    marks[p] = -stamp
                    common += 1
        c = follow[c]
    if common != between:
        return 0
    for i in range(n):
        f, k = star[i] // 3, star[i] % 3
        known = False
        for q in range(pairs):
            known = known or own[q] == wedge[f, k]
        if not known:
            return 0
        if kinds[wedge[f, 0]] != kinds[wedge[f, 1]] or kinds[wedge[f, 1]] != kinds[wedge[f, 2]]:
            return 0
        a, b, c = place[f, 0], place[f, 1], place[f, 2]
        if a == v or b == v or c == v:
            continue
        a, b, c = (v if a == u else a), (v if b == u else b), (v if c == u else c)
        x, y, z = crossed(points[a], points[b], points[c])
        size = np.sqrt(x * x + y * y + z * z)
        if not x * facing[i, 0] + y * facing[i, 1] + z * facing[i, 2] >= TURN * size:
            return 0
        if not x * before[f, 0] + y * before[f, 1] + z * before[f, 2] >= TURN * size:
            return 0
        longest = max(apart(points[a], points[b]), apart(points[b], points[c]), apart(points[c], points[a]))
        if size < THIN * longest:
            return 0
    return pairs


@compiled
def apart(a, b):  # type: ignore[no-untyped-def]
    """The square of the distance of two points."""
    return (a[0] - b[0]) ** 2 + (a[1] - b[1]) ** 2 + (a[2] - b[2]) ** 2


@compiled
def shifted(v, n, star, points, place, wedge, flats, values, bound, own, into, pairs):  # type: ignore[no-untyped-def]
    """How far textures would shift at v, as a part of the bound, and other values differ, by what each triangle around u
    makes of them there."""
    worst = 0.0
    if not flats.shape[0] and not values.shape[1]:
        return worst
    for i in range(n):
        f, k = star[i] // 3, star[i] % 3
        a, b, c = points[place[f, 0]], points[place[f, 1]], points[place[f, 2]]
        ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        wx, wy, wz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        px, py, pz = points[v, 0] - a[0], points[v, 1] - a[1], points[v, 2] - a[2]
        uu, uw, ww = ux * ux + uy * uy + uz * uz, ux * wx + uy * wy + uz * wz, wx * wx + wy * wy + wz * wz
        pu, pw = px * ux + py * uy + pz * uz, px * wx + py * wy + pz * wz
        det = uu * ww - uw * uw
        if not det > 0:
            continue
        s, t = (pu * ww - pw * uw) / det, (pw * uu - pu * uw) / det
        p, q, r = wedge[f, 0], wedge[f, 1], wedge[f, 2]
        to = into[0] if pairs == 1 or wedge[f, k] == own[0] else into[1]
        for g in range(flats.shape[0]):
            flat = flats[g]
            qx, qy = flat[q, 0] - flat[p, 0], flat[q, 1] - flat[p, 1]
            rx, ry = flat[r, 0] - flat[p, 0], flat[r, 1] - flat[p, 1]
            x = flat[p, 0] + s * qx + t * rx - flat[to, 0]
            y = flat[p, 1] + s * qy + t * ry - flat[to, 1]
            # as a length: repeats by how long a repeat is on this triangle
            area = abs(qx * ry - qy * rx)
            if area != 0:
                far = np.sqrt((x * x + y * y) * np.sqrt(det) / area) / bound
                if not far < np.inf:
                    return np.inf
                worst = max(worst, far)
        for g in range(values.shape[1]):
            one = values[p, g] + s * (values[q, g] - values[p, g]) + t * (values[r, g] - values[p, g])
            far = abs(one - values[to, g])
            if not far < np.inf:
                return np.inf
            worst = max(worst, far)
    return worst
