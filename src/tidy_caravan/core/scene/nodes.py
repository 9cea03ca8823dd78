"""Nodes as columns: the tree of a scene, without one object per node."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I32, I64, U8, AnyArray, Bool, frozen
from tidy_caravan.core.scene.provenance import Origin

HIDDEN = 1
"""Flag: switched off in the source; does not travel unless asked for."""
SCATTER = 2
"""Flag: the node's children were one list of transforms in the source."""
NO_LIGHTMAP = 4
"""Flag: left without a lightmap UV set on purpose."""
PATH_DEPTH = 64
"""Deeper paths are shortened at the front: a chain of n nodes would need n² characters."""

LATER = {"lightmap": 2, "page": 5}
"""Columns that are nought until a step says something in them, and how wide they are."""
Rest = tuple[tuple[float, ...], tuple[float, ...], tuple[float, ...]]


@dataclass(frozen=True, eq=False)
class Nodes:
    """Columns of equal length N.

    parent: (N,) index of the parent, -1 for a root; free of cycles.
    local: (N, 4, 4) matrix, column vectors: world = parent · local.
    mesh, light, camera, skin: (N,) index into the scene's tables, -1 for none.
    flags: (N,) HIDDEN, SCATTER, NO_LIGHTMAP. layer: (N,) index into the scene's layers, -1 for none.
    source: (N,) index of the node in the revision it comes from, -1 if a step made it.
    sources: of nodes that were made of several, all of them; `source` is the first.
    origins: of nodes that share a mesh with others which came from other triangles, where its triangles came from; a
    mesh that says something itself then tells which of those its triangles are.
    ids: the format's own, where it has any. lightmap: (N, 2) width and height of each part's own lightmap in texels, 0
    where none was chosen. page: (N, 5) the page of lightmaps that it is on, counted from nought, the texels from its left and
    top at which the own map begins, and the page's width and height; all nought where it is on none.
    extras: only nodes that have some. rest: translation, rotation (xyzw), scale of animated nodes,
    which a matrix cannot hold uniquely.
    """

    parent: I32
    local: F64
    mesh: I32
    light: I32
    camera: I32
    skin: I32
    flags: U8
    layer: I32
    source: I64
    names: tuple[str, ...]
    extras: Mapping[int, Any] = field(default_factory=dict)
    rest: Mapping[int, Rest] = field(default_factory=dict)
    sources: Mapping[int, I64] = field(default_factory=dict)
    origins: Mapping[int, Origin] = field(default_factory=dict)
    ids: Mapping[int, str] = field(default_factory=dict)
    lightmap: I32 = field(default_factory=lambda: np.zeros((0, 2), np.int32))
    page: I32 = field(default_factory=lambda: np.zeros((0, 5), np.int32))

    def __post_init__(self) -> None:
        for name, width in LATER.items():
            if len(getattr(self, name)) != len(self.parent):
                if getattr(self, name).any():
                    raise ValueError(f"{name} of other nodes than these")
                object.__setattr__(self, name, np.zeros((len(self.parent), width), np.int32))
        for name in ("parent", "local", "mesh", "light", "camera", "skin", "flags", "layer", "source", *LATER):
            object.__setattr__(self, name, frozen(getattr(self, name)))

    def __len__(self) -> int:
        return len(self.parent)

    def came_from(self, marked: AnyArray) -> I64:
        """(K,) ids in the source of the marked nodes (N,), all of those that were made of several; each once."""
        own = self.source[marked]
        more = [ids for i, ids in self.sources.items() if marked[i]]
        out: I64 = np.unique(np.concatenate([own, *more]))
        return out[out >= 0]

    def made_of(self, ids: AnyArray) -> I64:
        """(K,) nodes that came from nodes of the source (ids), by themselves or with others."""
        out = np.isin(self.source, ids)
        for i, several in self.sources.items():
            out[i] |= bool(np.isin(several, ids).any())
        return np.flatnonzero(out)

    @cached_property
    def depth(self) -> I32:
        """(N,) edges to the root, by pointer doubling: O(N log depth)."""
        return depths(self.parent)

    @cached_property
    def world(self) -> F64:
        """(N, 4, 4) world matrices, one matrix product per level: O(N + levels)."""
        out = self.local.copy()
        order = np.argsort(self.depth, kind="stable")
        ends = np.cumsum(np.bincount(self.depth)) if len(self) else np.zeros(0, dtype=np.int64)
        for start, end in zip(ends[:-1], ends[1:], strict=True):
            level = order[start:end]
            out[level] = out[self.parent[level]] @ self.local[level]
        return frozen(out)

    @cached_property
    def parts(self) -> I64:
        """Indices of the nodes that draw something, ascending."""
        return frozen(np.flatnonzero(self.mesh >= 0))

    @cached_property
    def children_count(self) -> I64:
        """(N,) number of direct children."""
        return np.bincount(self.parent[self.parent >= 0], minlength=len(self))

    @cached_property
    def paths(self) -> tuple[str, ...]:
        """Tree path of every node, such as `hall/doors/leaf`; unnamed ones as `(12)`."""
        out = [""] * len(self)
        own = [n or f"({i})" for i, n in enumerate(self.names)]
        parent = self.parent.tolist()
        depth = self.depth.tolist()
        for i in np.argsort(self.depth, kind="stable").tolist():
            up = parent[i]
            if up < 0:
                out[i] = own[i]
            elif depth[i] > PATH_DEPTH:
                out[i] = "…/" + own[i]
            else:
                out[i] = f"{out[up]}/{own[i]}"
        return tuple(out)

    def over(self, marked: Bool) -> Bool:
        """(N,) True for marked nodes and everything above them. O(N)."""
        out = marked.copy()
        rows = np.flatnonzero(marked)
        while len(rows):
            rows = np.unique(self.parent[rows])
            rows = rows[rows >= 0]
            rows = rows[~out[rows]]
            out[rows] = True
        return out

    def under(self, marked: Bool) -> Bool:
        """(N,) True for marked nodes and everything below them."""
        out = marked.copy()
        jump = np.where(self.parent < 0, len(self), self.parent)
        padded = np.append(out, False)
        jump = np.append(jump, len(self))
        while True:
            padded |= padded[jump]
            if (jump[:-1] == len(self)).all():
                return padded[:-1]
            jump = jump[jump]


def with_parts(
    nodes: Nodes, parent: Any, local: F64, names: Sequence[str], mesh: Any = -1, layer: Any = -1, flags: Any = 0,
    source: Any = -1,
) -> Nodes:  # fmt: skip
    """The nodes with more behind them, which a step, or a comparison, made: parts, or groups that draw nothing. They come
    from no source, unless that is said."""
    count = len(local)
    none = np.full(count, -1, np.int32)
    return replace(
        nodes,
        parent=np.concatenate([nodes.parent, np.broadcast_to(np.asarray(parent, np.int32), count)]),
        local=np.concatenate([nodes.local, local]),
        mesh=np.concatenate([nodes.mesh, np.broadcast_to(np.asarray(mesh, np.int32), count)]),
        light=np.concatenate([nodes.light, none]),
        camera=np.concatenate([nodes.camera, none]),
        skin=np.concatenate([nodes.skin, none]),
        flags=np.concatenate([nodes.flags, np.broadcast_to(np.asarray(flags, np.uint8), count)]),
        layer=np.concatenate([nodes.layer, np.broadcast_to(np.asarray(layer, np.int32), count)]),
        source=np.concatenate([nodes.source, np.broadcast_to(np.asarray(source, np.int64), count)]),
        names=(*nodes.names, *names),
        lightmap=np.concatenate([nodes.lightmap, np.zeros((count, LATER["lightmap"]), np.int32)]),
        page=np.concatenate([nodes.page, np.zeros((count, LATER["page"]), np.int32)]),
    )


def depths(parent: I32) -> I32:
    """(N,) edges to the root; nodes on or below a cycle get -1. O(N log N)."""
    n = len(parent)
    jump = np.append(np.where(parent < 0, n, parent), n).astype(np.int64)
    depth = np.append((parent >= 0).astype(np.int64), 0)
    for _ in range(max(1, n).bit_length() + 1):
        if (jump == n).all():
            break
        depth = depth + depth[jump]
        jump = jump[jump]
    out = depth[:-1]
    out[jump[:-1] != n] = -1
    return out.astype(np.int32)


def make_nodes(parent: Any, local: F64, names: Any, **columns: Any) -> Nodes:
    """Nodes with the columns that are not given filled with none."""
    n = len(local)
    none = np.full(n, -1, dtype=np.int32)
    values: dict[str, Any] = {
        "mesh": none,
        "light": none,
        "camera": none,
        "skin": none,
        "layer": none,
        "flags": np.zeros(n, dtype=np.uint8),
        "source": np.arange(n, dtype=np.int64),
    } | columns
    for key in ("mesh", "light", "camera", "skin", "layer"):
        values[key] = np.asarray(values[key], dtype=np.int32)
    return Nodes(
        parent=np.asarray(parent, dtype=np.int32),
        local=np.asarray(local, dtype=np.float64),
        names=tuple(names),
        **values,
    )
