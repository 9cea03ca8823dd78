"""What takes long tells how far it is, and can be stopped there: loops of writers and receivers, and their children."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, wait
from threading import Event, Thread
from typing import Any, TypeVar

from tidy_caravan.core.errors import Cancelled
from tidy_caravan.core.pace import Tell

PATIENCE = 0.2
"""Seconds after which a call that goes on is told of."""
T = TypeVar("T")


def aside(call: Callable[[Callable[..., None]], T], tell: Callable[..., None]) -> T:
    """What a call gives, made in a thread beside this one, which tells meanwhile that it goes on.

    The call gets what it may say facts to; the last of them are told. A library in the midst of its work cannot be
    stopped, but nobody waits for it any more, and the first word that is said afterwards ends it.
    """
    made: Future[T] = Future()
    over = Event()
    news: tuple[Any, ...] = ()

    def say(*facts: Any) -> None:
        nonlocal news
        news = facts or news
        if over.is_set():
            raise Cancelled("nobody waits for it any more")

    def work() -> None:
        try:
            made.set_result(call(say))
        except BaseException as error:
            made.set_exception(error)

    thread = Thread(target=work, daemon=True)
    thread.start()
    try:
        while not made.done():
            wait([made], PATIENCE)
            if not made.done():
                tell(*news)
    except BaseException:
        over.set()
        thread.join(PATIENCE)  # so that it clears away what it can
        raise
    return made.result()


def heard(tell: Tell) -> Callable[..., None]:
    """What a child's reports are passed on by: (done, total), or nothing where it only goes on."""
    last = [0, 0]

    def hear(*facts: Any) -> None:
        last[:] = facts or last
        tell(*last)

    return hear
