"""What is kept about pairs: the same answers as asking anew, and only pairs with something changed in them are asked."""

from __future__ import annotations

import unittest
from collections.abc import Iterable
from dataclasses import fields, replace
from typing import Any
from unittest import mock

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_sides import at, scene_of
from tidy_caravan.core.scene import HIDDEN, SCATTER, Material, Scene, make_nodes
from tidy_caravan.core.surroundings.flicker import between
from tidy_caravan.core.surroundings.gaps import gaps
from tidy_caravan.core.surroundings.near import meeting_parts, shown_parts
from tidy_caravan.core.work.heavy import Done, Piece, Remembered, Results, Work, Workshop
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.core.work.pairs import by_pair, fingerprints, shares

Moves = list[tuple[int, float, float, float]]
NO = {"sum": np.zeros(0)}


def pile(moves: Moves = ()) -> Scene:  # type: ignore[assignment]
    """Crates of millimetres between and upon each other; `moves` puts some of them elsewhere."""
    rng = np.random.default_rng(5)
    places = rng.integers(0, 4, (24, 3)) * [1.0, 1.002, 1.0] + rng.choice([0, 0.0005, 0.003], (24, 3))
    for k, *by in moves:
        places[k] += by
    return scene_of({f"crate {k}": (trimesh.creation.box([1, 1, 1]), at(*p)) for k, p in enumerate(places)})


def rows_of(found: Any) -> list[tuple[Any, ...]]:
    """Everything that was found, in an order of its own."""
    assert not isinstance(found, str), found
    return sorted(zip(*(np.asarray(getattr(found, f.name)).tolist() for f in fields(found) if f.name not in ("piece", "content")), strict=True))  # fmt: skip


class Answers(unittest.TestCase):
    @settings(max_examples=8, deadline=None)
    @given(
        st.lists(
            st.lists(
                st.tuples(st.integers(0, 23), *(st.sampled_from([0.0, 0.0007, 0.002, 1.0]) for _ in range(3))),
                max_size=5,
            ),
            min_size=1,
            max_size=3,
        )
    )
    def test_after_any_changes_they_are_those_of_asking_anew(self, changes: list[Moves]) -> None:
        kept = Workshop(results=Remembered(), subject="haul")
        for moves in ([], *changes, []):
            scene = pile(moves)
            for ask in (between, gaps):
                again, anew = (ask(scene, w, lambda done, total: None) for w in (kept, Workshop()))
                self.assertEqual(rows_of(again), rows_of(anew))
                self.assertGreater(len(rows_of(again)), 0)

    def test_whatever_else_they_depend_on_they_are_those_of_asking_anew(self) -> None:
        plain = pile()
        nodes = plain.nodes
        flags = nodes.flags.copy()
        flags[nodes.parts[:8]] |= HIDDEN
        both = plain.but(
            materials=(Material("both", double_sided=True),),
            meshes=tuple(replace(m, material=np.zeros(m.triangles, np.int32)) for m in plain.meshes),
        )
        count = len(nodes)
        group = make_nodes(
            [-1, *(nodes.parent + 1)], np.concatenate([[np.eye(4)], nodes.local]), ["group", *nodes.names],
            mesh=[-1, *nodes.mesh], flags=np.array([0, *nodes.flags], np.uint8), source=np.arange(-1, count),
        )  # fmt: skip
        under = replace(
            group, parent=np.where(group.parent < 0, -1 + (np.arange(count + 1) > 0), group.parent).astype(np.int32)
        )
        scattered = replace(under, flags=np.array([SCATTER, *nodes.flags], np.uint8))
        larger = plain.but(convention=replace(plain.convention, metres_per_unit=0.5))
        hidden = plain.but(nodes=replace(nodes, flags=flags))
        others = [plain, hidden, both, *(plain.but(nodes=n) for n in (group, under, scattered)), larger, plain]
        kept = Workshop(results=Remembered(), subject="haul")
        answers = set()
        for scene in others:
            for ask in (between, gaps):
                again, anew = (ask(scene, w, lambda done, total: None) for w in (kept, Workshop()))
                self.assertEqual(rows_of(again), rows_of(anew))
                answers.add((ask.__name__, str(rows_of(anew))))
        self.assertGreater(len(answers), 8, "these changes matter")

    def test_a_scene_that_is_as_it_was_is_not_gone_through_again(self) -> None:
        kept = Workshop(results=Remembered(), subject="haul")
        for ask in (between, gaps):
            ask(pile(), kept, lambda done, total: None)
            with mock.patch(f"{ask.__module__}.by_pair", side_effect=AssertionError):
                ask(pile(), kept, lambda done, total: None)
                self.assertRaises(AssertionError, ask, pile([(0, 0.0007, 0.0, 0.0)]), kept, lambda done, total: None)

    def test_pairs_that_all_share_are_those_that_each_would_look_for(self) -> None:
        rng = np.random.default_rng(3)
        scene = pile([(k, *rng.normal(0, 0.004, 3)) for k in range(24)])
        parts, boxes = shown_parts(scene)
        for spare in (np.zeros(len(parts)), rng.uniform(0, 0.005, len(parts)), np.full(len(parts), 0.02)):
            # the definition: in no direction is one further from the other than half of both spares
            room = (spare[:, None] + spare[None]) / 2
            apart = (boxes[:, None, 0] - boxes[None, :, 1]).max(axis=2)
            meet = (np.maximum(apart, apart.T) <= room) & (np.arange(len(parts))[:, None] < np.arange(len(parts)))
            found = meeting_parts(scene, spare)
            self.assertEqual(sorted(map(tuple, found.tolist())), list(zip(*(r.tolist() for r in np.nonzero(meet)), strict=True)))  # fmt: skip


class Sums:
    """A crew that adds two numbers up and remembers which pairs it was asked about."""

    def __init__(self) -> None:
        self.asked: list[tuple[float, float]] = []
        self.lose = False

    def share(self, work: Work, pieces: Any, tell: Any) -> Iterable[tuple[int, Any]]:
        for k, (_, piece) in enumerate(pieces):
            self.asked += [tuple(p) for p in piece.arrays["pairs"].tolist()]
            yield k, Lost("a crash") if self.lose else Done(self.told(piece), {})

    def told(self, piece: Piece) -> dict[str, Any]:
        total = piece.arrays["pairs"].sum(axis=1)
        rows = np.flatnonzero(total > 0)  # pairs below nought have nothing to tell
        return {"pair": np.repeat(rows, 2), "sum": np.repeat(total[rows], 2)}


def sums(pairs: Any, crew: Sums, results: Results, subject: str = "a") -> list[tuple[int, float]] | str:
    pairs = np.asarray(pairs, np.float64).reshape(-1, 2)
    out = by_pair(
        Workshop(crew, results, subject), Work("sums", 1, ""), fingerprints([pairs]), np.ones(len(pairs)),
        lambda some: Piece("", {"pairs": pairs[some]}), {}, NO, lambda done, total: None,
    )  # fmt: skip
    return out if isinstance(out, str) else list(zip(out["pair"].tolist(), out["sum"].tolist(), strict=True))


class Asked(unittest.TestCase):
    def test_only_what_is_new_is_asked_and_what_was_taken_back_is_still_known(self) -> None:
        crew, results = Sums(), Remembered()
        first, second = [(1, 2), (3, 4), (-5, 1)], [(3, 4), (7, 1), (-5, 1)]
        self.assertEqual(sums(first, crew, results), [(0, 3.0), (0, 3.0), (1, 7.0), (1, 7.0)])
        self.assertEqual(sums(second, crew, results), [(0, 7.0), (0, 7.0), (1, 8.0), (1, 8.0)])
        self.assertEqual(len(crew.asked), 4)
        self.assertEqual(sums(first, crew, results), [(0, 3.0), (0, 3.0), (1, 7.0), (1, 7.0)])
        self.assertEqual(len(crew.asked), 4, "the change before is still known")
        self.assertEqual(sums(first[::-1], crew, results), [(1, 7.0), (1, 7.0), (2, 3.0), (2, 3.0)])
        self.assertEqual(len(crew.asked), 4)
        self.assertEqual(sums([(2, 1)], crew, results), [(0, 3.0), (0, 3.0)], "another order is another pair")
        self.assertEqual(len(crew.asked), 5)

    def test_equal_pairs_have_equal_answers_and_subjects_nothing_in_common(self) -> None:
        crew, results = Sums(), Remembered()
        for _ in range(2):
            self.assertEqual(sums([(1, 1), (1, 1)], crew, results), [(0, 2.0), (0, 2.0), (1, 2.0), (1, 2.0)])
        self.assertEqual(len(crew.asked), 2)
        sums([(1, 1)], crew, results, "b")
        self.assertEqual(len(crew.asked), 3)

    def test_nothing_is_kept_of_what_was_lost(self) -> None:
        crew, results = Sums(), Remembered()
        crew.lose = True
        self.assertEqual(sums([(1, 1)], crew, results), "a crash")
        crew.lose = False
        self.assertEqual(sums([(1, 1)], crew, results), [(0, 2.0), (0, 2.0)])
        self.assertEqual(sums([], crew, results), [])

    def test_what_is_kept_does_not_grow_without_end(self) -> None:
        crew, results = Sums(), Remembered()
        for k in range(20):
            sums([(k, 1), (k, 2), (0, 1)], crew, results)
        (one,) = results.made.values()
        assert isinstance(one, Done)
        self.assertLessEqual(len(one.arrays["keys"]), 6)

    def test_shares_hold_every_pair_once(self) -> None:
        for sizes in (np.ones(3), np.ones(1_000_000), np.array([1.0, 1e7, 1.0]), np.full(2, 30_000.0)):
            found = shares(sizes)
            self.assertEqual(np.concatenate(found).tolist(), list(range(len(sizes))))
        self.assertEqual(len(shares(np.full(100, 1000.0))), 2)

    def test_fingerprints_tell_every_bit_and_the_order(self) -> None:
        rng = np.random.default_rng(0)
        values = rng.integers(0, 1 << 62, (1, 3)).astype(np.uint64)
        bits = [values ^ (np.uint64(1) << np.uint64(b)) * (np.arange(3) == k) for k in range(3) for b in range(64)]
        rows = np.concatenate([values, values[:, ::-1], *(b.astype(np.uint64) for b in bits)])
        found = fingerprints([rows])
        self.assertEqual(len(np.unique(found, axis=0)), len(rows))
        self.assertEqual(len(np.unique(found[:, 0])), len(rows))
        spread = np.unpackbits(found.view(np.uint8)).mean()
        self.assertAlmostEqual(spread, 0.5, delta=0.01)
