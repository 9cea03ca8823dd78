"""The crew of a cluster: pieces of heavy work go to all its workers, as keys of the store, and come back as such.

Nothing is shared with the other workers but the database and the store, so that they may be on other machines.
"""

from __future__ import annotations

import threading
import time
import uuid
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np

from tidy_caravan.core.work.heavy import PERFORM, Done, Here, Outcome, Piece, Work, perform
from tidy_caravan.core.work.idle import borrowed
from tidy_caravan.core.work.isolation import Lost, modules_of
from tidy_caravan.core.work.pool import Stopped
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.results import outcome_bytes, outcome_from
from tidy_caravan.server.store.scenes import from_bytes, to_bytes

SHARES = 20
"""Batches per worker: few enough to cost little, enough that nobody waits long for the last one."""
WORTH_SECONDS = 1.0
"""Work that should take less is done where it is asked for; sharing it out costs more."""
SECONDS_EACH = 2e-5
"""What a triangle takes, roughly, in the quickest kinds of work."""
MOST_AWAY = 3
"""Jobs of one worker process that may wait for their pieces while it takes up others; each keeps its scene."""
LOOK_SECONDS = 0.1
_away = threading.Semaphore(MOST_AWAY)
_job = threading.local()


class ClusterCrew:
    """Shares pieces out from inside a job; where there is no cluster around, this machine does them."""

    def __init__(self, store: Store) -> None:
        self.store = store

    def share(
        self, work: Work, pieces: Sequence[tuple[str, Piece]], tell: Callable[[], None]
    ) -> Iterator[tuple[int, Outcome]]:
        """As Crew.share. A batch whose worker was lost is tried piece by piece before a piece is given up."""
        client = client_here() if worth_sharing(work, pieces) else None
        if client is None or not _away.acquire(blocking=False):
            yield from Here(1 if client is None else None).share(work, pieces, tell)
            return
        from distributed import as_completed, secede

        if not getattr(_job, "left", False):  # the job waits from now on: its place is free for the pieces
            secede()
            _job.left = True  # for the rest of the job, whose thread ends with it
        begun: dict[Any, list[int]] = {}
        try:
            workers = max(1, len(client.scheduler_info(n_workers=-1)["workers"]))
            ready = as_completed(raise_errors=False)

            def hand_out(batch: list[int]) -> None:
                future = client.submit(
                    do_batch, work, self.store.address, self._put([pieces[k] for k in batch]),
                    [pieces[k][1].seconds for k in batch],
                    key=f"piece-{uuid.uuid4().hex}", pure=False, priority=10, retries=0,
                )  # fmt: skip
                begun[future] = batch
                ready.add(future)

            for batch in batches([p.size for _, p in pieces], workers * SHARES):
                hand_out(batch)
            while begun:
                tell()
                if not ready.has_ready():
                    time.sleep(LOOK_SECONDS)
                    continue
                future = next(ready)
                batch = begun.pop(future)
                if future.status == "finished":
                    for k, key in zip(batch, future.result(), strict=True):
                        yield k, self._outcome(key)
                elif len(batch) > 1 and future.status == "error":
                    for k in batch:
                        hand_out([k])
                elif future.status == "error":
                    yield batch[0], Lost("the workers were lost with it again and again")
                else:  # the line to the scheduler broke: the rest is done here
                    rest = [*batch, *(k for b in begun.values() for k in b)]
                    begun.clear()
                    for i, outcome in Here().share(work, [pieces[k] for k in rest], tell):
                        yield rest[i], outcome
        finally:
            _away.release()
            if begun:
                client.cancel(list(begun))

    def _put(self, batch: Sequence[tuple[str, Piece]]) -> str:
        """Key of one file with the arrays and parameters of some pieces."""
        arrays = {f"{k}/{name}": a for k, (_, p) in enumerate(batch) for name, a in p.arrays.items()}
        return self.store.put_blob(to_bytes([dict(p.parameters) for _, p in batch], arrays))

    def _outcome(self, key: str) -> Outcome:
        try:
            return outcome_from(self.store.get(key))
        except FileNotFoundError:
            return Lost("its result was lost in the store")


def worth_sharing(work: Work, pieces: Sequence[tuple[str, Piece]]) -> bool:
    """Whether there is more than one piece, and enough to do. Native work always needs another process anyway."""
    size = sum(p.size for _, p in pieces)
    return len(pieces) > 1 and (work.native or size * SECONDS_EACH > WORTH_SECONDS)


def client_here() -> Any:
    """A client of the cluster whose worker this is; None when it is none's."""
    from distributed import get_client, get_worker

    try:
        get_worker()
        return get_client()
    except (ValueError, OSError):
        return None


def batches(sizes: list[int], wanted: int) -> list[list[int]]:
    """Numbers of pieces in about as many batches as wanted, of like size, the largest first.

    Longest processing time first (Graham, 1969): each piece goes to the batch with the least in it.
    """
    import heapq

    order = np.argsort(-np.asarray(sizes), kind="stable").tolist()
    heap = [(0, k) for k in range(min(wanted, len(sizes)))]
    out: list[list[int]] = [[] for _ in heap]
    for i in order:
        load, k = heapq.heappop(heap)
        out[k].append(i)
        heapq.heappush(heap, (load + sizes[i], k))
    return sorted(out, key=lambda b: -max(sizes[i] for i in b))


def do_batch(work: Work, store_address: str, blob: str, seconds: list[float]) -> list[str]:
    """In a worker: does some pieces, native ones in a child process; keys of their outcomes in the store."""
    store = Store(store_address)
    parameters, arrays = from_bytes(store.get(blob))
    grouped: list[dict[str, Any]] = [{} for _ in parameters]
    for label, array in arrays.items():
        k, _, name = label.partition("/")
        grouped[int(k)][name] = array
    wanted = asked_still()
    out = []
    for values, given, limit in zip(parameters, grouped, seconds, strict=True):
        if not wanted():
            outcome: Outcome = Lost("the work was stopped")
        elif work.native:
            outcome = in_child(work, given, values, limit, wanted)
        else:
            outcome = perform(work.function, given, values)
        out.append(store.put_blob(outcome_bytes(outcome)))
    return out


def asked_still() -> Callable[[], bool]:
    """Tells whether anybody waits for the task at hand; a task that runs is not interrupted by itself."""
    from distributed import get_worker

    try:
        worker = get_worker()
        key = worker.get_current_task()
    except ValueError:
        return lambda: True
    return lambda: getattr(worker.state.tasks.get(key), "state", "") == "executing"


def in_child(
    work: Work, arrays: dict[str, Any], values: dict[str, Any], seconds: float, wanted: Callable[[], bool]
) -> Outcome:
    """One piece in this thread's child process, which stays for the next ones and ends when none come."""

    def tell(*_: object) -> None:
        if not wanted():
            raise Stopped

    with borrowed(work.memory, modules_of(PERFORM, (work.function,))) as child:
        try:
            found = child.call(PERFORM, (work.function, arrays, values), seconds, tell)
        except Stopped:
            return Lost("the work was stopped")
    return found if isinstance(found, Done | Lost) else Lost("its answer was none")
