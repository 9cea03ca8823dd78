"""Placements whose last row says more than a placement can: told, and taken without it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from tidy_caravan.core.scene.arrays import F64, Bool

LAST_ROW_NOISE = 1e-6
"""What the last row may be off 0 0 0 1 by float32, products and inverses."""
LEFT_OUT = "The last row of its matrix is not 0 0 0 1, which no placement has; that row was left out."


def beyond_affine(matrices: F64) -> Bool:
    """(N,) of matrices (N, 4, 4): whether the last row is another than 0 0 0 1; what is no number is not asked about."""
    out: Bool = np.abs(matrices[:, 3] - (0.0, 0.0, 0.0, 1.0)).max(axis=1, initial=0.0) > LAST_ROW_NOISE
    return out


def affine(matrices: F64) -> F64:
    """The same (N, 4, 4) with 0 0 0 1 as last row."""
    out: F64 = matrices.copy()
    out[:, 3] = (0.0, 0.0, 0.0, 1.0)
    return out


def doubted(matrices: F64, names: Sequence[str]) -> list[str]:
    """A sentence for each placement (N, 4, 4) that is no affine one."""
    return [
        f"the placement of “{names[i]}” has a last row other than 0 0 0 1: receivers take it in different ways"
        for i in np.flatnonzero(beyond_affine(matrices)).tolist()
    ]
