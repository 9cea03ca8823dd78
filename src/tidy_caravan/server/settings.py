"""Settings from environment variables that start with CARAVAN_."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path

ROOT = Path(__file__).resolve().parents[3]


@dataclass(frozen=True)
class Settings:
    """database: SQLAlchemy address. store: folder or fsspec address. scheduler: address of an existing
    dask scheduler, empty for an embedded cluster; scheduler_ca, _cert and _key: files of its TLS; scheduler_private:
    the network is said to be private, so that it may go without. access_key: needed when host is not loopback.
    keep_runs: how many runs of a haul are kept. keep_minutes: how old a file must be to be freed when nothing names it.
    log: the file for warnings and faults."""

    database: str = field(default_factory=lambda: os.environ.get("CARAVAN_DATABASE", ""))
    store: str = field(default_factory=lambda: os.environ.get("CARAVAN_STORE", str(ROOT / ".state" / "store")))
    scheduler: str = field(default_factory=lambda: os.environ.get("CARAVAN_SCHEDULER", ""))
    scheduler_ca: str = field(default_factory=lambda: os.environ.get("CARAVAN_SCHEDULER_CA", ""))
    scheduler_cert: str = field(default_factory=lambda: os.environ.get("CARAVAN_SCHEDULER_CERT", ""))
    scheduler_key: str = field(default_factory=lambda: os.environ.get("CARAVAN_SCHEDULER_KEY", ""))
    scheduler_private: bool = field(default_factory=lambda: os.environ.get("CARAVAN_SCHEDULER_PRIVATE", "") == "1")
    keep_runs: int = field(default_factory=lambda: int(os.environ.get("CARAVAN_KEEP_RUNS", "10")))
    keep_minutes: float = field(default_factory=lambda: float(os.environ.get("CARAVAN_KEEP_MINUTES", "60")))
    log: str = field(default_factory=lambda: os.environ.get("CARAVAN_LOG", ""))
    host: str = field(default_factory=lambda: os.environ.get("CARAVAN_HOST", "127.0.0.1"))
    port: int = field(default_factory=lambda: int(os.environ.get("CARAVAN_PORT", "8321")))
    access_key: str = field(default_factory=lambda: os.environ.get("CARAVAN_ACCESS_KEY", ""))
    upload_bytes: int = field(default_factory=lambda: int(os.environ.get("CARAVAN_UPLOAD_MIB", "1024")) << 20)
    workers: int = field(default_factory=lambda: int(os.environ.get("CARAVAN_WORKERS", "2")))
    web: Path = field(default_factory=lambda: Path(os.environ.get("CARAVAN_WEB", str(ROOT / "web" / "dist"))))

    @property
    def loopback(self) -> bool:
        return self.host in ("127.0.0.1", "localhost", "::1")
