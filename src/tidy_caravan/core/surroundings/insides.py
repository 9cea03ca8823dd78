"""Which sides of triangles can be seen: a solid's material may be two-sided, but nobody looks out of it."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.corners import join
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import I64, U8, Bool
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.surroundings.world import Table, two_sided_slots

ONE, BOTH, THROUGH = 0, 1, 2
"""A slot is drawn from one side; from both; from both, and what is behind it shows."""


@kept
def sides_of_slots(scene: Scene) -> U8:
    """How each material slot is drawn; the last one, -1, stands for no material."""
    out = two_sided_slots(scene).astype(np.uint8)
    out[: len(scene.materials)] *= np.array(
        [BOTH if m.alpha_mode == "OPAQUE" else THROUGH for m in scene.materials], np.uint8
    )
    return out


def seen_from_both(table: Table, sides: U8) -> Bool:
    """(F,) triangles of meshes that show both their sides. sides: (F,) how they are drawn.

    The backs of a piece that is closed, looks outwards and is opaque are within it. A piece is what shares places.
    O(V log V + F log F) of the meshes that have such triangles.
    """
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    out: Bool = sides > ONE
    if not (sides == BOTH).any():
        return out
    mesh = np.repeat(np.arange(len(table.face) - 1), np.diff(table.face))
    asked = np.zeros(len(table.face) - 1, np.bool_)
    asked[mesh[sides == BOTH]] = True
    rows = np.flatnonzero(asked[mesh])
    owner = np.repeat(np.arange(len(table.vertex) - 1), np.diff(table.vertex))
    first, place = join(owner, [table.positions])
    corners = table.indices[rows] + table.vertex[mesh[rows]][:, None]
    faces: I64 = place[corners]
    a, b = (np.concatenate([faces[:, (k + shift) % 3] for k in range(3)]) for shift in (0, 1))
    graph = coo_array((np.ones(len(a), np.int8), (a, b)), shape=(len(first), len(first)))
    count, piece = connected_components(graph, directed=False)
    real = a != b
    _, edge = np.unique(np.minimum(a, b)[real] * len(first) + np.maximum(a, b)[real], return_inverse=True)
    edge = edge.reshape(-1)
    balance = np.bincount(edge, np.where(a < b, 1.0, -1.0)[real])
    closed = np.ones(count, np.bool_)
    closed[piece[a[real][balance[edge] != 0]]] = False
    # about a corner of each piece, or what lies far from the origin has no volume to speak of
    anchor = np.zeros((count, 3))
    anchor[piece[faces[:, 0]]] = table.positions[corners[:, 0]]
    x, y, z = (table.positions[corners[:, k]].astype(np.float64) - anchor[piece[faces[:, 0]]] for k in range(3))
    volume = np.bincount(piece[faces[:, 0]], np.einsum("fi,fi->f", x, np.cross(y, z)), minlength=count)
    solid = (closed & (volume > 0))[piece[faces[:, 0]]]
    out[rows[solid & (sides[rows] == BOTH)]] = False
    return out
