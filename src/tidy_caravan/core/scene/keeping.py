"""What was found out about a mesh or a scene stays with it: neither ever changes, and several checks ask the same."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import TypeVar

T = TypeVar("T")
R = TypeVar("R")


def kept(function: Callable[[T], R]) -> Callable[[T], R]:
    """A function of one mesh or scene that is worked out once for each and goes with it. What it gives is not to be
    changed."""
    key = f"_{function.__module__}.{function.__qualname__}"

    @wraps(function)
    def found(of: T) -> R:
        if key not in of.__dict__:
            of.__dict__[key] = function(of)
        out: R = of.__dict__[key]
        return out

    return found
