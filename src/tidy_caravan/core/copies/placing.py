"""The frame of a prototype, and clean placements from it: its own origin, its axes such that most copies stand upright,
rotations and scales without noise, never further off than they may be."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene.arrays import F64, Bool

AT_MODE = 2
"""Decimals to which orientations have to agree to count as the same."""
OUTSIDE = 1.0
"""Times its size from which on a mesh lies outside its own origin."""
NOISE = 1e-4
"""Part of a stretch that lies aside of an axis and may be rounding; beyond it one axis is as wrong as another."""
ASKEW = 1e-6
"""Part of its size by which a placement may differ from a turn and scales along its axes."""


@dataclass(frozen=True)
class Placing:
    """frame: (4, 4) from the mesh that others were laid on to the prototype. matrices: (K, 4, 4) from the prototype to
    each mesh. off: (K,) largest distance of a vertex, in units of that mesh. good: (K,) False where no turn and scales
    along the prototype's axes do."""

    frame: F64
    matrices: F64
    off: F64
    good: Bool


def placing(targets: F64, linear: F64, place: F64, far: F64, up: F64, per_axis: bool) -> Placing:
    """targets: (K, V, 3) the vertices of each, in the order of the first's, which the others were laid on by linear
    (K, 3, 3) and place (K, 3). far: (K,) how far a vertex may be off."""
    axes = common_axes(linear) if per_axis else most_common(linear)
    points = targets[0] @ axes
    low, high = points.min(axis=0), points.max(axis=0)
    size = float(np.linalg.norm(high - low))
    beyond = np.maximum(np.maximum(low, -high), 0.0)
    origin = np.zeros(3)
    if float(np.linalg.norm(beyond)) > OUTSIDE * size:
        # the middle of the base, along whatever axis of the prototype is upright
        origin = (low + high) / 2
        k = int(np.argmax(np.abs(up @ axes)))
        origin[k] = low[k] if (up @ axes)[k] > 0 else high[k]
    frame = np.eye(4)
    frame[:3, :3], frame[:3, 3] = axes.T, -origin
    points = points - origin
    turned = linear @ axes
    place = place + np.einsum("kij,j->ki", turned, origin)
    scale = np.linalg.norm(turned, axis=1)
    rotation = turned / np.where(scale > 0, scale, 1.0)[:, None, :]
    reach = float(np.linalg.norm(points, axis=1).max())
    steady = np.where(np.abs(scale - 1) * reach <= np.minimum(0.05 * far, 1e-5 * size)[:, None], 1.0, scale)
    clean = cleaned(rotation) * steady[:, None, :]
    skew = np.abs(rotation.transpose(0, 2, 1) @ rotation - np.eye(3)).max(axis=(1, 2))
    # a placement is a turn and scales where that is as near as it has to be, or what was found where that has no skew
    matrices = np.tile(np.eye(4), (len(linear), 1, 1))
    off = np.full(len(linear), np.inf)
    for tried, allowed in ((clean, np.ones(len(linear), np.bool_)), (turned, skew <= ASKEW)):
        moved = points @ tried.transpose(0, 2, 1)
        shift = place if tried is turned else place + (targets - moved - place[:, None]).mean(axis=1)
        distance = np.linalg.norm(targets - moved - shift[:, None], axis=2).max(axis=1)
        use = np.isinf(off) & allowed & (distance <= far)
        matrices[use, :3, :3], matrices[use, :3, 3], off[use] = tried[use], shift[use], distance[use]
    return Placing(frame, matrices, off, np.isfinite(off))


def most_common(linear: F64) -> F64:
    """(3, 3) axes of the orientation that most of the placements have, the given one among equals."""
    scale = np.cbrt(np.abs(np.linalg.det(linear)))
    turn = linear / np.where(scale > 0, scale, 1.0)[:, None, None]
    kinds, kind, times = np.unique(
        np.round(turn.reshape(-1, 9), AT_MODE) + 0.0, axis=0, return_inverse=True, return_counts=True
    )
    proper = np.linalg.det(kinds.reshape(-1, 3, 3)) > 0
    times = np.where(proper, times, 0)
    own = np.flatnonzero((kinds == np.eye(3).reshape(-1)).all(axis=1))
    best = int(np.argmax(times))
    if len(own) and times[own[0]] >= times[best]:
        return np.eye(3)
    some = turn[kind.reshape(-1) == best][0]
    u, _, vt = np.linalg.svd(some)
    out: F64 = (u @ vt).T
    return out


def common_axes(linear: F64) -> F64:
    """(3, 3) axes of the mesh along which most of the placements stretch it, near its own."""
    _, s, vt = np.linalg.svd(linear)
    stretch = np.einsum("kji,kj,kjl->kil", vt, s, vt)
    stretch /= np.trace(stretch, axis1=1, axis2=2)[:, None, None]
    weight = np.random.default_rng(0).uniform(0.5, 1.5, len(stretch))
    gap = np.minimum(s[:, 0] - s[:, 1], s[:, 1] - s[:, 2]) / np.maximum(s[:, 0], 1e-300)
    told = np.argsort(-gap, kind="stable")[:8]
    tried = [np.einsum("k,kij->ij", weight, stretch), *stretch[told]]
    tried += [stretch[k] + 0.37 * stretch[j] for k, j in zip(told[:-1], told[1:], strict=True)]
    best, least = np.eye(3), np.inf
    for candidate in (np.eye(3), *(np.linalg.eigh(t)[1] for t in tried)):
        cost = float(np.minimum(aside(stretch, candidate), NOISE).sum())
        if cost < least:
            best, least = candidate, cost
    return nearest_to_own(settled(stretch[aside(stretch, best) <= 10 * NOISE], best))


def aside(stretch: F64, axes: F64) -> F64:
    """(K,) how much of each stretch lies aside of the axes."""
    inside = axes.T @ stretch @ axes
    out: F64 = np.abs(inside * (1 - np.eye(3))).max(axis=(1, 2))
    return out


def settled(stretch: F64, axes: F64) -> F64:
    """The axes turned until the least of all stretches (K, 3, 3) lies aside of them (Cardoso and Souloumiac, Jacobi
    Angles for Simultaneous Diagonalization, 1996)."""
    for _ in range(4):
        for p, q in ((0, 1), (0, 2), (1, 2)):
            inside = axes.T @ stretch @ axes
            g = np.stack([inside[:, p, p] - inside[:, q, q], 2 * inside[:, p, q]])
            m = g @ g.T
            angle = 0.5 * np.arctan2(2 * m[0, 1], m[0, 0] - m[1, 1] + np.hypot(m[0, 0] - m[1, 1], 2 * m[0, 1]))
            turn = np.eye(3)
            turn[p, p] = turn[q, q] = np.cos(angle)
            turn[p, q], turn[q, p] = -np.sin(angle), np.sin(angle)
            axes = axes @ turn
    return axes


def nearest_to_own(axes: F64) -> F64:
    """The same axes in the order and with the signs that make them the least of a turn."""
    from itertools import permutations

    tried = []
    for order in permutations(range(3)):
        some = axes[:, list(order)]
        some = some * np.where(np.diag(some) < 0, -1.0, 1.0)
        if np.linalg.det(some) < 0:
            some[:, int(np.argmin(np.abs(np.diag(some))))] *= -1
        tried.append(some)
    return max(tried, key=lambda a: float(np.trace(a)))


def cleaned(rotation: F64) -> F64:
    """Turns (K, 3, 3), or mirrors, made exact: right angles where they all but are, else about an axis where one all but
    stays what it is, else the nearest turn."""
    u, _, vt = np.linalg.svd(rotation)
    out: F64 = u @ vt
    whole: F64 = np.rint(out)
    right = (np.abs(out - whole) < 1e-4).all(axis=(1, 2)) & (np.abs(whole).sum(axis=1) == 1).all(axis=1)
    # about one axis: an entry is one, and the four beside it are a turn in a plane
    for i in range(3):
        for j in range(3):
            rows = np.flatnonzero(~right & (np.abs(out[:, i, j]) > 1 - 1e-7))
            if not len(rows):
                continue
            a, b = (k for k in range(3) if k != i)
            c, d = (k for k in range(3) if k != j)
            cos, sin = out[rows, a, c], out[rows, b, c]
            length = np.hypot(cos, sin)
            cos, sin = cos / length, sin / length
            way = np.sign(out[rows, a, c] * out[rows, b, d] - out[rows, a, d] * out[rows, b, c])
            exact = np.zeros((len(rows), 3, 3))
            exact[:, i, j] = np.sign(out[rows, i, j])
            exact[:, a, c], exact[:, b, c] = cos, sin
            exact[:, a, d], exact[:, b, d] = -sin * way, cos * way
            out[rows] = exact
    out[right] = whole[right]
    return out
