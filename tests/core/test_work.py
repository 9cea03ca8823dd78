"""Heavy work: done once per content, kept apart where it may crash, shared out, lost piece by piece only."""

from __future__ import annotations

import dataclasses
import os
import signal
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Mapping
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from unittest import mock

import numpy as np
import psutil
import trimesh

from tests.core.test_sides import at, place, scene_of
from tests.support import ROOT, read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import Cancelled
from tidy_caravan.core.scene import Material
from tidy_caravan.core.steps import StepContext, density
from tidy_caravan.core.steps.density import fewer_triangles
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.core.surroundings import flicker, gaps, sides, world
from tidy_caravan.core.survey import context, survey
from tidy_caravan.core.work.heavy import LONG, Done, Here, Outcome, Piece, Remembered, Results, Work, Workshop, key_of
from tidy_caravan.core.work.idle import end_idle
from tidy_caravan.core.work.isolation import MEMORY_BYTES, Child, Lost
from tidy_caravan.core.work.nursery import report
from tidy_caravan.core.work.pool import Pool

HERE = "tests.core.test_work:"


def die() -> None:
    os.kill(os.getpid(), signal.SIGSEGV)


def hang() -> None:
    time.sleep(60)


def hoard() -> None:
    np.ones(1 << 34)


def refused(pieces: Any) -> Any:
    raise MemoryError


def died(arrays: Mapping[str, Any], **parameters: Any) -> Any:
    die()


def hung(arrays: Mapping[str, Any], **parameters: Any) -> Any:
    burn()


def hoarded(arrays: Mapping[str, Any], **parameters: Any) -> Any:
    hoard()


def died_of_small(arrays: Mapping[str, Any], **parameters: Any) -> Any:
    return fewer_triangles(arrays, **parameters) if len(arrays["indices"]) > 500 else died(arrays)


def hung_of_small(arrays: Mapping[str, Any], **parameters: Any) -> Any:
    return fewer_triangles(arrays, **parameters) if len(arrays["indices"]) > 500 else hung(arrays)


def hoarded_of_small(arrays: Mapping[str, Any], **parameters: Any) -> Any:
    return fewer_triangles(arrays, **parameters) if len(arrays["indices"]) > 500 else hoarded(arrays)


def Impatient(content: str, arrays: Any, parameters: Any = None, seconds: float = 0.0, size: int = 1) -> Piece:
    """A small piece may take a second, so that a test need not wait a minute for what hangs; the others as long as ever."""
    return Piece(content, arrays, parameters or {}, seconds=1.0 if size < 1000 else 60.0, size=size)


def starved() -> str:
    """Much time and little of the processor, as on a machine that is busy with other things."""
    for _ in range(15):
        until = time.process_time() + 0.03
        while time.process_time() < until:
            pass
        time.sleep(0.17)
    return "done"


def plod(times: int) -> str:
    """Takes its time, and tells of it."""
    for k in range(times):
        until = time.process_time() + 0.3
        while time.process_time() < until:
            pass
        report("plodding", k, times)
    return "there"


def burn() -> None:
    while True:
        pass


def shout(text: str) -> str:
    os.write(1, b"noise on standard output")
    return text.upper()


def who() -> int:
    return os.getpid()


def grow() -> None:
    held.append(np.ones(MEMORY_BYTES // 80))  # a tenth of what it may have, for good


held: list[Any] = []


class Isolation(unittest.TestCase):
    HERE = "tests.core.test_work:"

    def call(self, name: str, *args: Any, seconds: float = 20.0) -> Any:
        with Pool(1) as pool:
            ((_, result),) = list(pool.map(self.HERE + name, [(args, seconds)]))
        return result

    def test_crash_hang_and_hoarding_cost_one_call(self) -> None:
        for name, seconds, words in (
            ("die", 20.0, "signal 11"),
            ("hang", 1.0, "longer than 1 s"),
            ("burn", 1.0, "longer than 1 s"),
            ("hoard", 20.0, "memory"),
        ):
            with self.subTest(name=name):
                result = self.call(name, seconds=seconds)
                self.assertIsInstance(result, Lost)
                self.assertIn(words, result.reason)

    def test_what_goes_no_further_is_ended_long_before_what_may_take_long(self) -> None:
        child = Child()
        try:
            self.assertEqual(child.call(self.HERE + "plod", (8,), 60.0, quiet=1.0), "there")
            lost = child.call(self.HERE + "burn", (), 60.0, quiet=1.0)
            self.assertIn("went no further for 1 s", lost.reason)
        finally:
            child.stop()

    def test_a_busy_machine_makes_nobody_late(self) -> None:
        with Pool(1) as pool:
            # the first call pays for what the process imports
            list(pool.map(self.HERE + "shout", [(("hello",), 20.0)]))
            began = time.monotonic()
            ((_, result),) = list(pool.map(self.HERE + "starved", [((), 1.0)]))
        self.assertEqual(result, "done")
        self.assertGreater(time.monotonic() - began, 2.0)

    def test_a_child_outlives_the_thread_that_asked_for_it(self) -> None:
        """The kernel ends a child with the thread that started it; threads of a cluster's worker come and go."""
        child, out = Child(), []
        try:
            asking = threading.Thread(target=lambda: out.append(child.call(self.HERE + "shout", ("a",), 20.0)))
            asking.start()
            asking.join()
            assert child.process is not None
            pid = child.process.pid
            time.sleep(0.3)
            self.assertIsNone(child.process.poll())
            self.assertEqual((out, child.call(self.HERE + "shout", ("b",), 20.0)), (["A"], "B"))
            self.assertEqual(child.process.pid, pid)
        finally:
            child.stop()

    def test_the_nursery_may_be_killed_at_any_time(self) -> None:
        child = Child()
        try:
            self.assertEqual(child.call(self.HERE + "shout", ("a",), 20.0), "A")
            assert child.process is not None
            os.kill(parent_of(child.process.pid), signal.SIGKILL)
            self.assertEqual(child.process.wait(), -signal.SIGKILL, "its children go with it")
            self.assertEqual(child.call(self.HERE + "shout", ("b",), 20.0), "B")
        finally:
            child.stop()

    def test_what_is_made_ready_for_openusd_brings_no_thread_along(self) -> None:
        """One more than once would, and the nursery would fork no child any more."""
        modules = [f"tidy_caravan.core.formats.usd.native.{name}" for name in ("package", "received", "scene")]
        code = f"from tidy_caravan.core.work.nursery import load; print([load([m]) for m in {modules}])"
        told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, timeout=60,
                              env={**os.environ, "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"})  # fmt: skip
        self.assertEqual(told.stdout.strip(), str([True] * 3))

    def test_modules_that_no_nursery_can_load(self) -> None:
        for name, body, wanted in (
            ("kills", "import os, signal\nos.kill(os.getpid(), signal.SIGSEGV)", "signal 11"),
            ("fails", "raise ImportError('not for this processor')", "not for this processor"),
            ("threads", "import threading, time\nthreading.Thread(target=time.sleep, args=(9,), daemon=True).start()", None),
        ):  # fmt: skip
            with self.subTest(name), TemporaryDirectory(dir=ROOT / "tests" / "core") as folder:
                (Path(folder) / "__init__.py").write_text(f"{body}\ndef shout(text):\n    return text.upper()\n")
                child = Child()
                try:
                    answer = child.call(f"tests.core.{Path(folder).name}:shout", ("a",), 20.0)
                    if wanted is None:
                        self.assertEqual(answer, "A")
                    else:
                        self.assertIn(wanted, answer.reason)
                    self.assertEqual(child.call(self.HERE + "shout", ("b",), 20.0), "B")
                finally:
                    child.stop()

    def test_children_take_little_time_to_start_and_none_is_left(self) -> None:
        first = Child()
        first.call(self.HERE + "shout", ("a",), 20.0)
        assert first.process is not None
        nursery, began = parent_of(first.process.pid), time.monotonic()
        for _ in range(20):
            child = Child()
            child.call(self.HERE + "shout", ("a",), 20.0)
            child.stop()
        took = time.monotonic() - began
        # the floor is what Python itself needs to start, without any library
        began = time.monotonic()
        for _ in range(5):
            subprocess.run([sys.executable, "-S", "-c", ""], check=True)
        self.assertLess(took / 20, 5 * (time.monotonic() - began) / 5)
        first.stop()
        end_idle(0)
        until = time.monotonic() + 5
        while left := psutil.Process(nursery).children():
            self.assertLess(time.monotonic(), until, left)

    def test_children_are_lent_on_unless_they_ended_or_hold_memory(self) -> None:
        end_idle(0)

        def pid(function: str) -> Any:
            with Pool(1) as pool:
                calls: list[tuple[tuple[Any, ...], float]] = [((), 20.0)]
                ((_, first),) = list(pool.map(self.HERE + "who", calls))
                list(pool.map(self.HERE + function, calls))
            return first

        first = pid("who")
        self.assertEqual(pid("die"), first)
        second = pid("grow")
        self.assertNotEqual(second, first)
        third = pid("who")
        self.assertNotEqual(third, second, "it holds what others may need")
        end_idle(60)
        self.assertEqual(pid("who"), third)
        end_idle(0)
        self.assertNotEqual(pid("who"), third)

    def test_others_go_on_and_noise_does_not_matter(self) -> None:
        with Pool(2) as pool:
            calls: list[tuple[tuple[Any, ...], float]] = [((f"text {i}",), 20.0) for i in range(6)]
            good = dict(pool.map(self.HERE + "shout", calls))
            lost = dict(pool.map(self.HERE + "die", [((), 20.0)] * 2))
            again = dict(pool.map(self.HERE + "shout", calls))
        self.assertEqual(good, {i: f"TEXT {i}" for i in range(6)})
        self.assertEqual(good, again)
        self.assertTrue(all(isinstance(v, Lost) for v in lost.values()))


def parent_of(pid: int) -> int:
    return psutil.Process(pid).ppid()


def add_up(arrays: Mapping[str, Any], times: int = 1) -> tuple[dict[str, Any], dict[str, Any]]:
    """Twice the array and its sum; refuses an empty one, and dies of a three."""
    values = arrays["values"]
    if not len(values):
        raise RuntimeError("there is nothing to add")
    if 3 in values:
        die()
    return {"doubled": values * 2}, {"sum": float(values.sum()) * times}


class Counted(Here):
    """Remembers how many pieces it was given."""

    def __init__(self) -> None:
        super().__init__(2)
        self.given: list[int] = []

    def share(self, work: Work, pieces: Any, tell: Any) -> Any:
        self.given.append(len(pieces))
        return super().share(work, pieces, tell)


class Heavy(unittest.TestCase):
    NATIVE = Work("adding up", 1, HERE + "add_up")
    PLAIN = Work("adding up, plainly", 1, HERE + "add_up", native=False)

    def pieces(self, *values: list[int], **parameters: Any) -> list[Piece]:
        return [Piece(str(v), {"values": np.array(v)}, parameters, 20.0, len(v)) for v in values]

    def told(self, outcomes: list[Outcome]) -> list[Any]:
        return [o.figures["sum"] if isinstance(o, Done) else o.reason for o in outcomes]

    def test_outcomes_stand_in_the_order_of_the_pieces_and_equal_ones_are_done_once(self) -> None:
        for work in (self.NATIVE, self.PLAIN):
            crew = Counted()
            out = Workshop(crew).do(work, self.pieces([1, 2], [4], [1, 2], [], [5, 6, 7]))
            self.assertEqual(self.told(out), [3.0, 4.0, 3.0, "there is nothing to add", 18.0])
            self.assertEqual(crew.given, [4])
            assert isinstance(out[4], Done)
            np.testing.assert_array_equal(out[4].arrays["doubled"], [10, 12, 14])

    def test_a_crash_costs_its_piece_and_is_tried_again_while_a_refusal_is_kept(self) -> None:
        crew, kept = Counted(), Remembered()
        for round_ in range(2):
            out = Workshop(crew, kept).do(self.NATIVE, self.pieces([1], [3], [], [2]))
            self.assertEqual(self.told(out)[::2], [1.0, "there is nothing to add"])
            self.assertIn("signal 11", self.told(out)[1])
            self.assertEqual(crew.given[round_], (4, 1)[round_])

    def test_what_is_kept_goes_by_content_name_version_and_parameters(self) -> None:
        piece = self.pieces([1, 2])[0]
        others = [
            dataclasses.replace(piece, content="other"),
            dataclasses.replace(piece, parameters={"times": 2}),
        ]
        keys = {key_of(self.NATIVE, p) for p in (piece, *others)}
        keys |= {key_of(w, piece) for w in (self.PLAIN, dataclasses.replace(self.NATIVE, version=2))}
        self.assertEqual(len(keys), 5)
        self.assertEqual(key_of(self.NATIVE, piece), key_of(self.NATIVE, self.pieces([1, 2])[0]))

    def test_cancel_ends_the_work_and_keeps_what_is_done(self) -> None:
        kept = Remembered()

        def stop(done: int, total: int) -> None:
            if done >= 2:
                raise Cancelled("stopped by the user")

        with self.assertRaises(Cancelled):
            Workshop(Counted(), kept).do(self.NATIVE, self.pieces(*([k + 10] for k in range(40))), stop)
        self.assertTrue(2 <= len(kept.made) < 40, len(kept.made))

    def test_a_long_piece_can_be_ended_and_costs_nobody_else_whatever_it_does(self) -> None:
        endless, fatal = (Work(n, 1, HERE + n, native=False) for n in ("hung", "died"))
        long = dataclasses.replace(self.pieces([7])[0], size=LONG)
        heard: list[int] = []

        def stop(done: int, total: int) -> None:
            heard.append(done)
            if len(heard) > 8:
                raise Cancelled("stopped by the user")

        with self.assertRaises(Cancelled):
            Workshop(Here()).do(endless, [long], stop)
        self.assertEqual(heard, [0] * 9, "it is heard of again and again, though it never gets anywhere")
        self.assertIn("signal 11", self.told(Workshop(Here()).do(fatal, [long]))[0])
        out = Workshop(Here()).do(self.PLAIN, [*self.pieces([1, 2]), long, *self.pieces([4])])
        self.assertEqual(self.told(out), [3.0, 7.0, 4.0])

    def test_a_lost_mesh_is_a_problem_on_that_mesh_only(self) -> None:
        class Unlucky(Here):
            """Loses the box, whatever is tried."""

            def share(self, work: Work, pieces: Any, tell: Any) -> Any:
                boxes = [k for k, (_, p) in enumerate(pieces) if len(p.arrays["indices"]) == 12]
                rest = [k for k in range(len(pieces)) if k not in boxes]
                yield from ((k, Lost("its process ended with signal 11")) for k in boxes)
                for i, outcome in super().share(work, [pieces[k] for k in rest], tell) if rest else ():
                    yield rest[i], outcome

        scene = read(trimesh_scene(2).export(file_type="glb"))
        out, changes = LightmapUvs().apply(scene, StepContext(workshop=Workshop(Unlucky(2), Results())))
        problems = [c for c in changes if c.problem]
        self.assertEqual(len(problems), 1)
        self.assertIn("signal 11", problems[0].text)
        self.assertEqual(sorted(len(m.uvs) for m in out.meshes), [0, 2, 2])

    def test_a_mesh_lost_in_the_survey_is_told_and_the_others_are_surveyed(self) -> None:
        class Unlucky(Here):
            def share(self, work: Work, pieces: Any, tell: Any) -> Any:
                for k, outcome in super().share(work, pieces, tell):
                    yield k, Lost("it needed too much") if len(pieces[k][1].arrays["indices"]) == 13 else outcome

        scene = read(trimesh_scene(2).export(file_type="glb"))
        # boxes with a triangle twice: what is ordinary is not asked by itself
        again = [np.append(np.arange(m.triangles), 0) if m.triangles == 12 else ... for m in scene.meshes]
        broken = scene.but(
            meshes=tuple(
                dataclasses.replace(m.with_triangles(rows), normals=np.zeros_like(m.positions))
                for m, rows in zip(scene.meshes, again, strict=True)
            )
        )
        found = {f.code: f for f in survey(broken, BUILT_IN[0], Workshop(Unlucky()))}
        self.assertEqual(found["survey.unknown"].value, 1.0)
        self.assertIn("it needed too much", found["survey.unknown"].text)
        whole = {f.code: f for f in survey(broken, BUILT_IN[0])}
        self.assertNotIn("survey.unknown", whole)
        boxes = set(found["survey.unknown"].parts)
        self.assertEqual(set(found["normals.broken"].parts), set(whole["normals.broken"].parts) - boxes)

    def test_many_pieces_that_cannot_be_asked_at_once_are_asked_one_by_one(self) -> None:
        scene = read(trimesh_scene(2).export(file_type="glb"))
        work = dataclasses.replace(context.WORK, together=f"{HERE}refused")
        with mock.patch.object(context, "WORK", work):
            found = [f.model_dump() for f in survey(scene, BUILT_IN[0])]
        self.assertEqual(found, [f.model_dump() for f in survey(scene, BUILT_IN[0])])

    def test_a_check_of_the_whole_scene_that_crashes_hangs_or_hoards_is_one_finding(self) -> None:
        scene = scene_of(place())
        whole = {f.code for f in survey(scene, BUILT_IN[0])}
        for module, name, made_by, code in (
            (sides, "SIDES", sides, "faces.sides-unknown"),
            (gaps, "GAPS", world, "gaps.unknown"),
            (flicker, "BETWEEN", world, "flicker.unknown"),
        ):
            for function in ("died", "hung", "hoarded"):
                with self.subTest(check=name, how=function):
                    work = dataclasses.replace(getattr(module, name), function=HERE + function)
                    with mock.patch.object(module, name, work), mock.patch.object(made_by, "Piece", Impatient):
                        found = [f.code for f in survey(scene, BUILT_IN[0])]
                    self.assertEqual(found.count(code), 1, found)
                    self.assertLessEqual(whole - set(found), {c for c in whole if c.partition(".")[0] in code})

    def test_a_step_that_loses_a_mesh_goes_on_with_the_others(self) -> None:
        balls = [trimesh.creation.icosphere(k) for k in (2, 3)]
        scene = scene_of({"small": (balls[0], at(0, 0, 0)), "large": (balls[1], at(5, 0, 0))})
        for function in ("died_of_small", "hung_of_small", "hoarded_of_small"):
            work = dataclasses.replace(density.SIMPLIFY, function=HERE + function)
            with self.subTest(how=function), mock.patch.object(density, "SIMPLIFY", work):
                step = density.Simplify(error_mm=50)
                with mock.patch("tidy_caravan.core.steps.base.Piece", Impatient):
                    out, changes = step.apply(scene, StepContext())
                self.assertEqual([c.problem for c in changes], [False, True])
                self.assertIn("stays as it is", changes[1].text)
                self.assertEqual(out.meshes[out.nodes.mesh[0]].id, scene.meshes[0].id)
                self.assertLess(out.meshes[out.nodes.mesh[1]].triangles, scene.meshes[1].triangles)

    def test_an_unwrap_is_found_again_whatever_the_mesh_is_called(self) -> None:
        crew, kept = Counted(), Remembered()
        scene = read(trimesh_scene(2).export(file_type="glb"))
        step, at = LightmapUvs(), StepContext(workshop=Workshop(crew, kept))
        first, _ = step.apply(scene, at)
        renamed = scene.but(meshes=tuple(dataclasses.replace(m, name=f"other {i}") for i, m in enumerate(scene.meshes)))
        second, _ = step.apply(renamed, at)
        self.assertEqual([m.id for m in first.meshes], [m.id for m in second.meshes])
        # nor what it is made of: copies that only differ in their material are laid out once
        look = [dataclasses.replace(m, material=np.full_like(m.material, i)) for i, m in enumerate(scene.meshes)]
        looks = tuple(Material(f"look {i}") for i in range(len(look)))
        third, _ = step.apply(scene.but(meshes=tuple(look), materials=looks), at)
        for before, after in zip(first.meshes, third.meshes, strict=True):
            np.testing.assert_array_equal(before.uvs[1], after.uvs[1])
        self.assertEqual(sum(crew.given), 3)


if __name__ == "__main__":
    unittest.main()
