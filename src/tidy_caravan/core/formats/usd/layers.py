"""Which other files a layer is composed of, whatever form it is in."""

from __future__ import annotations

import hashlib
import re
import tempfile
from pathlib import Path

from tidy_caravan.core.work.isolation import MEMORY_BYTES, Child

JOB = "tidy_caravan.core.formats.usd.native.layers:named"
SECONDS = 20.0
ASSET = re.compile(rb"@@@(.+?)@@@|@([^@\n]+)@")
MOST_KEPT = 256
_known: dict[str, frozenset[str]] = {}


def parts_named(data: bytes) -> frozenset[str]:
    """Addresses of the files that a layer names, images among those of a text layer; none of what is no layer. What a binary one
    names is asked of the library, in a child, once for each content."""
    if data[:5] == b"#usda":
        found = (m.group(1) or m.group(2) for m in ASSET.finditer(data))
        return frozenset(plain(f.decode("utf-8", "replace")) for f in found)
    if data[:8] != b"PXR-USDC":
        return frozenset()
    key = hashlib.blake2b(data, digest_size=16).hexdigest()
    if key not in _known:
        if len(_known) >= MOST_KEPT:
            _known.clear()
        _known[key] = asked(data)
    return _known[key]


def asked(data: bytes) -> frozenset[str]:
    child = Child(MEMORY_BYTES + 4 * len(data))
    try:
        with tempfile.TemporaryDirectory(prefix="caravan-usd-") as folder:
            path = Path(folder) / "layer.usdc"
            path.write_bytes(data)
            found = child.call(JOB, (str(path),), SECONDS)
    finally:
        child.stop()
    # what the library cannot open is told when it is read
    return frozenset(map(plain, found)) if isinstance(found, list) else frozenset()


def plain(address: str) -> str:
    """Without what is said of how the file is to be read, or of a file in a package."""
    return address.split(":SDF_FORMAT_ARGS")[0].split("[")[0]
