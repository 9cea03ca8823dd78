"""Files of one site against each other: what each was recentred by, and where its map conversion says it lies.

Frames are in metres with Z up, as IFC has them: site = frame · (numbers of the file as they were read).
"""

from __future__ import annotations

from typing import Any

import numpy as np

from tidy_caravan.core.scene import Convention, Note, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.space.site import SITE, georeference_of, taken_off
from tidy_caravan.core.space.transforms import affine_inverse

GRID_SCALES = (0.99, 1.01)
"""A map projection shrinks by less than this; any other scale of a map conversion is a unit."""
STILL_M = 1e-6


def map_frame(geo: dict[str, Any]) -> F64:
    """(4, 4) local numbers in metres into the map's (IFC 4, IfcMapConversion: turn, grid scale, move)."""
    out = np.eye(4)
    along = np.array([float(geo.get("xAxisAbscissa", 1.0)), float(geo.get("xAxisOrdinate", 0.0))])
    length = float(np.linalg.norm(along))
    cos, sin = along / length if length > 0 else (1.0, 0.0)
    scale = float(geo.get("scale", 1.0))
    scale = scale if GRID_SCALES[0] < scale < GRID_SCALES[1] else 1.0
    out[:3, :3] = scale * np.array([[cos, -sin, 0.0], [sin, cos, 0.0], [0.0, 0.0, 1.0]])
    unit = float(geo.get("metresPerMapUnit", 1.0))
    out[:3, 3] = np.array([geo.get(k, 0.0) for k in ("eastings", "northings", "height")], np.float64) * unit
    return out


def frames(scenes: list[Scene]) -> list[F64 | None]:
    """Each file's frame on the site, None where it says nothing of one. Map conversions count only where all files
    that have a frame name the same system."""
    geos = [georeference_of(s) for s in scenes]
    systems = {str(g.get("system") or "") for g in geos if g is not None}
    mapped = len(systems) == 1 and "" not in systems
    out: list[F64 | None] = []
    for scene, geo in zip(scenes, geos, strict=True):
        if geo is None:
            out.append(None)
            continue
        move = np.eye(4)
        move[:3, 3] = taken_off(scene)
        out.append(map_frame(geo) @ move if mapped else move)
    return out


def placements(scenes: list[Scene], names: list[str], target: Convention) -> tuple[list[F64], int, list[Note]]:
    """(4, 4) per file in the target's numbers that puts it where it lies beside the others; which file the site is
    told by (-1: none); and what had to be guessed.

    Where none says anything of a site all stand as they are. Where others do, a file that says nothing of it stands in
    the site's numbers when it lies nearer to them than to nought, and is left as it stands otherwise. All three are
    guesses and told.
    """
    found = frames(scenes)
    base = next((i for i, f in enumerate(found) if f is not None), -1)
    out = [np.eye(4) for _ in scenes]
    notes: list[Note] = []
    if base < 0:
        text = "None of the files says where it lies on a site; they stand against each other as their numbers say."
        return out, base, [Note("guess", "import.site", "scene", text)] * (len(scenes) > 1)
    first = found[base]
    assert first is not None
    back = affine_inverse(first[None])[0]
    linear = np.eye(4)
    linear[:3, :3] = linear_map(SITE, target)
    for i, frame in enumerate(found):
        relative = np.eye(4)
        if frame is not None:
            relative = back @ frame
        elif np.linalg.norm(first[:3, 3]) > 0:
            middle = linear_map(scenes[i].convention, SITE) @ middle_of(scenes[i])
            on_site = np.linalg.norm(middle - first[:3, 3]) < np.linalg.norm(middle)
            relative = back if on_site else relative
            notes.append(
                Note(
                    "guess",
                    "import.site",
                    names[i][:120],
                    "The file says nothing of a site; it was taken to stand in "
                    + ("the site's own numbers." if on_site else "the recentred numbers of the others."),
                )
            )
        if np.abs(relative - np.eye(4)).max() > STILL_M:
            out[i] = linear @ relative @ affine_inverse(linear[None])[0]
    return out, base, notes


def middle_of(scene: Scene) -> F64:
    """(3,) middle of all parts in the scene's numbers; nought when nothing is drawn."""
    boxes = scene.part_bounds
    if not len(boxes):
        return np.zeros(3)
    middle: F64 = (boxes[:, 0].min(axis=0) + boxes[:, 1].max(axis=0)) / 2
    return middle
