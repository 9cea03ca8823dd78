"""Start, stop, kill and start again; workers that die; migrations both ways."""

from __future__ import annotations

import os
import signal
import subprocess
import time
import unittest
import uuid
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

import httpx
import psutil
from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine, inspect, text
from sqlalchemy.orm import sessionmaker

from tests.server.stand import begin, client, database, finished, settings, whole_application
from tests.support import one_triangle, trimesh_scene
from tidy_caravan.server import start as server_start
from tidy_caravan.server.db.models import Base, Edit, Haul, Job
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.edits import next_edit, state_of, turn_back
from tidy_caravan.server.jobs.manager import Bus, Manager
from tidy_caravan.server.jobs.tasks import perform


def children_of(pid: int) -> list[psutil.Process]:
    return psutil.Process(pid).children(recursive=True)


class StartAndStop(unittest.TestCase):
    def test_stops_cleanly_and_a_killed_start_blocks_nothing(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            state = Path(folder) / "state"
            with whole_application(state) as (process, address):
                self.assertTrue(httpx.get(f"{address}/api/health", verify=False).json()["ok"])
                second = subprocess.run(
                    [*process.args[:4], str(state)],  # type: ignore[index]
                    capture_output=True,
                    text=True,
                    timeout=60,
                    check=False,
                )
                self.assertEqual((second.returncode, "running already" in second.stderr), (1, True))
                time.sleep(3)  # the workers come up behind the first answer
                left = children_of(process.pid)
                process.send_signal(signal.SIGINT)
                self.assertEqual(process.wait(30), 0)
            _, alive = psutil.wait_procs(left, timeout=10)
            self.assertEqual(alive, [])
            with whole_application(state) as (process, _):
                process.kill()
                process.wait(10)
            began = time.monotonic()
            with whole_application(state) as (_, address):
                self.assertTrue(httpx.get(f"{address}/api/health", verify=False).json()["ok"])
            self.assertLess(time.monotonic() - began, 30)

    def test_other_addresses_need_a_key(self) -> None:
        with TemporaryDirectory() as folder:
            done = subprocess.run(
                [os.sys.executable, "-m", "tidy_caravan.server.main", "--state", folder],  # type: ignore[attr-defined]
                env={**os.environ, "CARAVAN_HOST": "0.0.0.0", "CARAVAN_ACCESS_KEY": ""},
                capture_output=True,
                text=True,
                timeout=60,
                check=False,
            )
        self.assertEqual(done.returncode, 2)
        self.assertIn("CARAVAN_ACCESS_KEY", done.stderr)
        self.assertGreater(server_start.port_to_use("127.0.0.1", 0), 0)


class Workers(unittest.TestCase):
    def test_a_killed_worker_does_not_lose_the_haul(self) -> None:
        with client() as c:
            haul = begin(c, trimesh_scene(1, 20).export(file_type="glb"))
            route = {"steps": [{"kind": "lightmap_uvs", "resolution": 1024, "paddingTexels": 16, "keepGood": False}]}
            c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": '"1"'})
            c.post(f"/api/hauls/{haul['id']}/run")
            until, victim = time.monotonic() + 20, None
            while victim is None and time.monotonic() < until:
                for child in children_of(os.getpid()):
                    above = child.parent()
                    if above and any("nursery" in part for part in _command(above)):
                        worker = above.parent()
                        # children of these tests themselves may idle here as well
                        victim = worker if worker and worker.pid != os.getpid() else victim
                time.sleep(0.05)
            assert victim is not None
            victim.kill()
            haul = finished(c, haul["id"], 120)
            # another worker takes the job up again and goes on from the meshes that are done
            self.assertEqual((haul["job"]["state"], haul["job"]["problem"]), ("done", None))
            self.assertEqual(haul["result"]["counts"]["parts"], 20)
            self.assertEqual(haul["source"]["counts"]["parts"], 20)

    def test_work_that_a_restart_interrupted_is_taken_up_again(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())
        job = uuid.uuid4()
        with session_for(database()) as session:
            session.add(
                Job(
                    id=job,
                    haul_id=uuid.UUID(haul["id"]),
                    kind="run",
                    state="running",
                    arguments={},
                    attempts=1,
                    title="",
                    done=0,
                    total=0,
                    cancel=False,
                )
            )
        self.assertEqual(perform(str(job), database(), settings().store, 1 << 20), "done")
        self.assertEqual(perform(str(job), database(), settings().store, 1 << 20), "gone")  # never twice
        with session_for(database()) as session:
            session.execute(text("UPDATE job SET state = 'running', attempts = 3 WHERE id = :id"), {"id": job})
        manager = Manager(settings(), Bus())
        manager._fail(job, "The work was interrupted 3 times and is not tried again.")
        with session_for(database()) as session:
            self.assertEqual(session.get_one(Job, job).state, "failed")


def _command(process: psutil.Process) -> list[str]:
    try:
        return process.cmdline()
    except psutil.Error:
        return []


class Migrations(unittest.TestCase):
    def setUp(self) -> None:
        name = f"m{uuid.uuid4().hex[:8]}"
        admin = create_engine(database(), isolation_level="AUTOCOMMIT")
        with admin.connect() as connection:
            connection.execute(text(f"CREATE DATABASE {name}"))
        admin.dispose()
        address = database().rsplit("/", 1)[0] + f"/{name}"
        self.config = Config()
        self.config.set_main_option("script_location", str(Path(server_start.__file__).parent / "db" / "migrations"))
        self.config.set_main_option("sqlalchemy.url", address.replace("%", "%%"))
        self.engine = create_engine(address)
        self.addCleanup(self.engine.dispose)

    def test_schema_is_that_of_the_models_and_can_be_taken_back(self) -> None:
        command.upgrade(self.config, "head")
        command.check(self.config)  # raises when the models have something the migrations do not
        self.assertLessEqual(set(Base.metadata.tables), set(inspect(self.engine).get_table_names()))
        command.downgrade(self.config, "base")
        self.assertEqual(set(inspect(self.engine).get_table_names()), {"alembic_version"})

    def test_what_could_be_undone_still_can(self) -> None:
        """Kept by an older program; and, back with that one, all that does not go across another source."""
        haul, now = uuid.uuid4(), uuid.uuid4()
        command.upgrade(self.config, "0012")
        with self.engine.begin() as c:
            c.execute(text("INSERT INTO haul (id, name, destination, route, version, source_name, revision_id)"
                           " VALUES (:h, 'Quay', '{}', '{}', 3, '', :r)"), {"h": haul, "r": now})  # fmt: skip
            c.execute(text("INSERT INTO edit (id, haul_id, number, undone, what, name, destination, route)"
                           " VALUES (:i, :h, 1, false, 'Rename', 'Pier', '{\"a\": 1}', '{\"steps\": []}')"),
                      {"i": uuid.uuid4(), "h": haul})  # fmt: skip
        command.upgrade(self.config, "head")
        with sessionmaker(self.engine).begin() as session:
            row = session.get_one(Haul, haul)
            edit = next_edit(session, row, again=False)
            assert edit is not None
            turn_back(session, row, edit)
            self.assertEqual(
                (row.name, row.destination, row.route, row.revision_id), ("Pier", {"a": 1}, {"steps": []}, now)
            )
            turn_back(session, row, edit)
            for number, revision in ((2, uuid.uuid4()), (3, now)):
                state = {**state_of(row), "revision": str(revision)}
                session.add(Edit(id=uuid.uuid4(), haul_id=haul, number=number, undone=False, what="", state=state))
            session.add(Haul(id=uuid.uuid4(), name="Deleted", destination={}, route={}, deleted=datetime.now(UTC)))
        command.downgrade(self.config, "0012")
        with self.engine.begin() as c:
            self.assertEqual(c.execute(text("SELECT number, name FROM edit")).all(), [(3, "Quay")])
            self.assertEqual(c.execute(text("SELECT name FROM haul")).all(), [("Quay",)])


if __name__ == "__main__":
    unittest.main()
