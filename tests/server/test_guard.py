"""Access key, content policy, faults of our own as problem documents, and the place of the database."""

from __future__ import annotations

import os
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import mock

from fastapi.testclient import TestClient

from tests.server.stand import settings
from tidy_caravan.server.api import library
from tidy_caravan.server.app import create_app
from tidy_caravan.server.db.cluster import Cluster, ClusterError
from tidy_caravan.server.db.session import clean, clean_json
from tidy_caravan.server.settings import Settings


class Access(unittest.TestCase):
    def app(self, **changes: object) -> TestClient:
        chosen = settings().but(**changes)
        return TestClient(
            create_app(chosen, work=False), base_url="http://127.0.0.1:8321", raise_server_exceptions=False
        )

    def test_an_open_address_asks_for_the_key(self) -> None:
        client = self.app(host="0.0.0.0", access_key="sesame")
        for headers, status in (
            ({}, 401),
            ({"Authorization": "Bearer wrong"}, 401),
            ({"Authorization": "Bearer sesame"}, 200),
        ):
            self.assertEqual(client.get("/api/health", headers=headers).status_code, status)  # type: ignore[arg-type]

    def test_own_origin_is_welcome_and_others_are_not(self) -> None:
        client = self.app()
        self.assertEqual(client.get("/api/hauls", headers={"Origin": "http://127.0.0.1:8321"}).status_code, 200)
        self.assertEqual(client.get("/api/hauls", headers={"Origin": "http://127.0.0.1:9999"}).status_code, 403)
        self.assertEqual(client.get("/api/hauls", headers={"Host": "localhost:8321"}).status_code, 200)

    def test_a_fault_of_our_own_is_a_problem_document_too(self) -> None:
        client = self.app()
        with (
            mock.patch.object(library, "known_checks", side_effect=RuntimeError("boom")),
            self.assertLogs("tidy_caravan.server", "ERROR"),
        ):
            answer = client.get("/api/checks")
        self.assertEqual(
            (answer.status_code, answer.headers["content-type"], answer.json()["code"]),
            (500, "application/problem+json", "server.fault"),
        )
        self.assertNotIn("boom", answer.text)

    def test_a_database_that_is_gone_is_said_so(self) -> None:
        answer = self.app(database="postgresql+psycopg://nobody:x@127.0.0.1:1/none").get("/api/hauls")
        self.assertEqual((answer.status_code, answer.json()["code"]), (503, "database.unavailable"))

    def test_pages_and_files_of_the_front_end(self) -> None:
        with TemporaryDirectory() as folder:
            web = Path(folder) / "web"
            (web / "assets").mkdir(parents=True)
            (web / "index.html").write_text("<p>front</p>")
            (web / "assets" / "a.js").write_text("1")
            (Path(folder) / "secret").write_text("secret")
            client = self.app(web=web)
            self.assertEqual(client.get("/hauls/anything/survey").text, "<p>front</p>")
            self.assertIn("immutable", client.get("/assets/a.js").headers["cache-control"])
            for path in ("/../secret", "/%2e%2e/secret", "/assets/../../secret"):
                self.assertNotIn("secret", client.get(path).text)
            missing = self.app(web=Path(folder) / "none").get("/")
            self.assertEqual((missing.status_code, missing.json()["code"]), (503, "web.not-built"))

    def test_steps_and_checks_describe_themselves(self) -> None:
        client = self.app()
        steps = {s["kind"]: s for s in client.get("/api/steps").json()}
        self.assertEqual(steps["lightmap_uvs"]["defaults"]["resolution"], 256)
        self.assertEqual(steps["lightmap_uvs"]["parameters"]["paddingTexels"]["maximum"], 64)
        self.assertGreater(len(client.get("/api/checks").json()), 15)


class Text(unittest.TestCase):
    def test_what_the_database_cannot_hold_is_replaced(self) -> None:
        self.assertEqual(clean("a\0b"), "a�b")
        self.assertEqual(clean("x\ud800"), "x?")
        self.assertEqual(clean_json({"a\0": ["\0", 1, None]}), {"a�": ["�", 1, None]})


class Place(unittest.TestCase):
    @unittest.skipUnless(os.geteuid() == 0, "only root has to step aside for PostgreSQL's own user")
    def test_a_folder_that_postgresql_cannot_reach_is_replaced(self) -> None:
        with TemporaryDirectory() as folder:
            os.chmod(folder, 0o700)
            cluster = Cluster(Path(folder) / "postgres")
            self.assertTrue(str(cluster.folder).startswith("/var/tmp/tidy-caravan-"))
            cluster.folder.rmdir()

    def test_a_half_made_cluster_is_made_anew_and_a_broken_one_says_why(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            cluster = Cluster(Path(folder) / "postgres", durable=False)
            cluster.data.mkdir()
            (cluster.data / "PG_VERSION").write_text("15")
            cluster.make()  # without the mark of completion it is not trusted
            self.assertTrue((cluster.folder / "complete").exists())
            (cluster.data / "postgresql.conf").write_text("nonsense = = =")
            with self.assertRaisesRegex(ClusterError, "did not start.*syntax error"):
                cluster.start()

    def test_settings_know_what_loopback_is(self) -> None:
        for host, loopback in (
            ("127.0.0.1", True),
            ("localhost", True),
            ("::1", True),
            ("0.0.0.0", False),
            ("192.168.0.4", False),
        ):
            self.assertEqual(Settings(host=host).loopback, loopback)


if __name__ == "__main__":
    unittest.main()
