"""Content-addressed files behind fsspec: a folder by default, an object store by address."""

from __future__ import annotations

import contextlib
import hashlib
import os
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any

import fsspec

PIECE = 1 << 20
# as fsspec's file systems call the time of the last write
STAMPS = ("LastModified", "last_modified", "updated", "mtime", "modified", "created")


class Store:
    """Keys are relative paths; content under a key never changes."""

    def __init__(self, address: str) -> None:
        self.address = address
        self.fs, self.base = fsspec.core.url_to_fs(address)
        self.local = self.fs.protocol in ("file", ("file", "local"))
        if self.local:
            Path(self.base).mkdir(parents=True, exist_ok=True, mode=0o700)

    def path(self, key: str) -> str:
        if key.startswith("/") or ".." in key.split("/"):
            raise ValueError(f"“{key}” is no key")
        return f"{self.base}/{key}"

    def exists(self, key: str) -> bool:
        return bool(self.fs.exists(self.path(key)))

    def get(self, key: str) -> bytes:
        """Raises FileNotFoundError."""
        with self.fs.open(self.path(key), "rb") as file:
            return bytes(file.read())

    def put(self, key: str, data: bytes | Callable[[], bytes], anew: bool = False) -> str:
        """Stores whole or not at all: temporary name, synced, renamed. An existing key is left alone, unless `anew`. data:
        or what makes it, if it is not there."""
        if not self.local:
            # written again where it is there already: an object store has no other way to make a file young
            self.fs.pipe_file(self.path(key), data() if callable(data) else data)
            return key
        if not anew and self.touch(key):
            return key
        target = Path(self.path(key))
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=target.parent, prefix=".new-")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data() if callable(data) else data)
                file.flush()
                os.fsync(file.fileno())
            os.replace(temporary, target)
        except BaseException:
            Path(temporary).unlink(missing_ok=True)
            raise
        return key

    def put_blob(self, data: bytes) -> str:
        """Stores under the SHA-256 of the content; returns the key."""
        digest = hashlib.sha256(data).hexdigest()
        return self.put(f"blob/{digest[:2]}/{digest}", data)

    def put_stream(self, source: IO[bytes], most: int) -> tuple[str, int]:
        """Stores what a file object holds without holding it in memory; returns key and size.

        Raises OverflowError when it is larger than `most` bytes.
        """
        digest, size = hashlib.sha256(), 0
        folder = Path(self.base) / "blob" if self.local else Path(tempfile.gettempdir())
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        handle, temporary = tempfile.mkstemp(dir=folder, prefix=".new-")
        try:
            with os.fdopen(handle, "wb") as file:
                while piece := source.read(PIECE):
                    size += len(piece)
                    if size > most:
                        raise OverflowError(f"more than {most} bytes")
                    digest.update(piece)
                    file.write(piece)
                file.flush()
                os.fsync(file.fileno())
            name = digest.hexdigest()
            key = f"blob/{name[:2]}/{name}"
            if not self.local:
                self.fs.put_file(temporary, self.path(key))
            elif not self.touch(key):
                target = Path(self.path(key))
                target.parent.mkdir(parents=True, exist_ok=True)
                os.replace(temporary, target)
            return key, size
        finally:
            Path(temporary).unlink(missing_ok=True)

    def touch(self, key: str) -> bool:
        """Makes a file in a folder young again, since somebody is about to name it; whether it is there. Of an object store
        nothing is known by this."""
        if not self.local:
            return False
        try:
            os.utime(self.path(key))
        except FileNotFoundError:
            return False
        except OSError:  # of somebody else, who lets it be read
            return os.path.exists(self.path(key))
        return True

    def older_than(self, seconds: float) -> list[str]:
        """Keys of all files that nobody put or touched for so long, and leftovers of broken writes."""
        until = time.time() - seconds
        out = []
        if not self.local:
            for path, info in self.fs.find(self.base, detail=True).items():
                stamp = stamp_of(info)
                if stamp is not None and stamp < until:
                    out.append(path[len(self.base) :].lstrip("/"))
            return out
        for here, _, names in os.walk(self.base):
            for name in names:
                path = os.path.join(here, name)
                with contextlib.suppress(OSError):
                    if os.stat(path).st_mtime < until:
                        out.append(os.path.relpath(path, self.base))
        return out

    def remove_if_old(self, key: str, seconds: float) -> bool:
        """Removes a file unless somebody touched it since; the last look is as late as can be."""
        with contextlib.suppress(OSError):
            if not self.local:
                self.fs.invalidate_cache()
                stamp = stamp_of(self.fs.info(self.path(key)))
                if stamp is not None and stamp < time.time() - seconds:
                    self.fs.rm_file(self.path(key))
                    return True
                return False
            path = Path(self.base) / key
            if path.stat().st_mtime < time.time() - seconds:
                path.unlink()
                return True
        return False


def stamp_of(info: dict[str, Any]) -> float | None:
    """When an object was written, in seconds since 1970; None when its store does not tell, then it is never freed."""
    for name in STAMPS:
        value = info.get(name)
        if isinstance(value, str):
            value = datetime.fromisoformat(value.replace("Z", "+00:00"))
        if isinstance(value, datetime):
            return (value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp()
        if isinstance(value, int | float):
            return float(value)
    return None
