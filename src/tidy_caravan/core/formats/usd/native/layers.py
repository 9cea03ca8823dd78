"""Which files a binary layer is composed of. Runs in a child process: the library is native code."""

from __future__ import annotations

from pxr import Sdf, Tf

LOADS = ("tidy_caravan.core.formats.usd.native.registry",)


def named(path: str) -> list[str]:
    """Addresses of sublayers, references and payloads as the layer at `path` says them; none of what cannot be opened."""
    try:
        layer = Sdf.Layer.FindOrOpen(path)
    except Tf.ErrorException:
        return []
    return sorted(layer.GetCompositionAssetDependencies()) if layer is not None else []
