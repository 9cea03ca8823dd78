"""Looking for garbage when it pays: not while libraries are loaded, where there is none and looking takes a quarter of the
time, and seldom while scenes are worked on."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager

SELDOM = (50_000, 20, 50)
"""When to look for circles among objects: a scene has hundreds of thousands of texts and boxes, and hardly a circle."""


def seldom() -> None:
    """For a process that works on scenes."""
    gc.set_threshold(*SELDOM)


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
