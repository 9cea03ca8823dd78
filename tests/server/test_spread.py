"""Heavy work over several workers: embedded, and of a scheduler that was started separately, over TLS."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import httpx
import numpy as np
import psutil
from distributed.security import Security

from tests.harden.kills import ROUTE, Application, is_worker
from tests.server.stand import begin, database, settings
from tests.support import bent_balls, read
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work import heavy
from tidy_caravan.core.work.heavy import Done, Here, Outcome, Results, Work, Workshop, asked_together
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.server.jobs.crew import batches
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.results import StoreResults, path_of


def parents_of_children(among: set[int], seconds: float, done: Any) -> set[int]:
    """Which of the processes had a child at native work until `done()`."""
    found: set[int] = set()
    until = time.monotonic() + seconds
    while time.monotonic() < until and not done():
        for pid in among - found:
            try:
                below = psutil.Process(pid).children(recursive=True)
                nurseries = {p.pid for p in below if any("work.nursery" in part for part in p.cmdline())}
                if any(p.ppid() in nurseries for p in below):
                    found.add(pid)
            except psutil.Error:
                continue
        time.sleep(0.02)
    return found


class Spread(unittest.TestCase):
    def run_and_watch(self, address: str, workers: set[int]) -> set[int]:
        """Runs a route over many meshes; the workers that took part. The result must be the one of one machine."""
        data = bent_balls(16, 2, 3)
        with httpx.Client(base_url=address, timeout=60, verify=False) as c:
            haul = begin(c, data)
            tag = {"If-Match": f'"{haul["version"]}"'}
            c.patch(f"/api/hauls/{haul['id']}", json={"route": ROUTE}, headers=tag).raise_for_status()
            c.post(f"/api/hauls/{haul['id']}/run").raise_for_status()

            def over() -> bool:
                return c.get(f"/api/hauls/{haul['id']}").json()["job"]["state"] not in ("waiting", "running")

            busy = parents_of_children(workers, 120, over)
            while not over():
                time.sleep(0.1)
            out = c.get(f"/api/hauls/{haul['id']}").json()
        self.assertEqual((out["job"]["state"], out["job"]["problem"]), ("done", None))
        told = [x["text"] for r in out["run"]["records"] for x in r["changes"]]
        step = LightmapUvs(resolution=128, padding_texels=2)
        _, changes = step.apply(read(data), StepContext())
        self.assertIn(changes[0].text, told)
        self.assertIn("16 meshes unwrapped", changes[0].text)
        return busy

    def test_both_workers_of_the_embedded_cluster_take_part(self) -> None:
        with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
            Path(folder).chmod(0o711)
            application = Application(Path(folder) / "state")
            application.environment["CARAVAN_WORKERS"] = "2"
            application.start()
            try:
                self.wait_for_workers(application.address, 2)
                workers = {p.pid for p in application.everything() if is_worker(p)}
                self.assertGreaterEqual(len(workers), 2)
                self.assertEqual(len(self.run_and_watch(application.address, workers)), 2)
            finally:
                application.stop()

    def test_workers_of_a_scheduler_elsewhere_share_nothing_but_database_and_store(self) -> None:
        with tempfile.TemporaryDirectory(dir="/var/tmp") as name:
            folder = Path(name)
            folder.chmod(0o711)
            certificates = self.certificates(folder)
            with socket.socket() as probe:
                probe.bind(("127.0.0.1", 0))
                port = probe.getsockname()[1]
            (folder / "elsewhere").mkdir()
            given = [a for kind, path in certificates.items() for a in (f"--tls-{kind}", path)]
            environment = {k: v for k, v in os.environ.items() if not k.startswith("CARAVAN_")}
            processes: list[subprocess.Popen[bytes]] = []

            def start(kind: str, *more: str) -> int:
                command = [sys.executable, "-m", f"distributed.cli.dask_{kind}", *more, *given, "--no-dashboard"]
                with (folder / f"{kind}.log").open("ab") as log:
                    processes.append(subprocess.Popen(
                        command, cwd=folder / "elsewhere", env=environment, stdout=log, stderr=log, start_new_session=True,
                    ))  # fmt: skip
                return processes[-1].pid

            application = Application(folder / "state")
            application.environment |= {
                "CARAVAN_SCHEDULER": f"tls://127.0.0.1:{port}", "CARAVAN_SCHEDULER_CA": certificates["ca-file"],
                "CARAVAN_SCHEDULER_CERT": certificates["cert"], "CARAVAN_SCHEDULER_KEY": certificates["key"],
            }  # fmt: skip
            try:
                start("scheduler", "--protocol", "tls", "--host", "127.0.0.1", "--port", str(port))
                workers = {
                    start("worker", f"tls://127.0.0.1:{port}", "--nthreads", "1", "--no-nanny", "--name", f"worker {k}")
                    for k in range(2)
                }
                application.start()
                self.wait_for_workers(application.address, 2)
                self.assertEqual(self.run_and_watch(application.address, workers), workers)
                # whoever has no certificate does not get in
                with self.assertRaises(OSError):
                    from distributed import Client

                    Client(f"tcp://127.0.0.1:{port}", timeout=2, set_as_default=False)
            finally:
                application.stop()
                for process in reversed(processes):
                    process.send_signal(signal.SIGTERM)
                for process in processes:
                    try:
                        process.wait(10)
                    except subprocess.TimeoutExpired:
                        process.kill()
                        process.wait()

    def certificates(self, folder: Path) -> dict[str, str]:
        """Files of an authority of its own and one certificate, by the names of the options."""
        made = Security.temporary()
        out = {}
        for kind, content in (
            ("ca-file", made.tls_ca_file),
            ("cert", made.tls_worker_cert),
            ("key", made.tls_worker_key),
        ):
            path = folder / f"{kind}.pem"
            path.write_text(content)
            path.chmod(0o600)
            out[kind] = str(path)
        return out

    def wait_for_workers(self, address: str, count: int) -> None:
        until = time.monotonic() + 60
        while httpx.get(f"{address}/api/health", verify=False).json()["workers"] < count:
            self.assertLess(time.monotonic(), until, "the workers did not come")
            time.sleep(0.1)

    def test_batches_are_of_like_size_and_hold_every_piece_once(self) -> None:
        rng = np.random.default_rng(1)
        sizes = rng.integers(1, 1000, 500).tolist()
        out = batches(sizes, 16)
        self.assertEqual(sorted(i for b in out for i in b), list(range(500)))
        loads = [sum(sizes[i] for i in b) for b in out]
        self.assertLessEqual(max(loads), sum(sizes) / 16 + max(sizes))
        self.assertEqual(batches([5], 8), [[0]])


class Kept(unittest.TestCase):
    ARRAYS = Work("arrays of a test", 1, "nowhere:none")
    FIGURES = Work("figures of a test", 1, "nowhere:none", figures_only=True)

    def results(self) -> StoreResults:
        return StoreResults(Store(settings().store), database())

    def test_outcomes_come_back_as_they_went(self) -> None:
        values = np.arange(12, dtype=np.float32).reshape(4, 3)
        kept = self.results()
        kept.keep(
            self.ARRAYS, {"a1": Done({"values": values}, {"sum": 66.0}), "a2": Lost("too little room", raised=True)}
        )
        out = kept.find(self.ARRAYS, ["a1", "a2", "a3"])
        assert isinstance(out["a1"], Done)
        np.testing.assert_array_equal(out["a1"].arrays["values"], values)
        self.assertEqual(out["a1"].figures, {"sum": 66.0})
        self.assertEqual(out["a2"], Lost("too little room", raised=True))
        self.assertNotIn("a3", out)

    def test_an_outcome_without_anything_to_tell_is_no_file(self) -> None:
        kept, work = self.results(), replace(self.ARRAYS, together="nowhere:none")
        kept.keep(work, {"quiet": Done({}, {"n": 1}), "loud": Done({"values": np.arange(3)}, {})})
        out = kept.find(work, ["quiet", "never"])
        self.assertEqual(
            [(key, o.arrays, o.figures) for key, o in out.items() if isinstance(o, Done)], [("quiet", {}, {"n": 1})]
        )
        self.assertEqual([kept.store.exists(path_of(k)) for k in ("quiet", "loud")], [False, True])

    def test_what_is_replaced_is_found_as_it_was_kept_last(self) -> None:
        kept, once, newest = self.results(), self.ARRAYS, replace(self.ARRAYS, replaced=True)
        for value in (1.0, 2.0):
            for key, work in (("once", once), ("newest", newest)):
                kept.keep(work, {key: Done({"values": np.array([value])}, {})})
        self.assertEqual(kept.find(once, ["once"])["once"].arrays["values"].tolist(), [1.0])  # type: ignore[union-attr]
        self.assertEqual(kept.find(newest, ["newest"])["newest"].arrays["values"].tolist(), [2.0])  # type: ignore[union-attr]

    def test_figures_are_rows_and_what_is_no_number_is_not_kept(self) -> None:
        kept = self.results()
        made: dict[str, Outcome] = {f"f{k}": Done({}, {"n": k, "list": [k, 0.5]}) for k in range(2500)}
        kept.keep(self.FIGURES, made | {"odd": Done({}, {"n": float("nan")})})
        out = kept.find(self.FIGURES, [*made, "odd"])
        self.assertEqual(out.keys(), made.keys())
        self.assertEqual(out["f7"].figures, {"n": 7, "list": [7, 0.5]})  # type: ignore[union-attr]

    def test_a_second_survey_asks_no_mesh_again(self) -> None:
        class Counted(Here):
            given = 0

            def share(self, work: Work, pieces: Any, tell: Any) -> Any:
                self.given += len(pieces)
                return super().share(work, pieces, tell)

        for small in (False, True):  # each by itself, and together
            balls = bent_balls(9, 2 if small else 4, 8)
            crew = Counted()
            answered = 0

            def together(*given: Any) -> dict[str, Outcome]:
                nonlocal answered
                made = asked_together(*given)
                answered += len(made)
                return made

            with mock.patch.object(heavy, "asked_together", together):
                first = survey(read(balls), BUILT_IN[0], Workshop(crew, self.results()))
                asked, said = crew.given, answered
                second = survey(read(balls), BUILT_IN[0], Workshop(crew, self.results()))
            self.assertGreaterEqual(said if small else asked, 9)
            self.assertEqual((crew.given, answered), (asked, said))
            self.assertEqual(first, second)
            self.assertEqual(first, survey(read(balls), BUILT_IN[0], Workshop(results=Results())))


if __name__ == "__main__":
    unittest.main()
