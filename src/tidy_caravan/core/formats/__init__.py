"""Open formats, one reader and one writer module each; importing this package registers them all."""

import importlib
import pkgutil

from tidy_caravan.core.formats.bundle import Bundle, Limits, bundle_from_files, bundle_from_path, bundles_from_files
from tidy_caravan.core.formats.registry import endings, load, writable, write

for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")

__all__ = [
    "Bundle",
    "Limits",
    "bundle_from_files",
    "bundle_from_path",
    "bundles_from_files",
    "endings",
    "load",
    "writable",
    "write",
]
