"""Writes what was made into a folder of the user's: never over the source, nor over what may belong to it."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Sequence
from pathlib import Path

import orjson

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.packing.pack import save


def check_folder(path: Path) -> None:
    """Raises UnusableInput where no folder can be made: before work that would be lost for it."""
    there = next((p for p in (path, *path.absolute().parents) if p.exists()), path)
    if not there.is_dir():
        raise UnusableInput("there is a file where a folder is to be; name another", where=str(there))


def folder_at(path: Path) -> Path:
    """The folder, made where there is none. Raises UnusableInput."""
    check_folder(path)
    path.mkdir(parents=True, exist_ok=True)
    return path


def spare_sources(targets: Iterable[Path], sources: Sequence[Path]) -> None:
    """Raises UnusableInput where one of the targets is a source, by whatever name."""
    kept = {identity for s in sources if (identity := on_disk(s))}
    for target in targets:
        if kept & {on_disk(target)}:
            raise UnusableInput("this is the source, which is never written over; name another place", where=str(target))  # fmt: skip


def deliver(files: dict[str, bytes], folder: Path, sources: Sequence[Path]) -> None:
    """Writes what was made, such as a package; the files of an earlier one are replaced.

    In the folder of a source nothing else is replaced: its companions lie there, read or not. Raises UnusableInput before
    anything is written.
    """
    folder_at(folder)
    spare_sources((folder / name for name in files), sources)
    if on_disk(folder) in {on_disk(s.absolute().parent) for s in sources}:
        earlier = packed_in(folder)
        for name in files:
            if name not in earlier and (folder / name).exists():
                raise UnusableInput(
                    "a file of this name lies beside the source and may belong to it; name another folder",
                    where=str(folder / name),
                )
    save(files, folder)


def packed_in(folder: Path) -> set[str]:
    """Names of the files of the package that lies in the folder; none where there is no manifest of one."""
    with contextlib.suppress(OSError, ValueError, TypeError, KeyError):
        told = orjson.loads((folder / "manifest.json").read_bytes())
        if "manifestVersion" in told:
            return {"manifest.json", *(str(file["path"]) for file in told["files"])}
    return set()


def on_disk(path: Path) -> tuple[int, int] | None:
    """What tells a file from all others, whatever it is called; None where there is none."""
    try:
        found = path.stat()
    except (OSError, ValueError):
        return None
    return found.st_dev, found.st_ino
