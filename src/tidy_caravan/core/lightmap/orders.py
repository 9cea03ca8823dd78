"""Small changes of an order in which islands are laid, compiled: what is tried is the same for the same seed."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.compiled import compiled


@compiled
def first_state(seed):  # type: ignore[no-untyped-def]
    return np.uint64(seed * 2654435761 + 88172645463325252)


@compiled
def changed(order, out, state):  # type: ignore[no-untyped-def]
    """Writes to `out` the order with one or two of it moved; the state of the random numbers afterwards (Marsaglia, Xorshift
    RNGs, 2003)."""
    out[:] = order
    count = np.uint64(len(order))
    for _ in range(1 + int(state >> np.uint64(20) & np.uint64(1))):
        state ^= state << np.uint64(13)
        state ^= state >> np.uint64(7)
        state ^= state << np.uint64(17)
        a, b = int(state % count), int((state >> np.uint64(32)) % count)
        moved = out[a]
        if a < b:
            for i in range(a, b):
                out[i] = out[i + 1]
        else:
            for i in range(a, b, -1):
                out[i] = out[i - 1]
        out[b] = moved
    return state
