"""Unwraps one mesh with one of two libraries and keeps the result only if it measures well.

Called in a child process (geometry/isolation.py), because both libraries are native code.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.lightmap.verify import UvReport, measure
from tidy_caravan.core.scene.arrays import F32, I64, U32

TRIES = 4
SMALL = 2500
"""Up to so many triangles xatlas is tried first: it fills its maps better and is quick enough there."""


@dataclass(frozen=True)
class Unwrapped:
    """source: (V',) original vertex of each new one. indices: (F, 3), same triangles in the same order."""

    source: I64
    indices: U32
    uv: F32
    report: UvReport
    method: str


def methods(triangles: int) -> list[str]:
    """Unwrappers to try in order for a mesh of that size."""
    return ["xatlas", "uvunwrap"] if triangles <= SMALL else ["uvunwrap", "xatlas"]


def time_limit(triangles: int) -> float:
    """Seconds one attempt may take."""
    return 20.0 + triangles / 2000.0


def unwrap(positions: F32, indices: U32, resolution: int, padding: int, method: str) -> Unwrapped:
    """A UV set inside 0–1 without overlaps, islands at least `padding` texels apart at `resolution`.

    Raises RuntimeError with the figures when no try meets that.
    """
    low, high = positions.min(axis=0), positions.max(axis=0)
    size = float((high - low).max()) or 1.0
    scaled = ((positions - low) / size).astype(np.float32)  # the libraries' own tolerances are absolute
    solid = np.linalg.norm(face_vectors(scaled, indices), axis=1) / 2
    asked, shrink = max(1, padding // 2), 1.0  # both libraries pad every island, so gaps are twice that
    found = "nothing"
    for _ in range(TRIES):
        source, faces, uv, pages = (_xatlas if method == "xatlas" else _uvunwrap)(
            scaled, indices, resolution, asked, shrink
        )
        if len(faces) != len(indices):
            raise RuntimeError("it changed the number of triangles")
        if not np.array_equal(positions[source][faces], positions[indices]):
            raise RuntimeError("it moved corners of triangles")
        if pages > 1:
            shrink *= 0.85
            found = f"{pages} pages"
            continue
        report = measure(uv, faces, resolution, solid, scaled[source])
        if report.clean and report.collapsed == 0 and report.gap_texels >= padding:
            return Unwrapped(source, faces, uv, report, method)
        found = (
            f"{report.overlaps} overlaps, {report.out_of_range} triangles out of range, {report.collapsed} collapsed, "
            f"a gap of {report.gap_texels:.1f} texels"
        )
        asked += max(1, math.ceil(padding - report.gap_texels)) if report.gap_texels < padding else 1
    raise RuntimeError(f"{method} left {found}")


def _xatlas(positions: F32, indices: U32, resolution: int, padding: int, shrink: float) -> tuple[I64, U32, F32, int]:
    import xatlas

    atlas: Any = xatlas.Atlas()
    atlas.add_mesh(positions, indices)
    pack: Any = xatlas.PackOptions()
    pack.resolution, pack.padding, pack.bilinear, pack.create_image = resolution, padding, True, False
    area = float(np.linalg.norm(face_vectors(positions, indices), axis=1).sum()) / 2
    if shrink < 1.0 and area > 0:
        pack.texels_per_unit = shrink * resolution * math.sqrt(0.75 / area)
    atlas.generate(xatlas.ChartOptions(), pack)
    source, faces, uv = atlas[0]
    side = max(atlas.width, atlas.height, resolution)
    square = np.array([atlas.width / side, atlas.height / side], np.float32)
    return source.astype(np.int64), faces.astype(np.uint32), (uv * square).astype(np.float32), int(atlas.atlas_count)


def _uvunwrap(positions: F32, indices: U32, resolution: int, padding: int, shrink: float) -> tuple[I64, U32, F32, int]:
    import uvunwrap

    atlas = uvunwrap.generate([uvunwrap.Mesh(positions, indices)], page_size=resolution, padding=padding)
    mesh = atlas.meshes[0]
    return (
        np.array(mesh.xref, np.int64),
        np.array(mesh.indices, np.uint32).reshape(-1, 3),
        np.array(mesh.uv, np.float32).reshape(-1, 2),
        int(atlas.page_count),
    )


def job(
    positions: F32, indices: U32, existing: F32 | None, resolution: int, padding: int, method: str
) -> UvReport | Unwrapped:
    """The report of an existing UV set that is good enough, or a new unwrap. Raises RuntimeError."""
    if existing is not None:
        solid = np.linalg.norm(face_vectors(positions, indices), axis=1) / 2
        report = measure(existing, indices, resolution, solid, positions)
        if report.clean and report.collapsed == 0 and report.gap_texels >= padding:
            return report
    return unwrap(positions, indices, resolution, padding, method)
