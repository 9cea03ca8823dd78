"""Decodes Draco-compressed geometry through DracoPy. Runs in a child process, as all native code does."""

from __future__ import annotations

from typing import Any

import DracoPy
import numpy as np

from tidy_caravan.core.scene.arrays import U32, AnyArray


def decode(data: bytes, ids: tuple[int, ...]) -> tuple[U32, dict[int, AnyArray]] | str:
    """(F, 3) triangles, and (V, width) values by the unique ids asked for; or why not, in words that end a sentence."""
    try:
        mesh: Any = DracoPy.decode(data)
    except (ValueError, RuntimeError, DracoPy.FileTypeException):
        return "it is no Draco data, or damaged"
    faces = getattr(mesh, "faces", None)
    if faces is None:
        return "it holds points and no triangles"
    found = {int(a["unique_id"]): np.asarray(a["data"]) for a in mesh.attributes}
    missing = [i for i in ids if i not in found]
    if missing:
        return f"it has no attribute {missing[0]}"
    return np.asarray(faces, np.uint32).reshape(-1, 3), {i: found[i] for i in ids}
