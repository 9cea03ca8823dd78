"""How one mesh differs from another, triangle by triangle: place, winding, corner normals, UV sets, materials.

Triangles are taken in the order of the files first, each turned so that its corners meet; what does not meet there
is looked for by its place. O(F) where the order was kept, O(F log F) where it was not.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import IntEnum
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from tidy_caravan.core.geometry.normals import cross
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.space.convert import cofactors
from tidy_caravan.core.work.heavy import Outcome, Piece, Work
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.core.work.meshes import everything_of, mesh_of

TURNS: I64 = np.array([(0, 1, 2), (1, 2, 0), (2, 0, 1), (0, 2, 1), (2, 1, 0), (1, 0, 2)], np.int64)
"""The corners of a triangle in every order; the last three are seen from behind."""
BEHIND = 3
"""The first of TURNS that is."""
NOISE = 1e-6
"""Part of a mesh's size that storing it in float32 and moving it may cost, with a margin of sixteen."""
UV_LIMIT = 1e-5
"""Difference of coordinates below which they are the same, and as much again for each whole repeat, by float32."""
SAME_UV = 1e-6
"""Span of coordinates below which they are all the same: formats fill up what a part has none of."""
SAME_COLOR = 1 / 255
FLAT = float(np.cos(np.radians(1.0)))
"""Cosine of what a normal may lie off that of its triangle and be none of its own."""
UNIT_LENGTH = 0.02
"""What the length of a normal may differ from one and still be the rounding of small integers or of short texts."""
CANDIDATES = 8
GRAIN = 1e-3
"""Part of the limit by which one partner is no closer than another: of the same triangle twice the first is the first."""
CHUNK = 20_000


class Pairing(IntEnum):
    """How triangles of two meshes find each other. USUAL: in order, else by place, else what stands nearest.

    MEETING: only those that meet in one place, for surfaces some of whose triangles may have gone or come.
    IN_ORDER: one by one, wherever they stand, for surfaces whose triangles are known one by one.
    """

    USUAL = 0
    MEETING = 1
    IN_ORDER = 2


@dataclass
class Difference:
    """Of triangles that belong together, the worst. distance in the second mesh's units, normal in degrees.

    uv: per set the largest difference, in multiples of its limit. missing and extra: triangles of one side only;
    missing_height: the largest that is missing, by its smallest height.
    added: what b has and a has not, as far as it is to be seen: colours that are not white, coordinates that are not all
    the same, normals that are not those of flat faces. tangent: degrees; handed: corners whose bitangent points the other way. color: the largest difference of vertex
    colours, of 1.
    failed: why the two could not be compared.
    length: the farthest that a normal is from being of length one, where those that were sent are.
    turned: seen from the other side. slots: how many triangles of material a carry material b.
    """

    distance: float = 0.0
    normal: float = 0.0
    uv: dict[int, float] = field(default_factory=dict)
    turned: int = 0
    missing: int = 0
    missing_height: float = 0.0
    extra: int = 0
    slots: dict[tuple[int, int], int] = field(default_factory=dict)
    tangent: float = 0.0
    handed: int = 0
    tangents_lost: bool = False
    color: float = 0.0
    colors_lost: bool = False
    colors_added: bool = False
    normals_lost: bool = False
    normals_added: bool = False
    length: float = 0.0
    failed: str = ""
    uvs_lost: tuple[int, ...] = ()
    uvs_added: tuple[int, ...] = ()
    radius: float = 0.0


def ordered(mesh: Mesh) -> tuple[AnyArray, AnyArray]:
    """(F, 3) triangles and (F,) their materials, grouped by material in order of first use, as files hold them."""
    order = order_of(mesh.material)
    return (mesh.indices, mesh.material) if order is None else (mesh.indices[order], mesh.material[order])


def order_of(material: AnyArray) -> I64 | None:
    """(F,) the order of triangles grouped like that; None as they stand."""
    if not len(material) or (material == material[0]).all():
        return None
    slots, first = np.unique(material, return_index=True)
    rank = np.empty(len(slots), np.int64)
    rank[np.argsort(first)] = np.arange(len(slots))
    return np.argsort(rank[np.searchsorted(slots, material)], kind="stable")


def difference(
    a: Mesh,
    b: Mesh,
    map_a: F64,
    map_b: F64,
    limit: float,
    mirrored: bool,
    sets: int = 8,
    channels: int = 0,
    tangents: bool = False,
    uvs: dict[int, tuple[F64, F64]] | None = None,
    pairing: Pairing = Pairing.USUAL,
    loose: bool = False,
) -> Difference:
    """a under map_a (4, 4) against b under map_b (4, 4). limit: distance up to which corners are the same place.

    mirrored: one of the maps shows faces from the other side, and whoever made b turned them back.
    sets: UV sets that are looked at. channels: of vertex colours. uvs: coordinates (F, 3, 2) of both sides by set, in the order of `ordered`,
    where they are not the meshes' own. loose: points may have moved; corners and normals are then told apart as they
    are once the one is turned onto the other as well as it goes.
    """
    known = pairing is Pairing.IN_ORDER
    faces_a, slots_a = (a.indices, a.material) if known else ordered(a)
    faces_b, slots_b = (b.indices, b.material) if known else ordered(b)
    out = Difference(missing=max(0, len(faces_a) - len(faces_b)), extra=max(0, len(faces_b) - len(faces_a)))
    if not len(faces_a) or not len(faces_b):
        out.missing_height = np.inf if len(faces_a) else 0.0
        return out
    every_a, every_b = moved(a, map_a), moved(b, map_b)
    index_a: AnyArray
    index_b: AnyArray
    meeting = None if uvs else met(every_a, every_b, faces_a[:, ::-1] if mirrored else faces_a, faces_b)
    if meeting is not None:
        # the same numbers name the same places, as where a file holds a mesh as it was: a corner for each point will do
        used, times, out.radius, out.distance = meeting
        index_a, index_b, onto = used, used, np.eye(3)
        rows_a = rows_b = np.arange(len(faces_a))
        corners = TURNS[:1]
    else:
        times, points_a, points_b = None, every_a[faces_a], every_b[faces_b]
        if mirrored:
            faces_a, points_a = faces_a[:, ::-1], points_a[:, ::-1]
            if uvs:
                uvs = {k: (u[:, ::-1], v) for k, (u, v) in uvs.items()}
        centre = points_a.reshape(-1, 3).mean(axis=0)
        out.radius = float(np.abs(points_a - centre).max())
        noise = NOISE * out.radius
        onto = np.eye(3)
        if loose:
            points_a, points_b, onto = laid_on(points_a, points_b)
        if known:
            rows_a = rows_b = np.arange(min(len(faces_a), len(faces_b)))
            turn, far = best_turn(points_a[: len(rows_a)], points_b[: len(rows_a)], noise)
        else:
            rows_a, rows_b, turn, far = together(
                points_a, points_b, max(limit, noise), noise, pairing is not Pairing.MEETING
            )
            if pairing is Pairing.MEETING:
                out.missing, out.extra = len(faces_a) - len(rows_a), len(faces_b) - len(rows_b)
                if not len(rows_a):
                    out.missing_height = float(heights(points_a).max(initial=0.0))
                    return out
        out.distance = float(far.max(initial=0.0))
        if out.missing:
            out.missing_height = float(heights(np.delete(points_a, rows_a, axis=0)).max(initial=0.0))
        out.turned = int((turn >= BEHIND).sum())
        corners = TURNS[turn]
        index_a = np.take_along_axis(faces_a[rows_a], corners, axis=1).ravel()
        index_b = faces_b[rows_b].ravel()
    out.slots = counted(slots_a[rows_a], slots_b[rows_b])
    if a.normals is not None:
        out.normals_lost = b.normals is None
        if b.normals is not None:
            facing = directions(a, map_a)[index_a] @ onto.T
            out.normal = worst_angle(facing, directions(b, map_b)[index_b])
            out.length = off_unit_length(a, b, index_a, index_b, facing)
    elif b.normals is not None:
        out.normals_added = not flat(b, faces_b)
    if tangents and a.tangents is not None:
        out.tangents_lost = b.tangents is None
        if b.tangents is not None:
            along_a, along_b = along(a, map_a)[index_a] @ onto.T, along(b, map_b)[index_b]
            out.tangent = worst_angle(along_a, along_b)
            whole = np.isfinite(along_a).all(axis=1)
            sign = np.sign(a.tangents[index_a, 3]) * (-1.0 if mirrored else 1.0)
            wrong = whole & (sign * np.sign(b.tangents[index_b, 3]) < 0)
            out.handed = int(wrong.sum() if times is None else times[wrong].sum())
    lost = []
    for k in range(min(sets, len(a.uvs))):
        given = (uvs or {}).get(k)
        if given is None and k >= len(b.uvs):
            lost.append(k)
            continue
        if given is None:
            first, second = a.uvs[k][index_a].astype(np.float64), b.uvs[k][index_b].astype(np.float64)
        else:
            first = np.take_along_axis(given[0][rows_a], corners[:, :, None], axis=1).reshape(-1, 2)
            second = given[1][rows_b].reshape(-1, 2)
        out.uv[k] = coordinates(first, second)
    out.uvs_lost = tuple(lost)
    further = range(len(a.uvs), min(sets, len(b.uvs)))
    out.uvs_added = tuple(k for k in further if float(np.ptp(b.uvs[k][index_b], axis=0).max(initial=0.0)) > SAME_UV)
    if channels and b.colors and not a.colors:
        shown = np.clip(b.colors[0][index_b, :channels], 0, 1)
        out.colors_added = bool((shown < 1 - SAME_COLOR).any())
    if channels and a.colors:
        out.colors_lost = not b.colors
        if b.colors:
            shared = min(channels, a.colors[0].shape[1], b.colors[0].shape[1])
            tint, other = a.colors[0][index_a, :shared], b.colors[0][index_b, :shared]
            # beyond nought and one there is nothing to be seen
            apart = np.abs(np.clip(tint, 0, 1).astype(np.float64) - np.clip(other, 0, 1))[~np.isnan(tint)]
            out.color = float(np.where(np.isnan(apart), np.inf, apart).max(initial=0.0))
    return out


def met(a: F64, b: F64, faces_a: AnyArray, faces_b: AnyArray) -> tuple[I64, I64, float, float] | None:
    """Where two meshes are one point by point but for the noise: the points (P,) that triangles use, how many corners
    each is, the radius around the middle of the corners and the largest distance. None where they are not.

    a, b: (V, 3) points in one space. Triangles may begin at another of their corners. It comes to what `together` does
    with every corner, for a sixth.
    """
    if len(a) != len(b) or not any(np.array_equal(np.roll(faces_a, k, axis=1), faces_b) for k in range(3)):
        return None
    times = np.bincount(faces_a.ravel(), minlength=len(a))
    used = np.flatnonzero(times)
    here, there, times = a[used], b[used], times[used]
    centre = (times @ here) / times.sum()
    radius = float(np.abs(here - centre).max())
    far = float(np.linalg.norm(here - there, axis=1).max())
    return (used, times, radius, far) if far <= NOISE * radius else None


def counted(a: AnyArray, b: AnyArray) -> dict[tuple[int, int], int]:
    """How many rows of two (F,) arrays of small numbers hold each pair of values."""
    a, b = a.astype(np.int64), b.astype(np.int64)
    if not len(a):
        return {}
    if a[0] == b[0] and (a == a[0]).all() and (b == b[0]).all():
        return {(int(a[0]), int(b[0])): len(a)}
    low, span = int(b.min()), int(b.max()) - int(b.min()) + 1
    keys, counts = np.unique(a * span + (b - low), return_counts=True)
    return {(int(k // span), int(k % span) + low): int(n) for k, n in zip(keys, counts, strict=True)}


def flat(mesh: Mesh, faces: AnyArray) -> bool:
    """Whether the normals at the corners of triangles (F, 3) are those of the triangles, as receivers make them that get none."""
    assert mesh.normals is not None
    a, b, c = (mesh.positions[faces[:, k]].astype(np.float64) for k in range(3))
    across = np.cross(b - a, c - a)
    length = np.linalg.norm(across, axis=1)
    stored = mesh.normals[faces].astype(np.float64)
    size = np.linalg.norm(stored, axis=2)
    cosine = np.abs(np.einsum("fi,fki->fk", across, stored)) / np.maximum(length[:, None] * size, 1e-300)
    known = (length[:, None] > 0) & (size > 0)
    return bool((cosine[known] > FLAT).all())


def laid_on(a: F64, b: F64) -> tuple[F64, F64, F64]:
    """Corners of both sides around their middles and at one size, a's turned onto b's, and that turn (3, 3).

    Pairs in order; the best turn by least squares (Kabsch, Acta Cryst. A32, 1976).
    """
    count = min(len(a), len(b))
    first, second = a - a[:count].mean(axis=(0, 1)), b - b[:count].mean(axis=(0, 1))
    size_a, size_b = np.abs(first[:count]).max(initial=0.0), np.abs(second[:count]).max(initial=0.0)
    first *= (size_b / size_a) if size_a > 0 else 1.0
    u, _, vt = np.linalg.svd(first[:count].reshape(-1, 3).T @ second[:count].reshape(-1, 3))
    upright = np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ vt)) or 1.0])
    turn: F64 = (u @ upright @ vt).T
    return first @ turn.T, second, turn


def with_itself(mesh: Mesh, map_: F64, sets: int, alone: bool) -> Difference | None:
    """What `difference` says of two meshes that are the same bit for bit in the same place, without asking each of their
    corners. None where they have to be asked: points are nowhere, or nothing is drawn. alone: nobody asks for the radius."""
    if not mesh.triangles or not np.isfinite(mesh.positions).all():
        return None
    out = Difference(
        slots=counted(mesh.material, mesh.material), uv=dict.fromkeys(range(min(sets, len(mesh.uvs))), 0.0)
    )
    if not alone:
        used = mesh.positions[mesh.indices.ravel()] @ map_[:3, :3].T
        out.radius = float(np.abs(used - used.mean(axis=0)).max())
    return out


SURFACES = Work(
    "surfaces", 4, f"{__name__}:compared", native=False, figures_only=True,
    together="tidy_caravan.core.arrival.many_surfaces:compared_many",
)  # fmt: skip


def asked(
    a: Mesh, b: Mesh, map_a: F64, map_b: F64, limit: float, mirrored: bool, sets: int, channels: int, tangents: bool,
    uvs: dict[int, tuple[F64, F64]] | None, pairing: Pairing, loose: bool,
) -> Piece:  # fmt: skip
    """A comparison (see `difference`) as a piece of work."""
    arrays: dict[str, AnyArray] = {f"a/{k}": v for k, v in everything_of(a).items()}
    arrays |= {f"b/{k}": v for k, v in everything_of(b).items()}
    given = hashlib.blake2b(digest_size=16)
    for k, (first, second) in (uvs or {}).items():
        arrays |= {f"laid/{k}/a": first, f"laid/{k}/b": second}
        given.update(np.ascontiguousarray(first).data)
        given.update(np.ascontiguousarray(second).data)
    parameters = {
        "map_a": map_a.tolist(), "map_b": map_b.tolist(), "limit": limit, "mirrored": mirrored, "sets": sets,
        "channels": channels, "tangents": tangents, "pairing": int(pairing), "loose": loose,
    }  # fmt: skip
    content = f"{a.id} {b.id} {given.hexdigest() if uvs else ''}"
    return Piece(content, arrays, parameters, size=max(1, a.triangles + b.triangles))


def compared(
    arrays: Mapping[str, AnyArray], map_a: list[list[float]], map_b: list[list[float]], limit: float, mirrored: bool,
    sets: int, channels: int, tangents: bool, pairing: int, loose: bool,
) -> tuple[dict[str, AnyArray], dict[str, Any]]:  # fmt: skip
    """Work on a pair of meshes: the fields of their Difference."""
    a, b = (mesh_of({k[2:]: v for k, v in arrays.items() if k.startswith(f"{side}/")}) for side in ("a", "b"))
    laid = {int(k.split("/")[1]) for k in arrays if k.startswith("laid/")}
    uvs = {k: (arrays[f"laid/{k}/a"], arrays[f"laid/{k}/b"]) for k in laid} or None
    found = difference(
        a, b, np.array(map_a), np.array(map_b), limit, mirrored, sets, channels, tangents, uvs, Pairing(pairing), loose
    )
    return {}, figures_of(found)


def figures_of(found: Difference) -> dict[str, Any]:
    """A difference as figures of work."""
    figures = dict(vars(found))
    figures["uv"] = [[k, v] for k, v in found.uv.items()]
    figures["slots"] = [[i, j, n] for (i, j), n in found.slots.items()]
    return {k: str(v) if isinstance(v, float) and not np.isfinite(v) else v for k, v in figures.items()}


def difference_of(outcome: Outcome) -> Difference:
    """What such work came to."""
    if isinstance(outcome, Lost):
        return Difference(failed=outcome.reason)
    fields: dict[str, Any] = {
        k: float(v) if v in ("inf", "nan", "-inf") else v
        for k, v in outcome.figures.items()
        if k not in ("uv", "slots", "uvs_lost", "uvs_added")
    }
    return Difference(
        **fields,
        uv={int(k): float(v) for k, v in outcome.figures["uv"]},
        slots={(int(i), int(j)): int(n) for i, j, n in outcome.figures["slots"]},
        uvs_lost=tuple(outcome.figures["uvs_lost"]),
        uvs_added=tuple(outcome.figures["uvs_added"]),
    )


def heights(corners: F64) -> F64:
    """(F,) smallest height of triangles (F, 3, 3): twice the area by the longest edge."""
    edges = corners[:, (1, 2, 0)] - corners
    area = np.linalg.norm(cross(edges[:, 0], edges[:, 1]), axis=1)
    longest = np.linalg.norm(edges, axis=2).max(axis=1)
    out: F64 = np.where(longest > 0, area / np.where(longest > 0, longest, 1.0), 0.0)
    return out


def coordinates(a: F64, b: F64) -> float:
    """Largest difference of (N, 2) coordinates in multiples of what float32 and texts make of them; infinite where b has
    none. Those that a has none of are no fault of b."""
    known = np.isfinite(a).all(axis=1)
    if not known.any():
        return 0.0
    limits = UV_LIMIT * (1.0 + np.abs(a[known]).max(axis=1))
    times = np.abs(a[known] - b[known]).max(axis=1) / limits
    return float(np.where(np.isnan(times), np.inf, times).max())


def moved(mesh: Mesh, map_: F64) -> F64:
    return mesh.positions.astype(np.float64) @ map_[:3, :3].T + map_[:3, 3]


def directions(mesh: Mesh, map_: F64) -> F64:
    """(V, 3) unit normals under a map; what is no direction becomes NaN."""
    assert mesh.normals is not None
    linear = map_[:3, :3]
    out = mesh.normals.astype(np.float64) @ cofactors(linear).T * np.sign(np.linalg.det(linear))
    length = np.linalg.norm(out, axis=1, keepdims=True)
    whole = np.isfinite(length) & (length > 1e-12 * max(1e-300, float(np.abs(cofactors(linear)).max())))
    return np.where(whole, out / np.where(whole, length, 1.0), np.nan)


def off_unit_length(a: Mesh, b: Mesh, index_a: AnyArray, index_b: AnyArray, facing: F64) -> float:
    """How far the length of a normal at a corner of b is from one, at most; only where that of a is one.

    facing: (C, 3) where the normals of a look in the world, NaN where nowhere.
    """
    assert a.normals is not None and b.normals is not None
    off_a, off_b = (np.abs(np.linalg.norm(n.astype(np.float64), axis=1) - 1) for n in (a.normals, b.normals))
    unit = np.isfinite(facing).all(axis=1) & (off_a[index_a] <= UNIT_LENGTH)
    return float(np.where(unit, off_b[index_b], 0.0).max(initial=0.0))


def along(mesh: Mesh, map_: F64) -> F64:
    """(V, 3) unit tangents under a map; what is no direction becomes NaN. A tangent goes as the surface does."""
    assert mesh.tangents is not None
    out = mesh.tangents[:, :3].astype(np.float64) @ map_[:3, :3].T
    length = np.linalg.norm(out, axis=1, keepdims=True)
    whole = np.isfinite(length) & (length > 1e-12 * max(1e-300, float(np.abs(map_[:3, :3]).max())))
    return np.where(whole, out / np.where(whole, length, 1.0), np.nan)


def worst_angle(a: F64, b: F64) -> float:
    """Largest angle in degrees between rows; rows without direction in `a` are no fault of `b`."""
    known = np.isfinite(a).all(axis=1)
    if not known.any():
        return 0.0
    there = np.isfinite(b[known]).all(axis=1)
    if not there.all():
        return 180.0
    half = np.linalg.norm(a[known] - b[known], axis=1) / 2
    return float(np.degrees(2 * np.arcsin(np.clip(half.max(), 0.0, 1.0))))


def together(a: F64, b: F64, limit: float, noise: float, displaced: bool = True) -> tuple[I64, I64, I64, F64]:
    """Which triangles of (F, 3, 3) corners belong together: rows of both, how b's corners are turned, how far apart.

    displaced: what meets nothing gets a partner as well, the nearest.
    """
    count = min(len(a), len(b))
    turn, far = best_turn(a[:count], b[:count], noise)
    rows = np.arange(count)
    good = far <= limit
    if good.all() and len(a) == len(b):
        return rows, rows, turn, far
    # out of order, a surface with two sides has another triangle in the place of each, seen from behind: not the one meant
    good &= turn < BEHIND
    left_a = np.concatenate([rows[~good], np.arange(count, len(a))])
    left_b = np.concatenate([rows[~good], np.arange(count, len(b))])
    found_a, found_b = by_place(a[left_a], b[left_b], limit)
    here, there = left_a[found_a], left_b[found_b]
    rest_a, rest_b = np.setdiff1d(left_a, here), np.setdiff1d(left_b, there)
    both = min(len(rest_a), len(rest_b))
    if both and displaced:  # displaced: told by how far it is from the one that stands in its place
        again_a, again_b = nearest_first(a[rest_a], b[rest_b], both)
        here, there = np.concatenate([here, rest_a[again_a]]), np.concatenate([there, rest_b[again_b]])
    more_turn, more_far = best_turn(a[here], b[there], noise)
    return (
        np.concatenate([rows[good], here]),
        np.concatenate([rows[good], there]),
        np.concatenate([turn[good], more_turn]),
        np.concatenate([far[good], more_far]),
    )


def best_turn(a: F64, b: F64, noise: float | F64) -> tuple[I64, F64]:
    """(F,) index into TURNS that brings a's corners onto b's best, and (F,) the largest corner distance then. noise: of all,
    or (F,).

    The order as it stands wins unless another is better by more than the noise.
    """
    far = np.linalg.norm(a - b, axis=2).max(axis=1)
    turn = np.zeros(len(a), np.int64)
    noise = np.broadcast_to(noise, len(a))
    open_ = np.flatnonzero(far > noise)
    for at in range(0, len(open_), CHUNK):
        rows = open_[at : at + CHUNK]
        every = np.linalg.norm(a[rows][:, TURNS] - b[rows][:, None], axis=3).max(axis=2)
        every[:, 1:] += noise[rows][:, None]
        best = every.argmin(axis=1)
        turn[rows] = best
        far[rows] = every[np.arange(len(rows)), best] - np.where(best > 0, noise[rows], 0.0)
    return turn, np.maximum(far, 0.0)


def by_place(a: F64, b: F64, limit: float) -> tuple[I64, I64]:
    """Rows of triangles whose corners meet within the limit, each used once; the closest first."""
    if not len(a) or not len(b):
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    k = min(CANDIDATES, len(b))
    tree = cKDTree(b.mean(axis=1))
    _, found = tree.query(a.mean(axis=1), k=k, distance_upper_bound=limit * 1.0000001 + 1e-300)
    found = np.asarray(found).reshape(len(a), k)
    first = np.repeat(np.arange(len(a)), k)
    second = found.ravel()
    real = second < len(b)
    first, second = first[real], second[real]
    cost, behind = np.empty(len(first)), np.zeros(len(first), np.bool_)
    for at in range(0, len(first), CHUNK):
        x, y = a[first[at : at + CHUNK]], b[second[at : at + CHUNK]]
        every = np.linalg.norm(x[:, TURNS] - y[:, None], axis=3).max(axis=2)
        cost[at : at + CHUNK] = every.min(axis=1)
        behind[at : at + CHUNK] = every.argmin(axis=1) >= BEHIND
    close = cost <= limit
    # one seen from the same side comes before one that is not
    whole = np.round((cost + behind * 2 * limit) / max(GRAIN * limit, 1e-300))
    return pick(first[close], second[close], whole[close], len(a), len(b))


def pick(first: I64, second: I64, cost: F64, count_a: int, count_b: int) -> tuple[I64, I64]:
    """One partner for each, cheapest first and of equals the first; rounds of mutual best choices."""
    chosen_a: list[I64] = []
    chosen_b: list[I64] = []
    order = np.lexsort((second, first, cost))
    first, second = first[order], second[order]
    free_a: Bool = np.ones(count_a, np.bool_)
    free_b: Bool = np.ones(count_b, np.bool_)
    while len(first):
        _, best_a = np.unique(first, return_index=True)
        _, best_b = np.unique(second, return_index=True)
        mutual = np.intersect1d(best_a, best_b)
        chosen_a.append(first[mutual])
        chosen_b.append(second[mutual])
        free_a[first[mutual]] = False
        free_b[second[mutual]] = False
        keep = free_a[first] & free_b[second]
        first, second = first[keep], second[keep]
    if not chosen_a:
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    return np.concatenate(chosen_a), np.concatenate(chosen_b)


def nearest_first(a: F64, b: F64, count: int) -> tuple[I64, I64]:
    """`count` pairs of what is left over: nearest centres first, then in order."""
    k = min(CANDIDATES, len(b))
    near, found = cKDTree(b.mean(axis=1)).query(a.mean(axis=1), k=k)
    first = np.repeat(np.arange(len(a)), k)
    chosen_a, chosen_b = pick(first, np.asarray(found).ravel(), np.asarray(near).ravel(), len(a), len(b))
    rest_a = np.setdiff1d(np.arange(len(a)), chosen_a)[: count - len(chosen_a)]
    rest_b = np.setdiff1d(np.arange(len(b)), chosen_b)[: len(rest_a)]
    return np.concatenate([chosen_a, rest_a]), np.concatenate([chosen_b, rest_b])
