"""Finds the models among files that were sent: zips are opened, layers of others are no models of their own."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path, PurePosixPath
from posixpath import normpath
from unicodedata import normalize
from urllib.parse import unquote

from tidy_caravan.core.errors import TooLarge, UnusableInput
from tidy_caravan.core.formats.registry import endings, formats
from tidy_caravan.core.formats.shared.bundle import MIB, Budget, Bundle, Limits, nothing, short, unzip
from tidy_caravan.core.scene import Note

BESIDE = b"\0\5\x16\7"
"""What some systems put beside every file that they archive, under its own ending (AppleDouble, RFC 1740): no model."""


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
    layer that another one names is part of that one. Those that lie deeper, and are no part of another, are told. apart: there
    are other archives, whose files may be called the same.
    """
    limits = limits or Limits()
    if sum(len(v) for v in files.values()) > limits.upload_bytes:
        raise TooLarge(f"the upload is larger than {limits.upload_bytes // MIB} MiB")
    notes: list[Note] = []
    budget = Budget(limits.decoded_bytes)
    whole: dict[str, bytes] = {}
    mains: list[str] = []
    aside: list[str] = []
    packages: dict[str, str] = {}
    archives = {n: d for n, d in files.items() if d[:4] in (b"PK\x03\x04", b"PK\x05\x06")}
    for name, data in files.items():
        if name not in archives:
            whole[name] = data
            continue
        if data[:4] == b"PK\x05\x06":
            raise UnusableInput("the zip is empty", where=name)
        inner, told = unzip(name, data, limits, budget)
        notes += told
        # several archives keep their files apart; a single one is the whole upload
        folder = "" if len(files) == 1 and not apart else f"{PurePosixPath(name).with_suffix('')}/"
        inner = {folder + path: content for path, content in inner.items()}
        whole |= inner
        if main := next(filter(None, (f.main_in(name, inner, folder) for f in formats())), ""):
            mains.append(main)
            packages[main] = name
            whole[name] = data  # another may name it as it is
        elif folder:
            found, deeper = shallowest(inner)
            mains += found
            aside += deeper
    if len(files) == 1 and not archives:
        name, data = next(iter(files.items()))
        return [Bundle(name, data, limits=limits, tell=tell)]
    if not (mains and len(files) == 1):
        loose = {n: d for n, d in whole.items() if n not in archives and (len(files) == 1 or n in files)}
        for group in [loose] if len(files) == 1 else by_folder(loose):
            found, deeper = shallowest(group)
            mains += [m for m in found if m not in mains]
            aside += deeper
    if not mains:
        raise UnusableInput(
            f"there is no model among the files; known endings are {', '.join(endings())}",
            where=", ".join(short(f) for f in sorted(whole)[:3]),
        )
    if len(mains) + len(aside) > 1:
        parts = {part for main in mains for part in parts_of(main, whole) - {main}}
        mains = [m for m in mains if not {m, packages.get(m)} & parts] or mains
        aside = [a for a in aside if a not in parts]
    if aside:
        which = f"{', '.join(short(a) for a in aside[:3])}{' and others' if len(aside) > 3 else ''}"
        was, those = ("It lies", "it") if len(aside) == 1 else ("They lie", "them")
        text = (
            f"{was} deeper than “{short(mains[0])}” and {'was' if len(aside) == 1 else 'were'} not loaded: of a folder or an archive the "
            f"models nearest to its top are, and what they name. Send {those} without a folder to have {those} as well."
        )
        notes.append(Note("behind", "import.aside", which, text))
    return [
        Bundle(main, whole[main], dict(whole), limits=limits, notes=tuple(notes) if k == 0 else (), tell=tell)
        for k, main in enumerate(mains)
    ]


def by_folder(files: Mapping[str, bytes]) -> list[dict[str, bytes]]:
    """Files by the folder that they were sent in, those without one first: what is sent later takes no model's place."""
    groups: dict[str, dict[str, bytes]] = {}
    for name in sorted(files, key=lambda n: ("/" in n, n)):
        groups.setdefault(name.partition("/")[0] if "/" in name else "", {})[name] = files[name]
    return list(groups.values())


def shallowest(files: Mapping[str, bytes]) -> tuple[list[str], list[str]]:
    """The model files that lie nearest to the top, in the order of their names, without those that others are made of; and those
    that lie deeper and are no part of any."""
    known = set(endings())
    models = [n for n, d in files.items() if PurePosixPath(n).suffix.lower() in known and not d.startswith(BESIDE)]
    if len(models) < 2:
        return models, []
    depth = min(n.count("/") for n in models)
    top = sorted(n for n in models if n.count("/") == depth)
    parts = {part for m in models for part in parts_of(m, files) - {m}}
    return [n for n in top if n not in parts] or top, sorted(n for n in models if n not in parts and n not in top)


def parts_of(main: str, files: Mapping[str, bytes]) -> set[str]:
    """Those of the files that a model is made of, as it says itself or as those say in turn."""
    there = {normalize("NFC", n): n for n in files}
    out, waiting = {main}, [main]
    while waiting:
        name = waiting.pop()
        for address in frozenset().union(*(f.parts_named(files[name]) for f in formats())):
            path = normpath(f"{PurePosixPath(name).parent}/{unquote(address)}".replace("\\", "/"))
            found = there.get(normalize("NFC", path))
            if found is not None and found not in out:
                out.add(found)
                waiting.append(found)
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
    if data[:4] in (b"PK\x03\x04", b"PK\x05\x06"):
        return bundles_from_files({path.name: data}, limits, tell, apart)
    return [Bundle(path.name, data, folder=path.absolute().parent, limits=limits, tell=tell)]
