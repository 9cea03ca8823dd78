"""Bundle: the files that belong to one source, from which nothing outside can be reached."""

from __future__ import annotations

import contextlib
import io
import os
import stat
import unicodedata
import zipfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path, PurePosixPath
from urllib.parse import unquote, urlsplit

from tidy_caravan.core.errors import TooLarge, UnusableInput
from tidy_caravan.core.scene import Note, Travel

MIB = 1 << 20
BOMB_RATIO = 200
"""Scenes shrink to a tenth or so in a zip; nothing that is one shrinks to a two-hundredth."""
BOMB_BYTES = 64 * MIB
MOST_LISTED = 20_000
"""Files of a folder that are looked through for a picture by its name."""


@dataclass(frozen=True)
class Limits:
    """What one import may cost. Decoded geometry and unpacked files may take `decode_factor` times
    the upload limit; that product is the stated bound on memory."""

    upload_bytes: int = 2048 * MIB
    decode_factor: int = 4
    zip_entries: int = 20_000
    nodes: int = 4_000_000

    @property
    def decoded_bytes(self) -> int:
        return self.upload_bytes * self.decode_factor


@dataclass
class Budget:
    """Counts decoded bytes of one import against the limit."""

    left: int

    def take(self, count: int, where: str) -> None:
        """Raises TooLarge when the import would take more memory than allowed."""
        self.left -= max(0, count)
        if self.left < 0:
            raise TooLarge("the file unpacks to more than the limit allows; send it in smaller pieces", where=where)


def nothing(*_: object) -> None:
    return None


OF_WHAT_WAS_SENT = ("import.aside", "import.unknown", "import.bundle")
"""Codes of notes that are about the files together, not about one model in them."""


@dataclass(frozen=True)
class Bundle:
    """A main file and its companions by relative path (forward slashes)."""

    main: str
    data: bytes
    files: Mapping[str, bytes] = field(default_factory=dict)
    folder: Path | None = None
    limits: Limits = field(default_factory=Limits)
    notes: tuple[Note, ...] = ()
    """What could not be taken from the files, such as entries of a zip."""
    behind: tuple[Travel, ...] = ()
    """What of the files that were sent with it does not come along."""
    broken: UnusableInput | None = None
    """Why it cannot be read, where that is known before anybody tries, as of an archive."""
    tell: Callable[..., None] = nothing
    """Called by slow readers as tell(what, done, total), and as tell() now and then; may raise Cancelled."""

    @property
    def home(self) -> str:
        """Folder of the main file inside the bundle, empty at its top."""
        parent = str(PurePosixPath(self.main).parent)
        return "" if parent == "." else parent

    def find(self, uri: str, base: str | None = None) -> bytes | None:
        """Content of a companion, or None if it is not in the bundle.

        The address counts from `base`, a folder inside the bundle; without it from the main file. A file that bears
        the text as it stands comes first, then what it means as an address (%20, what follows # or ? taken off).
        Raises UnusableInput for addresses that would leave the bundle.
        """
        home = self.home if base is None else base
        with contextlib.suppress(UnusableInput):
            data = self._at(path_inside(uri, home))
            if data is not None:
                return data
        return self._at(safe_relative(uri, home))

    def _at(self, path: str) -> bytes | None:
        if self.folder is not None:
            return self._from_disk(path)
        key = path if path in self.files else self._by_path.get(alike(path))
        return self.files[key] if key is not None else None

    def look_for(self, uri: str, base: str | None = None) -> tuple[bytes | None, str]:
        """A picture by its path, then anywhere in the bundle by its file name, then whatever the case or the form of accents.

        Returns the content and how it was found: `path`, `name` or `` when it is not there. Addresses
        that lead outside are never followed; only their last piece is looked for in the bundle.
        """
        with contextlib.suppress(UnusableInput):
            data = self.find(uri, base)
            if data is not None:
                return data, "path"
        plain = uri.replace("\\", "/")
        names = (PurePosixPath(plain).name, PurePosixPath(unquote(plain.split("?")[0].split("#")[0])).name)
        exact, lowered = self._by_name
        for candidates in [c for n in names for c in (exact.get(n, []), lowered.get(alike(n), []))]:
            if len(candidates) == 1:
                found = candidates[0]
                data = self._from_disk(found) if self.folder is not None else self.files[found]
                if data is not None:
                    return data, "name"
        return None, ""

    def _from_disk(self, path: str) -> bytes | None:
        assert self.folder is not None
        top = self.folder.resolve()
        target = (top / path).resolve()
        if not target.is_relative_to(top):
            raise UnusableInput(f"“{short(path)}” leads outside the source's folder", where=self.main)
        try:
            there = target.is_file()
        except (OSError, ValueError):  # names longer than a file system takes
            return None
        if not there:
            found = self._by_path.get(alike(path))
            return self._from_disk(found) if found is not None and found != path else None
        if target.stat().st_size > self.limits.upload_bytes:
            raise TooLarge(f"“{short(path)}” is larger than the upload limit", where=self.main)
        return target.read_bytes()

    def all_files(self) -> dict[str, bytes]:
        """All files at hand by path; of a folder those that can be read within the upload limit."""
        if self.folder is None:
            return dict(self.files)
        out: dict[str, bytes] = {}
        left = self.limits.upload_bytes
        for name in self._names:
            with contextlib.suppress(UnusableInput, OSError):
                data = self._from_disk(name)
                if data is not None and (left := left - len(data)) >= 0:
                    out[name] = data
        return out

    @cached_property
    def _names(self) -> tuple[str, ...]:
        if self.folder is None:
            return tuple(self.files)
        out: list[str] = []
        for here, folders, files in os.walk(self.folder):
            folders[:] = sorted(f for f in folders if not f.startswith("."))
            top = Path(here).relative_to(self.folder)
            out += [str(PurePosixPath(top / f)) for f in sorted(files)]
            if len(out) > MOST_LISTED:
                break
        return tuple(out[:MOST_LISTED])

    @cached_property
    def _by_path(self) -> dict[str, str]:
        return {alike(n): n for n in self._names}

    @cached_property
    def _by_name(self) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
        exact: dict[str, list[str]] = {}
        lowered: dict[str, list[str]] = {}
        for path in self._names:
            name = PurePosixPath(path).name
            exact.setdefault(name, []).append(path)
            lowered.setdefault(alike(name), []).append(path)
        return exact, lowered


def alike(path: str) -> str:
    """The same for paths that differ in case, in blanks around them, or in whether letters and accents are one sign, as some
    systems write them into zips (Unicode Standard Annex 15)."""
    return unicodedata.normalize("NFC", path.strip()).lower()


def short(text: str) -> str:
    return text if len(text) <= 80 else text[:77] + "…"


def safe_relative(uri: str, base: str = "") -> str:
    """The decoded path of a URI inside the bundle, counted from the folder `base` in it.

    Raises UnusableInput for anything that leads outside.
    """
    if "\\" in uri:
        uri = uri.replace("\\", "/")
    try:
        parts = urlsplit(uri)
    except ValueError as error:
        raise UnusableInput(f"“{short(uri)}” is not a valid address") from error
    drive = len(parts.scheme) == 1
    if (parts.scheme or parts.netloc) and not drive:
        raise UnusableInput(f"“{short(uri)}” is an address outside the bundle; put the file beside the scene")
    return path_inside(unquote(uri.split("?")[0].split("#")[0]), base)


def path_inside(path: str, base: str = "") -> str:
    """A plain path inside the bundle, tidied, counted from the folder `base` in it; nothing in it is an address.

    Raises UnusableInput for anything that leads outside.
    """
    shown = path
    path = path.replace("\\", "/")
    if path.startswith("/") or (len(path) > 1 and path[1] == ":" and path[0].isalpha()):
        raise UnusableInput(f"“{short(shown)}” is an absolute path; only files beside the scene are read")
    if "\0" in path:
        raise UnusableInput("a file address holds a zero byte")
    path = f"{base}/{path}" if base else path
    depth = 0
    for piece in path.split("/"):
        if piece == "..":
            depth -= 1
        elif piece not in ("", "."):
            depth += 1
        if depth < 0:
            raise UnusableInput(f"“{short(shown)}” leads outside the source's folder")
    return str(PurePosixPath(*_resolve(path))) if path else ""


def _resolve(path: str) -> list[str]:
    out: list[str] = []
    for piece in path.split("/"):
        if piece == "..":
            out.pop()
        elif piece not in ("", "."):
            out.append(piece)
    return out


def unzip(name: str, data: bytes, limits: Limits, budget: Budget) -> tuple[dict[str, bytes], tuple[Note, ...]]:
    """Files of a zip, counted while unpacking so that a lying header cannot exceed the limit."""
    out: dict[str, bytes] = {}
    notes: list[Note] = []

    def note(text: str) -> None:
        notes.append(Note("damaged", "import.bundle", name[:120], text))

    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = archive.infolist()
            if len(entries) > limits.zip_entries:
                raise TooLarge(f"the zip holds {len(entries)} entries, more than {limits.zip_entries}", where=name)
            refuse_bomb(sum(e.file_size for e in entries), len(data), name)
            unpacked = 0
            for entry in entries:
                if entry.is_dir():
                    continue
                try:
                    path = path_inside(entry.filename)
                except UnusableInput as error:
                    note(f"zip entry left out: {error.what}")
                    continue
                if stat.S_ISLNK(entry.external_attr >> 16):
                    note(f"zip entry “{short(path)}” is a link, and links are not followed")
                    continue
                if too_long(path):
                    note(f"zip entry “{short(path)}” has a longer name than files can have")
                    continue
                if entry.flag_bits & 1:
                    note(f"zip entry “{short(path)}” is encrypted and was left out")
                    continue
                chunks = []
                with archive.open(entry) as stream:
                    while chunk := stream.read(4 * MIB):
                        budget.take(len(chunk), name)
                        unpacked += len(chunk)
                        refuse_bomb(unpacked, len(data), name)
                        chunks.append(chunk)
                out[path] = b"".join(chunks)
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError, OSError, ValueError) as error:
        raise UnusableInput(f"the zip cannot be read ({error}); pack it again", where=name) from error
    except Exception as error:
        if isinstance(error, UnusableInput):
            raise
        raise UnusableInput("the zip is damaged; pack it again", where=name) from error
    for path in in_the_way(out):
        note(f"zip entry “{short(path)}” is a file and a folder at once; the file was left out")
        del out[path]
    if not out:
        raise UnusableInput(f"the zip holds no usable file{because(notes)}", where=name)
    return out, tuple(notes)


def because(notes: Sequence[Note]) -> str:
    """What was left out, for the end of a sentence: it may have been what is missed."""
    return f" ({'; '.join(n.text for n in notes[:3])})" if notes else ""


def refuse_bomb(unpacked: int, packed: int, name: str) -> None:
    """Raises TooLarge for an archive that unpacks to far more than scenes do, by what it claims or by what comes out."""
    if unpacked > BOMB_BYTES and unpacked > BOMB_RATIO * packed:
        raise TooLarge(
            f"the zip of {packed / MIB:.1f} MiB unpacks to {unpacked / MIB:.0f} MiB or more, over {BOMB_RATIO} times its "
            "size; send the files unpacked if they really are that large",
            where=name,
        )


def too_long(path: str) -> bool:
    """Whether no usual file system could hold a file of that path."""
    return len(path.encode()) > 4000 or any(len(piece.encode()) > 255 for piece in path.split("/"))


def in_the_way(files: Mapping[str, bytes]) -> list[str]:
    """Files whose path is a folder of other files."""
    folders = {str(parent) for path in files for parent in PurePosixPath(path).parents}
    return sorted(folders & set(files))
