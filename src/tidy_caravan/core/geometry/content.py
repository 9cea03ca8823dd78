"""Surfaces that show one image exactly, a screen, a timetable, a poster: unrolled flat, how an image lies on them, and
coordinates with which it lies as wanted.

Everything is seen from the front: x to the right and y downwards, in metres, as the pixels of an image run.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64

FLAT = float(np.cos(np.radians(0.5)))
"""Cosine to the mean from which on triangles count as one plane."""
CURVED_BOTH_WAYS = 1e-4
"""Part of the spread of its normals by which a surface may bend across the way it is bent."""
LYING = 0.1
"""Sine to the ground below which a surface lies: there is no upright on it."""
ONE_SIDED = 0.05
"""Part of its area that looks to one side on the whole, from which on a surface has a front."""
UPRIGHT = 0.7
"""Cosine to the upright from which on a surface is bent about an upright axis."""
LARGE = 0.15
"""Part of a body's surface that its largest face has at least, to be what shows an image."""
SAME = 1e-5
"""Part of its size within which corners stand in one line across a bent surface."""


@dataclass(frozen=True)
class Stance:
    """How one stands before a surface. up: (3,) to the sky. ahead: (3,) where the upper edge is of what lies on the ground.
    hand: 1 in right-handed axes, -1 in left-handed ones, in which the same products point the other way."""

    up: F64
    ahead: F64
    hand: float

    @classmethod
    def of(cls, values: Sequence[float]) -> Stance:
        """Of seven numbers, as `values` gives them."""
        return cls(np.array(values[:3]), np.array(values[3:6]), float(values[6]))

    @property
    def values(self) -> list[float]:
        return [*self.up.tolist(), *self.ahead.tolist(), self.hand]


@dataclass(frozen=True)
class Unrolled:
    """points: (F, 3, 2) the corners, from nought to `size` (2,). bent: whether it was."""

    points: F64
    size: F64
    bent: bool


def unrolled(corners: F64, stance: Stance) -> Unrolled | None:
    """A surface (F, 3, 3) that is flat or bent one way, in metres. None where it has no front, or is bent both ways. O(F log F)."""
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(across, axis=1)
    total = across.sum(axis=0)
    if not area.sum() > 0 or np.linalg.norm(total) < ONE_SIDED * area.sum():
        return None
    front = total / np.linalg.norm(total)
    upwards = stance.up - (stance.up @ front) * front
    if np.linalg.norm(upwards) < LYING:
        upwards = stance.ahead - (stance.ahead @ front) * front
    upwards /= np.linalg.norm(upwards)
    right = stance.hand * np.cross(upwards, front)
    solid = area > 0
    each = across[solid] / area[solid, None]
    if (each @ front).min() >= FLAT:
        return settled(np.stack([corners @ right, -(corners @ upwards)], axis=2), False)
    spread = (each * area[solid, None]).T @ each
    values, axes = np.linalg.eigh(spread)
    if values[0] > CURVED_BOTH_WAYS * values.sum():
        return None
    axis = axes[:, 0]
    basis = axes[:, 1:]
    along = way_along(corners @ basis)
    if along is None:
        return None
    if abs(axis @ upwards) >= UPRIGHT:
        axis = axis * np.sign(axis @ upwards)
        rightwards = stance.hand * np.cross(axis, across)
        return settled(np.stack([along * grows(along, corners, rightwards), -(corners @ axis)], axis=2), True)
    axis = axis * np.sign(axis @ right)
    downwards = stance.hand * np.cross(axis, across)
    return settled(np.stack([corners @ axis, along * grows(along, corners, downwards)], axis=2), True)


def settled(points: F64, bent: bool) -> Unrolled:
    flat = points.reshape(-1, 2)
    low = flat.min(axis=0)
    return Unrolled(points - low, flat.max(axis=0) - low, bent)


def grows(values: F64, corners: F64, way: F64) -> float:
    """1 where values (F, 3) on the corners (F, 3, 3) grow along the ways (F, 3) of their triangles, -1 where they shrink."""
    inner = values - values.mean(axis=1, keepdims=True)
    there = np.einsum("fki,fi->fk", corners - corners.mean(axis=1, keepdims=True), way)
    return 1.0 if (inner * there).sum() >= 0 else -1.0


def way_along(points: F64) -> F64 | None:
    """(F, 3) how far along a bent line corners (F, 3, 2) stand, which lie on it; None where it is no single line with two
    ends."""
    flat = points.reshape(-1, 2)
    step = SAME * max(float(np.ptp(flat, axis=0).max()), 1e-30)
    places, which = np.unique(np.rint((flat - flat.min(axis=0)) / step), axis=0, return_inverse=True)
    which = which.reshape(-1, 3)
    ends = np.sort(np.concatenate([which[:, [0, 1]], which[:, [1, 2]], which[:, [2, 0]]]), axis=1)
    ends = np.unique(ends[ends[:, 0] != ends[:, 1]], axis=0)
    degree = np.bincount(ends.reshape(-1), minlength=len(places))
    if len(ends) != len(places) - 1 or degree.max(initial=0) > 2:
        return None
    beside: list[list[int]] = [[] for _ in places]
    for a, b in ends.tolist():
        beside[a].append(b)
        beside[b].append(a)
    order = [int(np.flatnonzero(degree == 1)[0])]
    while len(order) < len(places):
        further = [k for k in beside[order[-1]] if k not in order[-2:-1]]
        if not further:
            return None
        order.append(further[0])
    middle = np.zeros((len(places), 2))
    np.add.at(middle, which.reshape(-1), flat)
    middle /= np.bincount(which.reshape(-1), minlength=len(places))[:, None]
    long = np.linalg.norm(np.diff(middle[order], axis=0), axis=1)
    at = np.zeros(len(places))
    at[order] = np.concatenate([[0.0], np.cumsum(long)])
    return at[which]


@dataclass(frozen=True)
class Shown:
    """How an image lies on a surface. mirrored. turned: degrees, clockwise. low, high: (2,) of the image that show, 0 to 1
    where it shows once. size: (2,) metres that the image measures along its width and its height. scattered: part of the
    image by which the coordinates are off one plain layout, as where it lies in several pieces."""

    mirrored: bool
    turned: float
    low: F64
    high: F64
    size: F64
    scattered: float


def shown(surface: Unrolled, image: F64) -> Shown | None:
    """How an image lies, by its coordinates (F, 3, 2) at the corners; None where they have no area."""
    points, uv = surface.points.reshape(-1, 2), image.reshape(-1, 2)
    a, b, c = surface.points.transpose(1, 0, 2)
    area = np.abs((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])
    weight = np.sqrt(np.repeat(area, 3))[:, None]
    known = np.column_stack([points, np.ones(len(points))])
    found, *_ = np.linalg.lstsq(known * weight, uv * weight, rcond=None)
    matrix = found[:2].T
    determinant = float(np.linalg.det(matrix))
    if not abs(determinant) * float(surface.size.prod()) > 1e-9:
        return None
    back = np.linalg.inv(matrix)
    size = np.linalg.norm(back, axis=0)
    # of a mirrored image it is told how it would be turned, were it not
    x, y = back[:, 0] * (-1 if determinant < 0 else 1)
    off = np.abs(known @ found - uv).max(axis=1)
    return Shown(
        determinant < 0,
        float(np.degrees(np.arctan2(y, x))),
        uv.min(axis=0),
        uv.max(axis=0),
        size,
        float(off.max() / max(float(np.ptp(uv, axis=0).max()), 1e-30)),
    )


def laid(surface: Unrolled, aspect: float, fit: str, turn: int, flip: str, scale: float, offset: F64) -> F64:
    """(F, 3, 2) coordinates with which an image lies on a surface. aspect: its width by its height, 0 where that is not
    known. fit: fill, whole or cut. turn: degrees, clockwise. flip: no, sideways or upside down. scale: times as large.
    offset: (2,) to the right and down, in parts of the surface."""
    size = surface.size
    quarter = turn % 180 != 0
    wide, high = size[::-1] if quarter else size
    if aspect > 0 and fit != "fill":
        wider = aspect * high > wide
        if wider == (fit == "whole"):
            high = wide / aspect
        else:
            wide = high * aspect
    angle = np.radians(turn)
    c, s = np.cos(angle), np.sin(angle)
    points = surface.points - size / 2 - offset * size
    # the image's own right and down, turned clockwise on the surface
    x = points[..., 0] * c + points[..., 1] * s
    y = -points[..., 0] * s + points[..., 1] * c
    out = np.stack([x / (wide * scale), y / (high * scale)], axis=-1)
    out[..., 0] *= -1 if flip == "sideways" else 1
    out[..., 1] *= -1 if flip == "upside_down" else 1
    out = out + 0.5
    # what is nought or one is so exactly, whatever was reckoned on the way
    exact = np.rint(out)
    return np.where(np.abs(out - exact) < 1e-7, exact, out)


def largest_face(corners: F64, label: I64, up: F64) -> I64:
    """(K,) the triangles of the largest of flat faces (F,), of those that stand where any does; none where it is no larger
    than many others."""
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    count = int(label.max()) + 1
    area = np.bincount(label, np.linalg.norm(across, axis=1), minlength=count)
    way = np.column_stack([np.bincount(label, across[:, k], minlength=count) for k in range(3)])
    stands = np.abs(way @ up) <= UPRIGHT * np.linalg.norm(way, axis=1)
    chosen = np.where(stands, area, -1.0) if stands.any() else area
    largest = int(chosen.argmax())
    return np.flatnonzero(label == largest) if area[largest] >= LARGE * area.sum() else np.zeros(0, np.int64)
