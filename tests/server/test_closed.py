"""Closed: the workers' ports, the folders, the sign-in; and nothing that is sent makes the server stumble."""

from __future__ import annotations

import asyncio
import faulthandler
import os
import socket
import ssl
import stat
import subprocess
import sys
import threading
import time
import unittest
import uuid
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import httpx
import psutil
import psycopg
import schemathesis
from distributed import Scheduler
from distributed.comm import CommClosedError
from distributed.core import rpc
from distributed.security import Security
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from tests.server.stand import begin, client, running, settings, whole_application
from tests.support import one_triangle
from tidy_caravan.core.errors import CaravanError
from tidy_caravan.server.app import create_app
from tidy_caravan.server.db.cluster import Cluster, ours, write_new
from tidy_caravan.server.jobs.workers import NICE, security_of
from tidy_caravan.server.security import COOKIE, good_token, token_for
from tidy_caravan.server.settings import Settings

REQUESTS = int(os.environ.get("CARAVAN_FUZZ", "1500"))
"""Requests of the fuzzer; `./run harden` sends more."""
PATIENCE = 10.0
"""Seconds for any answer to the fuzzer, whose questions are all about one triangle or nothing."""


def listening(pid: int) -> list[int]:
    """Ports on which a process and everything below it takes connections."""
    whole = [psutil.Process(pid), *psutil.Process(pid).children(recursive=True)]
    out = []
    for process in whole:
        try:
            out += [c.laddr.port for c in process.net_connections("tcp") if c.status == psutil.CONN_LISTEN]
        except psutil.Error:
            continue
    return out


def says_http(port: int) -> bool:
    try:
        return (
            httpx.get(
                f"http://127.0.0.1:{port}/", headers={"Host": "evil.example"}, timeout=3, verify=False
            ).status_code
            > 0
        )
    except httpx.HTTPError:
        return False


def by_itself(work: Coroutine[Any, Any, None]) -> None:
    """Runs it in a thread of its own: a browser that earlier tests of this process opened has its loop in this one."""
    with ThreadPoolExecutor(1) as thread:
        thread.submit(asyncio.run, work).result()


class Workers(unittest.TestCase):
    def test_nobody_without_the_credentials_of_this_start_gets_in(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            with whole_application(Path(folder) / "state") as (process, address):
                until = time.monotonic() + 60
                while (
                    httpx.get(f"{address}/api/health", verify=False).json()["workers"] < 1 and time.monotonic() < until
                ):
                    time.sleep(0.2)
                top = psutil.Process(process.pid)
                stepped_back = [p for p in top.children(recursive=True) if p.nice() == max(NICE, top.nice())]
                self.assertTrue(stepped_back, "workers let answers go first")
                page = int(address.rsplit(":", 1)[1])
                ports = [p for p in listening(process.pid) if p != page]
                self.assertGreater(len(ports), 3, "scheduler, nannies, workers, database")
                self.assertEqual([p for p in ports if says_http(p)], [])
                for port in ports:
                    for scheme in ("tcp", "tls"):
                        with (
                            self.subTest(port=port, scheme=scheme),
                            self.assertRaises((OSError, CommClosedError, ssl.SSLError)),
                        ):
                            by_itself(self.enter(f"{scheme}://127.0.0.1:{port}"))

    @staticmethod
    async def enter(address: str) -> None:
        # with credentials, but those of somebody else
        foreign = Security.temporary().get_connection_args("client") if address.startswith("tls") else {}
        async with rpc(address, timeout=2, connection_args=foreign) as intruder:
            await intruder.identity()

    def test_a_scheduler_that_is_open_would_be_entered_so(self) -> None:
        """That the refusals above are refusals of what works elsewhere."""

        async def whole() -> None:
            async with Scheduler(host="127.0.0.1", port=0, dashboard=False, protocol="tcp://") as open_:
                await self.enter(open_.address)

        by_itself(whole())

    def test_a_foreign_scheduler_needs_tls_or_a_word(self) -> None:
        open_ = Settings(scheduler="tcp://127.0.0.1:8786")
        with self.assertRaises(CaravanError) as caught:
            security_of(open_)
        self.assertIn("CARAVAN_SCHEDULER_CA", caught.exception.what)
        self.assertIsNone(security_of(open_.but(scheduler_private=True)))
        secured = open_.but(scheduler_ca="/a", scheduler_cert="/b", scheduler_key="/c")
        self.assertTrue(security_of(secured).require_encryption)  # type: ignore[union-attr]
        with TemporaryDirectory() as folder:
            done = subprocess.run(
                [sys.executable, "-m", "tidy_caravan.server.main", "--state", folder],
                env={**os.environ, "CARAVAN_SCHEDULER": "tcp://127.0.0.1:8786"},
                capture_output=True, text=True, timeout=60, check=False,
            )  # fmt: skip
        self.assertEqual(done.returncode, 1)
        self.assertIn("CARAVAN_SCHEDULER_PRIVATE", done.stderr)


class Folders(unittest.TestCase):
    def test_state_and_store_are_for_their_owner(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            state = Path(folder) / "state"
            with whole_application(state) as (_, address):
                with httpx.Client(base_url=address, verify=False) as c:
                    c.post("/api/hauls", files=[("files", ("a.glb", one_triangle().glb()))])
                for path in (state / "store", state / "postgres", state / "log"):
                    if path.exists():
                        self.assertEqual(stat.S_IMODE(path.stat().st_mode) & 0o077, 0, path)
                # root lets PostgreSQL's user through, and shows nobody what is there
                self.assertEqual(stat.S_IMODE(state.stat().st_mode) & 0o066, 0)

    @unittest.skipUnless(os.geteuid() == 0, "only root steps aside for PostgreSQL's own user")
    def test_a_folder_in_the_temporary_area_is_fresh_and_never_followed(self) -> None:
        with TemporaryDirectory() as folder, TemporaryDirectory() as trap:
            os.chmod(folder, 0o700)
            first = Cluster(Path(folder) / "postgres")
            self.assertEqual(stat.S_IMODE(first.folder.stat().st_mode), 0o700)
            self.assertEqual(Cluster(Path(folder) / "postgres").folder, first.folder, "found again")
            first.folder.rmdir()
            first.folder.symlink_to(trap)  # somebody puts a link at its place
            second = Cluster(Path(folder) / "postgres")
            self.assertNotEqual(second.folder, first.folder)
            self.assertFalse(second.folder.is_symlink())
            first.folder.unlink()
            second.folder.rmdir()

    def test_a_link_where_the_password_goes_is_not_followed(self) -> None:
        with TemporaryDirectory() as folder:
            victim = Path(folder) / "victim"
            victim.write_text("precious")
            (Path(folder) / "password").symlink_to(victim)
            write_new(Path(folder) / "password", "secret")
            self.assertEqual(victim.read_text(), "precious")
            self.assertFalse((Path(folder) / "password").is_symlink())
            os.chmod(folder, 0o755)
            self.assertFalse(ours(Path(folder), os.geteuid()), "open to others")

    def test_a_stale_file_that_names_a_foreign_process_ends_nobody(self) -> None:
        with TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            cluster = Cluster(Path(folder) / "postgres", durable=False)
            cluster.make()
            with subprocess.Popen(["sleep", "60"]) as other:
                (cluster.data / "postmaster.pid").write_text(f"{other.pid}\n{cluster.data}\n")
                cluster.start()
                self.assertIsNone(other.poll(), "the foreign process lives")
                # another instance's database, named by a copied file
                copy = Cluster(Path(folder) / "second", durable=False)
                copy.make()
                assert cluster.process
                (copy.data / "postmaster.pid").write_text(f"{cluster.process.pid}\n{copy.data}\n")
                copy.start()
                self.assertIsNone(cluster.process.poll(), "the other instance's database lives")
                copy.stop()
                cluster.stop()
                other.terminate()


class SignIn(unittest.TestCase):
    KEY = "schlüssel ; =\"'\u2603 key"

    def app(self, key: str | None = None) -> TestClient:
        chosen = settings().but(host="0.0.0.0", access_key=key or self.KEY)
        return TestClient(
            create_app(chosen, work=False), base_url="http://127.0.0.1:8321", raise_server_exceptions=False
        )

    def test_the_page_opens_the_door_and_the_cookie_keeps_it_open(self) -> None:
        c = self.app()
        self.assertEqual(c.get("/api/hauls").status_code, 401)
        self.assertEqual(c.get("/sign-in").status_code, 200, "the page itself needs no key")
        self.assertEqual(c.post("/api/sign-in", json={"key": "wrong"}).status_code, 401)
        answer = c.post("/api/sign-in", json={"key": self.KEY})
        self.assertEqual(answer.status_code, 204)
        cookie = answer.headers["set-cookie"].lower()
        self.assertIn("httponly", cookie)
        self.assertIn("samesite=strict", cookie)
        self.assertEqual(c.get("/api/hauls").status_code, 200)
        self.assertEqual(c.post("/api/sign-out").status_code, 204)
        self.assertEqual(c.get("/api/hauls").status_code, 401)

    def test_keys_of_any_character_as_a_header_too(self) -> None:
        c = self.app()
        header = {b"Authorization": b"Bearer " + self.KEY.encode()}
        self.assertEqual(c.get("/api/hauls", headers=header).status_code, 200)  # type: ignore[arg-type]

    def test_cookies_cannot_be_made_up_prolonged_or_carried_over(self) -> None:
        token = token_for("a", 1000.0)
        self.assertTrue(good_token(token, "a", 1000.0))
        self.assertFalse(good_token(token, "b", 1000.0), "another key")
        self.assertFalse(good_token(token, "a", 1e10), "its time is over")
        ends, nonce, signature = token.split(".")
        self.assertFalse(good_token(f"{int(ends) + 9}.{nonce}.{signature}", "a", 1000.0))
        for odd in ("", "..", "1.2", "é.é.é", "9" * 400 + ".a.b", "\ud800.a.b"):
            self.assertFalse(good_token(odd, "a", 1000.0))
        c = self.app()
        c.cookies.set(COOKIE, token)
        self.assertEqual(c.get("/api/hauls").status_code, 401)


class Input(unittest.TestCase):
    def app(self) -> TestClient:
        return TestClient(
            create_app(settings(), work=False), base_url="http://127.0.0.1:8321", raise_server_exceptions=False
        )

    def assert_problem(self, answer: Any, status: int, text: str) -> None:
        self.assertEqual(answer.status_code, status, (text, answer.text[:300]))
        self.assertEqual(answer.headers["content-type"], "application/problem+json", text)
        self.assertIn("content-security-policy", answer.headers, text)
        self.assertTrue(answer.json()["title"], text)

    def test_numbers_and_text_that_nothing_can_hold(self) -> None:
        c = self.app()
        haul = str(uuid.uuid4())
        for body in (
            b'{"sets": [{"id": "a", "name": "a", "rules": [{"leastSize": NaN}]}]}',
            b'{"sets": [{"id": "a", "name": "a", "rules": [{"leastSize": Infinity}]}]}',
            b'{"sets": [{"id": "a", "name": "a", "rules": [{"leastSize": 1e999}]}]}',
            b'{"sets": [{"id": "a", "name": "a", "rules": [{"leastTriangles": 99999999999999999999999}]}]}',
            b'{"sets": "\\ud800"}',
            b"\xff\xfe",
            b"{",
        ):
            answer = c.post(
                f"/api/scenes/{haul}/sets/figures", content=body, headers={"content-type": "application/json"}
            )
            self.assertIn(answer.status_code, (404, 422), body)
            self.assert_problem(answer, answer.status_code, repr(body))
        for path in (
            f"/api/scenes/{haul}/parts?mesh=99999999999999999999",
            f"/api/scenes/{haul}/parts?search=%00",
            f"/api/scenes/{haul}/parts?search=%ed%a0%80",
            f"/api/scenes/{haul}/parts?nodes=99999999999999999999999",
            f"/api/hauls/{'9' * 5000}",
            "/api/destinations/%00",
            "/api/destinations/%ed%a0%80",
            "/api/hauls?search=%00",
            f"/api/scenes/{haul}/images/99999999999999999999",
        ):
            answer = c.get(path)
            self.assertLess(answer.status_code, 500, path)
        self.assertEqual(c.put("/api/destinations/x%00y", json={}).status_code, 422)

    def test_broken_addresses_hosts_and_origins(self) -> None:
        c = self.app()
        for path in ("/%00", "/" + "a" * 5000 + ".js", "/assets/none.js", "/assets/%00.js", "/x.map", "/api/none"):
            self.assert_problem(c.get(path), 404, path)
        for headers, status in (
            ({"Host": "[::1"}, 421),
            ({"Host": ""}, 421),
            ({"Host": "a" * 3000}, 421),
            ({"Origin": "http://[::1"}, 403),
            ({"Origin": "nonsense"}, 403),
        ):
            self.assert_problem(c.get("/api/health", headers=headers), status, str(headers))
        self.assert_problem(c.post("/api/health"), 404, "method")
        self.assert_problem(c.get("/api/hauls/none"), 404, "id")

    def test_an_upload_that_grows_over_the_limit_while_it_comes(self) -> None:
        host, port = running().removeprefix("http://").split(":")
        body = b'--b\r\nContent-Disposition: form-data; name="files"; filename="a.glb"\r\n\r\n'
        with socket.create_connection((host, int(port)), timeout=60) as line:
            line.sendall(
                b"POST /api/hauls HTTP/1.1\r\nHost: 127.0.0.1:" + port.encode() + b"\r\nTransfer-Encoding: chunked\r\n"
                b"Content-Type: multipart/form-data; boundary=b\r\n\r\n"
            )
            piece = b"\0" * (1 << 20)
            answer = b""
            try:
                line.sendall(f"{len(body):x}\r\n".encode() + body + b"\r\n")
                for _ in range(80):
                    line.sendall(f"{len(piece):x}\r\n".encode() + piece + b"\r\n")
                line.sendall(b"0\r\n\r\n")
            except OSError:
                pass  # the server may hang up once it has answered
            try:
                while more := line.recv(65536):
                    answer += more
                    if b"\r\n\r\n" in answer and b"}" in answer:
                        break
            except OSError:
                pass
        self.assertTrue(answer.startswith(b"HTTP/1.1 413"), answer[:200])
        self.assertIn(b"application/problem+json", answer)

    def test_the_fuzzer_finds_no_fault(self) -> None:
        """By the server's own schema: no 5xx, no status, type or body that the schema does not know."""
        with client() as c:
            haul = begin(c, one_triangle().glb())
        known = {"haul_id": haul["id"], "scene_id": haul["source"]["id"], "job_id": haul["job"]["id"]}
        schema = schemathesis.openapi.from_dict(create_app(settings(), work=False).openapi())
        operations = [o.ok() for o in schema.get_all_operations()]
        operations = [o for o in operations if o.path != "/api/events"]
        each = max(10, REQUESTS // len(operations))
        sent, faults, slow = 0, [], []
        checks = [not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance]
        for operation in operations:

            @hypothesis_settings(
                max_examples=each, deadline=None, database=None, suppress_health_check=list(HealthCheck),
                phases=[Phase.generate], derandomize=True,
            )  # fmt: skip
            @given(case=operation.as_strategy(), real=st.booleans())
            def send(case: Any, real: bool) -> None:
                nonlocal sent
                if real:  # half of the requests are about what is there
                    for name in set(case.path_parameters or {}) & set(known):
                        case.path_parameters[name] = known[name]
                if case.method.upper() == "DELETE" and case.path.startswith("/api/hauls"):
                    case.headers["If-Match"] = '"999"'
                sent += 1
                began = time.monotonic()
                # where every thread stands, should an answer not come
                faulthandler.dump_traceback_later(PATIENCE, file=sys.__stderr__)
                try:
                    answer = case.call(base_url=running(), timeout=60)
                finally:
                    faulthandler.cancel_dump_traceback_later()
                if (took := time.monotonic() - began) > PATIENCE:
                    slow.append(f"{case.method} {case.formatted_path}: {took:.1f} s")
                try:
                    case.validate_response(answer, checks=checks)
                except BaseException as error:
                    if isinstance(error, (KeyboardInterrupt, SystemExit)):
                        raise
                    faults.append(f"{case.method} {case.formatted_path}: {' '.join(str(error).split())[:400]}")

            send()
        self.assertEqual(faults[:5], [], f"{len(faults)} of {sent}")
        self.assertEqual(self.jobs_that_stumbled(haul["id"]), [])
        self.assertGreaterEqual(sent, REQUESTS * 0.6)
        # one pause may be the machine's, which others share
        self.assertLess(len(slow), 2, slow)

    def jobs_that_stumbled(self, haul: str) -> list[Any]:
        """Problems of jobs that ended in a fault of ours, once all of a haul's jobs have ended."""
        ends = time.monotonic() + 120
        with psycopg.connect(settings().database.replace("+psycopg", ""), autocommit=True) as line:
            while line.execute(
                "SELECT count(*) FROM job WHERE haul_id = %s AND state IN ('waiting', 'running')", (haul,)
            ).fetchone() != (0,):
                self.assertLess(time.monotonic(), ends, "jobs do not end")
                time.sleep(0.1)
            made = line.execute("SELECT count(*) FROM job WHERE haul_id = %s", (haul,)).fetchone()
            assert made is not None
            self.assertGreater(made[0], 1)  # the import and what the fuzzer set going
            return line.execute(
                "SELECT kind, problem FROM job WHERE haul_id = %s AND problem->>'code' = 'job.fault'", (haul,)
            ).fetchall()


class Locks(unittest.TestCase):
    def test_of_two_writes_of_one_version_one_wins(self) -> None:
        with client() as c:
            plain = c.get("/api/destinations").json()[0]
            name = f"mine-{uuid.uuid4().hex[:8]}"
            made = c.put(f"/api/destinations/{name}", json={**plain, "name": name, "builtIn": False})
            self.assertEqual(made.status_code, 200, made.text)
            tag = made.headers["ETag"]
            for _ in range(12):
                codes = together(
                    [
                        lambda k=k, tag=tag: c.put(
                            f"/api/destinations/{name}",
                            json={**plain, "name": name, "title": f"t{k}", "builtIn": False},
                            headers={"If-Match": tag},
                        )
                        for k in range(3)
                    ]
                )
                self.assertEqual(sorted(a.status_code for a in codes), [200, 412, 412])
                tag = next(a.headers["ETag"] for a in codes if a.status_code == 200)

    def test_a_delete_knows_of_an_edit_at_the_same_moment(self) -> None:
        with client() as c:
            for _ in range(6):
                haul = begin(c, one_triangle().glb())
                path, tag = f"/api/hauls/{haul['id']}", {"If-Match": f'"{haul["version"]}"'}
                edit, drop = together(
                    [
                        lambda path=path, tag=tag: c.patch(path, json={"name": "other"}, headers=tag),
                        lambda path=path, tag=tag: c.delete(path, headers=tag),
                    ]
                )
                if edit.status_code == 200:
                    self.assertEqual(drop.status_code, 412)
                    self.assertEqual(c.get(path).json()["name"], "other")
                else:
                    self.assertEqual((edit.status_code, drop.status_code), (404, 204))

    def test_an_acknowledged_run_does_not_vanish_in_a_delete(self) -> None:
        with client() as c:
            for _ in range(6):
                haul = begin(c, one_triangle().glb())
                path, tag = f"/api/hauls/{haul['id']}", {"If-Match": f'"{haul["version"]}"'}
                run, drop = together(
                    [lambda path=path: c.post(f"{path}/run"), lambda path=path, tag=tag: c.delete(path, headers=tag)]
                )
                self.assertIn((run.status_code, drop.status_code), [(202, 409), (202, 204), (404, 204)])
                if drop.status_code == 409:
                    self.assertEqual(c.get(path).status_code, 200)


def together(calls: list[Any]) -> list[Any]:
    """The answers of calls that begin at one moment."""
    gate, out = threading.Barrier(len(calls)), [None] * len(calls)

    def one(k: int) -> None:
        gate.wait()
        out[k] = calls[k]()

    threads = [threading.Thread(target=one, args=(k,)) for k in range(len(calls))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    return out


class Lists(unittest.TestCase):
    def test_the_list_is_one_query_by_page_and_says_how_many_there_are(self) -> None:
        with client() as c:
            names = [f"list {uuid.uuid4().hex[:6]}" for _ in range(3)]
            for name in names:
                data = one_triangle().glb()
                c.post("/api/hauls", files=[("files", ("a.glb", data))], data={"name": name})
            page = c.get("/api/hauls", params={"search": "list ", "limit": 2}).json()
            rest = c.get("/api/hauls", params={"search": "list ", "limit": 2, "offset": 2}).json()
            found = [h["name"] for h in page["items"] + rest["items"]]
            self.assertGreaterEqual(page["total"], 3)
            self.assertEqual(found[:3], names[::-1])
            self.assertEqual(c.get("/api/hauls", params={"search": "100%_"}).json()["total"], 0)
            beyond = c.get("/api/hauls", params={"search": "list ", "offset": 10_000}).json()
            self.assertEqual((beyond["items"], beyond["total"]), ([], page["total"]))


if __name__ == "__main__":
    unittest.main()
