"""Loading libraries without looking for garbage meanwhile: there is none, and looking takes a quarter of the time."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def loading() -> Iterator[None]:
    """What is loaded inside stays for good and is not looked at again: processes that are forked share its memory."""
    before = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        if before:
            gc.enable()
