"""Runs every check and every test, and ends in one line: N passed, N failed.

Usage: python -m tests [name ...]   (names of test modules, such as core.test_survey; checks are skipped then)
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent

CHECKS: list[tuple[str, list[str], Path]] = [
    ("ruff", [str(BIN / "ruff"), "check", "src", "tests", "benchmarks"], ROOT),
    ("format", [str(BIN / "ruff"), "format", "--check", "-q", "src", "tests", "benchmarks"], ROOT),
    ("mypy", [str(BIN / "mypy")], ROOT),
    ("import rules", [str(BIN / "lint-imports"), "--no-cache"], ROOT),
    ("biome", ["npx", "--no-install", "biome", "ci", "src", "vite.config.ts", "validate-gltf.mjs"], ROOT / "web"),
    ("typescript", ["npx", "--no-install", "tsc", "--noEmit"], ROOT / "web"),
]


def run_checks() -> tuple[int, int]:
    passed = failed = 0
    for name, command, folder in CHECKS:
        began = time.monotonic()
        result = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=600, check=False)
        good = result.returncode == 0
        passed, failed = passed + good, failed + (not good)
        print(f"check {name:14} {'ok' if good else 'FAILED'}  {time.monotonic() - began:.1f} s", flush=True)
        if not good:
            print((result.stdout + result.stderr)[-6000:])
    good = types_are_fresh()
    print(f"check {'generated types':14} {'ok' if good else 'STALE: run web/refresh-types.sh'}", flush=True)
    return passed + good, failed + (not good)


def types_are_fresh() -> bool:
    """The front end's types must be those of the server's schema."""
    with tempfile.TemporaryDirectory() as folder:
        schema = Path(folder) / "openapi.json"
        out = subprocess.run([sys.executable, "-m", "tidy_caravan.server.openapi"], capture_output=True, check=True)
        schema.write_bytes(out.stdout)
        fresh = Path(folder) / "schema.d.ts"
        command = ["npx", "--no-install", "openapi-typescript", str(schema), "-o", str(fresh)]
        subprocess.run(command, cwd=ROOT / "web", capture_output=True, check=True, timeout=120)
        return fresh.read_text() == (ROOT / "web" / "src" / "api" / "schema.d.ts").read_text()


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
        if (took := time.monotonic() - self.began) > 5:
            print(f" {test.id()}: {took:.1f} s", flush=True)


def main(names: list[str]) -> int:
    checks_passed, checks_failed = (0, 0) if names else run_checks()
    loader = unittest.TestLoader()
    if names:
        suite = loader.loadTestsFromNames([f"tests.{n}" for n in names])
    else:
        suite = unittest.TestSuite(
            loader.discover(str(ROOT / "tests" / part), top_level_dir=str(ROOT))
            for part in ("core", "server", "interface")
        )
    runner = unittest.TextTestRunner(resultclass=Result, verbosity=2 if names else 1)
    result = runner.run(suite)
    assert isinstance(result, Result)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses) + checks_failed
    sys.stderr.flush()
    skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
    print(f"{result.passes + checks_passed} passed, {failed} failed{skipped}", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
