"""Turns that lay a mesh on itself, with all that hangs on its corners: copies of it may stand turned by any of them, and
look the same."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from tidy_caravan.core.copies.batch import can_be_shared, normal_form, stacked, unstacked
from tidy_caravan.core.copies.laid import LARGER, SAMPLES, Allowed, Anchor, Laid, candidates, checked
from tidy_caravan.core.copies.placing import cleaned
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I32, I64, AnyArray, Bool
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop

LOADS = ("scipy.spatial", "scipy.sparse.csgraph")
TURNS = Work("turns onto itself", 1, f"{__name__}:turns_of")
MOST_TRIANGLES = 20_000
MOST = 256
"""Turns of one mesh that are tried; of a round one with more sides not all are found."""


@dataclass(frozen=True)
class Turns:
    """matrix: (G, 4, 4) turns about the middle of a mesh, the one that changes nothing first. triangle: (G, F) on which of
    its triangles each lies after the turn. middle: (3,)."""

    matrix: F64
    triangle: I32
    middle: F64


def turns_in(
    scene: Scene, meshes: I64, tolerance: F64, workshop: Workshop, tell: Tell
) -> tuple[dict[int, Turns], list[str]]:
    """Of each mesh (K,) that has any besides the one that changes nothing; and where they were not found out, why not.
    tolerance: (M,) of a corner, in units of its mesh, for all meshes of the scene."""
    asked = [
        i for i in meshes.tolist() if scene.meshes[i].triangles <= MOST_TRIANGLES and can_be_shared(scene.meshes[i])
    ]
    pieces = []
    for i in asked:
        mesh = scene.meshes[i]
        digest = hashlib.blake2b(f"{mesh.id} {tolerance[i]:.6g}".encode(), digest_size=16)
        size = mesh.vertices + mesh.triangles
        pieces.append(
            Piece(digest.hexdigest(), stacked([mesh], tolerance[[i]]), {}, seconds=30 + size / 500, size=size)
        )
    out: dict[int, Turns] = {}
    lost = []
    for i, outcome in zip(asked, workshop.do(TURNS, pieces, tell), strict=True):
        if not isinstance(outcome, Done):
            lost.append(f"“{scene.meshes[i].name or scene.meshes[i].id[:8]}”: {outcome.reason}")
        elif len(outcome.arrays["matrix"]) > 1:
            out[i] = Turns(outcome.arrays["matrix"], outcome.arrays["triangle"], outcome.arrays["middle"])
    return out, lost


def turns_of(arrays: Mapping[str, AnyArray]) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: the turns of the one mesh of a stack. O(turns tried · corners log corners)."""
    from scipy.spatial import cKDTree

    one = unstacked(arrays)
    own = normal_form(one, per_axis=False)
    middle = one.points[0].mean(axis=0)
    matrix, triangle = [np.eye(4)], [np.arange(one.faces.shape[1], dtype=np.int32)]
    if own.usable[0]:
        allowed = Allowed("none", False, np.array([0.0, 1.0, 0.0]))
        anchor = Anchor.of(one, own)
        spare = 4 * own.blur + 1e-6
        if spare[0] * LARGER > anchor.shortest:
            spare = 4 * own.noise + 1e-6
        _, tried = candidates(anchor, one, own, spare, allowed)
        tree = cKDTree(anchor.places)
        reach = 2 * (1 + 2 * float(np.linalg.norm(anchor.places, axis=1).max()) / max(anchor.shortest, 1e-9)) * spare
        vertices = one.points.shape[1]
        tested = np.linspace(0, vertices - 1, min(SAMPLES, vertices)).astype(np.int64)
        far, _ = tree.query(own.points[0][tested] @ tried)
        tried = tried[(np.asarray(far) <= reach[0]).all(axis=1)][:MOST]
        rows = np.zeros(len(tried), np.int64)
        some, near = one.of(rows), own.of(rows)
        every = np.arange(len(tried))
        out = Laid.none(len(tried), vertices, one.faces.shape[1])
        checked(anchor, tree, some, near, every, tried, reach[rows], every, allowed, out)
        exact = cleaned(out.linear)
        moves: Bool = np.abs(exact - np.eye(3)).max(axis=(1, 2)) > 1e-6
        same = (one.slots[0][out.triangles] == one.slots[0]).all(axis=1)
        for k in np.flatnonzero(out.fits & moves & same).tolist():
            turn = np.eye(4)
            turn[:3, :3], turn[:3, 3] = exact[k], middle - exact[k] @ middle
            matrix.append(turn)
            triangle.append(out.triangles[k])
    return {"matrix": np.stack(matrix), "triangle": np.stack(triangle), "middle": middle}, {}
