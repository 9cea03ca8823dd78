"""Formats register themselves here; reading goes through `load`, whatever the format and however many files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import PurePosixPath
from typing import Protocol, TypeVar

from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.formats.bundle import Bundle, model_endings
from tidy_caravan.core.formats.far_out import within_reach
from tidy_caravan.core.scene import Note, Scene

Reader = Callable[[Bundle], Scene]
Sniffer = Callable[[bytes], bool]
_readers: dict[str, tuple[Reader, tuple[str, ...], Sniffer]] = {}
_weak: set[str] = set()
R = TypeVar("R", bound=Reader)


class WrittenFiles(Protocol):
    """What a writer returns: files by relative path, remarks, what the format cannot hold, the file's number of
    every node, and names of nodes and materials that the format had to change."""

    files: dict[str, bytes]
    remarks: list[str]
    losses: list[str]
    node_index: list[int]
    renamed: dict[int, str]
    materials: dict[str, str]


Writer = Callable[[Scene, str, bool], WrittenFiles]
W = TypeVar("W", bound=Callable[..., WrittenFiles])


@dataclass(frozen=True)
class Writable:
    """A format that can be written, and what it can hold."""

    name: str
    title: str
    ability: Ability
    write: Writer


_writers: dict[str, Writable] = {}


def reader(name: str, *endings: str, sniff: Sniffer, weak: bool = False) -> Callable[[R], R]:
    """Registers a reader. `sniff` tells from the first bytes whether a file is of this format; a weak one
    also says yes to much that is not, so that another format's yes comes first."""

    def register(function: R) -> R:
        if name in _readers:
            raise ValueError(f"there are two readers called “{name}”")
        _readers[name] = (function, endings, sniff)
        model_endings.update(endings)
        if weak:
            _weak.add(name)
        return function

    return register


def writer(name: str, title: str, ability: Ability) -> Callable[[W], W]:
    """Registers a writer (scene, file stem, whether scatters may stay one node) -> WrittenFiles.

    Raises ValueError for a second one of that name.
    """

    def register(function: W) -> W:
        if name in _writers:
            raise ValueError(f"there are two writers called “{name}”")
        _writers[name] = Writable(name, title, ability, function)
        return function

    return register


def writable() -> dict[str, Writable]:
    """All formats that can be written, by name."""
    return dict(_writers)


def format_named(fmt: str) -> Writable:
    """Raises UnusableInput for an unknown one."""
    if fmt not in _writers:
        raise UnusableInput(
            f"“{fmt[:40]}” cannot be written; known are {', '.join(sorted(_writers))}", code="format.unknown"
        )
    return _writers[fmt]


def write(scene: Scene, fmt: str, stem: str, instancing: bool = False) -> WrittenFiles:
    """The scene, as it is, in a format. Raises CaravanError for an unknown one."""
    return format_named(fmt).write(scene, stem, instancing)


def endings() -> tuple[str, ...]:
    """All file endings that can be read."""
    return tuple(sorted({e for _, ends, _ in _readers.values() for e in ends}))


def load(bundle: Bundle) -> Scene:
    """The scene in a bundle. Raises UnusableInput with one sentence when nothing can be made of it.

    The content decides, not the ending; a mislabelled file is read with a note.
    """
    if not bundle.data:
        raise UnusableInput("the file is empty; export it again", where=bundle.main)
    ending = PurePosixPath(bundle.main).suffix.lower()
    by_content = [n for n, (_, _, sniff) in _readers.items() if sniff(bundle.data[:4096])]
    by_ending = [n for n, (_, ends, _) in _readers.items() if ending in ends]
    both = [n for n in by_content if n in by_ending]
    strong = [n for n in by_content if n not in _weak]
    chosen = (both or strong or by_ending or by_content)[:1]
    if not chosen:
        raise UnusableInput(
            f"this is no format that can be read here; known are {', '.join(endings())} and zip", where=bundle.main
        )
    name = chosen[0]
    if name not in by_content:
        raise UnusableInput(f"the content is not what the ending {ending} says; export it again", where=bundle.main)
    try:
        scene = within_reach(_readers[name][0](bundle))
    except CaravanError:
        raise
    except RecursionError as error:
        raise UnusableInput("the file is nested too deeply to be read", where=bundle.main) from error
    except MemoryError as error:
        raise UnusableInput(
            "the file needs more memory than there is; send it in smaller pieces", where=bundle.main
        ) from error
    notes = [Note("damaged", "import.bundle", bundle.main, text) for text in bundle.complaints]
    if name not in by_ending:
        notes.append(
            Note(
                "guess",
                "import.mislabelled",
                bundle.main,
                f"The ending {ending or '(none)'} does not fit; the content is {name} and was read as that.",
            )
        )
    return replace(scene, notes=(*notes, *scene.notes), format=scene.format or name) if notes else scene
