"""Groups of parts that stand in several places in the same order: compounds, found from what one of their pieces says.

Two occurrences of a mesh say how one group would be carried to another. What all parts around do under that move tells
whether it is one. O(pieces tried · parts log parts).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.copies.placing import cleaned
from tidy_caravan.core.copies.symmetry import Turns
from tidy_caravan.core.pace import alive, paced
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
MOST_TURNED = 20_000
"""Moves more that are tried from pieces which look the same when turned."""
MOST_KINDS = 100
SMALLEST = 2
"""Parts of a compound; more make it likelier to be one."""
KINDS = 2
"""Different meshes in a compound."""
SKEW = 1e-3
"""How far what carries a group may be from a turn, by the noise of two placements."""
SMALL = 0.02
"""Part of its size that a piece may be off at most, however large the tolerance."""
CHUNK = 1 << 16
SLACK = 50.0
"""Times the tolerance that pieces far from the one that leads may be off before all of them have had their say."""
ROUNDS = 3
PERIODIC = 0.04
"""Part of the whole scene that a move carries from which on it may be one of many alike, as in rows and grids …"""
LEAST_MOVES = 32
"""… of which so many are looked at for all parts …"""
MOST_ASKED = 1_000_000
"""… or as many as there are so many parts for."""
FAR_OFF = 64
"""Parts all over the scene that are asked, with those close by, whether a move is off by noise."""
TURNED_SHARE = 0.5
"""Part of the tolerance that is for a turn of a mesh onto itself; the place of a piece so turned has the rest."""


@dataclass(frozen=True)
class Compound:
    """members: (K, S) nodes of K places, the same piece in each column. moves: (K, 4, 4) from the first place to each."""

    members: I64
    moves: F64


def compounds_in(
    scene: Scene, rows: I64, tolerance: float, tell: Callable[[int, int], None], turns: Mapping[int, Turns]
) -> list[Compound]:
    """Compounds among nodes, those with the most parts first. tolerance: of places, in scene units. turns: of the meshes
    that look the same when turned; a copy of a group may have them turned so. What has corners that are no numbers stands
    nowhere, and is in none."""
    kinds, kind = np.unique(scene.nodes.mesh[rows], return_inverse=True)
    boxes = np.array([scene.meshes[m].bounds for m in paced(kinds.tolist(), alive(tell))]).reshape(-1, 2, 3)
    there = np.isfinite(boxes).all(axis=(1, 2))[kind.reshape(-1)] & np.isfinite(scene.nodes.world[rows]).all(
        axis=(1, 2)
    )
    if there.sum() < 2:
        return []
    finder = Finder(scene, rows[there], boxes[kind.reshape(-1)[there]], tolerance, turns)
    found: list[Compound] = []
    kinds, times = np.unique(finder.mesh, return_counts=True)
    # what is rare says most, and what has one side to it more than what looks the same from many; once says nothing
    sides = np.array([len(turns[k].matrix) if k in turns else 1 for k in kinds.tolist()])
    rank = np.lexsort((kinds, sides, times))
    order = kinds[rank][times[rank] > 1][:MOST_KINDS]
    for k, kind in enumerate(order.tolist()):
        tell(k, len(order))
        while (one := finder.best(kind)) is not None:
            found.append(Compound(finder.rows[one.members], one.moves))
            finder.free[one.members] = False
    return sorted(found, key=lambda c: -c.members.size)


class Finder:
    """Parts by mesh and place, those that belong to no compound yet being free."""

    def __init__(self, scene: Scene, rows: I64, boxes: F64, tolerance: float, turns: Mapping[int, Turns]) -> None:
        """boxes: (N, 2, 3) of the meshes of the rows (N,), in their own space."""
        from scipy.spatial import cKDTree

        nodes = scene.nodes
        self.rows = rows
        self.mesh: I64 = nodes.mesh[rows].astype(np.int64)
        self.world: F64 = nodes.world[rows]
        self.turns = turns
        # pieces stand where their middle is, whatever their pivot does; turned copies of a mesh have that in common
        kinds, first, kind = np.unique(self.mesh, return_index=True, return_inverse=True)
        boxes = boxes[first]
        middle, turned = boxes.mean(axis=1), np.full(len(kinds), -1, np.int64)
        most = max((len(t.matrix) for t in turns.values()), default=1)
        self.sides: F64 = np.tile(np.eye(3), (len(turns), most, 1, 1))
        for k, (mesh, turn) in enumerate(turns.items()):
            own = int(np.searchsorted(kinds, mesh))
            middle[own], turned[own] = turn.middle, k
            self.sides[k, : len(turn.matrix)] = turn.matrix[:, :3, :3]
        reach = np.linalg.norm(np.maximum(boxes[:, 1] - middle, middle - boxes[:, 0]), axis=1)
        self.middle: F64 = middle[kind.reshape(-1)]
        self.turned: I64 = turned[kind.reshape(-1)]
        self.reach: F64 = reach[kind.reshape(-1)]
        """By how much a corner is off where the placement's linear part is by one."""
        self.place: F64 = np.einsum("nij,nj->ni", self.world[:, :3, :3], self.middle) + self.world[:, :3, 3]
        size = self.reach * np.linalg.norm(self.world[:, :3, :3], axis=1).max(axis=1)
        self.far: F64 = np.minimum(tolerance, SMALL * size)
        """(N,) how far a corner of each may be off."""
        self.size: F64 = size
        self.free: Bool = np.ones(len(rows), np.bool_)
        # parts of different meshes are told apart by a fourth coordinate that is further than any place
        self.apart = 4 * float(np.ptp(self.place, axis=0).max(initial=0.0)) + 1.0
        self.tree = cKDTree(self.keys(self.place, self.mesh))
        self.near = cKDTree(self.place)

    def keys(self, place: F64, mesh: I64) -> F64:
        return np.column_stack([place, mesh * self.apart])

    def carried(self, moves: F64, some: I64, slack: F64 | None = None) -> I64:
        """(M, K) the free part that each of `some` (K,) lies on under each of the moves (M, 4, 4), with every corner, -1
        for none. slack: (K,) times what each may be off otherwise."""
        far = self.far[some] if slack is None else self.far[some] * slack
        world = moves[:, None] @ self.world[some]
        places = np.einsum("mkij,kj->mki", world[..., :3, :3], self.middle[some]) + world[..., :3, 3]
        keys = self.keys(places.reshape(-1, 3), np.tile(self.mesh[some], len(moves)))
        off, found = self.tree.query(keys, distance_upper_bound=float(far.max(initial=0.0)) * 1.0001)
        off = np.reshape(off, (len(moves), len(some)))
        hit = off <= far
        found = np.where(hit, found.reshape(hit.shape), 0)
        left = (far - np.where(hit, off, far)) / np.maximum(self.reach[some], 1e-300)
        good = hit & (np.linalg.norm(world[..., :3, :3] - self.world[found][..., :3, :3], axis=(2, 3)) <= left)
        m, k = np.nonzero(hit & ~good & (self.turned[some] >= 0))
        for at in range(0, len(m), CHUNK):
            i, j = m[at : at + CHUNK], k[at : at + CHUNK]
            there = self.world[found[i, j], None, :3, :3] @ self.sides[self.turned[some[j]]]
            own = left[i, j] - TURNED_SHARE * far[j] / np.maximum(self.reach[some[j]], 1e-300)
            good[i, j] = np.linalg.norm(world[i, j, None, :3, :3] - there, axis=(2, 3)).min(axis=1) <= own
        good &= self.free[found]
        out: I64 = np.where(good, found, -1)
        return out

    def slack(self, seed: int, some: I64) -> F64:
        """(K,) a placement that is off by as much as the seed's corners may be is off by more further away."""
        away = np.linalg.norm(self.place[some] - self.place[seed], axis=1)
        out: F64 = 1 + np.minimum(away / max(float(self.size[seed]), 1e-300), SLACK)
        return out

    def rigid(self, moves: F64, seed: int) -> F64:
        """The moves (M, 4, 4) as turns and shifts that carry the seed to the same places."""
        out = np.tile(np.eye(4), (len(moves), 1, 1))
        out[:, :3, :3] = cleaned(moves[:, :3, :3])
        place = self.place[seed]
        out[:, :3, 3] = (moves[:, :3, :3] - out[:, :3, :3]) @ place + moves[:, :3, 3]
        return out

    def settled(self, move: F64, seed: int, some: I64) -> F64:
        """The move as all the parts that it carries say together: it came from one alone.

        By least squares over their middles (Umeyama, 1991), held to the turn as it is where those are all but in a line.
        """
        out = move
        slack = self.slack(seed, some)
        for _ in range(ROUNDS):
            exact, loose = self.carried(out[None], some)[0], self.carried(out[None], some, slack)[0]
            hit = loose >= 0
            if hit.sum() <= (exact >= 0).sum():
                break
            x = self.place[some[hit]] @ out[:3, :3].T + out[:3, 3]
            y = self.place[loose[hit]]
            middle, target = x.mean(axis=0), y.mean(axis=0)
            hold = 100 * len(x) * float(self.far[seed]) ** 2
            u, _, vt = np.linalg.svd((y - target).T @ (x - middle) + hold * np.eye(3))
            turn = u @ np.diag([1.0, 1.0, np.linalg.det(u @ vt)]) @ vt
            more = np.eye(4)
            more[:3, :3], more[:3, 3] = turn, target - turn @ middle
            out = more @ out
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

    def goes_along(self, moves: F64, close: I64, slack: F64) -> tuple[Bool, I64]:
        """(M,) which moves are turns and shifts that carry what is close as far as that may be the group's own, and how
        many of those they carry. A small group has others around it: what is nearest to the seed has to go along."""
        linear = moves[:, :3, :3]
        skew = np.abs(linear.transpose(0, 2, 1) @ linear - np.eye(3)).max(axis=(1, 2), initial=0.0)
        out: Bool = (skew <= SKEW) & (np.linalg.det(linear) > 0)
        hits: Bool = self.carried(moves[out], close, slack) >= 0
        count = np.zeros(len(moves), np.int64)
        count[out] = hits.sum(axis=1)
        out[out] = enough(hits)
        return out, count

    def alike_around(self, seed: int, some: I64, close: I64, slack: F64) -> Bool:
        """(K,) whether a part has as much around it that could be what the seed has close by: the same meshes as far away,
        in whatever direction."""
        away = np.linalg.norm(self.place[close] - self.place[seed], axis=1)
        asked = min(4 * AROUND, len(self.rows))
        found = self.near.query(self.place[some], k=asked)
        far, beside = (np.reshape(values, (len(some), asked)) for values in found)
        hits = np.zeros((len(some), len(close)), np.bool_)
        for k, (distance, mesh, off) in enumerate(
            zip(away.tolist(), self.mesh[close].tolist(), (2 * self.far[close] * slack).tolist(), strict=True)
        ):
            hits[:, k] = ((np.abs(far - distance) <= off) & (self.mesh[beside] == mesh)).any(axis=1)
        return enough(hits)

    def around(self, seed: int, seeds: I64) -> Compound | None:
        """The compound that the seed is in."""
        _, close = self.near.query(self.place[seed], k=min(4 * AROUND, len(self.rows)))
        close = np.atleast_1d(close)
        close = close[self.free[close]][:AROUND]
        back = affine_inverse(self.world[seed : seed + 1])[0]
        slack = self.slack(seed, close)
        others = seeds[seeds != seed][:MOST_MOVES]
        every_move = self.world[others] @ back
        good, _ = self.goes_along(every_move, close, slack)
        moves: list[F64] = list(every_move[good])
        turn = self.turns.get(int(self.mesh[seed]))
        if turn is not None:
            # to where it does not lead as it stands, a piece may lead when it is turned: the best way of each
            sides = turn.matrix[1:]
            left = others[~good]
            left = left[self.alike_around(seed, left, close, slack)][: max(1, MOST_TURNED // len(sides))]
            tried = (self.world[left, None] @ sides @ back).reshape(-1, 4, 4)
            fine, count = self.goes_along(tried, close, slack)
            count = np.where(fine, count, 0).reshape(len(left), len(sides))
            best = np.argmax(count, axis=1) if len(left) else np.zeros(0, np.int64)
            chosen = tried.reshape(len(left), len(sides), 4, 4)[np.arange(len(left)), best]
            moves += list(chosen[count[np.arange(len(left)), best] > 0])
        every = np.flatnonzero(self.free)
        straight = self.rigid(np.array(moves).reshape(-1, 4, 4), seed)
        # where nothing is off by more than it may be, there is nothing to settle
        far_off = every[:: max(1, len(every) // FAR_OFF)]
        asked = np.concatenate([close, far_off])
        rough = self.carried(straight, asked, self.slack(seed, asked)) >= 0
        noisy = (rough != (self.carried(straight, asked) >= 0)).any(axis=1)
        some = spread_out(rough[:, len(close) :].mean(axis=1), max(LEAST_MOVES, MOST_ASKED // max(len(every), 1)))
        settled = [self.settled(straight[k], seed, every) if noisy[k] else straight[k] for k in some.tolist()]
        if not settled:
            return None
        images = np.stack([self.carried(m[None], every)[0] for m in settled])
        at = np.full(len(self.rows), -1)
        at[every] = np.arange(len(every))
        kept, group = sifted(np.where(images >= 0, at[images], -1), self.mesh[every], int(at[seed]))
        if not len(kept):
            return None
        members = np.stack([every[group], *images[kept][:, group]])
        return Compound(members, np.concatenate([np.eye(4)[None], np.array(settled)[kept]]))


def spread_out(carries: F64, most: int) -> I64:
    """(K,) which moves are looked at for all parts, given the part of the whole scene that each carries (M,): of those that
    carry much of it, as in rows and grids, no more than `most`, from one that carries least to one that carries most."""
    much = np.flatnonzero(carries > PERIODIC)
    if len(much) <= most:
        return np.arange(len(carries))
    order = much[np.argsort(carries[much], kind="stable")]
    chosen = order[np.linspace(0, len(order) - 1, most).astype(np.int64)]
    return np.union1d(np.flatnonzero(carries <= PERIODIC), chosen)


def sifted(images: I64, mesh: I64, seed: int) -> tuple[I64, I64]:
    """Which moves (K,) are those of one group, and its parts (S,); nothing where there is none.

    images: (M, N) the part that each part lies on under each move, -1 for none. mesh: (N,). Moves are let go one by one
    until what all others carry is a group: those that carry least first, and where it lies in its own other places, those
    that lie in it most. What changes is counted, so that all of it takes O(M N).
    """
    moves, parts = images.shape
    back = np.full((moves, parts), -1)
    m, n = np.nonzero(images >= 0)
    back[m, images[m, n]] = n
    hits = (images >= 0).sum(axis=1)
    left = np.ones(moves, np.bool_)
    missing = (images < 0).sum(axis=0)
    group = np.zeros(parts, np.bool_)
    inside = np.zeros(moves, np.int64)
    times = np.zeros(parts, np.int64)
    """How often each part is covered by the group and its places."""

    def with_more(fresh: I64) -> None:
        """The group grows by these parts."""
        nonlocal inside
        group[fresh] = True
        there = images[np.ix_(left, fresh)]
        np.add.at(times, there.reshape(-1), 1)
        times[fresh] += 1
        # what these come to lie on in it, and what of it, without them, comes to lie on these
        before = back[np.ix_(left, fresh)]
        new = np.zeros(parts, np.bool_)
        new[fresh] = True
        inside[left] += group[there].sum(axis=1) + ((before >= 0) & group[before] & ~new[before]).sum(axis=1)

    with_more(np.flatnonzero(missing == 0))
    while left.any():
        bad = not group[seed] or group.sum() < SMALLEST or len(np.unique(mesh[group])) < KINDS
        if not bad and not (times > 1).any():
            return np.flatnonzero(left), np.flatnonzero(group)
        if bad or not (inside[left] > 0).any():
            # the move that carries least is none of a group's
            worst = int(np.argmin(np.where(left, hits, parts + 1)))
        else:
            # a group lies in none of its other places: what is periodic in itself is no group
            worst = int(np.argmax(np.where(left, inside, -1)))
        left[worst] = False
        np.subtract.at(times, images[worst, group], 1)
        missing -= images[worst] < 0
        fresh = np.flatnonzero((missing == 0) & ~group)
        if len(fresh):
            with_more(fresh)
    return np.zeros(0, np.int64), np.zeros(0, np.int64)


def enough(hits: Bool) -> Bool:
    """(M,) whether of what is close (M, K), the nearest first, so many go along that a group may."""
    count = np.cumsum(hits, axis=1)
    asked = np.arange(1, hits.shape[1] + 1)
    along = count[:, LEAST_AROUND - 1 :] >= AGREE * asked[LEAST_AROUND - 1 :]
    out: Bool = np.asarray(along.any(axis=1) | hits.all(axis=1))
    return out
