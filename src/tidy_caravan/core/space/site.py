"""Where a scene lies on its site: what was taken off its numbers to bring it near the origin, and how to give it back.

The offset is kept in float64, in metres with Z up, whatever the scene's convention. It is taken off once per haul.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidy_caravan.core.scene import Convention, Note, Scene
from tidy_caravan.core.scene.arrays import F64, Bool
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.space.clips import moved_in_place

SITE = Convention(1.0, "Z", "Y", "right")
FAR_M = 5000.0
"""Distance from the origin from which on a scene is recentred: a float32 step is half a millimetre there."""
FAR_SIZES = 16.0
"""And in its own diagonals: a building in millimetres that says metres is large, and not far away."""
MOST = 1e100
"""Numbers beyond are no places: their squares are none."""
ASKED = 64
"""Parts that are tried as the middle of the others."""


def georeference_of(scene: Scene) -> dict[str, Any] | None:
    """What the source says of where it lies, and `offsetMetres`, what was taken off."""
    extras = scene.extras.get("extras")
    found = extras.get("georeference") if isinstance(extras, dict) else None
    return found if isinstance(found, dict) else None


def taken_off(scene: Scene) -> F64:
    """(3,) what was taken off, in metres, Z up."""
    geo = georeference_of(scene) or {}
    out: F64 = np.array(geo.get("offsetMetres") or (0.0, 0.0, 0.0), np.float64)
    return out


def with_offset(scene: Scene, offset: F64) -> Scene:
    """The scene that says that this much (3,) was taken off; its numbers stay as they are."""
    old = scene.extras.get("extras")
    rest = old if isinstance(old, dict) else ({} if old is None else {"value": old})
    geo = {**(georeference_of(scene) or {}), "offsetMetres": offset.tolist()}
    return scene.but(extras={**scene.extras, "extras": {**rest, "georeference": geo}})


def moved(scene: Scene, metres: F64) -> Scene:
    """The whole scene moved by (3,) metres in the axes of the site, its clips with it."""
    by = np.zeros((len(scene.nodes), 3))
    by[scene.nodes.parent < 0] = np.linalg.solve(linear_map(scene.convention, SITE), metres)
    return moved_in_place(scene, by)


def on_site(scene: Scene, points: F64) -> F64:
    """Points (N, 3) of a scene where they lie on its site: metres, Z up, with what was taken off."""
    out: F64 = points @ linear_map(scene.convention, SITE).T + taken_off(scene)
    return out


def together(boxes: F64, metres: float) -> Bool:
    """(P,) which of some boxes (P, 2, 3) stand together: the half that is nearest to each other, and all that is no further from
    it than FAR_M, or FAR_SIZES of its sizes or of their own. What has no place in numbers stands with nobody, unless nothing has
    one. metres: per unit. O(P log P)."""
    out: Bool = np.asarray((np.abs(boxes) < MOST).all(axis=(1, 2)))
    if not out.all():
        if out.any():
            out[out] = together(boxes[out], metres)
        return out if out.any() else ~out
    if len(boxes) < 2 or not np.linalg.norm(boxes[:, 1].max(axis=0) - boxes[:, 0].min(axis=0)) * metres > FAR_M:
        return out
    middle, radius = boxes.mean(axis=1), np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1) / 2
    half = (len(boxes) - 1) // 2
    tried = np.unique(np.linspace(0, len(boxes) - 1, ASKED).astype(np.int64)).tolist()
    away = min(
        (np.linalg.norm(middle - middle[i], axis=1) for i in tried), key=lambda d: float(np.partition(d, half)[half])
    )
    order = np.argsort(away, kind="stable")
    near, far = (away - radius)[order], np.maximum.accumulate((away + radius)[order])
    beyond = near[1:] > np.maximum(FAR_M / metres, FAR_SIZES * 2 * np.maximum(far[:-1], radius[order[1:]]))
    ends = half + np.flatnonzero(beyond[half:])
    if len(ends):
        out[order[ends[0] + 1 :]] = False
    return out


@kept
def near_parts(scene: Scene) -> Bool:
    """(P,) which of the parts stand together."""
    return together(scene.part_bounds, scene.convention.metres_per_unit)


def middle_and_reach(scene: Scene) -> tuple[F64, float] | None:
    """Where most of the parts lie, (3,) metres in the axes of the site, and how far from the origin that may be; None where
    nothing is drawn. What stands far apart from them counts for neither."""
    boxes = scene.part_bounds
    if not len(boxes):
        return None
    boxes = boxes[near_parts(scene)]
    middle = linear_map(scene.convention, SITE) @ np.median((boxes[:, 0] + boxes[:, 1]) / 2, axis=0)
    span = boxes[:, 1].max(axis=0) - boxes[:, 0].min(axis=0)
    size = float(np.linalg.norm(span)) * scene.convention.metres_per_unit
    return middle, max(FAR_M, FAR_SIZES * size)


def as_before(scene: Scene, before: Scene) -> Scene:
    """A new version of a source with the offset of the one before, as long as that brings it near the origin: what the route
    says of places in the world means the same places then. Told where it does not. O(parts)."""
    offset = taken_off(before)
    step = taken_off(scene) - offset
    lies = middle_and_reach(scene)
    if not step.any() or lies is None:
        return scene
    text = "What was taken off its places is not what it was before: points, planes and volumes of the route may lie elsewhere now."
    other = scene.but(notes=(*scene.notes, Note("guess", "import.other-offset", "scene", text)))
    if not np.abs(lies[0] + step).max() <= lies[1]:
        return other
    out = with_offset(moved(scene, step), offset)
    text = f"The scene is recentred by {offset[0]:.0f}, {offset[1]:.0f}, {offset[2]:.0f} m, as before."
    told = [n for n in out.notes if n.code != "import.recentred"]
    return out.but(notes=(*told, Note("converted", "import.recentred", "scene", text)))


def recentred(scene: Scene) -> Scene:
    """The scene near the origin, with the offset kept, when it lies more than FAR_M and FAR_SIZES from it. O(parts)."""
    lies = middle_and_reach(scene)
    if lies is None:
        return scene
    middle, reach = lies
    if not np.isfinite(middle).all() or np.abs(middle).max() <= reach:
        return scene
    offset = np.rint(middle)
    far = f"The scene lies {np.linalg.norm(offset) / 1000:.1f} km from its origin"
    out = with_offset(moved(scene, -offset), taken_off(scene) + offset)
    text = f"{far}; it was recentred by {offset[0]:.0f}, {offset[1]:.0f}, {offset[2]:.0f} m, and the offset is kept."
    return out.but(notes=(*scene.notes, Note("converted", "import.recentred", "scene", text)))


def read_as(scene: Scene, convention: Convention) -> Scene:
    """The same numbers in another convention, and the offset with them: it was taken off in numbers of the file."""
    if convention is scene.convention:
        return scene
    out = scene.but(convention=convention)
    offset = taken_off(scene)
    if not offset.any():
        return out
    numbers = np.linalg.solve(linear_map(scene.convention, SITE), offset)
    return with_offset(out, linear_map(convention, SITE) @ numbers)
