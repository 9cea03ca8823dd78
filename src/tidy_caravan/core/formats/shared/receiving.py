"""What stand-in receivers share: they read a package from disk with other people's readers, by the destination's rules."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.scene.arrays import F64

BOUNDS_LIMIT = 1e-6
"""Part of a mesh's size by which bounds may differ from its vertices, and of their distance from its origin."""
OTHER_BOUNDS = "has bounds in the file that are not those of its vertices"
"""What is odd about a part then: receivers cull by what the file says."""


def beside(file: Path, uri: str) -> bytes:
    """A file that a document names, never outside its folder. Raises OSError, UnusableInput."""
    path = (file.parent / unquote(uri)).resolve()
    if not path.is_relative_to(file.parent.resolve()):
        raise UnusableInput("it names a file outside its folder", where=uri[:120])
    return path.read_bytes()


def bounded(points: F64, said: F64) -> bool:
    """Whether the points (V, 3) reach from the first to the second row of what a file says of them (2, 3)."""
    found = np.array([points.min(axis=0), points.max(axis=0)]) if len(points) else np.zeros((2, 3))
    limit = BOUNDS_LIMIT * max(float(np.ptp(found, axis=0).max()), float(np.abs(found).max()))
    return said.shape == (2, 3) and bool((np.abs(found - said) <= limit).all())
