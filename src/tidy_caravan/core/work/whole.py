"""Answers about a scene as a whole: given again as long as all that they depend on is bit for bit what it was."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from typing import TypeVar

import numpy as np

from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop, key_of

Answer = TypeVar("Answer", bound="Mapping[str, AnyArray] | str")


def digest_of(depends: Sequence[AnyArray | str | float]) -> str:
    """Stands for arrays (with their types and shapes), texts and numbers, in this order. O(bytes)."""
    out = hashlib.blake2b(digest_size=20)
    for one in depends:
        if isinstance(one, np.ndarray):
            out.update(f"{one.dtype.str}{one.shape}".encode())
            out.update(np.ascontiguousarray(one).data)
        else:
            out.update(f"{type(one).__name__} {one!r}\n".encode())
    return out.hexdigest()


def asked_again(
    workshop: Workshop, question: str, version: int, content: str, make: Callable[[], Answer]
) -> Mapping[str, AnyArray] | Answer:
    """What `make` gives, from what is kept where it was asked before with the same content (see `digest_of`).

    version: counted up whenever the answer is another than before. A sentence, which says why there is no answer, is not
    kept.
    """
    kept = Work(f"{question}, as a whole", version, "")
    key = key_of(kept, Piece(content, {}))
    before = workshop.results.find(kept, [key]).get(key)
    if isinstance(before, Done):
        return before.arrays
    made = make()
    if not isinstance(made, str):
        workshop.results.keep(kept, {key: Done(made, {})})
    return made
