"""Colours between display and light: the sRGB transfer function (IEC 61966-2-1)."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from tidy_caravan.core.scene.arrays import F64


def linear(coded: ArrayLike) -> F64:
    """The light that sRGB numbers 0–1 stand for; any shape."""
    value = np.asarray(coded, np.float64)
    return np.where(value <= 0.04045, value / 12.92, ((value + 0.055) / 1.055) ** 2.4)


def coded(light: ArrayLike) -> F64:
    """The sRGB numbers 0–1 that stand for light; any shape."""
    value = np.asarray(light, np.float64)
    return np.where(value <= 0.0031308, 12.92 * value, 1.055 * np.maximum(value, 0.0) ** (1 / 2.4) - 0.055)
