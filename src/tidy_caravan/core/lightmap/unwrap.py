"""Unwraps one mesh and keeps the result only if it measures well.

Charts come from a set that is there and clean, from flat pieces where nothing smooth is cut, or from one of two libraries;
they are laid out by their shapes (`packing`), and what covers most of its map is kept. Called in a child process
(core/work), because the libraries are native code.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.lightmap.charts import flat_pieces, island_of, unmirrored_in_place
from tidy_caravan.core.lightmap.laying import laid
from tidy_caravan.core.lightmap.strips import joined
from tidy_caravan.core.lightmap.verify import UvReport, islands, measure, overlaps_inside, smooth_seams
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, AnyArray
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Work

LOADS = ("scipy.sparse.csgraph", "shapely", "xatlas", "uvunwrap", "tidy_caravan.core.lightmap.packing")
"""Libraries that the work needs and that are imported where they are used; see `core.work.nursery`."""
TRIES = 4
SMOOTH_DEG = 30.0
"""Angle between neighbours below which a surface is smooth there."""
CUT = 0.02
"""Part of the edges between flat pieces that may be smooth for them to be the charts."""
MOST_FLAT = 50_000
"""Triangles up to which flat pieces are looked at as charts."""
SURELY = 0.8
"""Fill from which on no other charts are tried."""
ITS_OWN = 0.6
"""Fill of a layout of ours from which on a library's own is not asked for."""
WORTH_JOINING = 0.95
"""Fill by which strips are joined: each join lets light bleed across a hard edge by a part of a texel."""
EVEN = 1.15
"""How uneven or stretched a set may be on average whose islands serve for light."""
SMALL = 2500
"""Up to so many triangles xatlas is tried first: it fills its maps better and is quick enough there."""
LARGEST_MAP = 8192
"""Texels along the edge of the largest map that is proposed, if the destination takes it."""


@dataclass(frozen=True)
class Unwrapped:
    """source: (V',) original vertex of each new one. indices: (F, 3), same triangles in the same order.

    resolution, height: texels of the map at which the padding holds: what was asked for, or more; lower where the islands
    need no more.
    """

    source: I64
    indices: U32
    uv: F32
    report: UvReport
    method: str
    resolution: int
    height: int


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


Charts = tuple[I64, U32, F32, I64]
"""Source vertices (V',), triangles (F, 3), coordinates (V', 2) in any scale, island of each triangle (F,)."""


@dataclass(frozen=True)
class Wanted:
    """What a set is made for. most: texels along the largest map. square: maps as high as they are wide alone. step: texels
    that corners of islands are multiples of, so that none shares a block that is compressed with another; 0 for anywhere."""

    resolution: int
    padding: int
    most: int = LARGEST_MAP
    square: bool = False
    step: int = 0


def unwrap(
    positions: F32, indices: U32, resolution: int, padding: int, method: str, most: int = LARGEST_MAP,
    square: bool = False, first: F32 | None = None, step: int = 0,
) -> Unwrapped:  # fmt: skip
    """A UV set inside 0–1 without overlaps or mirrored islands, islands at least `padding` texels apart and half of
    that from the edge, at `resolution` or, where its islands need it, at a larger one up to `most`.

    first: (V, 2) a set whose islands serve if it is clean. Vertices that no triangle uses count for nothing. Raises
    RuntimeError with the figures when no try meets that.
    """
    wanted = Wanted(resolution, padding, most, square, step)
    used = np.unique(indices).astype(np.int64)
    compact = np.searchsorted(used, indices).astype(np.uint32)
    points = positions[used]
    if not np.isfinite(points).all():
        raise RuntimeError("corners of it lie at places that are no numbers; clean the geometry first")
    low, high = points.min(axis=0), points.max(axis=0)
    size = float((high - low).max()) or 1.0
    mesh = Surface(((points - low) / size).astype(np.float32), compact)  # the libraries' own tolerances are absolute
    made: list[Unwrapped] = []
    told = ["nothing"]

    def tried(name: str, charts: Charts) -> None:
        try:
            made.append(mesh.laid_out(charts, name, wanted))
        except RuntimeError as error:
            told.append(str(error))

    if first is not None and (charts := mesh.islands_of_set(first[used])) is not None:
        tried("first set, laid out anew", charts)
    if len(indices) <= MOST_FLAT and not any(m.report.fill >= SURELY for m in made):
        charts = flat_pieces(mesh.points, compact)
        if method == "flat pieces" or cut_smooth(mesh, charts) <= CUT:
            tried("flat pieces", charts)
            if (
                made
                and made[-1].report.fill < SURELY
                and (strips := joined(charts, mesh.points, mesh.solid, resolution))
            ):
                tried("flat pieces, strips side by side", strips)
    elif method == "flat pieces":
        tried("flat pieces", flat_pieces(mesh.points, compact))
    if method in LIBRARIES and not any(m.report.fill >= SURELY for m in made):
        try:
            made += by_library(mesh, method, wanted, told)
        except RuntimeError as error:  # what there is without it is as good as before
            told.append(str(error))
    if not made:
        raise RuntimeError(f"{method} left {told[-1]}")
    best = max(made, key=lambda m: m.report.fill * (WORTH_JOINING if "strips" in m.method else 1.0))
    return replace(best, source=used[best.source])


def by_library(mesh: Surface, method: str, wanted: Wanted, told: list[str]) -> list[Unwrapped]:
    """The library's charts in a layout of ours, and in its own where that measures well."""
    made: list[Unwrapped] = []
    asked = max(1, wanted.padding // 2)  # both libraries pad every island, so gaps are twice that
    charts: Charts | None = None
    for _ in range(TRIES):
        source, faces, uv, pages = LIBRARIES[method](mesh.points, mesh.faces, wanted.resolution, asked)
        if len(faces) != len(mesh.faces):
            raise RuntimeError("it changed the number of triangles")
        if not np.array_equal(mesh.points[source][faces], mesh.points[mesh.faces]):
            raise RuntimeError("it moved corners of triangles")
        label = islands(faces, len(uv), uv, mesh.points[source])
        if charts is None:
            charts = source, faces, uv, label
            # no layout mends these, and laying out takes long
            if on_each_other := overlaps_inside(uv, faces, label):
                told.append(f"{plural(on_each_other, 'overlap')} within islands")
                break
            try:
                made.append(mesh.laid_out(charts, f"{method}, laid out anew", wanted))
            except RuntimeError as error:
                told.append(str(error))
        if pages > 1 or wanted.step or any(m.report.fill > ITS_OWN for m in made):
            break  # asking again would give the same, or nothing better
        uv = as_wanted(uv, faces, label, border_of(wanted.padding) / wanted.resolution)
        report = mesh.measured(source, faces, uv, wanted.resolution, wanted.resolution, wanted.padding)
        if good(report, wanted.padding):
            made.append(Unwrapped(source, faces, uv, report, method, wanted.resolution, wanted.resolution))
            break
        told.append(in_words(report))
        if report.mirrored or report.overlaps or report.out_of_range or report.collapsed:
            break
        asked += max(1, math.ceil((wanted.padding - report.gap_texels) / 2))
    return made


@dataclass
class Surface:
    """points: (V, 3) in a box of one. faces: (F, 3)."""

    points: F32
    faces: U32

    def __post_init__(self) -> None:
        self.solid: F64 = np.linalg.norm(face_vectors(self.points, self.faces), axis=1) / 2

    def measured(self, source: I64, faces: U32, uv: F32, width: int, height: int, padding: int) -> UvReport:
        return measure(uv, faces, width, self.solid, self.points[source], padding + 1, height)

    def laid_out(self, charts: Charts, name: str, wanted: Wanted) -> Unwrapped:
        """The charts on a map. Raises RuntimeError when it does not measure well."""
        source, faces, uv, label = charts
        found = laid(
            uv, faces, label, self.solid, wanted.resolution, wanted.padding, wanted.most, wanted.square, wanted.step
        )
        report = self.measured(source, faces, found.uv, found.width, found.height, wanted.padding)
        if not good(report, wanted.padding):
            raise RuntimeError(in_words(report))
        return Unwrapped(source, faces, found.uv, report, name, found.width, found.height)

    def islands_of_set(self, uv: F32) -> Charts | None:
        """The islands of a set (V, 2) when none of its triangles lie on each other and it is about as dense everywhere;
        wherever they lie, and however large they are."""
        if not np.isfinite(uv).all():
            return None
        span = float(np.ptp(uv[self.faces.reshape(-1)], axis=0).max(initial=0.0))
        if span <= 0:
            return None
        scaled = ((uv - uv[self.faces.reshape(-1)].min(axis=0)) / span).astype(np.float32)
        report = measure(scaled, self.faces, 1 << 14, self.solid, self.points, 0.0)
        if report.overlaps or report.collapsed or report.uneven > EVEN or report.stretch > EVEN:
            return None
        source = np.arange(len(uv), dtype=np.int64)
        return source, self.faces, scaled, islands(self.faces, len(uv), scaled, self.points)


def cut_smooth(mesh: Surface, charts: Charts) -> float:
    """Part of the length of all edges between flat pieces across which the surface is smooth."""
    _, _, _, label = charts
    vectors = face_vectors(mesh.points, mesh.faces)
    normal = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-300)
    _, welded = np.unique(mesh.points, axis=0, return_inverse=True)
    faces = welded.reshape(-1)[mesh.faces].astype(np.int64)
    ends = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
    owner = np.tile(np.arange(len(faces)), 3)
    corners = mesh.points.astype(np.float64)[mesh.faces]
    length = np.linalg.norm(corners[:, [1, 2, 0]] - corners, axis=2).T.reshape(-1)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    a, b = order[:-1], order[1:]
    same = (ends[a] == ends[b]).all(axis=1) & (label[owner[a]] != label[owner[b]])
    a, b = a[same], b[same]
    bent = (normal[owner[a]] * normal[owner[b]]).sum(axis=1)
    smooth = bent > np.cos(np.radians(SMOOTH_DEG))
    return float(length[a][smooth].sum() / max(length[a].sum(), 1e-300))


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
    arrays: Mapping[str, AnyArray],
    *,
    resolution: int,
    padding: int,
    method: str,
    most: int,
    square: bool = False,
    step: int = 0,
    was: tuple[int, int] | None = None,
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh of positions (V, 3), indices (F, 3) and, where there are such sets, existing and first (V, 2).

    was: the map that the existing set is for, where that is not as wide as high. The arrays are those of Unwrapped, none
    where the existing set measures well. Raises RuntimeError.
    """
    positions, indices = arrays["positions"], arrays["indices"]
    if "existing" in arrays:
        solid = np.linalg.norm(face_vectors(positions, indices), axis=1) / 2
        width, height = was or (resolution, resolution)
        report = measure(arrays["existing"], indices, width, solid, positions, padding + 1, height)
        if report.clean and report.collapsed == 0 and report.gap_texels >= padding:
            cut = smooth_seams(arrays["existing"], indices, positions)
            return {}, {"method": KEPT, "cut": cut, **figures_of(report, width, height)}
    made = unwrap(positions, indices, resolution, padding, method, most, square, arrays.get("first"), step)
    cut = smooth_seams(made.uv, made.indices, positions[made.source])
    figures = {"method": made.method, "cut": cut, **figures_of(made.report, made.resolution, made.height)}
    return {"source": made.source, "indices": made.indices, "uv": made.uv}, figures


def relay(
    arrays: Mapping[str, AnyArray], *, resolution: int, padding: int, most: int, square: bool, step: int = 0
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh of positions (V, 3), indices (F, 3) and a set uv (V, 2): the same islands laid out for a map of another
    size. Gives the new uv; nothing where they do not fit, or lie on each other."""
    mesh = Surface(arrays["positions"], arrays["indices"])
    used = np.unique(mesh.faces).astype(np.int64)
    uv = arrays["uv"].astype(np.float32)
    label = islands(mesh.faces, len(uv), uv, mesh.points)
    uv = as_in_space(uv, mesh, label)
    wanted = Wanted(resolution, padding, most, square, step)
    try:
        made = mesh.laid_out((np.arange(len(uv), dtype=np.int64), mesh.faces, uv, label), "laid out anew", wanted)
    except RuntimeError as error:
        return {}, {"why": str(error)}
    out = arrays["uv"].astype(np.float32)
    out[used] = made.uv[used]
    return {"uv": out}, {"why": "", **figures_of(made.report, made.resolution, made.height)}


def as_in_space(uv: F32, mesh: Surface, label: I64) -> F32:
    """The islands of a set (V, 2) each in its own proportions: maps may be lower than wide, and texels finer one way. Along
    and across by the mean square of what a step in the map is in space."""
    corners = uv.astype(np.float64)[mesh.faces]
    (a, b), (c, d) = ((corners[:, k] - corners[:, 0]).T for k in (1, 2))
    flat = a * d - b * c
    points = mesh.points.astype(np.float64)[mesh.faces]
    one, other = points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]
    good = np.abs(flat) > 1e-12
    safe = np.where(good, flat, 1.0)[:, None]
    along, across = (d[:, None] * one - b[:, None] * other) / safe, (a[:, None] * other - c[:, None] * one) / safe
    count = int(label.max(initial=-1)) + 1
    weight = np.where(good, mesh.solid, 0.0)
    total = np.maximum(np.bincount(label, weights=weight, minlength=count), 1e-300)
    scale = np.stack(
        [
            np.sqrt(np.bincount(label, weights=weight * np.einsum("ti,ti->t", way, way), minlength=count) / total)
            for way in (along, across)
        ],
        axis=1,
    )
    scale[(scale <= 0).any(axis=1)] = 1.0
    of_vertex = island_of(mesh.faces, label, len(uv))
    out: F32 = (uv * np.where((of_vertex >= 0)[:, None], scale[np.maximum(of_vertex, 0)], 1.0)).astype(np.float32)
    return out


RELAY = Work("lightmap laid out anew", 9, "tidy_caravan.core.lightmap.unwrap:relay")


def figures_of(report: UvReport, resolution: int, height: int) -> dict[str, Any]:
    return {
        "fill": report.fill, "islands": report.islands, "resolution": resolution, "height": height,
        "stretch": report.stretch, "uneven": report.uneven, "thin": report.thin,
    }  # fmt: skip


KEPT = "kept"
"""Method of a set that was there and measures well."""
UNWRAP = Work("lightmap unwrap", 13, "tidy_caravan.core.lightmap.unwrap:job")
