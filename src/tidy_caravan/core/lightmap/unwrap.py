"""Unwraps one mesh and keeps the result only if it measures well.

Two libraries cut it into islands; where neither can, flat pieces do. A library's own layout is kept when it holds,
and its islands are laid out anew otherwise, on a larger map if they need one. Called in a child process
(core/work), because the libraries are native code.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.lightmap.charts import flat_pieces, laid_out, unmirrored_in_place
from tidy_caravan.core.lightmap.verify import UvReport, islands, measure
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, AnyArray
from tidy_caravan.core.work.heavy import Work

LOADS = ("scipy.sparse.csgraph", "shapely", "xatlas", "uvunwrap")
"""Libraries that the work needs and that are imported where they are used; see `core.work.nursery`."""
TRIES = 4
WELL_FILLED = 0.45
"""Fill from which on a library's layout is not measured against one of our own."""
POORLY_FILLED = 0.1
"""Fill below which a map is mostly padding, and a larger one is proposed."""
SMALL = 2500
"""Up to so many triangles xatlas is tried first: it fills its maps better and is quick enough there."""
LARGEST_MAP = 8192
"""Texels along the edge of the largest map that is proposed, if the destination takes it."""


@dataclass(frozen=True)
class Unwrapped:
    """source: (V',) original vertex of each new one. indices: (F, 3), same triangles in the same order.

    resolution: texels along the edge of the map at which the padding holds: what was asked for, or more.
    """

    source: I64
    indices: U32
    uv: F32
    report: UvReport
    method: str
    resolution: int


def methods(triangles: int) -> list[str]:
    """Unwrappers to try in order for a mesh of that size."""
    first = ["xatlas", "uvunwrap"] if triangles <= SMALL else ["uvunwrap", "xatlas"]
    return [*first, "flat pieces"]


def time_limit(triangles: int) -> float:
    """Seconds of a processor that one attempt may take."""
    return 30.0 + triangles / 1000.0


def border_of(padding: int) -> float:
    """Texels to keep from the edge of the map: half of what lies between islands."""
    return padding / 2


def unwrap(
    positions: F32, indices: U32, resolution: int, padding: int, method: str, most: int = LARGEST_MAP
) -> Unwrapped:
    """A UV set inside 0–1 without overlaps or mirrored islands, islands at least `padding` texels apart and half of
    that from the edge, at `resolution` or, where its islands need it, at a larger one up to `most`.

    Vertices that no triangle uses count for nothing. Raises RuntimeError with the figures when no try meets that.
    """
    used = np.unique(indices).astype(np.int64)
    compact = np.searchsorted(used, indices).astype(np.uint32)
    points = positions[used]
    low, high = points.min(axis=0), points.max(axis=0)
    size = float((high - low).max()) or 1.0
    scaled = ((points - low) / size).astype(np.float32)  # the libraries' own tolerances are absolute
    solid = np.linalg.norm(face_vectors(scaled, compact), axis=1) / 2
    found = "nothing"
    asked = max(1, padding // 2)  # both libraries pad every island, so gaps are twice that
    charts: tuple[I64, U32, F32, I64] | None = None
    for _ in range(TRIES if method in LIBRARIES else 0):
        source, faces, uv, pages = LIBRARIES[method](scaled, compact, resolution, asked)
        if len(faces) != len(compact):
            raise RuntimeError("it changed the number of triangles")
        if not np.array_equal(points[source][faces], points[compact]):
            raise RuntimeError("it moved corners of triangles")
        label = islands(faces, len(uv), uv, scaled[source])
        charts = source, faces, uv, label
        if pages > 1:
            break  # asking again would give the same; the islands are laid out here
        uv = as_wanted(uv, faces, label, border_of(padding) / resolution)
        report = measure(uv, faces, resolution, solid, scaled[source], padding + 1)
        if good(report, padding):
            kept = Unwrapped(used[source], faces, uv, report, method, resolution)
            if report.fill > WELL_FILLED:
                return kept
            largest = most if report.fill < POORLY_FILLED else resolution
            with contextlib.suppress(RuntimeError):
                other = laid_out_anew(charts, points, scaled, solid, resolution, padding, method, largest, used, "")
                return max(kept, other, key=lambda u: u.report.fill)
            return kept
        found = in_words(report)
        if report.mirrored or report.overlaps or report.out_of_range or report.collapsed:
            break
        asked += max(1, math.ceil((padding - report.gap_texels) / 2))
    if charts is None:
        charts = flat_pieces(scaled, compact)
    return laid_out_anew(charts, points, scaled, solid, resolution, padding, method, most, used, found)


def laid_out_anew(
    charts: tuple[I64, U32, F32, I64], points: F32, scaled: F32, solid: F64, resolution: int, padding: int, method: str,
    most: int, used: I64, found: str,
) -> Unwrapped:  # fmt: skip
    """The islands of an unwrapper in a layout of our own. Raises RuntimeError when it does not measure well."""
    source, faces, uv, label = charts
    gap = padding + 0.5
    for _ in range(TRIES):
        placed, needed = laid_out(uv, faces, label, solid, resolution, gap, border_of(padding) + 0.01, most)
        report = measure(placed, faces, needed, solid, scaled[source], padding + 1)
        if good(report, padding):
            return Unwrapped(used[source], faces, placed, report, f"{method}, laid out anew", needed)
        found = in_words(report)
        if report.overlaps or report.out_of_range or report.collapsed or report.mirrored:
            break
        gap += max(0.25, padding - report.gap_texels)
    raise RuntimeError(f"{method} left {found}")


def good(report: UvReport, padding: int) -> bool:
    return (
        report.clean
        and report.collapsed == 0
        and report.mirrored == 0
        and report.gap_texels >= padding
        and report.border_texels >= border_of(padding) - 1e-3
    )


def in_words(report: UvReport) -> str:
    return (
        f"{report.overlaps} overlaps, {report.out_of_range} triangles out of range, {report.collapsed} collapsed, "
        f"{report.mirrored} islands mirrored, a gap of {report.gap_texels:.1f} texels"
    )


def as_wanted(uv: F32, faces: U32, label: I64, margin: float) -> F32:
    """A library's layout with its islands the right way round and drawn in from the edge by a part of the map."""
    flipped = unmirrored_in_place(uv, faces, label).astype(np.float64)
    out: F32 = (margin + flipped * (1.0 - 2.0 * margin)).astype(np.float32)
    return out


def _xatlas(positions: F32, indices: U32, resolution: int, padding: int) -> tuple[I64, U32, F32, int]:
    import xatlas

    atlas: Any = xatlas.Atlas()
    atlas.add_mesh(positions, indices)
    pack: Any = xatlas.PackOptions()
    pack.resolution, pack.padding, pack.bilinear, pack.create_image = resolution, padding, True, False
    atlas.generate(xatlas.ChartOptions(), pack)
    source, faces, uv = atlas[0]
    side = max(atlas.width, atlas.height, resolution)
    square = np.array([atlas.width / side, atlas.height / side], np.float32)
    uv = (uv * square).astype(np.float32)
    if atlas.atlas_count > 1:
        page, _ = atlas.get_mesh_vertex_assignment(0)
        uv[:, 0] += 2.0 * np.maximum(np.asarray(page, np.float32), 0.0)
    return source.astype(np.int64), faces.astype(np.uint32), uv, int(atlas.atlas_count)


def _uvunwrap(positions: F32, indices: U32, resolution: int, padding: int) -> tuple[I64, U32, F32, int]:
    import uvunwrap

    atlas = uvunwrap.generate([uvunwrap.Mesh(positions, indices)], page_size=resolution, padding=padding)
    mesh = atlas.meshes[0]
    uv = np.array(mesh.uv, np.float32).reshape(-1, 2)
    uv[:, 1] = 1.0 - uv[:, 1]  # it counts v from the bottom, the scene from the top
    if atlas.page_count > 1:  # pages side by side, so that their islands stay apart
        uv[:, 0] += 2.0 * np.maximum(np.array(mesh.page, np.float32), 0.0)
    return (
        np.array(mesh.xref, np.int64),
        np.array(mesh.indices, np.uint32).reshape(-1, 3),
        uv,
        int(atlas.page_count),
    )


LIBRARIES = {"xatlas": _xatlas, "uvunwrap": _uvunwrap}


def job(
    arrays: Mapping[str, AnyArray], *, resolution: int, padding: int, method: str, most: int
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh of positions (V, 3), indices (F, 3) and, where there is a set already, existing (V, 2).

    The arrays are those of Unwrapped, none where the existing set measures well. Raises RuntimeError.
    """
    positions, indices = arrays["positions"], arrays["indices"]
    if "existing" in arrays:
        solid = np.linalg.norm(face_vectors(positions, indices), axis=1) / 2
        report = measure(arrays["existing"], indices, resolution, solid, positions, padding + 1)
        if report.clean and report.collapsed == 0 and report.gap_texels >= padding:
            return {}, {"method": KEPT, "fill": report.fill, "resolution": resolution}
    made = unwrap(positions, indices, resolution, padding, method, most)
    figures = {
        "method": made.method, "fill": made.report.fill, "islands": made.report.islands, "resolution": made.resolution
    }  # fmt: skip
    return {"source": made.source, "indices": made.indices, "uv": made.uv}, figures


KEPT = "kept"
"""Method of a set that was there and measures well."""
UNWRAP = Work("lightmap unwrap", 4, "tidy_caravan.core.lightmap.unwrap:job")
