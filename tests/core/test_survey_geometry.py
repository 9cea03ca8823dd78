"""Faults planted in geometry, and their clean twins: shells, copies, places, UV sets, units."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any
from unittest.mock import patch

import numpy as np
import trimesh

from tests.core.test_survey import findings
from tests.support import Gltf
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.copies import families
from tidy_caravan.core.copies.batch import stacked
from tidy_caravan.core.copies.search import copies_in, movable
from tidy_caravan.core.geometry.congruent import twice
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.survey import Finding
from tidy_caravan.core.work.heavy import Workshop

BOX = trimesh.creation.box((1.0, 1.2, 1.4))
REFUSES = BUILT_IN[1].model_copy(update={"negative_scale": False})
KEEPS = BUILT_IN[0].model_copy(update={"negative_scale": True})


def scene(*parts: tuple[Any, Any], nodes: list[dict[str, Any]] | None = None, **attributes: Any) -> Scene:
    """One part per (points, faces)."""
    g = Gltf()
    for i, (points, faces) in enumerate(parts):
        mesh = g.mesh(points, np.asarray(faces).ravel(), **attributes)
        g.node(mesh=mesh, name=f"piece {i}", **(nodes[i] if nodes else {}))
    return g.scene()


def found(code: str, s: Scene, to: Any = KEEPS) -> Finding | None:
    return findings(s, to).get(code)


class InsideOut(unittest.TestCase):
    def test_a_seam_that_differs_by_rounding_is_closed(self) -> None:
        """Every face has its own corners, each off by 1e-7."""
        rng = np.random.default_rng(1)
        loose = BOX.vertices[BOX.faces].reshape(-1, 3) + rng.uniform(-1e-7, 1e-7, (36, 3))
        for turned in (False, True):
            faces = np.arange(36).reshape(-1, 3)[:, :: -1 if turned else 1]
            self.assertEqual(found("faces.inside-out", scene((loose, faces))) is not None, turned)

    def test_one_shell_among_several_and_beside_an_open_sheet(self) -> None:
        points = np.concatenate([BOX.vertices + [3 * k, 0, 0] for k in range(4)])
        good = np.concatenate([BOX.faces + 8 * k for k in range(4)])
        bad = good.copy()
        bad[24:36] = bad[24:36, ::-1]
        self.assertIsNone(found("faces.inside-out", scene((points, good))))
        finding = found("faces.inside-out", scene((points, bad)))
        assert finding
        self.assertEqual(finding.value, 1.0)
        sheet = [[9, 0, 0], [10, 0, 0], [10, 1, 0], [9, 1, 0]]
        beside = np.concatenate([BOX.vertices, sheet]), np.concatenate([BOX.faces[:, ::-1], [[8, 9, 10], [8, 10, 11]]])
        self.assertIsNotNone(found("faces.inside-out", scene(beside)))

    def test_below_a_mirror_it_may_be_meant_unless_the_mirror_goes_into_the_mesh(self) -> None:
        whole = scene((BOX.vertices, BOX.faces[:, ::-1]))
        local = whole.nodes.local.copy()
        local[0] = local[0] @ np.diag([-1.0, 1, 1, 1])
        whole = whole.but(nodes=replace(whole.nodes, local=local))
        for to, code in ((KEEPS, "faces.turned-twice"), (REFUSES, "faces.inside-out")):
            told = {"faces.inside-out", "faces.turned-twice"} & set(findings(whole, to))
            self.assertEqual(told, {code}, to.negative_scale)

    def test_a_hollow_body_is_right_with_its_cavity_turned_inwards(self) -> None:
        points = np.concatenate([BOX.vertices, BOX.vertices * 0.8])
        hollow = np.concatenate([BOX.faces, BOX.faces[:, ::-1] + 8])
        self.assertIsNone(found("faces.inside-out", scene((points, hollow))))
        self.assertIsNotNone(found("faces.inside-out", scene((points, hollow[:, ::-1]))))

    def test_thousands_of_shells_and_one_cavity(self) -> None:
        places = np.stack(np.meshgrid(*[np.arange(14.0) * 4] * 3), axis=-1).reshape(-1, 3)
        points = [BOX.vertices + p for p in places]
        faces = [BOX.faces + 8 * k for k in range(len(places))]
        points.append(BOX.vertices * 0.5 + places[5])
        faces.append(BOX.faces[:, ::-1] + 8 * len(places))
        whole = shells_of(Mesh(np.concatenate(points).astype(np.float32), np.concatenate(faces).astype(np.uint32),
                               np.zeros(12 * len(faces), np.int32)))  # fmt: skip
        self.assertEqual((len(whole.closed), int(whole.inverted.sum())), (len(faces), 0))
        faces[-1] = faces[-1][:, ::-1]
        turned_ = [f[:, ::-1] for f in faces]
        whole = shells_of(Mesh(np.concatenate(points).astype(np.float32), np.concatenate(turned_).astype(np.uint32),
                               np.zeros(12 * len(faces), np.int32)))  # fmt: skip
        self.assertEqual(int(whole.inverted.sum()), len(faces))

    def test_a_room_is_seen_from_inside(self) -> None:
        room = trimesh.creation.box((6.0, 3.0, 8.0))
        seat = trimesh.creation.box((0.5, 0.45, 0.5))
        furnished = scene((room.vertices, room.faces[:, ::-1]), (seat.vertices, seat.faces))
        self.assertIsNone(found("faces.inside-out", furnished))
        self.assertIsNotNone(found("faces.room", furnished))
        empty = scene((room.vertices, room.faces[:, ::-1]))
        self.assertIsNone(found("faces.inside-out", empty))
        asked = found("faces.room-or-inside-out", empty)
        assert asked
        self.assertEqual((asked.severity, asked.guess), ("warning", True))
        crate = scene((BOX.vertices, BOX.faces[:, ::-1]))
        self.assertEqual((found("faces.inside-out", crate) or asked).severity, "error")

    def test_a_box_turned_twice_is_no_error(self) -> None:
        mirrored = [{"scale": [-1, 1, 1]}]
        self.assertIsNone(found("faces.inside-out", scene((BOX.vertices, BOX.faces[:, ::-1]), nodes=mirrored)))
        self.assertIsNone(found("faces.inside-out", scene((BOX.vertices, BOX.faces), nodes=mirrored)))

    def test_thin_sheets_are_not_welded_shut(self) -> None:
        thin = trimesh.creation.box((1.0, 5e-6, 1.0))
        self.assertIsNotNone(found("faces.inside-out", scene((thin.vertices, thin.faces[:, ::-1]))))
        self.assertIsNone(found("faces.inside-out", scene((thin.vertices, thin.faces))))


class Units(unittest.TestCase):
    def test_a_house_of_nine_kilometres(self) -> None:
        house = trimesh.creation.box((9000.0, 7000.0, 12000.0))
        finding = found("unit.implausible", scene((house.vertices, house.faces)))
        assert finding and finding.mend
        self.assertEqual(
            (finding.severity, finding.guess, finding.mend["sourceMetresPerUnit"]), ("warning", True, 0.001)
        )
        walls = [((b := trimesh.creation.box((9000, 300, 240))).vertices + [0, 0, 4000 * k], b.faces) for k in range(4)]
        self.assertIsNotNone(found("unit.implausible", scene(*walls)))
        land = np.array([[-4500, 0, -4500], [4500, 150, -4500], [4500, 20, 4500], [-4500, 90, 4500]])
        self.assertIsNone(found("unit.implausible", scene((land, [[0, 2, 1], [0, 3, 2]]))))
        block = [((b := trimesh.creation.box((12, 30, 9))).vertices + [60.0 * k, 15, 0], b.faces) for k in range(40)]
        self.assertIsNone(found("unit.implausible", scene(*block)))

    def test_ratios_of_units_in_node_scale(self) -> None:
        odd = trimesh.creation.box((0.031, 0.017, 0.4))
        for factor in (25.4, 304.8, 0.0254, 39.37007874, 100.0, 0.001, 30.48):
            one = scene((odd.vertices, odd.faces), nodes=[{"scale": [factor] * 3}])
            self.assertIsNotNone(found("scale.hidden-unit", one), factor)

    def test_what_was_modelled_so_is_none(self) -> None:
        cube, ball = trimesh.creation.box(), trimesh.creation.icosphere(1)
        floor = scene((cube.vertices, cube.faces), nodes=[{"scale": [100.0, 0.01, 100.0]}])
        self.assertIsNone(found("scale.hidden-unit", floor))
        cubed = scene((cube.vertices, cube.faces), nodes=[{"scale": [1000.0, 10.0, 100.0]}])
        self.assertIsNone(found("scale.hidden-unit", cubed), "whose volume is that of a hundredfold cube")
        large = scene((ball.vertices, ball.faces), nodes=[{"scale": [10.0] * 3}])
        self.assertIsNone(found("scale.hidden-unit", large))
        self.assertIsNotNone(found("scale.left", large))


def copies(s: Scene, to: Any = KEEPS) -> int:
    finding = found("sharing.loose-copies", s, to)
    return finding.count if finding else 0


def turned(points: Any, seed: int, scale: float = 1.0) -> Any:
    rng = np.random.default_rng(seed)
    matrix = trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3]
    return np.asarray(points) @ (scale * matrix.T) + rng.uniform(-20, 20, 3)


class LooseCopies(unittest.TestCase):
    SHAPE = trimesh.util.concatenate(
        [trimesh.creation.box((1, 2, 3)), trimesh.creation.icosphere(1, 0.4).apply_translation((0.9, 0.4, 1.8))]
    )

    def test_placed_scaled_and_in_another_order(self) -> None:
        points, faces = self.SHAPE.vertices, self.SHAPE.faces
        order = np.random.default_rng(3).permutation(len(faces))
        names = np.random.default_rng(4).permutation(len(points))
        shuffled = points[names], np.argsort(names)[faces][order][:, [1, 2, 0]]
        self.assertEqual(copies(scene((points, faces), (turned(points, 1), faces))), 2)
        self.assertEqual(copies(scene((points, faces), (turned(points, 1, 2.0), faces))), 2)
        self.assertEqual(copies(scene((points, faces), (turned(shuffled[0], 5, 0.25), shuffled[1]))), 2)
        mirror = turned(points * [-1, 1, 1], 6), faces[:, ::-1]
        self.assertEqual(copies(scene((points, faces), mirror), KEEPS), 2)
        self.assertEqual(copies(scene((points, faces), mirror), REFUSES), 0)

    def test_symmetric_ones_in_another_order(self) -> None:
        ring = trimesh.creation.cylinder(0.3, 2.0, sections=16)
        order = np.random.default_rng(3).permutation(len(ring.faces))
        self.assertEqual(copies(scene((ring.vertices, ring.faces), (turned(ring.vertices, 2), ring.faces[order]))), 2)

    def test_other_uvs_are_another_mesh(self) -> None:
        g = Gltf()
        for k in range(2):
            uv = BOX.vertices[:, :2] * (1.0 + 3 * k)
            g.node(mesh=g.mesh(turned(BOX.vertices, k), BOX.faces.ravel(), TEXCOORD_0=uv), name=f"n{k}")
        self.assertEqual(copies(g.scene()), 0)
        g = Gltf()
        for k in range(2):
            uv = BOX.vertices[:, :2]
            g.node(mesh=g.mesh(turned(BOX.vertices, k), BOX.faces.ravel(), TEXCOORD_0=uv), name=f"n{k}")
        self.assertEqual(copies(g.scene()), 2)

    def test_sheets_folded_differently(self) -> None:
        """Equal strips, equal edges and areas, bent by another angle at the same folds."""

        def folded(angles: list[float]) -> Any:
            points, at, way = [[0.0, 0.0, 0.0], [0.0, 0.0, 1.0]], np.zeros(2), 0.0
            for angle in [0.0, *angles]:
                way += np.radians(angle)
                at = at + [np.cos(way), np.sin(way)]
                points += [[*at, 0.0], [*at, 1.0]]
            faces = [t for k in range(0, len(points) - 2, 2) for t in ((k, k + 2, k + 3), (k, k + 3, k + 1))]
            return np.array(points), np.array(faces)

        a, b = folded([30, -50, 20]), folded([30, 50, 20])
        self.assertEqual(copies(scene(a, b)), 0)
        self.assertEqual(copies(scene(a, (turned(a[0], 3), a[1]))), 2)

    def test_piles_of_the_same_books(self) -> None:
        """The same boxes, stacked with other turns."""

        def pile(seed: int) -> Any:
            rng = np.random.default_rng(seed)
            points, faces = [], []
            for k in range(5):
                angle = rng.uniform(-0.5, 0.5)
                c, s = np.cos(angle), np.sin(angle)
                book = trimesh.creation.box((0.2, 0.04, 0.15)).vertices @ np.array([[c, 0, -s], [0, 1, 0], [s, 0, c]])
                points.append(book + [0, 0.04 * k, 0])
                faces.append(BOX.faces + 8 * k)
            return np.concatenate(points), np.concatenate(faces)

        self.assertEqual(copies(scene(pile(1), pile(2))), 0)
        self.assertEqual(copies(scene(pile(1), (turned(pile(1)[0], 9), pile(1)[1]))), 2)

    def test_many_are_found_in_one_family(self) -> None:
        family = [(turned(self.SHAPE.vertices, k), self.SHAPE.faces) for k in range(60)]
        others = [(turned(BOX.vertices * [1, 1 + k / 7, 1], k), BOX.faces) for k in range(1, 20)]
        finding = found("sharing.loose-copies", scene(*family, *others))
        assert finding
        self.assertEqual((finding.count, finding.limit), (60, 1.0))

    def test_thousands_of_each_kind(self) -> None:
        """None is left out for being one of many, and boxes of many measures are told apart by figures alone."""
        sizes = np.random.default_rng(3).uniform(0.2, 5.0, (1500, 3))
        meshes = [mesh_of(turned(BOX.vertices, k)) for k in range(6000)] + [mesh_of(BOX.vertices * s) for s in sizes]
        nodes = make_nodes(np.full(7500, -1), np.tile(np.eye(4), (7500, 1, 1)), ["box"] * 7500, mesh=np.arange(7500))
        whole = Scene(GLTF, nodes, tuple(meshes), ())
        found = copies_in(whole, Workshop(), lambda done, total: None, movable(whole))
        self.assertEqual(found.vain, 0)
        largest = np.flatnonzero(found.family == np.argmax(np.bincount(found.family)))
        self.assertEqual(sorted(found.mesh[largest].tolist()), list(range(6000)))
        with patch.object(families, "MOST_IN_VAIN", -1):
            told = families.copies_among(stacked(meshes[-200:], np.full(200, 10.0)), "uniform", False, [0, 1, 0])[1]
        self.assertGreater(told["vain"], 133, "a bound that was met is told")


def mesh_of(points: Any) -> Mesh:
    return Mesh(points.astype(np.float32), BOX.faces.astype(np.uint32), np.zeros(len(BOX.faces), np.int32))


class Twice(unittest.TestCase):
    def test_many_in_one_place_cost_as_many_looks(self) -> None:
        rng = np.random.default_rng(2)
        place, lone = np.array([[0.0, 0.0, 0.0], [1.0, 2.0, 3.0]]), rng.uniform(10, 90, (500, 1, 3))
        jitter = rng.uniform(-1e-7, 1e-7, (300, 2, 3))
        boxes = np.concatenate([np.tile(place, (20_000, 1, 1)), place + jitter + 200, lone + [[0], [1]]])
        pairs = twice(boxes, np.zeros(len(boxes)), 1e-5)
        self.assertEqual(set(np.unique(pairs).tolist()), set(range(20_300)))
        self.assertLess(len(pairs), 2 * len(boxes))

    def test_none_hides_behind_another_in_the_same_box(self) -> None:
        tetra = np.array([[0, 0, 0], [1, 1, 0], [1, 0, 1], [0, 1, 1]], float)
        faces = np.array([[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]])
        other = 1 - tetra
        finding = found("part.twice", scene((tetra, faces), (other, faces[:, ::-1]), (other, faces[:, ::-1])))
        assert finding
        self.assertEqual(finding.parts, [1, 2])

    def test_the_same_part_twice_in_one_place(self) -> None:
        g = Gltf()
        mesh = g.mesh(BOX.vertices, BOX.faces.ravel())
        for k, x in enumerate((0.0, 4.0, 0.0, 8.0)):
            g.node(mesh=mesh, name=f"n{k}", translation=[x, 0, 0])
        finding = found("part.twice", g.scene())
        assert finding
        self.assertEqual((finding.count, finding.parts), (1, [0, 2]))

    def test_copies_baked_into_one_place_and_neighbours_that_only_look_alike(self) -> None:
        order = np.random.default_rng(1).permutation(len(BOX.faces))
        self.assertIsNotNone(found("part.twice", scene((BOX.vertices, BOX.faces), (BOX.vertices, BOX.faces[order]))))
        near = BOX.vertices + [0.002, 0, 0]
        self.assertIsNone(found("part.twice", scene((BOX.vertices, BOX.faces), (near, BOX.faces))))
        tetra = np.array([[0, 0, 0], [1, 1, 0], [1, 0, 1], [0, 1, 1]], float)
        faces = np.array([[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]])
        other = 1 - tetra  # in the same box, on the other four corners
        self.assertIsNone(found("part.twice", scene((tetra, faces), (other, faces[:, ::-1]))))


class LightmapSets(unittest.TestCase):
    def sets(self, second: Any, read_by: int = 0) -> Scene:
        g = Gltf()
        first = [[0, 0], [5, 0], [5, 5], [0, 5]]
        square = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
        mesh = g.mesh(square, [0, 1, 2, 0, 2, 3], TEXCOORD_0=first, TEXCOORD_1=second)
        g.put("textures", {})
        g.put("materials", {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0, "texCoord": read_by}}})
        g.json["meshes"][mesh]["primitives"][0]["material"] = 0
        g.node(mesh=mesh)
        return g.scene()

    def test_overlaps_and_range(self) -> None:
        clean = [[0.1, 0.9], [0.9, 0.9], [0.9, 0.1], [0.1, 0.1]]
        folded = [[0.1, 0.9], [0.9, 0.9], [0.9, 0.1], [0.8, 0.7]]
        outside = [[0.1, 1.9], [1.9, 1.9], [1.9, 0.1], [0.1, 0.1]]
        for second, codes in ((clean, set()), (folded, {"uv.lightmap-overlaps"}), (outside, {"uv.lightmap-range"})):
            told = {c for c in findings(self.sets(second)) if c.startswith("uv.lightmap")}
            self.assertEqual(told, codes)

    def test_a_set_that_pictures_read_is_no_lightmap(self) -> None:
        outside = [[0.1, 1.9], [1.9, 1.9], [1.9, 0.1], [0.1, 0.1]]
        self.assertFalse([c for c in findings(self.sets(outside, 1)) if c.startswith("uv.lightmap")])


if __name__ == "__main__":
    unittest.main()
