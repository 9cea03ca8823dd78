"""Loops that take long tell how far they are, and can be stopped there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeVar

Tell = Callable[[int, int], None]
"""Hears (done, total) pieces now and then; may raise to stop the work."""
OFTEN = 256
"""Things after which a loop tells of itself."""
T = TypeVar("T")


def nobody(done: int, total: int) -> None:
    """A Tell that nobody listens to."""


def paced(things: Sequence[T], tell: Tell) -> Iterator[T]:
    """The things one by one, telling now and then how many are done."""
    for k, one in enumerate(things):
        if k % OFTEN == 0:
            tell(k, len(things))
        yield one


def alive(tell: Tell) -> Tell:
    """For what comes before the work that is counted: it goes on, and nothing is done yet."""
    return lambda done, total: tell(0, total)
