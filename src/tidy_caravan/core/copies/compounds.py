"""Groups of parts that stand in several places in the same order: compounds, found from what one of their pieces says.

Two occurrences of a mesh say how one group would be carried to another. What all parts around do under that move tells
whether it is one. O(pieces tried · parts log parts).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.space.transforms import affine_inverse

AROUND = 24
"""Nearest parts that a move is asked about: it has to carry those that are nearest to others of their kind …"""
LEAST_AROUND = 3
"""… so many of them at least …"""
AGREE = 0.75
"""… and this part of as many as there is a count for, to be looked at for all parts."""
MOST_SEEDS = 12
"""Occurrences of one mesh that are tried as the place from where a group is carried."""
MOST_MOVES = 2_000
MOST_KINDS = 100
SMALLEST = 2
"""Parts of a compound; more make it likelier to be one."""
KINDS = 2
"""Different meshes in a compound."""
TURN = 1e-4
"""How far a turn may be off, as the length of what it does to a vector of one."""


@dataclass(frozen=True)
class Compound:
    """members: (K, S) nodes of K places, the same piece in each column. moves: (K, 4, 4) from the first place to each."""

    members: I64
    moves: F64


def compounds_in(scene: Scene, rows: I64, tolerance: float, tell: Callable[[int, int], None]) -> list[Compound]:
    """Compounds among nodes, those with the most parts first. tolerance: of places, in scene units."""
    finder = Finder(scene, rows, tolerance)
    found: list[Compound] = []
    kinds, times = np.unique(finder.mesh, return_counts=True)
    # what is rare says most; what is there once says nothing
    order = kinds[np.lexsort((kinds, times))]
    order = order[times[np.lexsort((kinds, times))] > 1][:MOST_KINDS]
    for k, kind in enumerate(order.tolist()):
        tell(k, len(order))
        while (one := finder.best(kind)) is not None:
            found.append(Compound(finder.rows[one.members], one.moves))
            finder.free[one.members] = False
    return sorted(found, key=lambda c: -c.members.size)


class Finder:
    """Parts by mesh and place, those that belong to no compound yet being free."""

    def __init__(self, scene: Scene, rows: I64, tolerance: float) -> None:
        from scipy.spatial import cKDTree

        nodes = scene.nodes
        self.rows = rows
        self.mesh: I64 = nodes.mesh[rows].astype(np.int64)
        self.world: F64 = nodes.world[rows]
        self.place: F64 = self.world[:, :3, 3]
        self.tolerance = tolerance
        self.free: Bool = np.ones(len(rows), np.bool_)
        # parts of different meshes are told apart by a fourth coordinate that is further than any place
        self.apart = 4 * float(np.ptp(self.place, axis=0).max(initial=0.0)) + 1.0
        self.tree = cKDTree(self.keys(self.place, self.mesh))
        self.near = cKDTree(self.place)

    def keys(self, place: F64, mesh: I64) -> F64:
        return np.column_stack([place, mesh * self.apart])

    def carried(self, moves: F64, some: I64) -> I64:
        """(M, K) the free part that each of `some` (K,) lies on under each of the moves (M, 4, 4), -1 for none."""
        world = moves[:, None] @ self.world[some]
        keys = self.keys(world[..., :3, 3].reshape(-1, 3), np.tile(self.mesh[some], len(moves)))
        far, found = self.tree.query(keys, distance_upper_bound=self.tolerance * 1.0001)
        hit = np.isfinite(far).reshape(len(moves), len(some))
        found = np.where(hit, found.reshape(hit.shape), 0)
        size = np.linalg.norm(world[..., :3, :3], axis=(2, 3))
        turned = np.linalg.norm(world[..., :3, :3] - self.world[found][..., :3, :3], axis=(2, 3))
        good = hit & (turned <= TURN * size) & self.free[found]
        out: I64 = np.where(good, found, -1)
        return out

    def best(self, kind: int) -> Compound | None:
        """The largest compound that has this mesh in it, from the best of its occurrences."""
        seeds = np.flatnonzero((self.mesh == kind) & self.free)
        if len(seeds) < 2:
            return None
        best: Compound | None = None
        for seed in seeds[:MOST_SEEDS].tolist():
            one = self.around(seed, seeds)
            if one is not None and (best is None or one.members.size > best.members.size):
                best = one
            if best is not None and best.members.size >= 0.9 * int(self.free.sum()):
                break
        return best

    def around(self, seed: int, seeds: I64) -> Compound | None:
        """The compound that the seed is in."""
        _, close = self.near.query(self.place[seed], k=min(4 * AROUND, len(self.rows)))
        close = np.atleast_1d(close)
        close = close[self.free[close]][:AROUND]
        back = affine_inverse(self.world[seed : seed + 1])[0]
        every_move = self.world[seeds[seeds != seed][:MOST_MOVES]] @ back
        linear = every_move[:, :3, :3]
        skew = np.abs(linear.transpose(0, 2, 1) @ linear - np.eye(3)).max(axis=(1, 2))
        every_move = every_move[(skew <= TURN) & (np.linalg.det(linear) > 0)]
        # a small group has others around it: what is nearest to the seed has to go along, as far as that is its own
        hits = np.cumsum(self.carried(every_move, close) >= 0, axis=1)
        asked = np.arange(1, len(close) + 1)
        along = hits[:, LEAST_AROUND - 1 :] >= AGREE * asked[LEAST_AROUND - 1 :]
        moves: list[F64] = list(every_move[along.any(axis=1) | (hits[:, -1:] == len(close)).any(axis=1)])
        every = np.flatnonzero(self.free)
        images = [self.carried(m[None], every)[0] for m in moves]
        while moves:
            kept = np.all([i >= 0 for i in images], axis=0)
            group = every[kept]
            # a row of one thing stands in many places of itself, and is no group
            if len(group) < SMALLEST or seed not in group or len(np.unique(self.mesh[group])) < KINDS:
                # the move that carries least is none of a group's
                worst = int(np.argmin([(i >= 0).sum() for i in images]))
                moves.pop(worst)
                images.pop(worst)
                continue
            members = np.stack([group, *(i[kept] for i in images)])
            # a group lies in none of its other places: what is periodic in itself is no group
            _, times = np.unique(members, return_counts=True)
            if (times > 1).any():
                inside = [int(np.isin(m, members[0]).sum()) for m in members[1:]]
                worst = int(np.argmax(inside)) if max(inside) else int(np.argmin([(i >= 0).sum() for i in images]))
                moves.pop(worst)
                images.pop(worst)
                continue
            return Compound(members, np.concatenate([np.eye(4)[None], np.array(moves)]))
        return None
