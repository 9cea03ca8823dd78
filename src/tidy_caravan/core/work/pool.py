"""Calls shared out among a few child processes."""

from __future__ import annotations

import os
import queue
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from tidy_caravan.core.work.idle import borrowed
from tidy_caravan.core.work.isolation import MEMORY_BYTES, Lost, modules_of


class Stopped(Exception):
    """Nobody waits for the call any more."""


class Pool:
    """A few children at a time that share the calls of one step. Use as a context manager."""

    def __init__(self, size: int | None = None, memory: int = MEMORY_BYTES) -> None:
        self.size = size or min(4, os.cpu_count() or 1)
        self.memory = memory
        self._threads = ThreadPoolExecutor(self.size)

    def __enter__(self) -> Pool:
        return self

    def __exit__(self, *_: object) -> None:
        self._threads.shutdown(wait=True, cancel_futures=True)

    def map(
        self, function: str, calls: Sequence[tuple[tuple[Any, ...], float]], keep_on: Callable[[], None] = lambda: None
    ) -> Iterator[tuple[int, Any]]:
        """(index, result or Lost) for calls of (args, seconds), as they finish.

        keep_on is called now and then and may raise to stop; running calls are ended then.
        """
        done: queue.SimpleQueue[tuple[int, Any]] = queue.SimpleQueue()
        stopping = threading.Event()

        def one(index: int) -> None:
            args, seconds = calls[index]
            try:
                if stopping.is_set():
                    raise Stopped
                with borrowed(self.memory, modules_of(function, args)) as child:
                    done.put((index, child.call(function, args, seconds, keep_going)))
            except Stopped:
                done.put((index, Lost("the work was stopped")))
            except Exception as error:  # the caller must hear of it instead of waiting for ever
                done.put((index, Lost(str(error))))

        def keep_going(*_: object) -> None:
            if stopping.is_set():
                raise Stopped

        for index in range(len(calls)):
            self._threads.submit(one, index)
        left = len(calls)
        try:
            while left:
                keep_on()
                try:
                    item = done.get(timeout=0.2)
                except queue.Empty:
                    continue
                left -= 1
                yield item
        except BaseException:
            stopping.set()
            raise
