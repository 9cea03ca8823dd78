"""The one way to do heavy work: a declared function over pieces (a mesh, a tile, a pair), done once per content.

What was done before is taken from the results that are kept; the rest is shared out by a crew: child processes of
this one here, the workers of a cluster in the server. Native code never runs in the asking process, so that a crash,
a hang or too much memory costs one piece, which comes back as Lost.
"""

from __future__ import annotations

import hashlib
import logging
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from importlib import import_module
from typing import Any, Protocol
from weakref import WeakKeyDictionary

import numpy as np
import orjson

from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene.arrays import AnyArray, chunks
from tidy_caravan.core.work.isolation import MEMORY_BYTES, Lost
from tidy_caravan.core.work.pool import Pool

log = logging.getLogger("tidy_caravan.work")


@dataclass(frozen=True)
class Work:
    """A kind of work. function: `module:name` of function(arrays, **parameters) -> (arrays, figures); exceptions of
    it are refusals of that piece. version: counted up whenever the function gives something else than before.

    together: `module:name` of function(pieces) -> for each what the function gives, or None where it has to be asked by
    itself; where there is one, pieces are asked many at once first. It calls nothing that may hang.
    native: it runs libraries that may crash or hang. memory: bytes that a piece may take. figures_only: results hold
    no arrays and are small; they are kept many in one.
    """

    name: str
    version: int
    function: str
    native: bool = True
    memory: int = MEMORY_BYTES
    figures_only: bool = False
    together: str = ""
    replaced: bool = False
    """A result does not follow from its key alone: what is kept later takes the place of what was kept before."""


AT_ONCE = 1 << 18
"""Size of the pieces that are asked together, and a hundred of it for each of them: they take a second at most."""


class WhenAsked(Mapping[str, AnyArray]):
    """Arrays of a piece that are made when they are first looked at: never, where its outcome is known already."""

    def __init__(self, make: Callable[[], Mapping[str, AnyArray]]) -> None:
        self._make = make

    @cached_property
    def _made(self) -> Mapping[str, AnyArray]:
        return self._make()

    def __getitem__(self, name: str) -> AnyArray:
        return self._made[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._made)

    def __len__(self) -> int:
        return len(self._made)


@dataclass(eq=False)  # not frozen: a hundred thousand are made at a time
class Piece:
    """content: a hash that is equal for equal arrays only. seconds: processor time that it may take. size: what the
    time it takes grows with, such as triangles."""

    content: str
    arrays: Mapping[str, AnyArray]
    parameters: Mapping[str, Any] = field(default_factory=dict)
    seconds: float = 60.0
    size: int = 1


@dataclass(frozen=True, eq=False)
class Done:
    """What came of a piece."""

    arrays: Mapping[str, AnyArray]
    figures: Mapping[str, Any]


Outcome = Done | Lost


class Results:
    """Keeps outcomes by key; this one keeps nothing."""

    def find(self, work: Work, keys: Sequence[str]) -> dict[str, Outcome]:
        """Those of the keys that are kept."""
        return {}

    def keep(self, work: Work, made: Mapping[str, Outcome]) -> None:
        return None


class Remembered(Results):
    """Keeps outcomes in memory, for as long as it lives."""

    def __init__(self) -> None:
        self.made: dict[str, Outcome] = {}

    def find(self, work: Work, keys: Sequence[str]) -> dict[str, Outcome]:
        return {key: self.made[key] for key in keys if key in self.made}

    def keep(self, work: Work, made: Mapping[str, Outcome]) -> None:
        self.made |= made


class Crew(Protocol):
    """Shares pieces out. The order of what it yields is that of the finish."""

    def share(
        self, work: Work, pieces: Sequence[tuple[str, Piece]], tell: Callable[[], None]
    ) -> Iterator[tuple[int, Outcome]]:
        """(index, outcome) of every (key, piece). tell is called now and then and may raise to end it all."""
        ...  # fmt: skip


LONG = 50_000
"""Size from which on a piece may take a second and more: it is done in a child, which can be watched and ended."""
SLOWEST = 2_000
"""What of the size of such a piece is done in a second of processor time at least."""
BYTES_EACH = 8 << 10
"""Memory that it may take for each of its size."""


class Here:
    """The crew of one machine: child processes for native work and for long pieces, this process for the rest."""

    def __init__(self, children: int | None = None) -> None:
        self.children = children

    def share(
        self, work: Work, pieces: Sequence[tuple[str, Piece]], tell: Callable[[], None]
    ) -> Iterator[tuple[int, Outcome]]:
        away = [work.native or p.size >= LONG for _, p in pieces]
        for k, (_, piece) in enumerate(pieces):
            if not away[k]:
                tell()
                yield k, perform(work.function, piece.arrays, piece.parameters)
        # the longest first, so that no process is left waiting for one big piece at the end
        order = sorted(np.flatnonzero(away).tolist(), key=lambda k: -pieces[k][1].size)
        if not order:
            return
        calls, memory = [], work.memory
        for _, p in (pieces[k] for k in order):
            seconds = p.seconds
            if not work.native:  # which says of itself what it takes
                seconds, memory = max(seconds, p.size / SLOWEST), max(memory, BYTES_EACH * p.size)
            calls.append(((work.function, dict(p.arrays), dict(p.parameters)), seconds))
        with Pool(min(self.children or 2, len(calls)), memory) as pool:
            for k, outcome in pool.map(PERFORM, calls, tell):
                yield order[k], outcome


PERFORM = "tidy_caravan.core.work.heavy:perform"


def perform(function: str, arrays: Mapping[str, AnyArray], parameters: Mapping[str, Any]) -> Outcome:
    """The function's outcome on one piece, in this process."""
    module, _, name = function.partition(":")
    try:
        return Done(*getattr(import_module(module), name)(arrays, **parameters))
    except MemoryError:
        return Lost("it needed more memory than it may have")
    except Exception as error:  # whatever the work raises is said of its piece, and costs no other
        text = f"{error}" if isinstance(error, RuntimeError) else f"{type(error).__name__}: {error}"
        return Lost(text[:300], raised=True)


def content_of(arrays: Mapping[str, AnyArray]) -> str:
    """128-bit BLAKE2b of arrays with their names: pieces that are given the same are done once, whatever else tells them apart."""
    digest = hashlib.blake2b(digest_size=16)
    for name in sorted(arrays):
        array = arrays[name]
        digest.update(f"{name}{array.dtype.str}{array.shape}".encode())
        digest.update(np.ascontiguousarray(array).data)
    return digest.hexdigest()


def key_of(work: Work, piece: Piece) -> str:
    """All that an outcome depends on."""
    return keys_of(work, [piece])[0]


def keys_of(work: Work, pieces: Sequence[Piece]) -> list[str]:
    """The same of many; parameters that are one object are looked at once."""
    begun: dict[int, Any] = {}
    out = []
    for piece in pieces:
        same = id(piece.parameters)
        if same not in begun:
            told = [work.name, work.version, dict(piece.parameters)]
            text = orjson.dumps(told, option=orjson.OPT_SORT_KEYS | orjson.OPT_SERIALIZE_NUMPY)
            begun[same] = hashlib.blake2b(text, digest_size=20)
        digest = begun[same].copy()
        digest.update(piece.content.encode())
        out.append(digest.hexdigest())
    return out


@dataclass
class Workshop:
    """Where heavy work is done: a crew, and the results that are kept."""

    crew: Crew = field(default_factory=Here)
    results: Results = field(default_factory=Results)
    subject: str = ""
    """Whose scenes these are, such as a haul: what is kept about pairs is kept of each by itself."""
    _recalled: WeakKeyDictionary[Any, dict[Hashable, Any]] = field(default_factory=WeakKeyDictionary)

    last: dict[Hashable, Any] = field(default_factory=dict)
    """What was worked out of a scene as a whole, by what it is, for the next one, which has most of it as well."""

    def recalled(self, mesh: Any) -> dict[Hashable, Any]:
        """What was found out about a mesh here, by what was asked, for as long as the mesh lives: to look it up among the
        results takes longer. Empty where no results are kept."""
        return self._recalled.setdefault(mesh, {}) if self.keeps else {}

    @property
    def keeps(self) -> bool:
        """Whether results are kept for the next time."""
        return type(self.results) is not Results

    def do(
        self, work: Work, pieces: Iterable[Piece], tell: Tell = lambda done, total: None, keep: bool = True
    ) -> list[Outcome]:
        """One outcome per piece, in order. Equal pieces are done once. keep: whether results are looked up and kept.

        A refusal (an exception of the function) is kept as a result; what crashed, hung or was killed is not, and is
        tried again when it is asked for again.
        """
        given = list(pieces)
        keys = keys_of(work, given)
        results = self.results if keep else Results()
        out = results.find(work, list(dict.fromkeys(keys)))
        first = {key: p for key, p in zip(reversed(keys), reversed(given), strict=True) if key not in out}
        waiting = list(reversed(first.items()))
        total, before = len(first) + len(out), len(out)
        made: dict[str, Outcome] = {}
        tell(before, total)
        if work.together and len(waiting) > 1:
            made = asked_together(work, waiting, lambda done: tell(before + done, total))
            if not work.figures_only:
                results.keep(work, made)
            waiting = [(key, piece) for key, piece in waiting if key not in made]
        for k, outcome in self.crew.share(work, waiting, lambda: tell(before + len(made), total)) if waiting else ():
            key = waiting[k][0]
            made[key] = outcome
            if not work.figures_only and worth_keeping(outcome):
                results.keep(work, {key: outcome})
        if work.figures_only:
            results.keep(work, {key: o for key, o in made.items() if worth_keeping(o)})
        out = {**out, **made}
        return [out[key] for key in keys]


def asked_together(work: Work, waiting: Sequence[tuple[str, Piece]], told: Callable[[int], None]) -> dict[str, Outcome]:
    """By key what could be said of many pieces at once. told hears how many were asked."""
    module, _, name = work.together.partition(":")
    ask = getattr(import_module(module), name)
    made: dict[str, Outcome] = {}
    for rows in chunks(np.array([piece.size + 100 for _, piece in waiting]), AT_ONCE):
        told(int(rows[0]))
        some = waiting[int(rows[0]) : int(rows[-1]) + 1]
        try:
            answers = ask([piece for _, piece in some])
        except Exception as error:  # whatever it is, each piece by itself will say it; this costs time alone
            log.warning("%s: %d pieces are asked one by one: %r", work.name, len(some), error)
            continue
        made |= {key: done for (key, _), done in zip(some, answers, strict=True) if done is not None}
    return made


def worth_keeping(outcome: Outcome) -> bool:
    """Whether the same piece would have the same outcome again."""
    return isinstance(outcome, Done) or outcome.raised
