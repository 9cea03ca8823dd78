"""Runs every check and every test, side by side, and ends in one line: N passed, N failed.

Usage: python -m tests [name ...]   (names of test modules, such as core.test_survey; checks are skipped then, and the
tests run one after the other in this process)
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import threading
import time
import traceback
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tidy_caravan.core.loading import seldom

ROOT = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent
SLOW = 5.0
"""Seconds from which on a test is named."""
SIDE_BY_SIDE = max(1, min(2, os.cpu_count() or 1))
"""Processes of tests; each may have a database, a server with its workers and a browser of its own."""
GIVING_WAY = 10
"""Niceness of one process more, of tests that only compute: it works while the others wait for starts, ends and pages."""

CHECKS: list[tuple[str, list[str], Path]] = [
    ("ruff", [str(BIN / "ruff"), "check", "src", "tests", "benchmarks"], ROOT),
    ("format", [str(BIN / "ruff"), "format", "--check", "-q", "src", "tests", "benchmarks"], ROOT),
    ("mypy", [str(BIN / "mypy")], ROOT),
    ("import rules", [str(BIN / "lint-imports"), "--no-cache"], ROOT),
    (
        "biome",
        [
            "npx",
            "--no-install",
            "biome",
            "ci",
            "src",
            "vite.config.ts",
            "validate-gltf.mjs",
            "mikktspace.mjs",
            "meshopt.mjs",
        ],
        ROOT / "web",
    ),
    ("typescript", ["npx", "--no-install", "tsc", "--noEmit"], ROOT / "web"),
]


def run_check(name: str, command: list[str], folder: Path) -> bool:
    began = time.monotonic()
    result = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=600, check=False)
    good = result.returncode == 0
    tail = "" if good else "\n" + (result.stdout + result.stderr)[-6000:]
    print(f"check {name:14} {'ok' if good else 'FAILED'}  {time.monotonic() - began:.1f} s{tail}", flush=True)
    return good


def types_are_fresh() -> bool:
    """The front end's types must be those of the server's schema."""
    with tempfile.TemporaryDirectory() as folder:
        schema = Path(folder) / "openapi.json"
        out = subprocess.run([sys.executable, "-m", "tidy_caravan.server.openapi"], capture_output=True, check=True)
        schema.write_bytes(out.stdout)
        fresh = Path(folder) / "schema.d.ts"
        command = ["npx", "--no-install", "openapi-typescript", str(schema), "-o", str(fresh)]
        subprocess.run(command, cwd=ROOT / "web", capture_output=True, check=True, timeout=120)
        good = fresh.read_text() == (ROOT / "web" / "src" / "api" / "schema.d.ts").read_text()
    print(f"check {'generated types':14} {'ok' if good else 'STALE: run web/refresh-types.sh'}", flush=True)
    return good


class Result(unittest.TextTestResult):
    """Counts passes and prints the time of slow tests."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.passes = 0
        self.began = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        self.began = time.monotonic()
        super().startTest(test)

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passes += 1
        super().addSuccess(test)
        if (took := time.monotonic() - self.began) > SLOW:
            print(f" {test.id()}: {took:.1f} s", flush=True)


class Quiet(Result):
    """The same, for many at once: no dots, what is wrong as text."""

    def __init__(self) -> None:
        super().__init__(unittest.runner._WritelnDecorator(sys.stderr), descriptions=False, verbosity=0)

    def told(self) -> list[str]:
        wrong = [*self.failures, *self.errors, *((t, "it passed, and was to fail") for t in self.unexpectedSuccesses)]
        return [f"{'=' * 70}\n{test.id()}\n{'-' * 70}\n{text}" for test, text in wrong]


def tests_in(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from tests_in(one)
        else:
            yield one


def groups() -> dict[str, tuple[float, bool]]:
    """What is run as one, by name, with a weight and whether nothing may run beside it.

    A class of tests is a group; with `split = True` every test of it is one.
    """
    out: dict[str, tuple[float, bool]] = {}
    for part, weight in (("core", 1.0), ("server", 4.0), ("interface", 8.0)):
        found = unittest.TestLoader().discover(str(ROOT / "tests" / part), top_level_dir=str(ROOT))
        for test in tests_in(found):
            kind = type(test)
            name = f"{kind.__module__}.{kind.__qualname__}"
            if getattr(kind, "split", False) or kind.__module__ == "unittest.loader":
                name = test.id()
            before = out.get(name, (0.0, False))[0]
            out[name] = before + getattr(kind, "weight", weight), bool(getattr(kind, "alone", False))
    return out


def serve() -> int:
    """A process of the many: runs the groups that it is sent, one name a line, and answers one line of JSON each."""
    seldom()
    answers = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # whatever a test prints must not end up among the answers
    for line in sys.stdin:
        result = Quiet()
        began = time.monotonic()
        try:
            unittest.TestLoader().loadTestsFromName(line.strip()).run(result)
            wrong = result.told()
        except Exception:  # a group that cannot be loaded has failed
            wrong = [f"{line.strip()}\n{traceback.format_exc()}"]
        skipped = [f"{t.id()}: {why}" for t, why in result.skipped]
        answer = {"passed": result.passes, "wrong": wrong, "skipped": skipped, "seconds": time.monotonic() - began}
        answers.write(json.dumps(answer) + "\n")
        answers.flush()
    return 0


class Server:
    """One of the processes, started anew when a test brought it down. nice: how far it gives way to others."""

    def __init__(self, nice: int = 0) -> None:
        self.nice = nice
        self.process: subprocess.Popen[str] | None = None

    def run(self, name: str) -> dict[str, Any]:
        if self.process is None or self.process.poll() is not None:
            self.process = subprocess.Popen(
                ["nice", "-n", str(self.nice), sys.executable, "-m", "tests", "--serve"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, cwd=ROOT
            )  # fmt: skip
        assert self.process.stdin and self.process.stdout
        self.process.stdin.write(name + "\n")
        self.process.stdin.flush()
        line = self.process.stdout.readline()
        if not line:
            return {
                "passed": 0,
                "wrong": [f"{name}: the process ended ({self.process.wait()})"],
                "skipped": [],
                "seconds": 0,
            }
        out: dict[str, Any] = json.loads(line)
        return out

    def end(self) -> None:
        """Lets it close what it has open, such as its database."""
        if self.process is not None and self.process.stdin:
            self.process.stdin.close()
            try:
                self.process.wait(60)
            except subprocess.TimeoutExpired:
                self.process.kill()


def run_side_by_side() -> int:
    """All checks and tests, the heaviest groups first; those that measure time come last and alone."""
    began = time.monotonic()
    passed, failed, wrong, skipped = 0, 0, [], []
    lock = threading.Lock()
    every = groups()
    todo: list[Any] = sorted((n for n, (_, alone) in every.items() if not alone), key=lambda n: -every[n][0])
    todo += [*CHECKS, types_are_fresh]
    last: list[Any] = [n for n, (_, alone) in every.items() if alone]

    def chosen(left: list[Any], kind: str) -> int:
        """A process that has the demo keeps to the tests of it as long as there are any, and the others to theirs; the one
        that gives way takes what has no server, the lightest first."""
        names = [one if isinstance(one, str) else "" for one in left]
        if kind == "core":
            return next((k for k in reversed(range(len(names))) if ".core." in names[k] or not names[k]), -1)
        return next((k for k, name in enumerate(names) if (".interface." in name) == (kind == "interface")), 0)

    def work(left: list[Any], kind: str) -> None:
        nonlocal passed, failed
        server = Server(GIVING_WAY if kind == "core" else 0)
        while True:
            with lock:
                number = chosen(left, kind) if left else -1
                if number < 0:
                    break
                one = left.pop(number)
            if isinstance(one, str):
                answer = server.run(one)
                with lock:
                    passed, failed = passed + answer["passed"], failed + len(answer["wrong"])
                    wrong.extend(answer["wrong"])
                    skipped.extend(answer["skipped"])
                    print(f"{'FAILED' if answer['wrong'] else 'ok'} {one.removeprefix('tests.')}  {answer['seconds']:.1f} s", flush=True)  # fmt: skip
                continue
            try:
                good = one() if callable(one) else run_check(*one)
            except Exception:  # a check that cannot be run has failed
                traceback.print_exc()
                good = False
            with lock:
                passed, failed = passed + good, failed + (not good)
        server.end()

    kinds = ["interface", *["server"] * (SIDE_BY_SIDE - 1), "core"]
    threads = [threading.Thread(target=work, args=(todo, kind)) for kind in kinds]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    work(last, "server")
    for text in [*wrong, *skipped]:
        print(text)
    print(f"in {time.monotonic() - began:.0f} s")
    return told(passed, failed, len(skipped))


def told(passed: int, failed: int, skipped: int) -> int:
    sys.stderr.flush()
    print(f"{passed} passed, {failed} failed{f', {skipped} skipped' if skipped else ''}", flush=True)
    return 1 if failed else 0


def main(names: list[str]) -> int:
    if names == ["--serve"]:
        return serve()
    if not names:
        return run_side_by_side()
    suite = unittest.TestLoader().loadTestsFromNames([f"tests.{n}" for n in names])
    result = unittest.TextTestRunner(resultclass=Result, verbosity=2).run(suite)
    assert isinstance(result, Result)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return told(result.passes, failed, len(result.skipped))


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
