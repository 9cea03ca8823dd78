"""Kills, lost lines, broken starts, full disks, deletes: what is promised under faults (docs/promises.md)."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import subprocess
import threading
import time
import unittest
import uuid
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from unittest import mock

import httpx
import psutil
import psycopg
from sqlalchemy import text

from tests.harden.crowd import try_crowd
from tests.harden.files import try_files
from tests.harden.kills import Application, settle, try_kills
from tests.server.stand import begin, client, database, finished, settings, work
from tests.support import one_triangle, trimesh_scene
from tidy_caravan.core.formats import write
from tidy_caravan.core.survey import survey
from tidy_caravan.demo.ferry_landing import large
from tidy_caravan.server.api.context import Answers
from tidy_caravan.server.db.models import Job
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.faults import disk_full
from tidy_caravan.server.jobs.claims import lock_number
from tidy_caravan.server.jobs.manager import Bus, Manager
from tidy_caravan.server.jobs.tasks import perform
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.tidy import tidy_store


def add_job(haul: str, kind: str = "run", **changes: Any) -> uuid.UUID:
    """A job's row that no manager was told of, in a state that none would take."""
    key = uuid.uuid4()
    values: dict[str, Any] = {
        "id": key, "haul_id": uuid.UUID(haul), "kind": kind, "state": "waiting", "arguments": {}, "attempts": 0,
        "title": "", "done": 0, "total": 0, "cancel": False,
    }  # fmt: skip
    with session_for(database()) as session:
        session.add(Job(**{**values, **changes}))
    return key


class Claims(unittest.TestCase):
    def test_of_many_workers_one_has_the_job(self) -> None:
        with client() as c:
            haul = begin(c, trimesh_scene(1, 8).export(file_type="glb"))["id"]
        for _ in range(4):
            key = add_job(haul)
            out: list[str] = []
            threads = [
                threading.Thread(
                    target=lambda key=key, out=out: out.append(perform(str(key), database(), settings().store, 1 << 26))
                )
                for _ in range(5)
            ]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join(60)
            # the server's own keeper may have been the one
            self.assertLessEqual(out.count("done"), 1)
            self.assertTrue(set(out) <= {"done", "held", "gone"}, out)
            with client() as c:
                self.assertEqual(finished(c, haul)["job"]["state"], "done")
            with session_for(database()) as session:
                self.assertEqual(session.get_one(Job, key).attempts, 1)

    def test_a_line_that_breaks_leaves_the_job_as_it_was(self) -> None:
        """The backend of the job's own connection is ended while it works; another attempt does it."""
        with client() as c:
            haul = begin(c, trimesh_scene(1, 30).export(file_type="glb"))
            route = {"steps": [{"kind": "lightmap_uvs", "resolution": 512, "paddingTexels": 4, "keepGood": False}]}
            c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": '"1"'})
            job = c.post(f"/api/hauls/{haul['id']}/run").json()["id"]
            ended, until = 0, time.monotonic() + 30
            query = text(
                "SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND granted"
                " AND ((classid::bigint << 32) | objid::bigint) = :number"
            )
            while not ended and time.monotonic() < until:
                with session_for(database()) as session:
                    # from the moment on at which the attempt is counted; before it nothing was begun
                    if session.get_one(Job, uuid.UUID(job)).attempts:
                        ended = len(session.execute(query, {"number": lock_number(uuid.UUID(job))}).all())
                time.sleep(0.02)
            self.assertEqual(ended, 1, "the job was caught at work")
            out = finished(c, haul["id"], 120)
            self.assertEqual((out["job"]["state"], out["job"]["problem"]), ("done", None))
            with session_for(database()) as session:
                self.assertEqual(session.get_one(Job, uuid.UUID(job)).attempts, 2)

    def test_a_route_that_is_edited_while_files_are_read_is_not_overwritten(self) -> None:
        """The edit was acknowledged; the numbers of its hand-picked parts still follow the new files."""
        with client() as c:
            haul = begin(c, {"quay.glb": trimesh_scene(62, 4, odd=False).export(file_type="glb")})
            rows = c.get(f"/api/scenes/{haul['source']['id']}/parts?limit=9").json()["items"]
            one, two = rows[0], rows[1]

            def edit(part: dict[str, Any]) -> int:
                now = c.get(f"/api/hauls/{haul['id']}").json()
                sets = [{"id": "s", "name": part["name"], "added": [part["identity"]]}]
                route = {"steps": now["route"]["steps"], "sets": sets}
                match = {"If-Match": f'"{now["version"]}"'}
                return c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers=match).status_code

            self.assertEqual(edit(one), 200)
            store = Store(settings().store)
            files = [["beach.glb", store.put_blob(one_triangle().glb())]]
            with session_for(database()) as session:
                before = session.execute(
                    text("SELECT files FROM revision WHERE id = :r"), {"r": haul["revision"]["id"]}
                ).scalar_one()
            key = add_job(haul["id"], kind="import", arguments={"files": [*before, *files]})
            told: list[int] = []

            def meanwhile(*given: Any) -> Any:
                told.append(edit(two))
                return survey(*given)

            with mock.patch("tidy_caravan.server.jobs.tasks.survey", meanwhile):
                self.assertEqual(perform(str(key), database(), settings().store, 1 << 26), "done")
            self.assertEqual(told, [200])
            after = c.get(f"/api/hauls/{haul['id']}").json()
            known = c.get(f"/api/scenes/{after['source']['id']}/parts?limit=99").json()["items"]
            names = {r["identity"]: r["name"] for r in known}
            chosen = after["route"]["sets"][0]
            self.assertEqual((chosen["name"], [names[n] for n in chosen["added"]]), (two["name"], [two["name"]]))
            moved = next(r["source"] for r in known if r["identity"] == two["identity"])
            self.assertNotEqual(moved, two["source"], "the file that came first moved all numbers")
            self.assertGreater(after["version"], haul["version"] + 2)

    def test_stale_lines_of_the_pool_reach_nobody(self) -> None:
        with client() as c:
            self.assertEqual(c.get("/api/hauls").status_code, 200)
            with session_for(database()) as session:
                session.execute(
                    text(
                        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid()"
                        " AND state = 'idle' AND usename = current_user AND query NOT LIKE 'LISTEN%'"
                    )
                )
            self.assertEqual({c.get("/api/hauls").status_code for _ in range(20)}, {200})

    def test_memory_is_blamed_only_when_it_was_memory(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())["id"]
        for kills, word in ((1, "memory"), (0, "lost with this work")):
            key = add_job(haul, state="running", attempts=99)
            manager = Manager(settings(), Bus())
            manager.workers = mock.Mock(kills=mock.Mock(count=kills))
            manager._give_up(key)
            with session_for(database()) as session:
                row = session.get_one(Job, key)
                self.assertEqual(row.state, "failed")
                assert row.problem is not None
                self.assertIn(word, row.problem["title"])
                self.assertEqual("memory" in row.problem["title"], kills > 0)


class NoWorkers(unittest.TestCase):
    def test_a_cluster_that_cannot_start_is_told_and_what_waits_can_go(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            application = Application(Path(folder) / "state")
            with mock.patch.dict(
                os.environ, {"CARAVAN_SCHEDULER": "tcp://127.0.0.1:9", "CARAVAN_SCHEDULER_PRIVATE": "1"}
            ):
                application.start()
            try:
                with httpx.Client(base_url=application.address, timeout=30, verify=False) as c:
                    until, health = time.monotonic() + 60, {"trouble": ""}
                    while not health["trouble"] and time.monotonic() < until:
                        health = c.get("/api/health").json()
                        time.sleep(0.2)
                    self.assertEqual((health["ok"], health["workers"]), (False, 0))  # type: ignore[typeddict-item]
                    self.assertIn("tried again", health["trouble"])
                    hauls = [
                        c.post("/api/hauls", files=[("files", ("a.glb", one_triangle().glb()))]).json()
                        for _ in range(2)
                    ]
                    with c.stream("GET", "/api/events") as events:
                        lines = events.iter_lines()
                        next(lines)
                        with httpx.Client(base_url=application.address, timeout=30, verify=False) as other:
                            cancelled = other.post(f"/api/jobs/{hauls[0]['job']['id']}/cancel")
                        self.assertEqual((cancelled.status_code, cancelled.json()["state"]), (202, "cancelled"))
                        heard = next(line for line in lines if hauls[0]["job"]["id"] in line)
                        self.assertIn('"state":"cancelled"', heard, "pages hear of it although no worker tells them")
                    gone = c.delete(f"/api/hauls/{hauls[1]['id']}?forGood=true", headers={"If-Match": '"1"'})
                    self.assertEqual(gone.status_code, 204)
                self.assertLess(application.stop(), 10.0)
            finally:
                application.stop()


class Ends(unittest.TestCase):
    def test_term_and_hup_end_everything_in_every_state(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            application = Application(Path(folder) / "state")
            (passing := Path(folder) / "passing").mkdir()
            application.environment["TMPDIR"] = str(passing)
            try:
                for number, after, busy in (
                    (15, 0.5, False),
                    (2, 1.0, False),
                    (1, 2.0, False),
                    (2, 6.0, False),
                    (15, 8.0, True),
                ):
                    with self.subTest(signal=number, after=after):
                        application.start(wait=False)
                        time.sleep(after)
                        if busy and application.wait():
                            data = trimesh_scene(1, 40).export(file_type="glb")
                            application.call("POST", "/api/hauls", files=[("files", ("a.glb", data))])
                            until = time.monotonic() + 60
                            while not list(passing.glob("pymp-*")):
                                self.assertLess(time.monotonic(), until, "workers are forked from there")
                                time.sleep(0.2)
                        left = application.everything()[1:]
                        self.assertLess(application.stop(number), 10.0)
                        _, alive = psutil.wait_procs(left, timeout=3)
                        self.assertEqual([p.name() for p in alive], [])
                        self.assertEqual([p.name for p in passing.glob("pymp-*")], [])
                application.start()
                left = application.everything()[1:]
                application.stop(9)
                _, alive = psutil.wait_procs(left, timeout=15)
                self.assertEqual([p.name() for p in alive], [], "the kernel ends what a killed server leaves")
            finally:
                application.stop()

    def test_some_kills_at_random_moments(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            out = try_kills(6, Path(folder), seed=11)
        self.assertEqual((out.lost, out.stuck, out.wrong, out.left), ([], [], [], []))
        self.assertGreaterEqual(sum(out.kills.values()), 4)


class Damage(unittest.TestCase):
    def test_mutated_files_of_every_format_are_read_or_refused(self) -> None:
        out = try_files(66, seed=5)
        self.assertEqual((out.faults, out.hung), ([], []))
        self.assertEqual(out.files, 66)
        self.assertGreater(sum(out.read.values()), 5, "the mutations leave something whole")
        self.assertGreater(sum(out.refused.values()), 5, "and break something")


class Freed(unittest.TestCase):
    def setUp(self) -> None:
        self.store = Store(settings().store)

    def age(self, key: str) -> None:
        os.utime(self.store.path(key), (1, 1))

    def test_what_nothing_points_at_goes_and_everything_else_stays(self) -> None:
        with client() as c:
            shared = trimesh_scene(77, 9).export(file_type="glb")
            own = trimesh_scene(78, 9).export(file_type="glb")
            kept, dropped = begin(c, {"a.glb": shared}), begin(c, {"a.glb": shared, "b.glb": own})
            for haul in (kept, dropped):
                for what in ("run", "arrive") if haul is dropped else ("run",):
                    if what == "arrive":
                        work(c, haul["id"], "pack", format="glb")
                    work(c, haul["id"], what)
            young = self.store.put_blob(b"just put here, named by nobody yet")
            old = self.store.put_blob(b"put here long ago, named by nobody")
            before = set(self.store.older_than(-10))
            now = c.get(f"/api/hauls/{dropped['id']}").json()
            self.assertEqual(
                c.delete(
                    f"/api/hauls/{dropped['id']}?forGood=true", headers={"If-Match": f'"{now["version"]}"'}
                ).status_code,
                204,
            )
            with session_for(settings().database) as session:
                left = set(session.scalars(text("SELECT DISTINCT scene_id::text FROM part")))
            self.assertNotIn(now["result"]["id"], left)
            self.assertIn(c.get(f"/api/hauls/{kept['id']}").json()["result"]["id"], left)
            for key in before - {young}:
                self.age(key)
            self.tidy_until_gone(old)
            after = set(self.store.older_than(-10))
            self.assertIn(young, after)
            self.assertNotIn(old, after)
            self.assertGreater(len(before - after), 3)
            # the haul that stays is whole: its files, its view, its picture, its route again
            for part in ("source", "result"):
                scene = c.get(f"/api/hauls/{kept['id']}").json()[part]["id"]
                self.assertEqual(c.get(f"/api/scenes/{scene}/view").status_code, 200)
                self.assertEqual(c.get(f"/api/scenes/{scene}/picture.png").status_code, 200)
            self.assertEqual(work(c, kept["id"], "run")["job"]["state"], "done")

    def test_what_is_put_again_is_young_again(self) -> None:
        key = self.store.put_blob(b"twice")
        self.age(key)
        self.store.put_blob(b"twice")
        self.assertFalse(self.store.remove_if_old(key, 60))
        self.age(key)
        self.store.put_stream(io.BytesIO(b"twice"), 100)
        self.assertFalse(self.store.remove_if_old(key, 60))

    def test_what_unfinished_work_put_there_long_ago_stays(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())["id"]
        key = self.store.put_blob(b"put by work that goes on for hours")
        os.utime(self.store.path(key), (time.time() - 7200,) * 2)
        job = uuid.uuid4()
        with psycopg.connect(database().replace("+psycopg", ""), autocommit=True) as worker:
            worker.execute("SELECT pg_advisory_lock(%s)", (lock_number(job),))
            add_job(haul, id=job, state="running", created=datetime.now(UTC) - timedelta(hours=3))
            for _ in range(3):  # a worker of the server may be at it too
                tidy_store(database(), settings().store, 10, 60, 7)
                time.sleep(0.2)
            self.assertTrue(self.store.exists(key))
            with session_for(database()) as session:
                session.delete(session.get_one(Job, job))
        self.tidy_until_gone(key)
        self.assertFalse(self.store.exists(key))

    def tidy_until_gone(self, key: str) -> None:
        """A worker of the server may be at it too; while it is, a call has nothing to do."""
        until = time.monotonic() + 30
        while self.store.exists(key) and time.monotonic() < until:
            tidy_store(database(), settings().store, 10, 60, 7)
            time.sleep(0.1)

    def test_object_stores_are_freed_too(self) -> None:
        store = Store(f"memory://caravan-{os.getpid()}")
        lonely, again = store.put_blob(b"lonely"), store.put_blob(b"asked for again")
        streamed, _ = store.put_stream(io.BytesIO(b"streamed"), 100)
        self.assertEqual(set(store.older_than(-1)), {lonely, again, streamed})
        self.assertEqual(store.older_than(5), [])
        for key in (lonely, again, streamed):
            store.fs.store[store.path(key)].modified = store.fs.store[store.path(key)].created = datetime(
                2001, 1, 1, tzinfo=UTC
            )
        self.assertEqual(set(store.older_than(5)), {lonely, again, streamed})
        store.put_blob(b"asked for again")
        store.put_stream(io.BytesIO(b"streamed"), 100)
        self.assertEqual([store.remove_if_old(key, 5) for key in (lonely, again, streamed)], [True, False, False])
        self.assertFalse(store.exists(lonely))
        self.assertEqual(store.get(again), b"asked for again")

    def test_old_runs_beyond_the_number_go(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())["id"]
            for _ in range(4):
                work(c, haul, "run")
            tidy_store(database(), settings().store, 2, 60, 7)
            with session_for(database()) as session:
                count = session.execute(text("SELECT count(*) FROM run WHERE haul_id = :h"), {"h": haul}).scalar_one()
            self.assertEqual(count, 2)
            self.assertEqual(c.get(f"/api/hauls/{haul}").json()["open"]["state"], "run")


class Ledger(unittest.TestCase):
    def test_answers_are_kept_and_go_with_their_scene(self) -> None:
        with client() as c:
            haul = begin(c, {"a.glb": trimesh_scene(79, 9).export(file_type="glb")})
            base = f"/api/scenes/{haul['source']['id']}"
            asked = ["parts?limit=3", "parts?search=e&limit=2", "groups?by=tree", "meshes?limit=1", "findings"]
            first = [c.get(f"{base}/{q}").content for q in asked]
            self.assertEqual([c.get(f"{base}/{q}").content for q in asked], first)
            for kind in ("parts?search=e", "groups?by=tree", "meshes?search=e"):
                whole = c.get(f"{base}/{kind}&limit=1000").json()
                self.assertEqual(whole["total"], len(whole["items"]))
                beyond = c.get(f"{base}/{kind}&limit=5&offset=500").json()
                self.assertEqual((beyond["total"], beyond["items"]), (whole["total"], []))
                self.assertNotIn("_all", whole["items"][0] if whole["items"] else {})
            now = c.get(f"/api/hauls/{haul['id']}").json()
            c.delete(f"/api/hauls/{haul['id']}?forGood=true", headers={"If-Match": f'"{now["version"]}"'})
            for query in asked:
                answer = c.get(f"{base}/{query}")
                self.assertEqual((answer.status_code, answer.json()["code"]), (404, "scene.unknown"))

    def test_answers_take_no_more_memory_than_said(self) -> None:
        kept = Answers(most=800)
        for k in range(50):
            kept.put(str(k), bytes(90))
            kept.get("0")
        self.assertLessEqual(kept.bytes, 800)
        self.assertEqual(kept.bytes, sum(len(kept.get(str(k)) or b"") for k in range(50)))
        self.assertIsNotNone(kept.get("0"), "what is asked for stays")
        kept.put("large", bytes(101))
        self.assertIsNone(kept.get("large"))

    def test_of_many_who_ask_for_the_same_one_makes_it(self) -> None:
        kept, made, gate = Answers(), [], threading.Event()

        def make() -> bytes:
            gate.wait(5)
            made.append(threading.get_ident())
            if len(made) == 1:
                raise ValueError("the first fails: the next makes it")
            return b"made"

        with ThreadPoolExecutor(8) as people:
            asked = [people.submit(kept.once, "same", make) for _ in range(8)]
            gate.set()
            answers = [a.exception() or a.result() for a in asked]
        self.assertEqual(len(made), 2)
        self.assertEqual(sorted(map(str, answers)).count("b'made'"), 7)


class Crowd(unittest.TestCase):
    alone = True  # it measures how long answers take

    def test_a_crowd_on_a_large_ledger_during_a_job(self) -> None:
        for _ in range(2):  # whatever else the machine does only ever adds: the better of two counts
            with TemporaryDirectory(prefix="caravan-crowd-", dir="/var/tmp") as folder:
                os.chmod(folder, 0o755)
                crowd = try_crowd(Path(folder), 50)
            self.assertEqual((crowd.parts, crowd.failed), (20_000, 0))
            self.assertGreater(crowd.answers, 300)
            if crowd.p99 < 2.0:
                break
        self.assertLess(crowd.p99, 2.0)


class Uploads(unittest.TestCase):
    def test_more_than_a_thousand_files_in_one_drop(self) -> None:
        files = [("files", (f"parts/p{k}.png", b"\x89PNG\r\n\x1a\n")) for k in range(1500)]
        files.append(("files", ("parts/a.glb", one_triangle().glb())))
        with client() as c:
            answer = c.post("/api/hauls", files=files)
            self.assertEqual(answer.status_code, 201, answer.text[:300])
            self.assertEqual(finished(c, answer.json()["id"])["job"]["state"], "done")

    def test_two_files_of_one_name_are_not_one(self) -> None:
        with client() as c:
            answer = c.post("/api/hauls", files=[("files", ("a.glb", b"1")), ("files", ("a.glb", b"2"))])
            self.assertEqual((answer.status_code, answer.json()["code"]), (422, "upload.twice"))

    def test_uploads_are_streamed(self) -> None:
        """Sixty megabytes pass through a store in a process that may only take a little more than it has."""
        program = (
            "import resource, sys, os\n"
            "from tidy_caravan.server.store.blobs import Store\n"
            "store = Store(sys.argv[1])\n"
            "used = int(open('/proc/self/statm').read().split()[0]) * 4096\n"
            "resource.setrlimit(resource.RLIMIT_AS, (used + (24 << 20), used + (24 << 20)))\n"
            "print(store.put_stream(open(sys.argv[2], 'rb'), 1 << 30)[1])\n"
        )
        with TemporaryDirectory() as folder:
            large = Path(folder) / "large"
            with large.open("wb") as file:
                file.truncate(60 << 20)
            done = subprocess.run(
                [os.sys.executable, "-c", program, f"{folder}/store", str(large)],  # type: ignore[attr-defined]
                capture_output=True, text=True, check=False, timeout=60,
            )  # fmt: skip
        self.assertEqual(done.stdout.strip(), str(60 << 20), done.stderr[-400:])


class Disks(unittest.TestCase):
    def test_a_full_disk_is_named_in_one_sentence(self) -> None:
        try:
            with open("/dev/full", "wb", buffering=0) as full:
                full.write(b"x")
        except OSError as error:
            problem = disk_full(RuntimeError("wrapped"))
            self.assertIsNone(problem)
            problem = disk_full(error)
            assert problem is not None
            self.assertEqual(problem["code"], "disk.full")
            self.assertIn("Make room", problem["title"])
        self.assertIsNone(disk_full(OSError(errno.ENOENT, "none")))
        self.assertIsNone(disk_full(psycopg.errors.OutOfMemory("out of memory")), "memory is no disk")

    @unittest.skipUnless(os.geteuid() == 0, "only root can make a small disk")
    def test_the_application_goes_on_beside_a_full_store(self) -> None:
        from fastapi.testclient import TestClient

        from tidy_caravan.server.app import create_app

        with self.small_disk(2) as folder:
            app = create_app(settings().but(store=f"{folder}/store"), work=False)
            c = TestClient(app, base_url="http://127.0.0.1:8321", raise_server_exceptions=False)
            answer = c.post("/api/hauls", files=[("files", ("a.glb", os.urandom(3 << 20)))])
            self.assertEqual((answer.status_code, answer.json()["code"]), (507, "disk.full"), answer.text)
            self.assertEqual(c.get("/api/hauls").status_code, 200)
            self.assertEqual(list(folder.rglob(".new-*")), [], "no piece is left behind")
            small = c.post("/api/hauls", files=[("files", ("a.glb", one_triangle().glb()))])
            self.assertEqual(small.status_code, 201)

    @unittest.skipUnless(os.geteuid() == 0, "only root can make a small disk")
    def test_the_application_goes_on_beside_a_full_database(self) -> None:
        scene = write(large(), "glb", "large").files["large.glb"]
        with self.small_disk(150) as folder, TemporaryDirectory(dir="/var/tmp") as elsewhere:
            notes = Path(elsewhere)
            application = Application(folder / "state", notes, notes / "store")

            def load(name: str, data: bytes) -> dict[str, Any]:
                answer = application.call("POST", "/api/hauls", files=[("files", (name, data))])
                assert answer is not None and answer.status_code == 201, answer and answer.text
                haul = settle(application, answer.json()["id"])
                assert haul is not None
                return haul

            try:
                application.start()
                first = load("a.glb", one_triangle().glb())
                self.assertEqual(first["job"]["state"], "done")
                filler = folder / "filler"
                with self.assertRaises(OSError), filler.open("wb", buffering=0) as file:
                    while True:
                        file.write(bytes(1 << 16))
                job = load("large.glb", scene)["job"]
                self.assertEqual((job["state"], job["problem"]["code"]), ("failed", "disk.full"))
                self.assertIn("the database's disk is full", job["problem"]["title"])
                hauls = application.call("GET", "/api/hauls")
                assert hauls is not None
                self.assertEqual(hauls.json()["total"], 2, "nothing that was acknowledged is gone")
                filler.unlink()
                self.assertEqual(load("again.glb", scene)["job"]["state"], "done")
                again = settle(application, first["id"])
                assert again is not None
                self.assertEqual(again["source"], first["source"])
            finally:
                application.stop()

    @contextlib.contextmanager
    def small_disk(self, mebibytes: int) -> Iterator[Path]:
        """A folder on a disk of its own; the test is skipped where none can be made."""
        with TemporaryDirectory(dir="/var/tmp") as folder:
            options = f"size={mebibytes}m,mode=755"
            made = subprocess.run(
                ["mount", "-t", "tmpfs", "-o", options, "tmpfs", folder], capture_output=True, check=False
            )
            if made.returncode:
                self.skipTest("no small disk can be made here")
            try:
                yield Path(folder)
            finally:
                subprocess.run(["umount", "-l", folder], check=False)

    def test_a_fault_of_ours_is_in_the_log_under_the_number_that_was_told(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())["id"]
        key = add_job(haul, kind="pack", arguments={"chain": ["nonsense"]}, state="waiting")
        with self.assertLogs("tidy_caravan.jobs", "ERROR") as logs:
            perform(str(key), database(), settings().store, 1 << 20)
        with session_for(database()) as session:
            problem = session.get_one(Job, key).problem
        assert problem is not None
        entry = problem["title"].rsplit("entry ", 1)[1].rstrip(".")
        self.assertIn(entry, logs.output[0])
        self.assertNotIn("KeyError", problem["title"])


if __name__ == "__main__":
    unittest.main()
