"""Open formats, one package each; importing this one registers them all. A new format is a new folder here."""

import importlib
import pkgutil

from tidy_caravan.core.formats.opening import (
    bundle_from_files,
    bundle_from_path,
    bundles_from_files,
    bundles_from_paths,
    digest_of,
)
from tidy_caravan.core.formats.registry import endings, load, writable, write
from tidy_caravan.core.formats.shared.bundle import Bundle, Limits

for _module in pkgutil.iter_modules(__path__):
    if _module.ispkg:
        importlib.import_module(f"{__name__}.{_module.name}")

__all__ = [
    "Bundle",
    "Limits",
    "bundle_from_files",
    "bundle_from_path",
    "bundles_from_files",
    "bundles_from_paths",
    "digest_of",
    "endings",
    "load",
    "writable",
    "write",
]
