"""Functions over arrays, element by element, that are compiled to machine code when they are first called.

For what numpy would go over dozens of times, such as the paths of light. What is compiled is kept beside the source, or
where the user keeps caches.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from numba import njit

SHORTER = {"arcp", "contract", "nsz", "reassoc"}
"""What the compiler may do to shorten sums and divisions; infinite and missing numbers stay what they are."""


def compiled(function: Callable[..., Any]) -> Any:
    """The function compiled; it may call others that are."""
    return njit(cache=True, nogil=True, fastmath=SHORTER, error_model="numpy")(function)


@compiled
def one():  # type: ignore[no-untyped-def]
    return 1


def get_ready() -> None:
    """Sets up what calls of compiled functions need in a process: the better part of a second, once. See `core.work.nursery`."""
    one()


def inlined(function: Callable[..., Any]) -> Any:
    """The function as part of those compiled ones that call it: small ones would spend most of their time on being called."""
    return njit(cache=True, nogil=True, fastmath=SHORTER, error_model="numpy", inline="always")(function)
