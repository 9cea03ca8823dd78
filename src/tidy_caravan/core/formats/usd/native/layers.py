"""Which files binary layers are composed of. Runs in a child process: the library is native code."""

from __future__ import annotations

from pxr import Sdf, Tf

from tidy_caravan.core.work.nursery import report

LOADS = ("tidy_caravan.core.formats.usd.native.registry",)


def named(paths: list[str]) -> list[list[str]]:
    """Of each layer the addresses of sublayers, references and payloads as it says them; none of what cannot be opened."""
    out: list[list[str]] = []
    for k, path in enumerate(paths):
        report("looking which layers belong together", k, len(paths))
        try:
            layer = Sdf.Layer.FindOrOpen(path)
        except Tf.ErrorException:
            layer = None
        out.append(sorted(layer.GetCompositionAssetDependencies()) if layer is not None else [])
    return out
