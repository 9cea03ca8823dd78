"""Settings from environment variables that start with CARAVAN_."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path

ROOT = Path(__file__).resolve().parents[3]


@dataclass(frozen=True)
class Settings:
    """database: SQLAlchemy address. store: folder or fsspec address. scheduler: address of an existing
    dask scheduler, empty for an embedded cluster. access_key: needed when host is not loopback."""

    database: str = field(default_factory=lambda: os.environ.get("CARAVAN_DATABASE", ""))
    store: str = field(default_factory=lambda: os.environ.get("CARAVAN_STORE", str(ROOT / ".state" / "store")))
    scheduler: str = field(default_factory=lambda: os.environ.get("CARAVAN_SCHEDULER", ""))
    host: str = field(default_factory=lambda: os.environ.get("CARAVAN_HOST", "127.0.0.1"))
    port: int = field(default_factory=lambda: int(os.environ.get("CARAVAN_PORT", "8321")))
    access_key: str = field(default_factory=lambda: os.environ.get("CARAVAN_ACCESS_KEY", ""))
    upload_bytes: int = field(default_factory=lambda: int(os.environ.get("CARAVAN_UPLOAD_MIB", "1024")) << 20)
    workers: int = field(default_factory=lambda: int(os.environ.get("CARAVAN_WORKERS", "2")))
    web: Path = field(default_factory=lambda: Path(os.environ.get("CARAVAN_WEB", str(ROOT / "web" / "dist"))))

    @property
    def loopback(self) -> bool:
        return self.host in ("127.0.0.1", "localhost", "::1")
