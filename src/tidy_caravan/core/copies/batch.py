"""Many meshes of one count of vertices and triangles as stacked arrays, and figures of them that no placement changes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool

UV_LIMIT = 1e-5
"""Difference of coordinates below which they are the same, and as much again for each whole repeat, by float32."""
COLOR_LIMIT = 0.5 / 255
CHUNK = 1 << 21
"""Vertices and triangles whose figures are made together."""
ROUNDING = 4 * float(np.finfo(np.float32).eps)
"""Part of a coordinate that moving it about and storing it in float32 may cost."""
FLAT = 1e-5
"""Part of its size below which a mesh has no thickness."""
LARGEST_SHARE = 0.02
"""A tolerance is never more than this part of a mesh's size: of what is smaller nothing could be told apart."""


@dataclass(frozen=True)
class Batch:
    """N meshes. points: (N, V, 3). faces: (N, F, 3). slots: (N, F) materials. far: (N,) how far a corner may be off.

    normals, tangents: (N, V, 3) or None. hand: (N, V) sign of the bitangent. marks: (N, V, A) UV sets and colours,
    which have to be equal within limits (N, A).
    """

    points: F64
    faces: I64
    slots: I64
    far: F64
    marks: F64
    limits: F64
    normals: F64 | None = None
    tangents: F64 | None = None
    hand: F64 | None = None

    def __len__(self) -> int:
        return len(self.points)

    def of(self, rows: AnyArray) -> Batch:
        def some(values: F64 | None) -> F64 | None:
            return None if values is None else values[rows]

        return Batch(
            self.points[rows], self.faces[rows], self.slots[rows], self.far[rows], self.marks[rows], self.limits[rows],
            some(self.normals), some(self.tangents), some(self.hand),
        )  # fmt: skip


def kind_of(mesh: Mesh) -> tuple[object, ...]:
    """What two meshes need to have in common before they can be stacked."""
    return (
        mesh.vertices,
        mesh.triangles,
        len(mesh.uvs),
        len(mesh.colors),
        mesh.normals is not None,
        mesh.tangents is not None,
    )


def can_be_shared(mesh: Mesh) -> bool:
    """Whether a mesh may stand for others: nothing hangs on its vertices by number, and every one is used and a number."""
    if not mesh.triangles or mesh.morphs or mesh.attributes:
        return False
    return len(mesh.used) == mesh.vertices and bool(np.isfinite(mesh.positions).all())


def stacked(meshes: Sequence[Mesh], far: F64) -> dict[str, AnyArray]:
    """The arrays of meshes of one kind, as work is given them."""
    first = meshes[0]
    out: dict[str, AnyArray] = {
        "points": np.stack([m.positions for m in meshes]),
        "faces": np.stack([m.indices for m in meshes]),
        "slots": np.stack([m.material for m in meshes]),
        "far": far,
    }
    for k in range(len(first.uvs)):
        out[f"uv{k}"] = np.stack([m.uvs[k] for m in meshes])
    for k in range(len(first.colors)):
        out[f"color{k}"] = np.stack([m.colors[k] for m in meshes])
    if first.normals is not None:
        out["normals"] = np.stack([m.normals for m in meshes if m.normals is not None])
    if first.tangents is not None:
        out["tangents"] = np.stack([m.tangents for m in meshes if m.tangents is not None])
    return out


def unstacked(arrays: Mapping[str, AnyArray]) -> Batch:
    """The batch of such arrays; tolerances of meshes that are small against them are made less."""
    points = arrays["points"].astype(np.float64)
    count = len(points)
    marks, limits = [np.zeros((*points.shape[:2], 0))], [np.zeros((count, 0))]
    for name in sorted(n for n in arrays if n.startswith("uv")):
        marks.append(arrays[name].astype(np.float64))
        limits.append(UV_LIMIT * (1 + np.abs(marks[-1]).max(axis=1)))
    for name in sorted(n for n in arrays if n.startswith("color")):
        marks.append(arrays[name].astype(np.float64))
        limits.append(np.full((count, marks[-1].shape[2]), COLOR_LIMIT))
    size = np.linalg.norm(points.max(axis=1) - points.min(axis=1), axis=1)
    tangents = arrays.get("tangents")
    return Batch(
        points, arrays["faces"].astype(np.int64), arrays["slots"].astype(np.int64),
        np.minimum(arrays["far"], size * LARGEST_SHARE), np.concatenate(marks, axis=2), np.concatenate(limits, axis=1),
        arrays["normals"].astype(np.float64) if "normals" in arrays else None,
        None if tangents is None else tangents[..., :3].astype(np.float64),
        None if tangents is None else np.sign(tangents[..., 3].astype(np.float64)),
    )  # fmt: skip


@dataclass(frozen=True)
class Normal:
    """Meshes without place and size. points: (N, V, 3), such that copies differ by a turn, or a mirror, alone.
    shape: (N, 3, 3) from there back to the mesh, without the place. blur: (N,) how far a corner may be off there.
    noise: (N,) how far float32 puts it off. usable: (N,) False for lines and points."""

    points: F64
    shape: F64
    blur: F64
    noise: F64
    usable: Bool

    def of(self, rows: AnyArray) -> Normal:
        return Normal(self.points[rows], self.shape[rows], self.blur[rows], self.noise[rows], self.usable[rows])


def normal_form(batch: Batch, per_axis: bool) -> Normal:
    """per_axis: stretched along its principal axes as well, so that copies of other proportions become equal."""
    x = batch.points - batch.points.mean(axis=1, keepdims=True)
    count = batch.points.shape[1]
    rounding = ROUNDING * np.abs(batch.points).max(axis=(1, 2))
    if not per_axis:
        size = np.sqrt((x**2).sum(axis=(1, 2)) / count)
        usable = size > 0
        safe = np.where(usable, size, 1.0)
        return Normal(
            x / safe[:, None, None], safe[:, None, None] * np.eye(3), batch.far / safe, rounding / safe, usable
        )
    values, axes = np.linalg.eigh(x.transpose(0, 2, 1) @ x / count)
    axes[:, :, 0] *= np.sign(np.linalg.det(axes))[:, None]  # or mirrors there would be none here
    width = np.sqrt(np.maximum(values, 0.0))
    thick = width > FLAT * width[:, 2:]
    safe = np.where(thick, width, 1.0)
    points = (x @ axes) / safe[:, None, :] * thick[:, None, :]
    thinnest = np.where(thick, width, np.inf).min(axis=1)
    usable = thick[:, 1]
    blur = np.minimum(batch.far / np.where(usable, thinnest, 1.0), LARGEST_SHARE)
    noise = rounding / np.where(usable, thinnest, 1.0)
    return Normal(points, axes * safe[:, None, :], blur, noise, usable)


def figures(batch: Batch, normal: Normal) -> tuple[F64, F64]:
    """The figures of all meshes, some at a time so that large ones do not fill the memory."""
    step = max(1, CHUNK // max(1, batch.faces.shape[1] + batch.points.shape[1]))
    rows = [np.arange(k, min(k + step, len(batch))) for k in range(0, len(batch), step)]
    told = [figures_of(batch.of(some), normal.of(some)) for some in rows]
    return np.concatenate([t[0] for t in told]), np.concatenate([t[1] for t in told])


def figures_of(batch: Batch, normal: Normal) -> tuple[F64, F64]:
    """(N, K) figures that no turn or mirror changes, and how far those of copies may be apart, half of it each. O(N · (V + F))."""
    y = normal.points
    n = len(y)
    blur = normal.blur[:, None]
    radius = np.linalg.norm(y, axis=2)
    out, spare = [], []
    for power in (1, 4, 8):
        value = (radius**power).mean(axis=1, keepdims=True)
        out.append(value)
        # every corner off by the blur, and the size with it
        spare.append(power * blur * ((radius ** (power - 1)).mean(axis=1, keepdims=True) + value))
    rows = np.arange(n)[:, None, None]
    corners = y[rows, batch.faces]
    edges = np.linalg.norm(corners - corners[:, :, [1, 2, 0]], axis=3)
    for power in (1, 2):
        value = (edges**power).mean(axis=(1, 2))[:, None]
        out.append(value)
        spare.append(power * blur * ((edges ** (power - 1)).mean(axis=(1, 2))[:, None] + value))
    for power in (1, 2):
        out.append((batch.marks**power).mean(axis=1))
        spare.append(power * batch.limits * np.maximum(np.abs(batch.marks).max(axis=1), 1.0))
    return np.concatenate(out, axis=1), np.concatenate(spare, axis=1) + 1e-9


def clusters(values: F64, spare: F64) -> I64:
    """(N,) number of the cluster of each row: rows apart by more than both their spares in a column are in two.

    Column by column the rows are sorted and cut at gaps, until no cut is left to make. O(N log N · K) a round.
    """
    label = np.zeros(len(values), np.int64)
    count = 1
    for _ in range(8):
        before = count
        for k in range(values.shape[1]):
            order = np.lexsort((values[:, k], label))
            v, s, own = values[order, k], spare[order, k], label[order]
            cut = (own[1:] != own[:-1]) | (v[1:] - v[:-1] > s[1:] + s[:-1])
            label[order] = np.concatenate([[0], np.cumsum(cut)])
            count = int(cut.sum()) + 1
        if count == before:
            break
    return label
