"""Runs all benchmarks and prints each ratio beside its limit; exit 1 when one is over.

Usage: ./run benchmark [name ...]
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from benchmarks import (
    arrival,
    copies,
    formats,
    large,
    ledger,
    light,
    lightmap,
    lumps,
    reading,
    recall,
    rerun,
    spread,
    survey,
    unwrap,
)

BENCHMARKS: dict[str, Callable[[Path], list[tuple[str, float, str, float]]]] = {
    "reading": reading.measure,
    "lightmap": lightmap.measure,
    "light": light.measure,
    "ledger": ledger.measure,
    "formats": formats.measure,
    "arrival": arrival.measure,
    "survey": survey.measure,
    "spread": spread.measure,
    "rerun": rerun.measure,
    "recall": recall.measure,
    "large": large.measure,
    "copies": copies.measure,
    "lumps": lumps.measure,
    "unwrap": unwrap.measure_sets,
}


def main() -> int:
    wanted = sys.argv[1:] or list(BENCHMARKS)
    failed = 0
    for name in wanted:
        with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
            Path(folder).chmod(0o755)
            for text, value, sign, limit in BENCHMARKS[name](Path(folder)):
                good = value <= limit if sign == "≤" else value >= limit
                failed += not good
                print(
                    f"{'ok  ' if good else 'OVER'} {name:9} {text:66} {value:6.2f} (wanted {sign} {limit:g})",
                    flush=True,
                )
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(main())
