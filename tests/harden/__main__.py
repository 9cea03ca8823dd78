"""Kills, a crowd, mutated files, the API's fuzzer, untouched and bent packages and random routes, as long as asked.

Usage: python -m tests.harden [--kills N] [--people N] [--files N] [--requests N] [--sources N] [--routes N] [--bent N] [--seed N]
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.harden.arrivals import try_arrivals
from tests.harden.bent import try_bent
from tests.harden.crowd import try_crowd
from tests.harden.files import try_files
from tests.harden.kills import try_kills
from tests.harden.routes import try_routes
from tidy_caravan.server.settings import ROOT


def main() -> int:
    parser = argparse.ArgumentParser(prog="./run harden", description=__doc__)
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--people", type=int, default=50)
    parser.add_argument("--files", type=int, default=2000)
    parser.add_argument("--requests", type=int, default=5000)
    parser.add_argument("--sources", type=int, default=1000)
    parser.add_argument("--routes", type=int, default=500)
    parser.add_argument("--bent", type=int, default=400)
    parser.add_argument("--seed", type=int, default=int(time.time()) % 100_000)
    args = parser.parse_args()
    print(f"seed {args.seed}", flush=True)
    bad = 0

    def tell(text: str) -> None:
        print(f"  {text}", flush=True)

    if args.kills:
        with tempfile.TemporaryDirectory(prefix="caravan-harden-", dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            kills = try_kills(args.kills, Path(folder), args.seed, tell)
        faults = [*kills.lost, *kills.stuck, *kills.wrong, *kills.left]
        bad += len(faults)
        print(
            f"{sum(kills.kills.values())} kills ({kills.missed} found no victim): {len(kills.lost)} lost, "
            f"{len(kills.stuck)} stuck, {len(kills.wrong)} wrong packages, {len(kills.left)} left behind; "
            f"slowest recovery {kills.slowest:.0f} s"
        )
        for text in faults[:20]:
            print(f"  ! {text}")
    if args.people:
        with tempfile.TemporaryDirectory(prefix="caravan-harden-", dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            crowd = try_crowd(Path(folder), args.people)
        bad += crowd.p99 > 2.0 or crowd.failed > 0
        print(
            f"{args.people} people on {crowd.parts} parts during a job: {crowd.answers} answers, {crowd.failed} failed, "
            f"median {crowd.median * 1000:.0f} ms, 99 of 100 within {crowd.p99:.2f} s, worst {crowd.worst:.2f} s"
        )
    if args.files:
        files = try_files(args.files, args.seed, tell=tell)
        bad += len(files.faults) + len(files.hung)
        print(
            f"{files.files} mutated files: {sum(files.read.values())} read, {sum(files.refused.values())} refused in a "
            f"sentence, {len(files.faults)} faults, {len(files.hung)} hung; slowest {files.slowest:.1f} s"
        )
        for text in [*files.faults, *files.hung][:20]:
            print(f"  ! {text}")
    if args.requests:
        name = "server.test_closed.Input.test_the_fuzzer_finds_no_fault"
        done = subprocess.run(
            [sys.executable, "-m", "tests", name],
            cwd=ROOT, env={**os.environ, "CARAVAN_FUZZ": str(args.requests)}, check=False,
        )  # fmt: skip
        bad += done.returncode != 0
    if args.sources:
        arrivals = try_arrivals(args.sources, tell=tell)
        bad += len(arrivals.alarms)
        print(
            f"{arrivals.packages} untouched packages of {arrivals.sources} sources: {len(arrivals.alarms)} false alarms, "
            f"{arrivals.seconds:.0f} s"
        )
    if args.routes:
        routes = try_routes(args.routes, args.seed, tell)
        bad += len(routes.faults)
        print(f"{routes.tried} random routes: {len(routes.faults)} packages that were refused")
    if args.bent:
        documents = try_bent(args.bent, args.seed, tell)
        bad += len(documents.faults)
        print(
            f"{documents.tried} bent packages: {documents.told} told or refused, {len(documents.quiet)} bent where it makes "
            f"no difference, {len(documents.faults)} faults"
        )
    print(f"hardened: {bad} faults")
    return 1 if bad else 0


if __name__ == "__main__":
    raise SystemExit(main())
