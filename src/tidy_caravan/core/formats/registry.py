"""Formats register themselves here, one object each; reading, writing and receiving go through it, whatever the format."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from importlib import import_module
from pathlib import Path, PurePosixPath
from typing import Any

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.formats.shared.bundle import Bundle, nothing
from tidy_caravan.core.formats.shared.consistent import consistent
from tidy_caravan.core.formats.shared.encoding import unmarked
from tidy_caravan.core.formats.shared.far_out import within_reach
from tidy_caravan.core.formats.shared.pace import aside
from tidy_caravan.core.formats.shared.written import Written
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Note, Scene

Reader = Callable[[Bundle], Scene]
Writer = Callable[[Scene, str, bool, Tell], Written]
Receiver = Callable[[Path, Destination, FormatName, Tell], Scene]
Sniffer = Callable[[bytes], bool]


@dataclass(frozen=True)
class Writable:
    """One way in which a format can be written. write: (scene, file stem, whether scatters may stay one node,
    who hears how far it is).

    ability: what it can hold; what it cannot hold is told as lost and as not provable.
    """

    name: FormatName
    title: str
    ability: Ability
    write: Writer
    receive: Receiver


def no_main(name: str, files: Mapping[str, bytes], folder: str) -> str:
    """No archive of the format says which of its files is the main one."""
    return ""


def no_parts(files: Mapping[str, bytes], tell: Callable[..., None]) -> dict[str, set[str]]:
    """No file of the format names another one that could be taken for a model of its own."""
    return {}


@dataclass(frozen=True)
class Format:
    """A format: what its files are called and look like, and how it is read, written and received.

    sniff: tells from the first bytes whether a file is of this format; a weak one also says yes to much that is not,
    so that another format's yes comes first. members: what files beside a model may end in, but for images. main_in: (archive name, its files, folder) -> main file, empty when
    the format does not say. parts_named: (files, tell) -> by name of those that are of this format the addresses, as they stand in them, of other model
    files that are parts of them.
    """

    name: str
    endings: tuple[str, ...]
    sniff: Sniffer
    read: Reader
    members: tuple[str, ...] = ()
    writable: tuple[Writable, ...] = ()
    weak: bool = False
    main_in: Callable[[str, Mapping[str, bytes], str], str] = field(default=no_main)
    parts_named: Callable[[Mapping[str, bytes], Callable[..., None]], dict[str, set[str]]] = field(default=no_parts)


_formats: dict[str, Format] = {}


def register(form: Format) -> Format:
    """Adds a format. Raises ValueError when its name, an ending or a way of writing it is taken already."""
    if form.name in _formats:
        raise ValueError(f"there are two formats called “{form.name}”")
    for ending in set(form.endings) & set(endings()):
        raise ValueError(f"two formats are called {ending}: {form.name} and another")
    for one in form.writable:
        if one.name in writable():
            raise ValueError(f"there are two writers called “{one.name}”")
    _formats[form.name] = form
    return form


def later(package: str, path: str) -> Callable[..., Any]:
    """The function `module:name` of a package, imported when it is called first: formats lean on heavy libraries."""

    def call(*given: Any) -> Any:
        module, _, name = path.partition(":")
        return getattr(import_module(f"{package}.{module}"), name)(*given)

    return call


def formats() -> tuple[Format, ...]:
    """All formats."""
    return tuple(_formats.values())


def writable() -> dict[str, Writable]:
    """All ways in which a scene can be written, by name."""
    return {w.name: w for f in _formats.values() for w in f.writable}


def format_named(fmt: str) -> Writable:
    """Raises UnusableInput for an unknown one."""
    known = writable()
    if fmt not in known:
        raise UnusableInput(
            f"“{fmt[:40]}” cannot be written; known are {', '.join(sorted(known))}", code="format.unknown"
        )
    return known[fmt]


def write(scene: Scene, fmt: str, stem: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """The scene, as it is, in a format. Raises CaravanError for an unknown one, and what `tell` raises to stop it."""
    return format_named(fmt).write(scene, stem, instancing, tell)


def receive(file: Path, destination: Destination, fmt: FormatName, tell: Tell = nobody) -> Scene:
    """The scene as the destination's importer takes it. Raises UnusableInput when it cannot be read.

    Receivers read with other people's libraries: nothing of our own readers or writers is used, so that a fault
    there cannot hide itself.
    """
    stopped: list[Exception] = []

    def hear(done: int, total: int) -> None:
        try:
            tell(done, total)
        except Exception as why:
            stopped.append(why)
            raise

    try:
        return consistent(format_named(fmt).receive(file, destination, fmt, hear), file.name)
    except CaravanError:
        raise
    except Exception as error:  # third-party readers raise anything on damaged files
        if error in stopped:
            raise
        raise UnusableInput(
            "the receiver cannot read it: the file is cut short, damaged or names files that are not there; pack again",
            where=file.name,
            code="arrival.unreadable",
        ) from error


def endings() -> tuple[str, ...]:
    """All file endings that can be read."""
    return tuple(sorted({e for f in _formats.values() for e in f.endings}))


def read_aside(read: Reader, bundle: Bundle) -> Scene:
    """What a reader makes of a bundle, and whoever wants to hear of it may stop it at any time."""
    if bundle.tell is nothing:
        return read(bundle)
    return aside(lambda say: read(replace(bundle, tell=say)), bundle.tell)


def load(bundle: Bundle) -> Scene:
    """The scene in a bundle. Raises UnusableInput with one sentence when nothing can be made of it.

    The content decides, not the ending; a mislabelled file is read with a note.
    """
    if bundle.broken is not None:
        raise bundle.broken
    if not bundle.data:
        raise UnusableInput("the file is empty; export it again", where=bundle.main)
    bundle = replace(bundle, data=unmarked(bundle.data))
    ending = PurePosixPath(bundle.main).suffix.lower()
    by_content = [f for f in _formats.values() if f.sniff(bundle.data[:4096])]
    by_ending = [f for f in _formats.values() if ending in f.endings]
    both = [f for f in by_content if f in by_ending]
    strong = [f for f in by_content if not f.weak]
    chosen = (both or strong or by_ending or by_content)[:1]
    if not chosen:
        raise UnusableInput(
            f"this is no format that can be read here; known are {', '.join(endings())} and zip", where=bundle.main
        )
    form = chosen[0]
    if form not in by_content:
        raise UnusableInput(f"the content is not what the ending {ending} says; export it again", where=bundle.main)
    try:
        scene = within_reach(read_aside(form.read, bundle))
    except CaravanError:
        raise
    except RecursionError as error:
        raise UnusableInput("the file is nested too deeply to be read", where=bundle.main) from error
    except MemoryError as error:
        raise UnusableInput(
            "the file needs more memory than there is; send it in smaller pieces", where=bundle.main
        ) from error
    notes = list(bundle.notes)
    if form not in by_ending:
        notes.append(
            Note(
                "guess",
                "import.mislabelled",
                bundle.main,
                f"The ending {ending or '(none)'} does not fit; the content is {form.name} and was read as that.",
            )
        )
    if bundle.behind:
        scene = replace(scene, travel=(*scene.travel, *bundle.behind))
    return replace(scene, notes=(*notes, *scene.notes), format=scene.format or form.name) if notes else scene
