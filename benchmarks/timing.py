"""Times two ways of doing something in turn, so that a drifting machine slows both alike."""

from __future__ import annotations

import gc
import statistics
import time
from collections.abc import Callable


def in_turn(ways: dict[str, Callable[[], object]], rounds: int = 7) -> dict[str, float]:
    """Median seconds per way; A B A B …, after one round that does not count."""
    taken: dict[str, list[float]] = {name: [] for name in ways}
    for round_ in range(rounds + 1):
        for name, way in ways.items():
            gc.collect()
            began = time.perf_counter()
            way()
            if round_:
                taken[name].append(time.perf_counter() - began)
    return {name: statistics.median(t) for name, t in taken.items()}
