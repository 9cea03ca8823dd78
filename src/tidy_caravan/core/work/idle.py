"""Children that wait for their next call: work of many small kinds need not start its own each time."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterator, Sequence

from tidy_caravan.core.work.isolation import MEMORY_BYTES, Child

IDLE_SECONDS = 20.0
MOST_IDLE = 8
"""More than these are ended at once, the longest idle first."""
_idle: list[tuple[float, Child]] = []
_lock = threading.Lock()
_sweeper: threading.Timer | None = None


@contextlib.contextmanager
def borrowed(memory: int = MEMORY_BYTES, modules: Sequence[str] = ()) -> Iterator[Child]:
    """A child process with that limit, one that idles and has the modules if there is one."""
    with _lock:
        fitting = [k for k, (_, c) in enumerate(_idle) if c.memory == memory and c.knows >= set(modules)]
        child = _idle.pop(fitting[-1])[1] if fitting else Child(memory)
    try:
        yield child
    finally:
        give_back(child)


def give_back(child: Child) -> None:
    """What ended, or holds on to much memory, is no use to others."""
    over = []
    with _lock:
        if child.fresh():
            _idle.append((time.monotonic(), child))
        else:
            over.append(child)
        while len(_idle) > MOST_IDLE:
            over.append(_idle.pop(0)[1])
        if _idle:
            _sweep_later()
    for one in over:
        one.stop()


def _sweep_later() -> None:
    """One timer at a time; call with the lock held."""
    global _sweeper
    if _sweeper is None:
        _sweeper = threading.Timer(IDLE_SECONDS, end_idle)
        _sweeper.daemon = True
        _sweeper.start()


def end_idle(seconds: float = IDLE_SECONDS * 0.9) -> None:
    """Ends the children that nobody borrowed for as long; looks again while there are others."""
    global _sweeper
    with _lock:
        until = time.monotonic() - seconds
        old = [c for since, c in _idle if since <= until]
        _idle[:] = [(since, c) for since, c in _idle if since > until]
        if _sweeper is not None:
            _sweeper.cancel()
        _sweeper = None
        if _idle:
            _sweep_later()
    for child in old:
        child.stop()
