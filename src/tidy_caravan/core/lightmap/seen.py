"""Which parts anybody sees: from the cameras, and from where somebody can walk, at the height of their eyes.

Walkable is what faces up and has room for a person above it, but for roofs: places under the open sky with a storey below
them. A guess, told as one; glass and other things that let light through hide nothing.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.rays import Caster, spread_over
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.surroundings.world import Table, middle_of, placed
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop

LOADS = ("embreex.rtcore_scene", "embreex.mesh_construction")
SEEN = Work("parts seen", 2, f"{__name__}:seen_parts", memory=6 << 30)
SPOTS = 96
"""Places that are tried for somebody to stand on."""
EYES_M, ROOM_M, STOREY_M = 1.65, 1.8, 2.2
POINTS, LEAST_POINTS, ALL_POINTS = 12, 3, 400_000
"""Points of each part that are looked for; fewer of each where all of them together would be more than the last."""
UPRIGHT = 0.9
"""Cosine from which on a surface can be stood on."""
OFF_M = 0.02
NEARLY = 0.99
"""Part of the way to a point that has to be free: the surface itself is at its end."""


def unseen(scene: Scene, rows: I64, workshop: Workshop, tell: Tell = lambda done, total: None) -> Bool | str:
    """(P,) True for nodes that neither a camera nor a walkable place sees; nobody where there is neither. A sentence where
    that could not be found out."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    shown = np.flatnonzero((nodes.mesh >= 0) & ((nodes.flags & HIDDEN) == 0))
    found = placed(Table.of(scene.meshes), nodes.mesh[shown].astype(np.int64), nodes.world[shown])
    middle = middle_of(scene)
    clear = np.array([m.alpha_mode != "OPAQUE" for m in scene.materials] + [False])
    slot = np.concatenate([np.zeros(0, np.int32), *(m.material for m in scene.meshes)])
    begin = np.cumsum([0, *(m.triangles for m in scene.meshes)])
    solid = ~clear[slot[begin[nodes.mesh[shown][found.part]] + found.local]]
    cameras = np.flatnonzero((nodes.camera >= 0) & ((nodes.flags & HIDDEN) == 0))
    number = np.full(len(nodes), -1, np.int64)
    number[rows] = np.arange(len(rows))
    turned = (np.linalg.det(nodes.world[shown][:, :3, :3]) < 0)[found.part]
    arrays: dict[str, AnyArray] = {
        "points": ((found.points - middle) * metre).astype(np.float32),
        "faces": np.where(turned[:, None], found.faces[:, ::-1], found.faces).astype(np.int32),
        "solid": solid,
        "label": number[shown][found.part],
        "cameras": (nodes.world[cameras][:, :3, 3] - middle) * metre,
        "up": axis_vector(scene.convention.up).astype(np.float64),
    }
    digest = hashlib.blake2b(digest_size=16)
    for array in arrays.values():
        digest.update(np.ascontiguousarray(array).data)
    size = len(found.faces)
    piece = Piece(digest.hexdigest(), arrays, {"count": len(rows)}, 120 + size / 10_000, size)
    outcome = workshop.do(SEEN, [piece], tell)[0]
    return np.asarray(outcome.arrays["unseen"], np.bool_) if isinstance(outcome, Done) else outcome.reason


def seen_parts(arrays: Mapping[str, AnyArray], count: int) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: which of `count` parts nobody sees. label: (F,) the part that each triangle is of, -1 for others."""
    points, faces = arrays["points"].astype(np.float64), arrays["faces"].astype(np.int64)
    caster = Caster(points, faces[arrays["solid"]])
    corners = points[faces]
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(cross, axis=1) / 2
    up: F64 = arrays["up"]
    spots = stood_on(caster, corners, area, cross / np.maximum(2 * area, 1e-300)[:, None] @ up, arrays["solid"], up)
    eyes = np.concatenate([arrays["cameras"].reshape(-1, 3), spots])
    label: I64 = arrays["label"]
    if not len(eyes):
        return {"unseen": np.zeros(count, np.bool_)}, {"eyes": 0}
    each = min(POINTS, max(LEAST_POINTS, ALL_POINTS // max(count, 1)))
    which, triangle, bary = spread_over(area, label, np.full(count, each))
    place = np.einsum("tk,tki->ti", bary, corners[triangle])
    unseen = np.zeros(count, np.bool_)
    unseen[which] = True
    for eye in eyes:
        asked = np.flatnonzero(unseen[which])  # of what was seen already nothing is asked
        if not len(asked):
            break
        way = place[asked] - eye
        far = np.linalg.norm(way, axis=1)
        start = np.broadcast_to(eye, way.shape)
        hits, _ = caster.first_hits(start, way / np.maximum(far, 1e-9)[:, None])
        unseen[which[asked[hits >= NEARLY * far - OFF_M]]] = False
    return {"unseen": unseen}, {"eyes": len(eyes)}


def stood_on(caster: Caster, corners: F64, area: F64, upright: F64, solid: Bool, up: F64) -> F64:
    """(S, 3) eyes of somebody who stands on what faces up, where there is room, and no roof."""
    floor = np.where((upright > UPRIGHT) & solid, 0, -1)
    if not (floor == 0).any():
        return np.zeros((0, 3))
    _, triangle, bary = spread_over(area, floor, np.array([SPOTS]))
    place = np.einsum("tk,tki->ti", bary, corners[triangle])
    ways = np.tile(up, (len(place), 1))
    above, _ = caster.first_hits(place + up * OFF_M, ways)
    deep, level = np.zeros(len(place)), place - up * OFF_M
    storey = np.zeros(len(place), np.bool_)
    for _ in range(4):  # the floor's own underside, and what else lies in between
        down, _ = caster.first_hits(level - up * deep[:, None], -ways)
        deep = np.where(np.isfinite(down), deep + down + OFF_M, np.inf)
        storey |= np.isfinite(deep) & (down > STOREY_M)
        deep = np.where(np.isfinite(deep), deep, 1e6)
    roof = storey & ~np.isfinite(above)
    out: F64 = (place + up * EYES_M)[(above > ROOM_M) & ~roof]
    return out
