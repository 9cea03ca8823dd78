"""Finds the models among files that were sent: zips are opened, layers of others are no models of their own."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path, PurePosixPath
from posixpath import normpath
from unicodedata import normalize
from urllib.parse import unquote

from tidy_caravan.core.errors import TooLarge, UnusableInput
from tidy_caravan.core.formats.registry import endings, formats
from tidy_caravan.core.formats.shared.bundle import MIB, Budget, Bundle, Limits, because, nothing, short, unzip
from tidy_caravan.core.formats.shared.images import IMAGE_ENDINGS
from tidy_caravan.core.scene import Note, Travel
from tidy_caravan.core.words import few

ZIP, EMPTY_ZIP = b"PK\x03\x04", b"PK\x05\x06"
BESIDE = b"\0\5\x16\7"
"""What some systems put beside every file that they archive, under its own ending (AppleDouble, RFC 1740): no model."""

HIDDEN_FOLDER = "__MACOSX"
"""Where they put it in a zip."""


def bundle_from_files(
    files: Mapping[str, bytes], limits: Limits | None = None, tell: Callable[..., None] = nothing
) -> Bundle:
    """The one bundle in uploaded files; a single zip is opened. Raises UnusableInput when there are several models."""
    found = bundles_from_files(files, limits, tell)
    if len(found) > 1:
        names = ", ".join(short(b.main) for b in found[:3])
        raise UnusableInput(f"there are {len(found)} models ({names}); send one at a time")
    return found[0]


def bundles_from_files(
    files: Mapping[str, bytes], limits: Limits | None = None, tell: Callable[..., None] = nothing, apart: bool = False
) -> list[Bundle]:
    """One bundle per model among uploaded files, all with all files at hand; zips are opened. Raises UnusableInput.

    Models are the model files nearest to the top, of those that were sent by themselves, of each folder, and of each archive; a
    layer that another one names is part of that one. Those that lie deeper, and are no part of another, are told, and so are files
    that no reader knows by their endings. An archive that cannot be opened costs itself only, where there is something else.
    apart: there are other archives, whose files may be called the same.
    """
    limits = limits or Limits()
    if sum(len(v) for v in files.values()) > limits.upload_bytes:
        raise TooLarge(f"the upload is larger than {limits.upload_bytes // MIB} MiB")
    if len(files) == 1 and not any(is_archive(data) for data in files.values()):
        name, data = next(iter(files.items()))
        return [Bundle(name, data, limits=limits, tell=tell)]
    sent = opened(files, limits, tell, apart)
    whole, mains, aside = sent.whole, list(sent.packages), list[str]()
    parts = Parts(whole, tell)
    for group in sent.groups:
        found, deeper = shallowest(group, whole, parts)
        mains += [m for m in found if m not in mains]
        aside += deeper
    if not mains and not sent.broken:
        raise UnusableInput(
            f"there is no model among the files{because(sent.notes)}; known endings are {', '.join(endings())}",
            where=", ".join(short(f) for f in sorted(whole or files)[:3]),
        )
    if len(mains) + len(aside) > 1:
        of_others = {part for main in mains for part in parts.of(main) - {main}}
        mains = [m for m in mains if not {m, sent.packages.get(m)} & of_others] or mains
        aside = [a for a in aside if a not in of_others]
    bundles = [Bundle(main, whole[main], dict(whole), limits=limits, tell=tell) for main in mains] + sent.broken
    notes, behind = sent.notes, list[Travel]()
    if aside:
        notes.append(told_aside(aside, mains[0]))
        behind.append(
            Travel("models", "behind", len(aside), why="they lie deeper than others of their folder or archive")
        )
    if unknown := unknown_among({n: whole[n] for group in sent.groups for n in group}):
        notes.append(told_unknown(unknown))
        behind.append(Travel("other files", "behind", len(unknown), why="no reader here knows files of such names"))
    return [replace(bundles[0], notes=tuple(notes), behind=tuple(behind)), *bundles[1:]]


@dataclass
class Opened:
    """Files that were sent, archives among them opened. whole: all by path. packages: archives of a format that says which of
    its files is the main one, by that one. groups: the others, each with what was sent together. broken: what cannot be opened."""

    whole: dict[str, bytes] = field(default_factory=dict)
    packages: dict[str, str] = field(default_factory=dict)
    groups: list[list[str]] = field(default_factory=list)
    broken: list[Bundle] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)


def is_archive(data: bytes) -> bool:
    return data[:4] in (ZIP, EMPTY_ZIP)


def opened(files: Mapping[str, bytes], limits: Limits, tell: Callable[..., None], apart: bool) -> Opened:
    """Raises UnusableInput for an archive that cannot be opened where there is nothing else, TooLarge for any."""
    out, budget = Opened(), Budget(limits.decoded_bytes)
    for name, data in files.items():
        if not is_archive(data):
            out.whole[name] = data
            continue
        try:
            if data[:4] == EMPTY_ZIP:
                raise UnusableInput("the zip is empty", where=name)
            inner, told = unzip(name, data, limits, budget)
        except TooLarge:
            raise  # what may be meant to do harm is refused with all that comes along
        except UnusableInput as error:
            if len(files) == 1:
                raise
            out.broken.append(Bundle(name, data, limits=limits, tell=tell, broken=error))
            continue
        out.notes += told
        # several archives keep their files apart; a single one is the whole upload
        folder = "" if len(files) == 1 and not apart else f"{PurePosixPath(name).with_suffix('')}/"
        inner = {folder + path: content for path, content in inner.items()}
        out.whole |= inner
        if main := next(filter(None, (f.main_in(name, inner, folder) for f in formats())), ""):
            out.packages[main] = name
            out.whole |= {name: data} if len(files) > 1 else {}  # another may name it as it is
        else:
            out.groups.append(list(inner))
    out.groups += by_folder([n for n, data in files.items() if not is_archive(data)])
    return out


def told_aside(aside: Sequence[str], main: str) -> Note:
    """Says which models lie too deep to be taken for models."""
    was, were, those = ("It lies", "was", "it") if len(aside) == 1 else ("They lie", "were", "them")
    text = (
        f"{was} deeper than “{short(main)}” and {were} not loaded: of a folder or an archive the models nearest to its top are, and what "
        f"they name. Send {those} without a folder to have {those} as well."
    )
    return Note("behind", "import.aside", few(aside), text)


def told_unknown(unknown: Sequence[str]) -> Note:
    """Says which files no reader knows."""
    they, so, them = ("it", "that name", "it") if len(unknown) == 1 else ("they", "such names", "them")
    text = (
        f"No reader here knows files of {so}, so that what {they} may hold stays behind. Models can be {', '.join(endings())}; an archive "
        f"within another is not opened. Export {them} as one of these if there is a model in {them}."
    )
    return Note("behind", "import.unknown", few(unknown), text)


def unknown_among(files: Mapping[str, bytes]) -> list[str]:
    """The files that no reader can do anything with, by name."""
    return sorted(name for name, data in files.items() if is_unknown(name, data))


def is_unknown(name: str, data: bytes) -> bool:
    """Whether no reader can do anything with a file; what systems hide beside others is not asked about."""
    path = PurePosixPath(name)
    if HIDDEN_FOLDER in path.parts or path.name.startswith(".") or data.startswith(BESIDE):
        return False
    known = {*endings(), *IMAGE_ENDINGS, *(m for f in formats() for m in f.members)}
    return path.suffix.lower() not in known


def by_folder(names: Sequence[str]) -> list[list[str]]:
    """Files by the folder that they were sent in, those without one first: what is sent later takes no model's place."""
    groups: dict[str, list[str]] = {}
    for name in sorted(names, key=lambda n: ("/" in n, n)):
        groups.setdefault(name.partition("/")[0] if "/" in name else "", []).append(name)
    return list(groups.values())


def is_model(name: str, data: bytes) -> bool:
    """Whether a file may be a model, by its ending."""
    path = PurePosixPath(name)
    return path.suffix.lower() in endings() and HIDDEN_FOLDER not in path.parts and not data.startswith(BESIDE)


def shallowest(names: Sequence[str], files: Mapping[str, bytes], parts: Parts) -> tuple[list[str], list[str]]:
    """Of some files the models that lie nearest to the top, in the order of their names, without those that others are made of;
    and those that lie deeper and are no part of any."""
    models = [n for n in names if is_model(n, files[n])]
    if len(models) < 2:
        return models, []
    depth = min(n.count("/") for n in models)
    top = sorted(n for n in models if n.count("/") == depth)
    of_others = {part for m in models for part in parts.of(m) - {m}}
    return [n for n in top if n not in of_others] or top, sorted(
        n for n in models if n not in of_others and n not in top
    )


class Parts:
    """Which of the files each model is made of; found out, for all of them, when it is asked for the first time."""

    def __init__(self, files: Mapping[str, bytes], tell: Callable[..., None]) -> None:
        self.files, self.tell = files, tell

    @cached_property
    def named(self) -> dict[str, list[str]]:
        """By model, those of the files that it names itself."""
        there = {normalize("NFC", n): n for n in self.files}
        models = {n: d for n, d in self.files.items() if is_model(n, d)}
        out: dict[str, list[str]] = {}
        for form in formats():
            for name, addresses in form.parts_named(models, self.tell).items():
                folder = PurePosixPath(name).parent
                paths = (normpath(f"{folder}/{unquote(a)}".replace("\\", "/")) for a in sorted(addresses))
                out[name] = [there[p] for p in (normalize("NFC", path) for path in paths) if p in there]
        return out

    def of(self, main: str) -> set[str]:
        """The model and all that it is made of, as it says itself or as those say in turn."""
        out, waiting = {main}, [main]
        while waiting:
            fresh = [n for n in self.named.get(waiting.pop(), []) if n not in out]
            out |= set(fresh)
            waiting += fresh
        return out


def digest_of(bundles: Sequence[Bundle]) -> str:
    """SHA-256 of the model file, or of those of several one after the other."""
    each = [hashlib.sha256(b.data) for b in bundles]
    return each[0].hexdigest() if len(each) == 1 else hashlib.sha256(b"".join(d.digest() for d in each)).hexdigest()


def bundles_from_paths(
    paths: Sequence[Path], limits: Limits | None = None, tell: Callable[..., None] = nothing
) -> list[Bundle]:
    """The models in files on disk, in the order of their names as when they are uploaded; each looks for its companions in
    its own folder, or in its zip. Raises UnusableInput."""
    out: list[Bundle] = []
    names = [path.name for path in paths]
    if twice := next((p for p in paths if sum(p.absolute() == q.absolute() for q in paths) > 1), None):
        raise UnusableInput("this file is named twice", where=str(twice))
    for path in paths:
        found = bundles_from_path(path, limits, tell, apart=len(paths) > 1)
        if len(found) == 1 and found[0].folder is not None and names.count(path.name) > 1:
            # told apart by the folder
            home = path.absolute().parent
            found = [replace(found[0], main=f"{home.name}/{path.name}", folder=home.parent)]
        out += found
    return sorted(out, key=lambda b: b.main) if len(paths) > 1 else out


def bundle_from_path(path: Path, limits: Limits | None = None) -> Bundle:
    """The one model in a file on disk. Raises UnusableInput when there are several."""
    found = bundles_from_path(path, limits)
    if len(found) > 1:
        names = ", ".join(short(b.main) for b in found[:3])
        raise UnusableInput(f"there are {len(found)} models ({names}); send one at a time")
    return found[0]


def bundles_from_path(
    path: Path, limits: Limits | None = None, tell: Callable[..., None] = nothing, apart: bool = False
) -> list[Bundle]:
    """The models in a file on disk; companions are read from its own folder only, or from its zip."""
    limits = limits or Limits()
    if path.is_dir():
        raise UnusableInput("this is a folder; name the model file in it", where=str(path))
    try:
        size = path.stat().st_size
        if size > limits.upload_bytes:
            raise TooLarge(f"the file is larger than {limits.upload_bytes // MIB} MiB", where=str(path))
        data = path.read_bytes()
    except OSError as error:
        raise UnusableInput(f"cannot be read ({error.strerror or error})", where=str(path)) from error
    if is_archive(data):
        try:
            return bundles_from_files({path.name: data}, limits, tell, apart)
        except TooLarge:
            raise
        except UnusableInput as error:
            if not apart:
                raise
            return [Bundle(path.name, data, limits=limits, broken=error)]
    return [Bundle(path.name, data, folder=path.absolute().parent, limits=limits, tell=tell)]
