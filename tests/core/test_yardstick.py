"""The yardstick: wrong chains recovered from their answers, wrong answers called wrong, units told by human scale."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tests.core.test_sides import as_mesh
from tests.support import sent, validate_bytes
from tidy_caravan.core.arrival.habits import HABITS, answer, habit_named, through
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination, ImporterHabit
from tidy_caravan.core.conventions.evidence import candidates, whole_as_told
from tidy_caravan.core.conventions.yardstick import Answers, blocks, known_ratio, read_answers, yardstick
from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.figures import bounds_metres
from tidy_caravan.core.formats import writable, write
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import default_route
from tidy_caravan.core.scene import GLTF, Convention, Scene, make_nodes
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.space.convert import convert
from tidy_caravan.core.survey import known_checks
from tidy_caravan.core.survey.context import Context
from tidy_caravan.demo.ferry_landing import landing


def laid_out(destination: Destination, fmt: str, folder: Path) -> Path:
    save(write(yardstick(destination, fmt), fmt, "yardstick").files, folder)
    return folder / f"yardstick.{fmt}"


def ask(destination: Destination, fmt: str, habit: str) -> Answers:
    with tempfile.TemporaryDirectory() as folder:
        return answer(laid_out(destination, fmt, Path(folder)), destination, fmt, habit_named(habit))


class TheObject(unittest.TestCase):
    def test_it_fills_one_by_two_by_three_metres_exactly(self) -> None:
        low = np.min([b.low for b in blocks()], axis=0)
        high = np.max([b.high for b in blocks()], axis=0)
        np.testing.assert_array_equal((low, high), ((0, 0, 0), (1, 2, 3)))
        for destination in BUILT_IN:
            scene = yardstick(destination, "glb")
            box = bounds_metres(scene)
            np.testing.assert_allclose(box[1] - box[0], (1, 2, 3), atol=1e-6)

    def test_it_is_valid_and_carries_its_picture(self) -> None:
        for destination in BUILT_IN:
            files = write(yardstick(destination, "glb"), "glb", "yardstick").files
            report = validate_bytes(files)
            self.assertEqual((report["errors"], report["warnings"]), (0, 0))
            self.assertTrue(yardstick(destination, "glb").images[0].data)


class Chains(unittest.TestCase):
    def test_every_wrong_chain_is_recovered_for_every_destination(self) -> None:
        self.assertGreaterEqual(len(HABITS), 11, "ten wrong ones and a right one")
        rng = np.random.default_rng(1)
        points = rng.uniform(-50, 50, (20, 3))
        for destination in BUILT_IN:
            with tempfile.TemporaryDirectory() as folder:
                file = laid_out(destination, "glb", Path(folder))
                for habit in HABITS:
                    with self.subTest(destination=destination.name, habit=habit.name):
                        reading = read_answers(
                            destination, "glb", answer(file, destination, "glb", habit), "2026-01-01"
                        )
                        self.assertEqual(reading.problems, [])
                        made = reading.destination
                        assert made is not None
                        # metres in truth, written as was learnt, through the bad importer, seen in its own world
                        written = points @ linear_map(GLTF, made.file_convention("glb")).T
                        truth = points @ linear_map(GLTF, destination.world.convention()).T
                        np.testing.assert_allclose(
                            through(habit, written), truth * destination.world.metres_per_unit, atol=1e-9
                        )
                        self.assertEqual(
                            made.importers["glb"].proof.date if made.importers["glb"].proof else "", "2026-01-01"
                        )

    def test_every_format_carries_it(self) -> None:
        for fmt in writable():
            with self.subTest(fmt):
                answers = ask(BUILT_IN[1], fmt, "turned-centimetres")
                self.assertEqual(answers.marks, ("Y", "-X", "Z"))
                np.testing.assert_allclose(answers.sizes, (2, 1, 3), rtol=1e-5)

    def test_sentences_say_it_in_one_line(self) -> None:
        reading = read_answers(BUILT_IN[0], "glb", ask(BUILT_IN[0], "glb", "centimetres"))
        self.assertEqual(reading.sentence, "The other side reads your metres as centimetres and keeps the axes.")
        self.assertEqual((reading.factor, reading.factor_in), (0.01, "vertices"))
        reading = read_answers(BUILT_IN[0], "glb", ask(BUILT_IN[0], "glb", "centimetres-in-node"))
        self.assertEqual(reading.factor_in, "node scale")
        self.assertIn("node", reading.remarks[0])
        reading = read_answers(BUILT_IN[0], "glb", ask(BUILT_IN[0], "glb", "swaps"))
        self.assertTrue(reading.mirrored)
        self.assertIn("mirrors the scene", reading.sentence)

    def test_a_proven_destination_carries_scenes_that_arrive(self) -> None:
        scene = landing()
        made = read_answers(BUILT_IN[1], "glb", ask(BUILT_IN[1], "glb", "mirrors")).destination
        assert made is not None
        again = Destination.model_validate_json(made.model_dump_json(by_alias=True))
        self.assertEqual(again, made)
        route = default_route()
        route.steps = route.steps[:2]
        package, _ = sent(scene, "a.gltf", "0" * 64, made, route, "glb")
        with tempfile.TemporaryDirectory() as folder:
            save(package.files, Path(folder))
            report, arrived = prove(Path(folder), scene)
        self.assertTrue(report.ok, report.problems)
        self.assertEqual(arrived.convention.handedness, "left", "the file is written mirrored for a mirroring importer")

    def test_unknown_habits_and_strange_files(self) -> None:
        with self.assertRaises(CaravanError):
            habit_named("perfect")
        with tempfile.TemporaryDirectory() as folder, self.assertRaises(UnusableInput):
            save(write(landing(), "glb", "yardstick").files, Path(folder))
            answer(Path(folder) / "yardstick.glb", BUILT_IN[0], "glb", HABITS[0])


class WrongAnswers(unittest.TestCase):
    def read(self, **answers: Any) -> Any:
        values = {"sizes": (1, 2, 3), "marks": ("X", "Y", "Z")} | answers
        return read_answers(BUILT_IN[0], "glb", Answers(**values))

    def test_they_are_called_wrong_and_nothing_follows(self) -> None:
        for answers, words in (
            ({"marks": ("X", "-X", "Z")}, "one axis"),
            ({"sizes": (1, 2, 9)}, "three different factors"),
            ({"sizes": (1, 3, 2)}, "contradict"),
            ({"sizes": (1.37, 2.74, 4.11)}, "no two usual units"),
            ({"sizes": (0, 2, 3)}, "nought"),
        ):
            with self.subTest(answers):
                reading = self.read(**answers)
                self.assertTrue(reading.problems)
                self.assertIn(words, reading.sentence)
                self.assertIsNone(reading.destination)

    def test_small_misreadings_are_forgiven(self) -> None:
        self.assertEqual(self.read(sizes=(1.001, 1.999, 3.002)).factor, 1.0)
        self.assertEqual(self.read(sizes=(39.4, 78.7, 118.1)).problems, [])

    def test_pictures_and_scales_are_remarked(self) -> None:
        self.assertIn("upside down", self.read(picture="upside-down").remarks[0])
        self.assertIn("mirrored", self.read(picture="mirrored").remarks[0])
        self.assertIn("did not arrive", self.read(picture="missing").remarks[0])
        self.assertEqual(self.read(node_scale=100).factor_in, "node scale")

    def test_ratios_of_units(self) -> None:
        for factor in (0.01, 100, 2.54, 0.3048, 3.28084, 12, 39.3701, 1000):
            self.assertIsNotNone(known_ratio(factor))
        for factor in (1.37, 2.2, 7, 0.6):
            self.assertIsNone(known_ratio(factor))

    def test_a_measured_habit_needs_what_was_measured(self) -> None:
        with self.assertRaises(ValueError):
            ImporterHabit(numbers="measured")


class Evidence(unittest.TestCase):
    def test_human_scale_tells_the_demos_unit_whatever_it_is_in(self) -> None:
        # the demo's numbers are centimetres
        true = replace(GLTF, metres_per_unit=0.01)
        for factor in (0.001, 0.01, 0.0254, 0.3048, 1.0):
            for stated in (1.0, 0.01):
                with self.subTest(factor=factor, stated=stated):
                    scene = convert(landing().but(convention=true), replace(true, metres_per_unit=factor))
                    scene = scene.but(convention=replace(true, metres_per_unit=stated))
                    found = candidates(whole_as_told(scene))
                    self.assertEqual((found[0].metres_per_unit, found[0].likeliest), (factor, True))
                    self.assertEqual(found[0].fitting, found[0].total)
                    self.assertTrue(set(found[0].parts) <= set(scene.nodes.parts.tolist()))
                    finding = list(known_checks()["unit_plausible"].run(Context(scene, BUILT_IN[0])))
                    self.assertLessEqual({f.code for f in finding}, {"unit.implausible"})
                    self.assertEqual(bool(finding), factor != stated)
                    if finding:
                        assert finding[0].mend is not None
                        self.assertEqual(finding[0].mend["sourceMetresPerUnit"], factor)
                        self.assertTrue(finding[0].guess)

    def test_names_in_other_languages_and_in_one_word_are_read(self) -> None:
        for door, chair in (
            ("Tür_2", "Stuhl.004"),
            ("FrontDoor", "OfficeChair12"),
            ("Porte d'entrée", "chaise-3"),
            ("PUERTA", "Silla01"),
        ):
            with self.subTest(door):
                leaf, seat = (trimesh.creation.box(size) for size in ((900, 2100, 40), (450, 900, 450)))
                nodes = make_nodes([-1] * 2, np.tile(np.eye(4), (2, 1, 1)), [door, chair], mesh=[0, 1])
                found = candidates(whole_as_told(Scene(GLTF, nodes, (as_mesh(leaf), as_mesh(seat)))))
                self.assertEqual((found[0].metres_per_unit, found[0].likeliest, found[0].total), (0.001, True, 2))

    def test_without_anything_of_known_size_the_whole_decides(self) -> None:
        scene = yardstick(BUILT_IN[0], "glb")
        found = candidates(whole_as_told(scene))
        self.assertEqual([c.likeliest for c in found if c.stated], [True])
        far = scene.but(convention=Convention(1000.0 * 100))
        self.assertFalse(any(c.likeliest for c in candidates(whole_as_told(far))))


if __name__ == "__main__":
    unittest.main()
