"""Many small pairs of meshes compared at once: those whose triangles stand in the same order within the limit, as nearly all
do that arrive. What is said of each is what `surfaces.difference` says of it; the others are looked at by themselves."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

import numpy as np

from tidy_caravan.core.arrival.surfaces import (
    BEHIND,
    FLAT,
    NOISE,
    SAME_COLOR,
    SAME_UV,
    TURNS,
    UNIT_LENGTH,
    UV_LIMIT,
    Difference,
    Pairing,
    best_turn,
    figures_of,
    order_of,
)
from tidy_caravan.core.geometry.lots import SMALL, TOGETHER
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool, chunks
from tidy_caravan.core.space.convert import cofactors
from tidy_caravan.core.work.heavy import Done, Piece


class Side:
    """One side of P pairs, end to end. faces: (F, 3) over all vertices, and slots: (F,), in the order of files. pair: (V,) the
    pair of each vertex. vertices, begin: (P,) how many and from where. maps: (P, 4, 4). points: (V, 3) under them."""

    def __init__(self, pieces: Sequence[Piece], side: str) -> None:
        given = [{k[2:]: v for k, v in p.arrays.items() if k.startswith(side)} for p in pieces]
        self.arrays: dict[str, AnyArray] = {
            name: np.concatenate([g[name] for g in given]) for name in given[0] if name not in ("indices", "material")
        }
        self.vertices = np.array([len(g["positions"]) for g in given])
        self.begin = np.cumsum(self.vertices) - self.vertices
        faces, slots = [], []
        for g, begin in zip(given, self.begin.tolist(), strict=True):
            order = order_of(g["material"])
            faces.append((g["indices"] if order is None else g["indices"][order]).astype(np.int64) + begin)
            slots.append(g["material"] if order is None else g["material"][order])
        self.faces, self.slots = np.concatenate(faces), np.concatenate(slots)
        self.pair = np.repeat(np.arange(len(pieces)), self.vertices)
        self.maps = np.array([p.parameters["map_" + side[0]] for p in pieces], np.float64)
        self.points: F64 = self.under(self.arrays["positions"], self.maps[:, :3, :3]) + self.maps[self.pair, :3, 3]

    def under(self, vectors: AnyArray, linear: F64) -> F64:
        """(V, 3) vectors under the map (P, 3, 3) of their pair."""
        out: F64 = np.einsum("vij,vj->vi", linear[self.pair], vectors.astype(np.float64))
        return out

    def directions(self) -> F64:
        """(V, 3) unit normals under the maps; what is no direction becomes NaN."""
        linear = self.maps[:, :3, :3]
        cofactor = cofactors(linear)
        sign = np.sign(np.linalg.det(linear))
        return self.unit(self.under(self.arrays["normals"], cofactor * sign[:, None, None]), cofactor)

    def along(self) -> F64:
        """(V, 3) unit tangents under the maps; the same."""
        linear = self.maps[:, :3, :3]
        return self.unit(self.under(self.arrays["tangents"][:, :3], linear), linear)

    def unit(self, moved: F64, linear: F64) -> F64:
        length = np.linalg.norm(moved, axis=1, keepdims=True)
        least = 1e-12 * np.maximum(1e-300, np.abs(linear).max(axis=(1, 2)))[self.pair][:, None]
        whole = np.isfinite(length) & (length > least)
        return np.where(whole, moved / np.where(whole, length, 1.0), np.nan)

    def several(self, kind: str) -> list[AnyArray]:
        """UV sets or colours in order."""
        return [self.arrays[f"{kind}{k}"] for k in range(sum(name.startswith(kind) for name in self.arrays))]


def compared_many(pieces: Sequence[Piece]) -> list[Done | None]:
    """Work: see `surfaces.compared`, of many pairs at once; None of those that have to be compared by themselves."""
    out: list[Done | None] = [None] * len(pieces)
    alike: dict[tuple[Any, ...], list[int]] = defaultdict(list)
    for k, piece in enumerate(pieces):
        told = piece.parameters
        count = len(piece.arrays["a/indices"])
        usual = told["pairing"] != Pairing.IN_ORDER and not told["loose"]
        if usual and 0 < count <= SMALL and count == len(piece.arrays["b/indices"]):
            names = tuple(piece.arrays)
            if not any(name.startswith("laid/") for name in names):
                alike[names, told["sets"], told["channels"], told["tangents"], told["mirrored"]].append(k)
    for (_, sets, channels, tangents, mirrored), every in alike.items():
        for some in chunks(np.array([len(pieces[k].arrays["a/indices"]) for k in every]), TOGETHER):
            rows = [every[k] for k in some.tolist()]
            pairs = Pairs([pieces[k] for k in rows], bool(mirrored))
            for k, good, found in zip(rows, pairs.good.tolist(), pairs.told(sets, channels, tangents), strict=True):
                if good:
                    out[k] = Done({}, figures_of(found))
    return out


class Pairs:
    """P pairs whose triangles are as many on both sides, in the order of the files. good: (P,) all of those of a pair meet
    within its limit; true of these alone. index_a, index_b: (C,) corners that belong together. distance, radius: (P,)"""

    def __init__(self, pieces: Sequence[Piece], mirrored: bool) -> None:
        self.mirrored = mirrored
        self.a, self.b = Side(pieces, "a/"), Side(pieces, "b/")
        triangles = np.array([len(p.arrays["a/indices"]) for p in pieces])
        self.first = np.cumsum(triangles) - triangles
        own = np.repeat(np.arange(len(pieces)), triangles)
        self.own: I64 = np.repeat(own, 3)
        faces_a = self.a.faces[:, ::-1] if mirrored else self.a.faces
        corners = self.a.points[faces_a]
        centre = np.add.reduceat(corners.reshape(-1, 3), 3 * self.first) / (3 * triangles)[:, None]
        self.radius = np.maximum.reduceat(np.abs(corners - centre[own][:, None]).max(axis=(1, 2)), self.first)
        noise = NOISE * self.radius
        limit = np.maximum(np.array([float(p.parameters["limit"]) for p in pieces]), noise)
        turn, far = np.zeros(len(own), np.int64), np.zeros(len(own))
        # where the same numbers name the same places they belong together, whatever else stands there
        local_a, local_b = faces_a - self.a.begin[own][:, None], self.b.faces - self.b.begin[own][:, None]
        met = np.zeros(len(pieces), np.bool_)
        for k in range(3):
            open_ = np.flatnonzero((~met & (self.a.vertices == self.b.vertices))[own])
            if not len(open_):
                break
            equal = np.zeros(len(own), np.bool_)
            equal[open_] = (np.roll(local_a[open_], k, axis=1) == local_b[open_]).all(axis=1)
            whole = np.logical_and.reduceat(equal, self.first)
            rows = np.flatnonzero(whole[own])
            here, there = np.roll(faces_a[rows], k, axis=1), self.b.faces[rows]
            far[rows] = np.linalg.norm(self.a.points[here] - self.b.points[there], axis=2).max(axis=1)
            whole &= np.maximum.reduceat(far, self.first) <= noise
            turn[whole[own]] = (-k) % 3
            met |= whole
        rest = np.flatnonzero(~met[own])
        turn[rest], far[rest] = best_turn(corners[rest], self.b.points[self.b.faces[rest]], noise[own[rest]])
        finite = np.isfinite(self.a.points[faces_a]).all(axis=(1, 2)) & np.isfinite(far)
        self.good: Bool = np.logical_and.reduceat((far <= limit[own]) & finite, self.first)
        self.distance = np.maximum.reduceat(far, self.first)
        self.turned = np.add.reduceat((turn >= BEHIND).astype(np.int64), self.first)
        self.index_a: I64 = np.take_along_axis(faces_a, TURNS[turn], axis=1).ravel()
        self.index_b: I64 = self.b.faces.ravel()

    def most(self, values: AnyArray) -> F64:
        """(P,) the largest of the corners' (C,)."""
        out: F64 = np.maximum.reduceat(values, 3 * self.first)
        return out

    def angle(self, a: F64, b: F64) -> F64:
        """(P,) the largest angle in degrees between directions at corners; see `surfaces.worst_angle`."""
        known = np.isfinite(a).all(axis=1)
        missing = known & ~np.isfinite(b).all(axis=1)
        half = np.linalg.norm(a - b, axis=1) / 2
        worst = self.most(np.where(missing, np.inf, np.where(known, half, 0.0)))
        return np.where(np.isinf(worst), 180.0, np.degrees(2 * np.arcsin(np.clip(worst, 0.0, 1.0))))

    def told(self, sets: int, channels: int, tangents: bool) -> list[Difference]:
        """What differs, by pair."""
        out = [
            Difference(distance=far, radius=radius, turned=turned)
            for far, radius, turned in zip(
                self.distance.tolist(), self.radius.tolist(), self.turned.tolist(), strict=True
            )
        ]
        for name, values in self.looks(channels, tangents).items():
            for one, value in zip(out, values, strict=True):
                setattr(one, name, value)
        slots, others = self.a.slots.astype(np.int64) + 1, self.b.slots.astype(np.int64) + 1
        across, down = int(slots.max()) + 1, int(others.max()) + 1
        kinds, times = np.unique((self.own[::3] * across + slots) * down + others, return_counts=True)
        pair, slot, other = kinds // down // across, kinds // down % across - 1, kinds % down - 1
        for i, mine, its, number in zip(*(x.tolist() for x in (pair, slot, other, times)), strict=True):
            out[i].slots[mine, its] = number
        uvs_a, uvs_b = self.a.several("uv"), self.b.several("uv")
        for k in range(min(sets, len(uvs_a), len(uvs_b))):
            for one, value in zip(out, self.coordinates(uvs_a[k], uvs_b[k]).tolist(), strict=True):
                one.uv[k] = value
        lost = tuple(range(len(uvs_b), min(sets, len(uvs_a))))
        added = [self.span(uvs_b[k]) > SAME_UV for k in range(len(uvs_a), min(sets, len(uvs_b)))]
        for i, one in enumerate(out):
            one.uvs_lost = lost
            one.uvs_added = tuple(len(uvs_a) + k for k, there in enumerate(added) if there[i])
        return out

    def looks(self, channels: int, tangents: bool) -> dict[str, list[Any]]:
        """Fields of Difference that tell of normals, tangents and colours, each by pair."""
        a, b, count = self.a.arrays, self.b.arrays, len(self.first)
        out: dict[str, list[Any]] = {}
        if "normals" in a:
            out["normals_lost"] = ["normals" not in b] * count
            if "normals" in b:
                facing = self.a.directions()[self.index_a]
                out["normal"] = self.angle(facing, self.b.directions()[self.index_b]).tolist()
                off_a, off_b = (np.abs(np.linalg.norm(n["normals"].astype(np.float64), axis=1) - 1) for n in (a, b))
                unit = np.isfinite(facing).all(axis=1) & (off_a[self.index_a] <= UNIT_LENGTH)
                out["length"] = self.most(np.where(unit, off_b[self.index_b], 0.0)).tolist()
        elif "normals" in b:
            out["normals_added"] = (~self.flat()).tolist()
        if tangents and "tangents" in a:
            out["tangents_lost"] = ["tangents" not in b] * count
            if "tangents" in b:
                along = self.a.along()[self.index_a]
                out["tangent"] = self.angle(along, self.b.along()[self.index_b]).tolist()
                sign = np.sign(a["tangents"][self.index_a, 3]) * (-1.0 if self.mirrored else 1.0)
                wrong = np.isfinite(along).all(axis=1) & (sign * np.sign(b["tangents"][self.index_b, 3]) < 0)
                out["handed"] = np.add.reduceat(wrong.astype(np.int64), 3 * self.first).tolist()
        colors_a, colors_b = self.a.several("color"), self.b.several("color")
        if channels and colors_b and not colors_a:
            shown = np.clip(colors_b[0][self.index_b, :channels], 0, 1)
            tinted: Bool = np.asarray((shown < 1 - SAME_COLOR).any(axis=1))
            out["colors_added"] = np.logical_or.reduceat(tinted, 3 * self.first).tolist()
        if channels and colors_a:
            out["colors_lost"] = [not colors_b] * count
            if colors_b:
                shared = min(channels, colors_a[0].shape[1], colors_b[0].shape[1])
                tint, other = colors_a[0][self.index_a, :shared], colors_b[0][self.index_b, :shared]
                apart = np.abs(np.clip(tint, 0, 1).astype(np.float64) - np.clip(other, 0, 1))
                apart = np.where(np.isnan(tint), 0.0, np.where(np.isnan(apart), np.inf, apart))
                out["color"] = self.most(apart.max(axis=1, initial=0.0)).tolist()
        return out

    def coordinates(self, a: AnyArray, b: AnyArray) -> F64:
        """(P,) see `surfaces.coordinates`."""
        first, second = a[self.index_a].astype(np.float64), b[self.index_b].astype(np.float64)
        known = np.isfinite(first).all(axis=1)
        times = np.abs(first - second).max(axis=1) / (UV_LIMIT * (1.0 + np.abs(first).max(axis=1)))
        return self.most(np.where(known, np.where(np.isnan(times), np.inf, times), 0.0))

    def span(self, uv: AnyArray) -> F64:
        """(P,) how far the coordinates of the arrived corners lie apart."""
        at = uv[self.index_b]
        out: F64 = (np.maximum.reduceat(at, 3 * self.first) - np.minimum.reduceat(at, 3 * self.first)).max(axis=1)
        return out

    def flat(self) -> Bool:
        """(P,) see `surfaces.flat`, of what arrived."""
        points, faces = self.b.arrays["positions"].astype(np.float64), self.b.faces
        a, b, c = (points[faces[:, k]] for k in range(3))
        across = np.cross(b - a, c - a)
        length = np.linalg.norm(across, axis=1)
        stored = self.b.arrays["normals"][faces].astype(np.float64)
        size = np.linalg.norm(stored, axis=2)
        cosine = np.abs(np.einsum("fi,fki->fk", across, stored)) / np.maximum(length[:, None] * size, 1e-300)
        bent = (length[:, None] > 0) & (size > 0) & ~(cosine > FLAT)
        out: Bool = ~np.logical_or.reduceat(bent.any(axis=1), self.first)
        return out
