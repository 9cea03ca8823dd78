"""The process that children come from: it has their libraries loaded, and forks one for each that is asked for.

Loading numpy and a native library takes the better part of a second, a fork some milliseconds, and each child is as
fresh as one that was started alone. It stays without threads, as a process must that forks (fork(2)).
"""

from __future__ import annotations

import contextlib
import ctypes
import importlib
import json
import os
import pickle
import resource
import select
import signal
import socket
import struct
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from tidy_caravan.core.loading import loading

REFUSED = -1
"""Answered instead of a process id: this process cannot fork any more; another is to be started."""
_answers = REFUSED


def report(*facts: Any) -> None:
    """From inside a call: tells the caller how far it is. Does nothing outside a child."""
    if _answers >= 0:
        _send(("report", facts))


def _send(reply: Any) -> None:
    body = pickle.dumps(reply, protocol=5)
    view = memoryview(struct.pack("<Q", len(body)) + body)
    while view:
        view = view[os.write(_answers, view) :]


def end_with_parent() -> None:
    """Asks the kernel to end this process when the one that started it is gone (prctl PR_SET_PDEATHSIG)."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(1, signal.SIGKILL)


def answer_calls(memory: int) -> None:
    """A child's life: answers calls from standard input until it closes.

    memory: bytes of address space that it may take on top of what its libraries have taken by now.
    """
    global _answers
    _answers = os.dup(1)
    os.dup2(2, 1)  # whatever a native library prints must not end up among the answers
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (memory + used, memory + used))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with open(0, "rb", closefd=False) as source:
        while head := source.read(8):
            function, args = pickle.loads(source.read(struct.unpack("<Q", head)[0]))
            try:
                module, _, name = function.partition(":")
                reply = ("value", getattr(importlib.import_module(module), name)(*args))
            except MemoryError:
                reply = ("error", ("it needed more memory than it may have",))
            except Exception as error:
                reply = ("error", (f"{type(error).__name__}: {error}"[:300], True))
            _send(reply)


def load(modules: Sequence[str]) -> bool:
    """Imports them, and what they name in LOADS, whose `get_ready` is called if they have one; False when one brought
    threads along.

    One that fails is left for the child to fail on.
    """
    new = [m for m in modules if m not in sys.modules]
    with loading():
        for module in new:
            with contextlib.suppress(Exception):
                for needed in getattr(importlib.import_module(module), "LOADS", ()):
                    getattr(importlib.import_module(needed), "get_ready", lambda: None)()
    return len(os.listdir("/proc/self/task")) == 1


def tell_ends(ends: dict[int, int]) -> None:
    """Writes the code of each child that ended to its caller, and only then lets the kernel forget its number."""
    while ends and (gone := os.waitid(os.P_ALL, 0, os.WEXITED | os.WNOHANG | os.WNOWAIT)):
        code = gone.si_status if gone.si_code == os.CLD_EXITED else -gone.si_status
        handle = ends.pop(gone.si_pid, None)
        if handle is not None:
            with contextlib.suppress(OSError):
                os.write(handle, struct.pack("<i", code))
            os.close(handle)
        os.waitpid(gone.si_pid, 0)


def fork(memory: int, handles: Sequence[int], close: Sequence[int]) -> int:
    """A child whose input and output are the first two handles; its process id, to the parent alone."""
    here = os.getpid()
    child = os.fork()
    if child:
        return child
    try:
        for handle in close:
            os.close(handle)
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        end_with_parent()
        if os.getppid() == here:
            os.dup2(handles[0], 0)
            os.dup2(handles[1], 1)
            for handle in handles:
                os.close(handle)
            answer_calls(memory)
    finally:
        os._exit(0)


def main() -> None:
    """Forks a child for each message (memory, modules) with its three handles: input, output, where its end is told."""
    asked = socket.socket(fileno=int(sys.argv[1]))
    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # an interrupt is for the caller, who ends its children
    woken, wake = os.pipe()
    os.set_blocking(wake, False)
    signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    ends: dict[int, int] = {}
    while True:
        ready = select.select([asked.fileno(), woken], [], [])[0]
        if woken in ready:
            os.read(woken, 4096)
            tell_ends(ends)
        if asked.fileno() not in ready:
            continue
        body, handles, *_ = socket.recv_fds(asked, 1 << 16, 3)
        if not body:
            return
        memory, modules = json.loads(body)
        child = REFUSED
        if load(modules):
            child = fork(memory, handles, [asked.fileno(), woken, wake, *ends.values()])
            ends[child] = handles.pop()
        for handle in handles:
            os.close(handle)
        asked.send(struct.pack("<i", child))


if __name__ == "__main__":
    # calls import this module by its own name; what they report must find the same channel
    importlib.import_module("tidy_caravan.core.work.nursery").main()
