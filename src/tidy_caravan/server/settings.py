"""Settings from environment variables that start with CARAVAN_."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

from pydantic import AliasChoices, BeforeValidator, Field, ValidationError
from pydantic_settings import BaseSettings, SettingsConfigDict

ROOT = Path(__file__).resolve().parents[3]
MIB = 1 << 20


def from_mebibytes(value: Any) -> Any:
    """Text, as an environment variable has it, in MiB; numbers are bytes."""
    if not isinstance(value, str):
        return value
    if not value.isascii() or not value.isdigit():
        raise ValueError("input should be a whole number of MiB")
    return int(value) * MIB


class Settings(BaseSettings):
    """database: SQLAlchemy address, empty for a server of our own. store: folder or fsspec address. scheduler: address
    of an existing dask scheduler, empty for an embedded cluster; scheduler_ca, _cert and _key: files of its TLS;
    scheduler_private: the network is said to be private, so that it may go without. access_key: needed when host is
    not loopback. keep_runs: how many runs of a haul are kept. keep_minutes: how old a file must be to be freed when
    nothing names it. keep_deleted_days: how long what was deleted can be restored. log: the file for warnings and faults.
    """

    model_config = SettingsConfigDict(env_prefix="CARAVAN_", frozen=True, populate_by_name=True, extra="forbid")

    database: str = ""
    store: str = str(ROOT / ".state" / "store")
    scheduler: str = ""
    scheduler_ca: str = ""
    scheduler_cert: str = ""
    scheduler_key: str = ""
    scheduler_private: bool = False
    keep_runs: int = Field(default=10, ge=1)
    keep_minutes: float = Field(default=60.0, ge=0)
    keep_deleted_days: float = Field(default=7.0, ge=0)
    log: str = ""
    host: str = "127.0.0.1"
    port: int = Field(default=8321, ge=0, le=65535)
    access_key: str = ""
    upload_bytes: Annotated[int, BeforeValidator(from_mebibytes)] = Field(
        default=1024 * MIB, gt=0, validation_alias=AliasChoices("upload_bytes", "CARAVAN_UPLOAD_MIB")
    )
    workers: int = Field(default=2, ge=1, le=256)
    web: Path = ROOT / "web" / "dist"

    @property
    def loopback(self) -> bool:
        return self.host in ("127.0.0.1", "localhost", "::1")

    def but(self, **changes: Any) -> Settings:
        """A copy with some of them replaced."""
        return self.model_copy(update=changes)


def told(error: ValidationError) -> str:
    """What is wrong with the environment, one sentence for each variable."""
    out = []
    for one in error.errors():
        name = "UPLOAD_MIB" if one["loc"][0] == "upload_bytes" else str(one["loc"][0]).upper()
        name = f"CARAVAN_{name.removeprefix('CARAVAN_')}"
        message = one["msg"].removeprefix("Value error, ").split(", unable to")[0]
        out.append(f"{name} is “{str(one['input'])[:80]}”: {message[:1].lower()}{message[1:]}.")
    return " ".join(out)
