"""Levels of detail: bounds against closed forms, the whole untouched, files of every format read back and proven, and
planted faults in them found."""

from __future__ import annotations

import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, ClassVar

import numpy as np
import orjson
import trimesh

from tests.core.test_sides import as_mesh, at
from tests.support import sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.packing.pack import Package, save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import FILES, GLTF, Camera, Material, Scene, make_nodes
from tidy_caravan.core.scene.levels import at_level, deepest
from tidy_caravan.core.steps import StepContext, parse_step

BALL = trimesh.creation.icosphere(3, 0.5)
STEP = {"kind": "levels_of_detail", "levels": 2, "errorMm": 30.0, "coarser": 6.0}


def bollards() -> Scene:
    """Three balls of one mesh, the last twice as large, on a slab that needs no levels."""
    slab = trimesh.creation.box([8, 0.2, 4])
    places = [at(0, -0.6, 0), at(-2, 0, 0), at(0, 0, 0), at(2, 0.5, 0) @ np.diag([2.0, 2, 2, 1])]
    nodes = make_nodes([-1] * 4, np.array(places), ["slab", "ball_1", "ball_2", "ball_3"], mesh=[0, 1, 1, 1])
    return Scene(GLTF, nodes, (as_mesh(slab), as_mesh(BALL)))


def made(scene: Scene, **more: Any) -> Scene:
    return parse_step({**STEP, **more}).apply(scene, StepContext())[0]


def carried(fmt: str = "glb", steps: Any = (STEP,), scene: Scene | None = None) -> tuple[Scene, Package, Scene]:
    scene = scene or bollards()
    route = Route.model_validate({"steps": [{"kind": "match_units_axes"}, *steps]})
    package, done = sent(scene, "bollards.glb", "0" * 64, BUILT_IN[0], route, fmt)  # type: ignore[arg-type]
    return scene, package, done


def proven(source: Scene, done: Scene, files: dict[str, bytes]) -> Any:
    with TemporaryDirectory() as folder:
        save(files, Path(folder))
        return prove(Path(folder), source, done)[0]


class Made(unittest.TestCase):
    def test_each_level_keeps_its_bound_on_the_largest_part_and_the_whole_is_as_it_was(self) -> None:
        before = bollards()
        after = made(before)
        self.assertEqual([m.id for m in after.meshes], [m.id for m in before.meshes])
        self.assertEqual(deepest(after), 2)
        levels = after.levels[before.meshes[1].id]
        self.assertGreater(before.meshes[1].triangles, levels[0].mesh.triangles)
        self.assertGreater(levels[0].mesh.triangles, 1.2 * levels[1].mesh.triangles)
        for level, bound in zip(levels, (30.0, 180.0), strict=True):
            self.assertLessEqual(level.error_mm, bound)
            corners = level.mesh.positions.astype(np.float64)[level.mesh.indices]
            # of a ball the surface lies furthest inside at the middles of triangles
            inside = 500 - 1000 * np.linalg.norm(corners.mean(axis=1), axis=1)
            sagitta = 500 - 1000 * np.linalg.norm(BALL.triangles_center, axis=1).min()
            self.assertLessEqual(2 * (inside.max() - sagitta), bound)
            self.assertGreater(inside.max(), sagitta)
        self.assertNotIn(before.meshes[0].id, after.levels)

    def test_a_second_time_changes_nothing_and_other_parts_keep_theirs(self) -> None:
        once = made(bollards())
        twice = made(once)
        told = [[(k, [(one.mesh.id, one.error_mm) for one in v]) for k, v in s.levels.items()] for s in (once, twice)]
        self.assertEqual(*told)
        self.assertEqual(made(once, where={"names": ["slab"]}).levels.keys(), once.levels.keys())

    def test_at_a_level_places_and_names_are_those_of_the_whole(self) -> None:
        scene = made(bollards())
        for number in (1, 2, 7):
            coarse = at_level(scene, number)
            self.assertEqual(coarse.nodes.names, scene.nodes.names)
            self.assertTrue(np.array_equal(coarse.nodes.world, scene.nodes.world))
            expected = scene.levels[scene.meshes[1].id][min(number, 2) - 1].mesh.id
            self.assertEqual([coarse.meshes[m].id for m in coarse.nodes.mesh], [scene.meshes[0].id] + [expected] * 3)


class OfSeveral(unittest.TestCase):
    """Meshes of which some have nothing to gain at the finer bounds."""

    ASKED: ClassVar[dict[str, Any]] = {"levels": 3, "errorMm": 15, "coarser": 4}

    def setUp(self) -> None:
        rough = BALL.copy()
        # what a finer bound would have to keep, and the coarsest need not
        rough.vertices *= 1 + np.random.default_rng(4).uniform(-0.08, 0.08, len(rough.vertices))[:, None]
        nodes = make_nodes([-1] * 2, np.array([at(0, 0, 0), at(3, 0, 0)]), ["smooth", "rough"], mesh=[0, 1])
        self.scene = Scene(GLTF, nodes, (as_mesh(BALL), as_mesh(rough)))

    def test_each_file_keeps_its_bound_for_all_that_is_in_it(self) -> None:
        out = made(self.scene, **self.ASKED)
        smooth, rough = (out.levels[m.id] for m in out.meshes)
        self.assertEqual([one.error_mm for one in smooth], [15, 60, 240])
        self.assertEqual([one.error_mm for one in rough], [0, 60, 240])
        self.assertEqual([one.mesh.id for one in rough[:1]], [self.scene.meshes[1].id])
        _, package, done = carried("glb", ({**STEP, **self.ASKED},), self.scene)
        told = [(one.level, one.meshes, one.error_mm) for one in package.manifest.levels]
        self.assertEqual(told, [(1, 1, 15), (2, 2, 60), (3, 2, 240)])
        report = proven(self.scene, done, package.files)
        self.assertTrue(report.ok, (report.problems, [r.told for r in report.rows if r.faults]))

    def test_a_file_that_nothing_is_coarser_in_is_none(self) -> None:
        rough = made(self.scene, **self.ASKED, where={"names": ["rough"]})
        (only,) = rough.levels.values()
        self.assertEqual([one.error_mm for one in only], [60, 240])


class Delivered(unittest.TestCase):
    def test_every_format_delivers_them_and_is_proven(self) -> None:
        for fmt in sorted(writable()):
            with self.subTest(fmt):
                source, package, done = carried(fmt)
                self.assertEqual([one.level for one in package.manifest.levels], [1, 2])
                report = proven(source, done, package.files)
                self.assertTrue(report.ok, (report.problems, [r.told for r in report.rows if r.faults]))
                self.assertEqual(sum("Level of detail" in text for text in report.declared), 2)

    def test_nodes_that_a_step_made_and_files_of_several_names_are_no_hindrance(self) -> None:
        plain = bollards()
        nodes = make_nodes(
            [-1] * 4, plain.nodes.local, plain.nodes.names, mesh=plain.nodes.mesh, camera=[-1, 0, -1, -1]
        )
        scene = plain.but(
            nodes=nodes, cameras=(Camera("perspective", yfov=0.8, znear=0.1),), extras={FILES: [["quay", 0, 4]]}
        )
        pivots = {"kind": "place_pivots", "at": "centre", "onlyFar": False}
        source, package, done = carried("glb", steps=(pivots, STEP), scene=scene)
        self.assertGreater(len(done.nodes), len(source.nodes))
        report = proven(source, done, package.files)
        self.assertTrue(report.ok, (report.problems, [r.told for r in report.rows if r.faults]))

    def test_another_library_reads_the_triangles_that_the_manifest_names(self) -> None:
        _, package, _ = carried("glb")
        for one in package.manifest.levels:
            with TemporaryDirectory() as folder:
                save(package.files, Path(folder))
                read = trimesh.load_scene(Path(folder) / one.main_file)
                self.assertEqual(sum(len(g.faces) for g in read.dump()), one.triangles)
                names = set(read.graph.nodes_geometry)
                self.assertEqual(names, {"slab", "ball_1", "ball_2", "ball_3"})

    def test_what_is_wrong_with_a_level_is_found(self) -> None:
        source, package, done = carried("glb")
        files = package.files
        first, second = (one.main_file for one in package.manifest.levels)

        def spoilt(**changed: bytes | None) -> Any:
            out = {k: v for k, v in files.items() if changed.get(k, b"") is not None}
            out.update({k: v for k, v in changed.items() if v is not None})
            manifest = orjson.loads(out["manifest.json"])
            out["manifest.json"] = orjson.dumps(manifest)
            return proven(source, done, out)

        self.assertFalse(spoilt(**{first: None}).ok)
        swapped = spoilt(**{first: files[second], second: files[first]})
        self.assertTrue(any("level of detail 1" in p for p in swapped.problems), swapped.problems)
        shifted = carried("glb", scene=moved(bollards()))[1].files[first]
        report = spoilt(**{first: shifted})
        self.assertTrue(any("ball_2" in p and "level of detail 1" in p for p in report.problems), report.problems)
        self.assertFalse(spoilt(**{second: b"glTF"}).ok)

    def test_a_level_coarser_than_it_says_is_found(self) -> None:
        """The same package, its manifest saying that the levels are ten times as near."""
        source, package, done = carried("glb")
        manifest = orjson.loads(package.files["manifest.json"])
        for one in manifest["levels"]:
            one["errorMm"] /= 20
        report = proven(source, done, package.files | {"manifest.json": orjson.dumps(manifest)})
        self.assertTrue(any("level of detail 2" in p for p in report.problems), report.problems)

    def test_materials_stay_where_they_are_within_the_bound(self) -> None:
        """Of balls that are half of one and half of another, also where they are not much larger than the bound; a few triangles
        of a level that carry the other one are found."""
        looks = (Material("paint"), Material("rust"))
        for size in (1.0, 0.06):
            ball = as_mesh(BALL.copy().apply_scale(size))
            half = np.where(ball.positions[ball.indices].mean(axis=1)[:, 1] > 0, 0, 1).astype(np.int32)
            scene = bollards().but(materials=looks)
            scene = scene.but(meshes=(scene.meshes[0], replace(ball, material=half)))
            source, package, done = carried("glb", scene=scene)
            self.assertEqual(proven(source, done, package.files).problems, [])
            if size < 1:
                continue
            spoilt = {}
            for key, (one, *rest) in done.levels.items():
                wrong = one.mesh.material.copy()
                wrong[np.argsort(-one.mesh.positions[one.mesh.indices].mean(axis=1)[:, 1])[:3]] = 1
                spoilt[key] = (replace(one, mesh=replace(one.mesh, material=wrong)), *rest)
            problems = proven(source, done.but(levels=spoilt), package.files).problems
            self.assertTrue(any("“rust” of" in p and "lies" in p for p in problems), problems)

    def test_levels_that_a_later_step_made_stale_are_told(self) -> None:
        later = {"kind": "simplify", "errorMm": 30.0}
        source, package, done = carried("glb", steps=(STEP, later))
        self.assertEqual(package.manifest.levels, [])
        self.assertTrue(any("to the end of the route" in text for text in package.manifest.losses))
        self.assertTrue(proven(source, done, package.files).ok)


def moved(scene: Scene) -> Scene:
    local = scene.nodes.local.copy()
    local[2, 0, 3] += 0.003
    return scene.but(nodes=make_nodes(scene.nodes.parent, local, scene.nodes.names, mesh=scene.nodes.mesh))
