"""The mesh that a family shares: the head's, about its own origin and axes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.space.convert import transform_mesh


def prototype(mesh: Mesh, frame: F64) -> Mesh:
    """The mesh in another frame (4, 4), a turn and a move; as it is where that is none. Moved in float64, stored near the
    new origin."""
    if (frame == np.eye(4)).all():
        return mesh
    turned = mesh if (frame[:3, :3] == np.eye(3)).all() else transform_mesh(mesh, frame[:3, :3])
    moved = mesh.positions.astype(np.float64) @ frame[:3, :3].T + frame[:3, 3]
    return replace(turned, positions=(moved + 0.0).astype(np.float32), recipe=None)
