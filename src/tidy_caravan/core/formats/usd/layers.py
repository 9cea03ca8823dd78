"""Which other files layers are composed of, whatever form they are in."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from tidy_caravan.core.work.isolation import MEMORY_BYTES, Child

JOB = "tidy_caravan.core.formats.usd.native.layers:named"
SECONDS = 20.0
SECONDS_PER_BYTE = 1e-6
ASSET = re.compile(rb"@@@(.+?)@@@|@([^@\n]+)@")


def parts_named(files: Mapping[str, bytes], tell: Callable[..., None]) -> dict[str, set[str]]:
    """By name of each layer among the files, the addresses that it names, images among those of a text layer. What binary ones
    name is asked of the library, in a child, of all at once; one that brings it down costs the answers about itself."""
    out: dict[str, set[str]] = {}
    binary: dict[str, bytes] = {}
    for name, data in files.items():
        if data[:5] == b"#usda":
            found = ((m.group(1) or m.group(2)).decode("utf-8", "replace") for m in ASSET.finditer(data))
            out[name] = set(map(plain, found))
        elif data[:8] == b"PXR-USDC":
            binary[name] = data
    if binary and (answers := asked(list(binary.values()), tell)) is not None:
        out |= dict(zip(binary, answers, strict=True))
    else:
        # what the library cannot open is told when it is read
        out |= {name: (asked([data], tell) or [set()])[0] for name, data in binary.items()}
    return out


def asked(layers: list[bytes], tell: Callable[..., None]) -> list[set[str]] | None:
    """What each of some binary layers names; None when the library did not survive them."""
    size = sum(map(len, layers))
    child = Child(MEMORY_BYTES + 4 * size)
    try:
        with tempfile.TemporaryDirectory(prefix="caravan-usd-") as folder:
            paths = [str(Path(folder) / f"{k}.usdc") for k in range(len(layers))]
            for path, data in zip(paths, layers, strict=True):
                Path(path).write_bytes(data)
            found: Any = child.call(JOB, (paths,), SECONDS + SECONDS_PER_BYTE * size, tell)
    finally:
        child.stop()
    return [set(map(plain, one)) for one in found] if isinstance(found, list) else None


def plain(address: str) -> str:
    """Without what is said of how the file is to be read, or of a file in a package."""
    return address.split(":SDF_FORMAT_ARGS")[0].split("[")[0]
