"""Subtrees written down once and repeated by index arithmetic: instances without a walk per copy."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tidy_caravan.core.scene import SCATTER, Nodes, make_nodes
from tidy_caravan.core.scene.arrays import F64, AnyArray

COLUMNS = ("mesh", "light", "camera", "flags", "layer")


@dataclass
class Rows:
    """Nodes under construction. splices: (node, template key, matrices (K, 4, 4) or None for one plain copy)."""

    parent: list[int] = field(default_factory=list)
    local: list[F64] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    mesh: list[int] = field(default_factory=list)
    light: list[int] = field(default_factory=list)
    camera: list[int] = field(default_factory=list)
    flags: list[int] = field(default_factory=list)
    layer: list[int] = field(default_factory=list)
    extras: dict[int, Any] = field(default_factory=dict)
    splices: list[tuple[int, str, F64 | None]] = field(default_factory=list)

    def add(self, name: str, parent: int, local: F64, flags: int = 0, layer: int = -1) -> int:
        self.parent.append(parent)
        self.local.append(local)
        self.names.append(name)
        self.flags.append(flags)
        self.layer.append(layer)
        for column in (self.mesh, self.light, self.camera):
            column.append(-1)
        return len(self.parent) - 1


@dataclass(frozen=True)
class Block:
    """Finished columns of a subtree; parents count within it, -1 hangs on whatever it is put under."""

    parent: AnyArray
    local: F64
    names: list[str]
    columns: dict[str, AnyArray]
    extras: dict[int, Any]

    def __len__(self) -> int:
        return len(self.parent)


class Expander:
    """Turns rows with splices into blocks; every template is expanded once. Raises ValueError over `most` nodes."""

    def __init__(self, templates: dict[str, Rows], most: int) -> None:
        self.templates, self.most = templates, most
        self._done: dict[str, Block] = {}
        self._open: set[str] = set()

    def template(self, key: str) -> Block:
        if key not in self._done:
            if key in self._open or key not in self.templates:
                return self.block(Rows())
            self._open.add(key)
            self._done[key] = self.block(self.templates[key])
            self._open.discard(key)
        return self._done[key]

    def block(self, rows: Rows) -> Block:
        own = Block(
            np.array(rows.parent, np.int64),
            np.array(rows.local).reshape(-1, 4, 4),
            list(rows.names),
            {c: np.array(getattr(rows, c), np.int64) for c in COLUMNS},
            dict(rows.extras),
        )
        pieces = [own]
        base = len(own)
        for node, key, matrices in rows.splices:
            block = self.template(key)
            piece = (
                under(block, node, base)
                if matrices is None
                else self.copies(rows.names[node], block, node, base, matrices)
            )
            base += len(piece)
            if base > self.most:
                raise ValueError(f"more than {self.most} nodes")
            pieces.append(piece)
        return merged(pieces)

    def copies(self, name: str, block: Block, node: int, base: int, matrices: F64) -> Block:
        """K copies below a node. A template of one node gives one node a copy, others a holder each."""
        k, t = len(matrices), len(block)
        if k * max(1, t) + base > self.most:
            raise ValueError(f"more than {self.most} nodes")
        if t == 1:
            label = block.names[0] or name
            return Block(
                np.full(k, node, np.int64),
                matrices @ block.local[0],
                [f"{label}_{i}" for i in range(k)],
                {c: np.repeat(v, k) for c, v in block.columns.items()},
                {},
            )
        holders = np.arange(k) + base
        inner = np.where(
            block.parent[None] < 0, holders[:, None], block.parent[None] + base + k + (np.arange(k) * t)[:, None]
        )
        empty = {c: np.full(k, 0 if c == "flags" else -1, np.int64) for c in COLUMNS}
        return Block(
            np.concatenate([np.full(k, node, np.int64), inner.ravel()]),
            np.concatenate([matrices, np.tile(block.local, (k, 1, 1))]),
            [f"{name}_{i}" for i in range(k)] + block.names * k,
            {c: np.concatenate([empty[c], np.tile(v, k)]) for c, v in block.columns.items()},
            {},
        )


def under(block: Block, node: int, base: int) -> Block:
    return Block(
        np.where(block.parent < 0, node, block.parent + base),
        block.local,
        block.names,
        block.columns,
        {i + base: e for i, e in block.extras.items()},
    )


def merged(pieces: list[Block]) -> Block:
    if len(pieces) == 1:
        return pieces[0]
    names: list[str] = []
    extras: dict[int, Any] = {}
    for p in pieces:
        names += p.names
        extras |= p.extras
    return Block(
        np.concatenate([p.parent for p in pieces]),
        np.concatenate([p.local for p in pieces]),
        names,
        {c: np.concatenate([p.columns[c] for p in pieces]) for c in COLUMNS},
        extras,
    )


def nodes_of(block: Block) -> Nodes:
    flags = block.columns["flags"].astype(np.uint8)
    hidden = flags & ~np.uint8(SCATTER)
    nodes = make_nodes(
        block.parent,
        block.local,
        block.names,
        **{c: block.columns[c] for c in ("mesh", "light", "camera", "layer")},
        flags=flags,
        extras=block.extras,
    )
    # what is switched off switches off everything below it
    off = nodes.under(hidden > 0)
    return make_nodes(
        block.parent,
        block.local,
        block.names,
        **{c: block.columns[c] for c in ("mesh", "light", "camera", "layer")},
        flags=np.where(off, flags | 1, flags).astype(np.uint8),
        extras=block.extras,
    )
