"""Open formats, one reader and one writer module each; importing this package registers them."""

from tidy_caravan.core.formats import gltf_read, gltf_write, obj_read, obj_write
from tidy_caravan.core.formats.bundle import Bundle, Limits, bundle_from_files, bundle_from_path
from tidy_caravan.core.formats.registry import endings, load, write

__all__ = [
    "Bundle",
    "Limits",
    "bundle_from_files",
    "bundle_from_path",
    "endings",
    "gltf_read",
    "gltf_write",
    "load",
    "obj_read",
    "obj_write",
    "write",
]
