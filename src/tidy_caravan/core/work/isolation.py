"""Runs native geometry code in child processes: a crash, hang or memory blow-up costs one call only."""

from __future__ import annotations

import atexit
import contextlib
import json
import math
import os
import pickle
import re
import select
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any, BinaryIO

from tidy_caravan.core.work.nursery import REFUSED

NURSERY = "tidy_caravan.core.work.nursery"
NAMED = re.compile(r"tidy_caravan(\.\w+)+:\w+")
MEMORY_BYTES = 4 << 30
"""Address space that one child may take on top of its libraries' mappings."""
KEPT_SHARE = 0.1
"""Part of it that a child may hold on to after a call, and still be lent to others."""


@dataclass(frozen=True)
class Lost:
    """A call that did not come back: why, in words that end a sentence. raised: the words are those of an exception
    inside, which may be a library's own."""

    reason: str
    raised: bool = False


class Unheard(Exception):
    """Whoever is told raised what is its cause; none of the kinds that tell of a child's end."""


def listener(tell: Callable[..., None] | None) -> Callable[..., None]:
    """The same, with what it raises told from what a broken line to a child raises."""

    def hear(*facts: Any) -> None:
        if tell is None:
            return
        try:
            tell(*facts)
        except Exception as why:
            raise Unheard from why

    return hear


class Watch:
    """Processor time of a process since now, against a limit, and against another between two signs of progress."""

    STEP = 0.05
    """Seconds of a processor that count as being busy."""

    def __init__(self, pid: int, seconds: float, quiet: float) -> None:
        self.pid, self.seconds, self.quiet = pid, seconds, quiet
        self.begin = self.last = self.heard = processor_seconds(pid)
        self.busy = time.monotonic()

    def check(self) -> None:
        """Raises TimeoutError once the process took its time, or took none for as long."""
        now, used = time.monotonic(), processor_seconds(self.pid)
        if used - self.last > self.STEP:
            self.last, self.busy = used, now
        if used - self.begin > self.seconds or now - self.busy > self.seconds:
            raise TimeoutError(f"it took longer than {self.seconds:.0f} s of processor time, or hung, and was stopped")
        if used - self.heard > self.quiet:
            raise TimeoutError(f"it went no further for {self.quiet:.0f} s of processor time, and was stopped")

    def progress(self) -> None:
        """It went further."""
        self.heard = processor_seconds(self.pid)


def processor_seconds(pid: int) -> float:
    """User and system time that a process took so far (proc(5), stat, fields 14 and 15); 0 when it is gone."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    except (OSError, IndexError, ValueError):
        return 0.0


def address_space(pid: int) -> int:
    """Bytes that a process has mapped (proc(5), statm, field 1); 0 when it is gone."""
    try:
        return int(Path(f"/proc/{pid}/statm").read_text().split()[0]) * os.sysconf("SC_PAGE_SIZE")
    except (OSError, IndexError, ValueError):
        return 0


@lru_cache(maxsize=1)
def starter() -> ThreadPoolExecutor:
    """The one thread that starts processes: the kernel ends them with the thread that started them, and this one ends
    with the process, while threads of a cluster's worker come and go."""
    return ThreadPoolExecutor(1, "starter of children")


class Forked:
    """A child of the nursery as its caller has it, like `subprocess.Popen` as far as it is needed.

    end: where its exit code is told; the negative number of a signal, as with Popen.
    """

    def __init__(self, pid: int, stdin: BinaryIO, stdout: BinaryIO, end: int) -> None:
        self.pid, self.stdin, self.stdout = pid, stdin, stdout
        self._end, self._code = end, None if end >= 0 else 0

    def poll(self) -> int | None:
        """The exit code, or None while it lives."""
        if self._code is None and select.select([self._end], [], [], 0)[0]:
            return self.wait()
        return self._code

    def wait(self) -> int:
        if self._code is None:
            told = os.read(self._end, 4)
            # nothing is told when the nursery itself was killed, and its children with it
            self._code = int(struct.unpack("<i", told)[0]) if len(told) == 4 else -signal.SIGKILL
        return self._code

    def kill(self) -> None:
        if self.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)

    def close(self) -> None:
        for stream in (self.stdin, self.stdout):
            with contextlib.suppress(OSError):
                stream.close()
        if self._end >= 0:
            os.close(self._end)
            self._end = -1


class Nursery:
    """Starts children through one process that has their libraries loaded; see `core.work.nursery`."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._channel: socket.socket | None = None
        self.loaded: frozenset[str] = frozenset()
        """Modules that its next children have from their first moment."""

    def child(self, memory: int, modules: Sequence[str]) -> Forked:
        """A child that waits for its first call. modules: what that will need. Raises OSError when none can be had."""
        with self._lock:
            for wanted in (modules, ()):  # a module that breaks the nursery is left for the child to load
                for _ in range(2):  # it may have been killed meanwhile
                    with contextlib.suppress(ConnectionError):
                        made = self._ask(memory, wanted)
                        self.loaded |= set(wanted)
                        return made
                    self.close()
        raise OSError("no process could be started for native code")

    def _ask(self, memory: int, modules: Sequence[str]) -> Forked:
        if self._channel is None:
            starter().submit(self._start).result()
        assert self._channel
        (their_in, stdin), (stdout, their_out), (end, their_end) = os.pipe(), os.pipe(), os.pipe()
        theirs = (their_in, their_out, their_end)
        try:
            socket.send_fds(self._channel, [json.dumps([memory, list(modules)]).encode()], theirs)
            told = self._channel.recv(4)
            pid = struct.unpack("<i", told)[0] if told else REFUSED
            if pid == REFUSED:
                raise ConnectionError
        except BaseException:
            for handle in (stdin, stdout, end):
                os.close(handle)
            raise
        finally:
            for handle in theirs:
                os.close(handle)
        return Forked(pid, os.fdopen(stdin, "wb"), os.fdopen(stdout, "rb", buffering=0), end)

    def _start(self) -> None:
        self._channel, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-m", NURSERY, str(theirs.fileno())],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                pass_fds=[theirs.fileno()],
                env={**os.environ, "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"},
            )

    def close(self) -> None:
        """Ends it, and every child that came from it."""
        if self._channel is not None:
            self._channel.close()
            self._channel = None
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None
        self.loaded = frozenset()


@lru_cache(maxsize=1)
def nursery() -> Nursery:
    """That of this process."""
    made = Nursery()
    atexit.register(made.close)
    return made


class Child:
    """One worker process; started when first needed, replaced after it was lost."""

    def __init__(self, memory: int = MEMORY_BYTES) -> None:
        self.memory = memory
        self.process: Forked | None = None
        self.knows: frozenset[str] = frozenset()
        """Modules that it need not load any more."""
        self._small = 0

    def call(
        self,
        function: str,
        args: tuple[Any, ...],
        seconds: float,
        tell: Callable[..., None] | None = None,
        quiet: float = math.inf,
    ) -> Any:
        """Result of `module:name` called with args, or Lost. Exceptions of the call are Lost too.

        seconds: time of a processor that the call may take, over all its threads; a call that takes none for as long
        hangs. A busy machine makes nobody late. quiet: the same between two reports. tell gets what the call reports (see
        `report`), and is called without arguments now and then meanwhile; when it raises, the call is ended.
        """
        if self.process is not None and self.process.poll() is not None:
            self.stop()
        modules = modules_of(function, args)
        if self.process is None:
            self.process = nursery().child(self.memory, modules)
            self.knows, self._small = nursery().loaded, address_space(self.process.pid)
        self.knows |= set(modules)
        try:
            body = pickle.dumps((function, args), protocol=5)
            self.process.stdin.write(struct.pack("<Q", len(body)) + body)
            self.process.stdin.flush()
            watch, hear = Watch(self.process.pid, seconds, quiet), listener(tell)
            while True:
                (size,) = struct.unpack("<Q", self._read(8, watch, hear))
                kind, value = pickle.loads(self._read(size, watch))
                if kind != "report":
                    return Lost(*value) if kind == "error" else value
                watch.progress()
                hear(*value)
        except Unheard as end:
            self.stop()
            assert end.__cause__
            raise end.__cause__ from None
        except TimeoutError as error:
            self.stop()
            return Lost(str(error))
        except (EOFError, BrokenPipeError, ConnectionError):
            code = self.process.wait() if self.process else 0
            self.stop()
            return Lost(f"its process ended with signal {-code}" if code < 0 else f"its process ended with code {code}")
        except BaseException:
            self.stop()
            raise

    def fresh(self) -> bool:
        """Whether it lives, and took so little for itself that another kind of work finds its share of memory."""
        if self.process is None or self.process.poll() is not None:
            return False
        return address_space(self.process.pid) - self._small < self.memory * KEPT_SHARE

    def _read(self, count: int, watch: Watch, tell: Callable[..., None] | None = None) -> bytes:
        assert self.process
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
            self.process.close()
            self.process = None


def modules_of(function: str, args: tuple[Any, ...]) -> list[str]:
    """The modules of a call: its own, and that of a function that it is given by name."""
    named = [function, *(a for a in args if isinstance(a, str) and NAMED.fullmatch(a))]
    return [n.partition(":")[0] for n in named]
