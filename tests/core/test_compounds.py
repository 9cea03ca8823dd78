"""Groups that stand in several places: found among others, not where things only stand in rows, and placed as they were."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from scipy.spatial.transform import Rotation

from tests.core.test_sides import as_mesh, at
from tests.core.test_split import proven, same_soup
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.copies.batch import stacked
from tidy_caravan.core.copies.compounds import sifted
from tidy_caravan.core.copies.symmetry import turns_of
from tidy_caravan.core.formats import writable
from tidy_caravan.core.scene import GLTF, Material, Scene, make_nodes
from tidy_caravan.core.scene.scene import origin_of
from tidy_caravan.core.steps import StepContext, parse_step


def village(pieces: int, kinds: int, places: int, strays: int = 0, seed: int = 0, grid: bool = False) -> Scene:
    """A building of so many pieces of so many shapes, in several places, turned about the vertical; and strays."""
    rng = np.random.default_rng(seed)
    meshes = []
    for k in range(kinds):
        box = trimesh.creation.box(rng.uniform(0.3, 1.5, 3))
        box.vertices[0] += 0.05 * (k + 1)
        meshes.append(as_mesh(box, 0))
    spots = rng.integers(0, 12, (pieces, 3)) * 1.0 if grid else rng.uniform(0, 12, (pieces, 3))
    own = [at(*spots[k], (np.pi / 2 * int(rng.integers(4)), [0, 1, 0])) for k in range(pieces)]
    kind = [*(k % kinds for k in range(pieces))]
    local, mesh, names = [], [], []
    for place in range(places):
        move = np.eye(4)
        move[:3, :3] = Rotation.from_euler("y", rng.uniform(0, 6)).as_matrix()
        move[:3, 3] = [40 * place, 0, rng.uniform(-5, 5)]
        local += [move @ one for one in own]
        mesh += kind
        names += [f"piece_{place}_{k}" for k in range(pieces)]
    for k in range(strays):
        local.append(at(*rng.uniform(-20, 200, 3)))
        mesh.append(int(rng.integers(kinds)))
        names.append(f"stray_{k}")
    order = rng.permutation(len(local))
    nodes = make_nodes(np.full(len(local), -1), np.array(local)[order], [names[i] for i in order], mesh=np.array(mesh)[order])  # fmt: skip
    return Scene(GLTF, nodes, tuple(meshes), (Material("m"),))


def apply(scene: Scene, **more: Any) -> Scene:
    return parse_step({"kind": "find_compounds", **more}).apply(scene, StepContext(BUILT_IN[0]))[0]


def groups(scene: Scene) -> list[tuple[str, int]]:
    """Names of the compounds' nodes with how many parts hang below each."""
    return [
        (n, int((scene.nodes.parent == i).sum())) for i, n in enumerate(scene.nodes.names) if n.startswith("compound")
    ]


class Found(unittest.TestCase):
    def test_small_groups_among_many_other_parts_of_the_same_shapes(self) -> None:
        for pieces, places in ((4, 6), (6, 3), (8, 5)):
            with self.subTest(pieces=pieces):
                alone = village(pieces, 3, places, seed=pieces)
                rng = np.random.default_rng(pieces)
                centres = alone.nodes.world[:, :3, 3]
                # strays within the groups, as near as their own pieces
                spots = centres[rng.integers(0, len(centres), 30)] + rng.uniform(-8, 8, (30, 3))
                local = np.concatenate([alone.nodes.local, np.stack([at(*p) for p in spots])])
                names = [*alone.nodes.names, *(f"stray_{k}" for k in range(30))]
                mesh = [*alone.nodes.mesh.tolist(), *rng.integers(0, 3, 30).tolist()]
                scene = alone.but(nodes=make_nodes(np.full(len(local), -1), local, names, mesh=np.array(mesh)))
                out = apply(scene)
                found = [(name, n) for name, n in groups(out) if name.startswith("compound_01_")]
                self.assertEqual(len(found), places)
                self.assertEqual({n for _, n in found}, {pieces})
                self.assertTrue(same_soup(out, scene))

    def test_parts_that_stand_nowhere_are_in_none_and_hinder_nobody(self) -> None:
        scene = village(6, 3, 4, strays=8)
        points = scene.meshes[0].positions.copy()
        points[3, 1] = np.nan
        bad = replace(scene.meshes[0], positions=points)
        column = np.where([n.startswith("stray") for n in scene.nodes.names], len(scene.meshes), scene.nodes.mesh)
        broken = scene.but(meshes=(*scene.meshes, bad), nodes=replace(scene.nodes, mesh=column.astype(np.int32)))
        found = groups(apply(broken))
        self.assertEqual([size for _, size in found], [6] * 4)

    def test_rows_of_one_thing_are_none(self) -> None:
        mesh = as_mesh(trimesh.creation.box((0.4, 0.4, 1)), 0)
        local = np.stack([at(2.6 * k, 0, 14.0 * (k % 2)) for k in range(16)])
        nodes = make_nodes([-1] * 16, local, [f"bollard_{k}" for k in range(16)], mesh=[0] * 16)
        self.assertEqual(groups(apply(Scene(GLTF, nodes, (mesh,), (Material("m"),)))), [])

    def test_a_building_of_a_thousand_pieces_in_ten_places_is_one_compound(self) -> None:
        scene = village(1000, 20, 10)
        out = apply(scene)
        self.assertEqual([size for _, size in groups(out)], [1000] * 10)
        self.assertTrue(all(name.startswith("compound_01_") for name, _ in groups(out)))
        self.assertTrue(same_soup(out, scene))
        first = out.nodes.names.index("compound_01_01")
        second = out.nodes.names.index("compound_01_02")
        for other in (first, second):
            rows = np.flatnonzero(out.nodes.parent == other)
            key = np.lexsort([*out.nodes.local[rows, :3, 3].T, out.nodes.mesh[rows]])
            if other == first:
                expected = out.nodes.local[rows][key], out.nodes.mesh[rows][key]
            else:
                np.testing.assert_array_equal(out.nodes.local[rows][key], expected[0])
                np.testing.assert_array_equal(out.nodes.mesh[rows][key], expected[1])

    def test_among_strays_and_on_a_grid(self) -> None:
        for grid in (False, True):
            scene = village(60, 12, 4, strays=80, seed=5, grid=grid)
            out = apply(scene)
            self.assertEqual([size for _, size in groups(out)][:4], [60] * 4, grid)
            names = [n for n in out.nodes.names if n.startswith("stray")]
            alone = [out.nodes.parent[out.nodes.names.index(n)] < 0 for n in names]
            self.assertGreater(np.mean(alone), 0.9)
            self.assertTrue(same_soup(out, scene))

    def test_rows_and_what_is_off_are_none(self) -> None:
        mesh = as_mesh(trimesh.creation.box([1, 1, 1]), 0)
        nodes = make_nodes(np.full(20, -1), np.array([at(2 * k, 0, 0) for k in range(20)]), [f"bench {k}" for k in range(20)], mesh=[0] * 20)  # fmt: skip
        row = Scene(GLTF, nodes, (mesh,), (Material("m"),))
        self.assertLessEqual(max((size for _, size in groups(apply(row))), default=0), 10)
        scene = village(6, 6, 2, seed=2)
        local = scene.nodes.local.copy()
        local[:6, 1, 3] += np.linspace(0.01, 0.2, 6)  # each by another amount
        other = scene.but(nodes=make_nodes(scene.nodes.parent, local, scene.nodes.names, mesh=scene.nodes.mesh))
        self.assertLess(max((size for _, size in groups(apply(other))), default=0), 6)

    def test_moves_are_let_go_as_when_all_is_counted_anew_each_time(self) -> None:
        def slowly(images: Any, mesh: Any, seed: int) -> tuple[list[int], list[int]]:
            moves = list(range(len(images)))
            while moves:
                group = np.flatnonzero(np.all([images[k] >= 0 for k in moves], axis=0))
                least = min(moves, key=lambda k: ((images[k] >= 0).sum(), k))
                if len(group) < 2 or seed not in group or len(np.unique(mesh[group])) < 2:
                    moves.remove(least)
                    continue
                members = np.stack([group, *(images[k][group] for k in moves)])
                if np.unique(members, return_counts=True)[1].max() == 1:
                    return moves, group.tolist()
                inside = [int(np.isin(m, group).sum()) for m in members[1:]]
                moves.remove(moves[int(np.argmax(inside))] if max(inside) else least)
            return [], []

        rng, found = np.random.default_rng(0), 0
        for trial in range(600):
            count, moves = int(rng.integers(3, 16)), int(rng.integers(1, 8))
            images = np.full((moves, count), -1)
            for row in images:
                if trial % 2:  # steps along a row
                    step = int(rng.integers(1, count))
                    row[:] = np.where(np.arange(count) + step < count, np.arange(count) + step, -1)
                else:
                    some = int(rng.integers(1, count + 1))
                    row[rng.permutation(count)[:some]] = rng.permutation(count)[:some]
            mesh, seed = rng.integers(0, 3, count), int(rng.integers(count))
            kept, group = sifted(images, mesh, seed)
            self.assertEqual((kept.tolist(), group.tolist()), slowly(images, mesh, seed))
            found += len(kept) > 0
        self.assertGreater(found, 30)

    def test_a_second_time_there_is_nothing_left(self) -> None:
        out = apply(village(20, 5, 3))
        again, changes = parse_step({"kind": "find_compounds"}).apply(out, StepContext(BUILT_IN[0]))
        self.assertEqual((again, changes), (out, []))


def plain_shapes() -> dict[str, tuple[Any, int]]:
    """Shapes with the number of turns that lay each on itself: twice the sides of a prism, the sides of a cone, a ball's
    sixty, and one that has none but itself."""
    made = trimesh.creation
    return {
        "box": (made.box([1, 2, 3]), 4),
        "hexagon": (made.cylinder(0.3, 1, sections=6), 12),
        "twelve": (made.cylinder(0.2, 2, sections=12), 24),
        "ball": (made.icosphere(subdivisions=1), 60),
        "cone": (made.cone(0.4, 1, sections=8), 8),
        "odd": (with_corner_off(made.box([1, 2, 3])), 1),
    }


def with_corner_off(box: Any) -> Any:
    box.vertices[0] += 0.05
    return box


def flattened(places: int, seed: int = 0, merged: bool = False) -> Scene:
    """A house of twenty plain shapes in places at any turn, all placements in the vertices: a mesh a piece, or a house.
    Each piece is turned by one of its shape's own turns, which nobody sees."""
    rng = np.random.default_rng(seed)
    shapes = [s for s, _ in plain_shapes().values()][:5]
    sides = [turns_of(stacked([as_mesh(s, 0)], np.array([5e-4])))[0]["matrix"] for s in shapes]
    own = [at(*rng.uniform(0, 12, 3), (np.pi / 2 * int(rng.integers(4)), [0, 1, 0])) for _ in range(20)]
    made = []
    for place in range(places):
        move = at(40 * place, 0, rng.uniform(-5, 5), (rng.uniform(0, 6), [0, 1, 0]))
        pieces = [
            shapes[k % 5].copy().apply_transform(move @ one @ sides[k % 5][rng.integers(len(sides[k % 5]))])
            for k, one in enumerate(own)
        ]
        made += [trimesh.util.concatenate(pieces)] if merged else pieces
    nodes = make_nodes(np.full(len(made), -1), np.tile(np.eye(4), (len(made), 1, 1)), [f"piece_{k}" for k in range(len(made))], mesh=np.arange(len(made)))  # fmt: skip
    return Scene(GLTF, nodes, tuple(as_mesh(m, 0) for m in made), (Material("m"),))


class Turned(unittest.TestCase):
    """Pieces that look the same from several sides stand in another of them in each copy of a group."""

    def turns(self, mesh: Any) -> dict[str, Any]:
        return turns_of(stacked([mesh], np.array([5e-4])))[0]

    def test_as_many_turns_as_the_shape_has_and_each_lays_it_on_itself(self) -> None:
        for name, (shape, count) in plain_shapes().items():
            with self.subTest(name):
                mesh = as_mesh(shape, 0)
                found = self.turns(mesh)
                self.assertEqual(len(found["matrix"]), count)
                corners = mesh.positions.astype(float)[mesh.indices]
                for turn, triangle in zip(found["matrix"], found["triangle"], strict=True):
                    moved = corners @ turn[:3, :3].T + turn[:3, 3]
                    np.testing.assert_allclose(moved.mean(axis=1), corners[triangle].mean(axis=1), atol=1e-6)

    def test_coordinates_and_materials_leave_only_the_turns_that_keep_them(self) -> None:
        mesh = as_mesh(trimesh.creation.cylinder(0.2, 2, sections=12), 0)
        self.assertEqual(len(self.turns(replace(mesh, uvs=(mesh.positions[:, :2],)))["matrix"]), 1)
        self.assertEqual(len(self.turns(replace(mesh, uvs=(mesh.positions[:, [2, 2]],)))["matrix"]), 12)
        upper = (mesh.positions[mesh.indices].mean(axis=1)[:, 2] > 0.9).astype(np.int32)
        self.assertEqual(len(self.turns(replace(mesh, material=upper))["matrix"]), 12)

    def test_plain_shapes_with_their_placement_in_the_vertices(self) -> None:
        steps = [{"kind": "share_copies"}, {"kind": "find_compounds"}]
        for scene, before in ((flattened(6), []), (flattened(6, 1, merged=True), [{"kind": "split_parts", "by": "shells"}])):  # fmt: skip
            ok, said, out = proven(scene, [*before, *steps])
            self.assertTrue(ok, said)
            self.assertEqual([size for _, size in groups(out)], [20] * 6)
            below = [np.flatnonzero(out.nodes.parent == out.nodes.names.index(name)) for name, _ in groups(out)]
            for rows in below[1:]:
                order, first = (np.lexsort([*out.nodes.local[r, :3, 3].T, out.nodes.mesh[r]]) for r in (rows, below[0]))
                np.testing.assert_array_equal(out.nodes.local[rows[order]], out.nodes.local[below[0][first]])
                np.testing.assert_array_equal(out.nodes.mesh[rows[order]], out.nodes.mesh[below[0][first]])

    def test_triangles_say_where_they_came_from_after_a_turn_too(self) -> None:
        lumps = flattened(4, 2, merged=True)
        out = lumps
        for kind in ("split_parts", "share_copies", "find_compounds"):
            out, _ = parse_step({"kind": kind, **({"by": "shells"} if kind == "split_parts" else {})}).apply(
                out, StepContext(BUILT_IN[0])
            )
        self.assertEqual(len(groups(out)), 4)
        for i in out.nodes.parts.tolist():
            origin, mesh, world = origin_of(out, i), out.meshes[out.nodes.mesh[i]], out.nodes.world[i]
            assert origin is not None
            now = mesh.positions.astype(float)[mesh.indices].mean(axis=1) @ world[:3, :3].T + world[:3, 3]
            lump = lumps.meshes[int(out.nodes.source[i])]
            then = lump.positions.astype(float)[lump.indices].mean(axis=1)[origin.triangle]
            np.testing.assert_allclose(now, then, atol=5e-4)

    def test_what_is_left_where_it_was_keeps_its_corners_within_the_tolerance(self) -> None:
        """A long piece a little turned is off at its ends, though hardly in the middle."""
        scene = village(6, 3, 3, seed=4)
        long = as_mesh(trimesh.creation.box([30, 0.2, 0.2]), 0)
        frames = [scene.nodes.world[scene.nodes.names.index(f"piece_{k}_0")] for k in range(3)]
        turn = at(0, 0, 0, (1e-4, [0, 1, 0]))  # 1.5 mm at its ends
        local = np.concatenate([scene.nodes.local, [frames[0], frames[1], frames[2] @ turn]])
        for some, expected in ((local, 2), (np.concatenate([local[:-1], [frames[2]]]), 3)):
            nodes = make_nodes(np.full(len(some), -1), some, [*scene.nodes.names, "rail_0", "rail_1", "rail_2"], mesh=[*scene.nodes.mesh, 3, 3, 3])  # fmt: skip
            out = apply(scene.but(nodes=nodes, meshes=(*scene.meshes, long)))
            rails = [out.nodes.names.index(f"rail_{k}") for k in range(3)]
            self.assertEqual(int((out.nodes.parent[rails] >= 0).sum()), expected)


class Arrives(unittest.TestCase):
    def test_in_every_format(self) -> None:
        scene = village(8, 4, 3, strays=3)
        for fmt in sorted(writable()):
            with self.subTest(format=fmt):
                ok, said, _ = proven(scene, [{"kind": "find_compounds"}], fmt)
                self.assertTrue(ok, said)
