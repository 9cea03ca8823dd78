"""Content-addressed files behind fsspec: a folder by default, an object store by address."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path

import fsspec


class Store:
    """Keys are relative paths; content under a key never changes."""

    def __init__(self, address: str) -> None:
        self.address = address
        self.fs, self.base = fsspec.core.url_to_fs(address)
        self.local = self.fs.protocol in ("file", ("file", "local"))
        if self.local:
            Path(self.base).mkdir(parents=True, exist_ok=True)

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

    def put(self, key: str, data: bytes) -> str:
        """Stores whole or not at all: temporary name, synced, renamed. An existing key is left alone."""
        if self.exists(key):
            return key
        if not self.local:
            self.fs.pipe_file(self.path(key), data)
            return key
        target = Path(self.path(key))
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=target.parent, prefix=".new-")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data)
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
