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
NOISE = 1e-5
"""Part of a stretch that lies aside of an axis by rounding."""
ASKEW = 1e-6
"""Part of its size by which a placement may differ from a turn and scales along its axes."""


@dataclass(frozen=True)
class Placing:
    """frame: (4, 4) from the mesh that others were laid on to the prototype. matrices: (K, 4, 4) from the prototype to
    each mesh. off: (K,) largest distance of a corner, in units of that mesh. good: (K,) False where no turn and scales
    along the prototype's axes do."""

    frame: F64
    matrices: F64
    off: F64
    good: Bool


def placing(points: F64, linear: F64, place: F64, off: F64, far: F64, up: F64, per_axis: bool) -> Placing:
    """points: (V, 3) of the mesh that the K others, itself among them, were laid on by linear (K, 3, 3) and place (K, 3)."""
    axes = common_axes(linear) if per_axis else most_common(linear)
    points = points @ axes
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
    turned = linear @ axes
    scale = np.linalg.norm(turned, axis=1)
    rotation = turned / np.where(scale > 0, scale, 1.0)[:, None, :]
    mirrored = np.linalg.det(rotation) < 0
    gram = rotation.transpose(0, 2, 1) @ rotation - np.eye(3)
    reach = float(np.linalg.norm(np.maximum(np.abs(low - origin), np.abs(high - origin))))
    # a placement is kept as a turn and scales: what that leaves out has to be within what a corner may be off
    near = cleaned(rotation, mirrored)
    steady = np.where(np.abs(scale - 1) * reach <= np.minimum(0.05 * far, 1e-5 * size)[:, None], 1.0, scale)
    clean = near * steady[:, None, :]
    moved = np.linalg.norm(clean - turned, axis=(1, 2)) * reach
    keep = off + moved <= far
    matrices = np.tile(np.eye(4), (len(linear), 1, 1))
    matrices[:, :3, :3] = np.where(keep[:, None, None], clean, turned)
    # the origin goes where the mesh that was laid on it has it
    matrices[:, :3, 3] = place + np.einsum("kij,j->ki", turned, origin)
    skew = np.abs(gram).max(axis=(1, 2))
    good = keep | (skew <= ASKEW)
    return Placing(frame, matrices, off + np.where(keep, moved, 0.0), good)


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
    best, most = np.eye(3), (-1, 0.0)
    for candidate in (np.eye(3), *(np.linalg.eigh(t)[1] for t in tried)):
        inside = candidate.T @ stretch @ candidate
        aside = np.abs(inside * (1 - np.eye(3))).max(axis=(1, 2))
        score = (int((aside <= NOISE).sum()), -float(np.median(aside)))
        if score > most:
            best, most = candidate, score
    return nearest_to_own(best)


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


def cleaned(rotation: F64, mirrored: Bool) -> F64:
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
