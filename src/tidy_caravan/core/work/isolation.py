"""Runs native geometry code in child processes: a crash, hang or memory blow-up costs one call only."""

from __future__ import annotations

import contextlib
import os
import pickle
import queue
import select
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

CHILD = "tidy_caravan.core.work.isolation"
MEMORY_BYTES = 4 << 30
"""Address space that one child may take on top of its libraries' mappings."""


@dataclass(frozen=True)
class Lost:
    """A call that did not come back: why, in words that end a sentence. raised: the words are those of an exception
    inside, which may be a library's own."""

    reason: str
    raised: bool = False


class Watch:
    """Processor time of a process since now, against a limit."""

    STEP = 0.05
    """Seconds of a processor that count as being busy."""

    def __init__(self, pid: int, seconds: float) -> None:
        self.pid, self.seconds = pid, seconds
        self.begin = self.last = processor_seconds(pid)
        self.busy = time.monotonic()

    def check(self) -> None:
        """Raises TimeoutError once the process took its time, or took none for as long."""
        now, used = time.monotonic(), processor_seconds(self.pid)
        if used - self.last > self.STEP:
            self.last, self.busy = used, now
        if used - self.begin > self.seconds or now - self.busy > self.seconds:
            raise TimeoutError


def processor_seconds(pid: int) -> float:
    """User and system time that a process took so far (proc(5), stat, fields 14 and 15); 0 when it is gone."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    except (OSError, IndexError, ValueError):
        return 0.0


@lru_cache(maxsize=1)
def starter() -> ThreadPoolExecutor:
    """The one thread that starts children: the kernel ends a child with the thread that started it, and this one ends
    with the process, while threads of a cluster's worker come and go."""
    return ThreadPoolExecutor(1, "starter of children")


def start(memory: int) -> subprocess.Popen[bytes]:
    """A child that waits for its first call."""
    return subprocess.Popen(
        [sys.executable, "-m", CHILD, str(memory)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env={**os.environ, "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"},
    )


class Child:
    """One worker process; started when first needed, replaced after it was lost."""

    def __init__(self, memory: int = MEMORY_BYTES) -> None:
        self.memory = memory
        self.process: subprocess.Popen[bytes] | None = None

    def call(
        self, function: str, args: tuple[Any, ...], seconds: float, tell: Callable[..., None] | None = None
    ) -> Any:
        """Result of `module:name` called with args, or Lost. Exceptions of the call are Lost too.

        seconds: time of a processor that the call may take, over all its threads; a call that takes none for as long
        hangs. A busy machine makes nobody late. tell gets what the call reports (see `report`), and is called without arguments now and then
        meanwhile; when it raises, the call is ended.
        """
        if self.process is None or self.process.poll() is not None:
            self.process = starter().submit(start, self.memory).result()
        assert self.process.stdin and self.process.stdout
        try:
            body = pickle.dumps((function, args), protocol=5)
            self.process.stdin.write(struct.pack("<Q", len(body)) + body)
            self.process.stdin.flush()
            watch = Watch(self.process.pid, seconds)
            while True:
                (size,) = struct.unpack("<Q", self._read(8, watch, tell))
                kind, value = pickle.loads(self._read(size, watch))
                if kind != "report":
                    return Lost(*value) if kind == "error" else value
                if tell:
                    tell(*value)
        except TimeoutError:
            self.stop()
            return Lost(f"it took longer than {seconds:.0f} s of processor time, or hung, and was stopped")
        except (EOFError, BrokenPipeError, ConnectionError):
            code = self.process.wait() if self.process else 0
            self.stop()
            return Lost(f"its process ended with signal {-code}" if code < 0 else f"its process ended with code {code}")
        except BaseException:
            self.stop()
            raise

    def _read(self, count: int, watch: Watch, tell: Callable[..., None] | None = None) -> bytes:
        assert self.process and self.process.stdout
        handle = self.process.stdout.fileno()
        pieces: list[bytes] = []
        while count:
            watch.check()
            if not select.select([handle], [], [], min(watch.seconds, 0.2))[0]:
                if tell:
                    tell()
                continue
            piece = os.read(handle, min(count, 1 << 20))
            if not piece:
                raise EOFError
            pieces.append(piece)
            count -= len(piece)
        return b"".join(pieces)

    def stop(self) -> None:
        if self.process is not None:
            self.process.kill()
            self.process.wait()
            for stream in (self.process.stdin, self.process.stdout):
                if stream:
                    with contextlib.suppress(OSError):
                        stream.close()
            self.process = None


class Pool:
    """A few children that share the calls of one step. Use as a context manager."""

    def __init__(self, size: int | None = None, memory: int = MEMORY_BYTES) -> None:
        self.size = size or min(4, os.cpu_count() or 1)
        self._children: queue.SimpleQueue[Child] = queue.SimpleQueue()
        self._all = [Child(memory) for _ in range(self.size)]
        for child in self._all:
            self._children.put(child)
        self._threads = ThreadPoolExecutor(self.size)

    def __enter__(self) -> Pool:
        return self

    def __exit__(self, *_: object) -> None:
        self._threads.shutdown(wait=True, cancel_futures=True)
        for child in self._all:
            child.stop()

    def map(
        self, function: str, calls: Sequence[tuple[tuple[Any, ...], float]], keep_on: Callable[[], None] = lambda: None
    ) -> Iterator[tuple[int, Any]]:
        """(index, result or Lost) for calls of (args, seconds), as they finish.

        keep_on is called now and then and may raise to stop; running calls are ended then.
        """
        done: queue.SimpleQueue[tuple[int, Any]] = queue.SimpleQueue()
        stopping = threading.Event()

        def one(index: int) -> None:
            child = self._children.get()
            try:
                args, seconds = calls[index]
                result = Lost("the work was stopped") if stopping.is_set() else child.call(function, args, seconds)
                done.put((index, result))
            except Exception as error:  # the caller must hear of it instead of waiting for ever
                done.put((index, Lost(str(error))))
            finally:
                self._children.put(child)

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
            for child in self._all:
                if child.process is not None:
                    child.process.kill()
            raise


_answers = -1


def report(*facts: Any) -> None:
    """From inside a call: tells the caller how far it is. Does nothing outside a child."""
    if _answers >= 0:
        _send(("report", facts))


def _send(reply: Any) -> None:
    body = pickle.dumps(reply, protocol=5)
    view = memoryview(struct.pack("<Q", len(body)) + body)
    while view:
        view = view[os.write(_answers, view) :]


def main() -> None:
    """Child side: answers calls from standard input until it closes."""
    import ctypes
    import importlib
    import resource
    import signal

    # a child whose parent was killed must not go on: the kernel ends it (prctl PR_SET_PDEATHSIG)
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(1, signal.SIGKILL)

    # the calls import this module by its own name; what they report must find the same channel
    home = importlib.import_module(CHILD)
    home._answers = os.dup(1)  # type: ignore[attr-defined]
    os.dup2(2, 1)  # whatever a native library prints must not end up among the answers
    limit = int(sys.argv[1])
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (limit + used, limit + used))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    source = sys.stdin.buffer
    while head := source.read(8):
        function, args = pickle.loads(source.read(struct.unpack("<Q", head)[0]))
        try:
            module, _, name = function.partition(":")
            reply = ("value", getattr(importlib.import_module(module), name)(*args))
        except MemoryError:
            reply = ("error", ("it needed more memory than it may have",))
        except Exception as error:
            reply = ("error", (f"{type(error).__name__}: {error}"[:300], True))
        home._send(reply)


if __name__ == "__main__":
    main()
