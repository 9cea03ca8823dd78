"""Signed axis permutations: how numbers of one convention become numbers of another."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.scene.convention import Axis, Convention


def axis_vector(axis: Axis) -> F64:
    """(3,) unit vector of a signed axis."""
    out = np.zeros(3)
    out["XYZ".index(axis[-1])] = -1.0 if axis.startswith("-") else 1.0
    return out


def basis(convention: Convention) -> F64:
    """(3, 3) columns right, up, forward. Raises CaravanError if up and forward share an axis.

    In a right-handed space right = forward × up, in a left-handed one the opposite.
    """
    up, forward = axis_vector(convention.up), axis_vector(convention.forward)
    if abs(up @ forward) > 0.5:
        raise CaravanError(
            f"up {convention.up} and forward {convention.forward} share an axis; choose two different ones",
            code="convention.axes",
        )
    right = np.cross(forward, up)
    if convention.handedness == "left":
        right = -right
    return np.stack([right, up, forward], axis=1)


def axis_map(source: Convention, target: Convention) -> F64:
    """(3, 3) signed permutation P with target vector = P · source vector; det -1 if handedness differs."""
    return basis(target) @ basis(source).T


def unit_factor(source: Convention, target: Convention) -> float:
    """target number = factor · source number, for lengths."""
    return source.metres_per_unit / target.metres_per_unit


def linear_map(source: Convention, target: Convention) -> F64:
    """(3, 3) factor · P: positions of `source` into positions of `target`."""
    return unit_factor(source, target) * axis_map(source, target)
