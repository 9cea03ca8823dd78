"""Opens a USD stage so that nothing outside its bundle is followed. Runs in a child process; needs usd-core."""

from __future__ import annotations

import contextlib
import os
import re
from dataclasses import dataclass, field
from typing import Any

from pxr import Sdf, Tf, Usd, UsdUtils

MOST_LAYERS = 5000


class Broken(Exception):
    """The main layer cannot be parsed; the text names the place, or is empty."""


@dataclass
class Opened:
    """stage, and what was cut off: (authored path, layer, why) with why `outside`, `missing` or `broken`.
    kept: the layers; they live as long as somebody holds them, and with them what was taken out."""

    stage: Any
    cut: list[tuple[str, str, str]] = field(default_factory=list)
    kept: list[Any] = field(default_factory=list)


def open_stage(main: str, top: str) -> Opened:
    """The composed stage of the file `main`, with every asset path that leaves the folder `top` taken out.

    Layers are changed in memory only and before anything is composed, so that composition cannot reach what
    they named. Raises Broken when the file is no layer.
    """
    out = Opened(None)
    top = os.path.realpath(top)
    waiting = [main]
    seen: set[str] = set()
    kept: list[Any] = []
    while waiting and len(seen) < MOST_LAYERS:
        path = waiting.pop()
        if path in seen:
            continue
        seen.add(path)
        try:
            layer = Sdf.Layer.FindOrOpen(path)
        except Tf.ErrorException as error:
            if path == main:
                raise Broken(place_in(str(error))) from error
            layer = None
        if layer is None:
            if path == main:
                raise Broken("")
            out.cut.append((os.path.relpath(path, top)[:200], os.path.basename(main), "broken"))
            continue
        kept.append(layer)
        waiting += confine(layer, top, out)
    out.kept = kept
    with Tf.DiagnosticTrap() if hasattr(Tf, "DiagnosticTrap") else contextlib.nullcontext():
        out.stage = Usd.Stage.Open(kept[0], Usd.Stage.LoadAll)
    return out


def place_in(text: str) -> str:
    """`line 4, column 26` out of a parser's message; empty if it names none."""
    found = re.search(r":(\d+):(\d+):", text) or re.search(r"line (\d+)()", text)
    if not found:
        return ""
    return f"line {found.group(1)}" + (f", column {found.group(2)}" if found.group(2) else "")


def confine(layer: Any, top: str, out: Opened) -> list[str]:
    """Takes paths that leave the folder out of a layer; returns the layers it composes."""
    name = os.path.relpath(layer.identifier.split("[")[0], top)

    def inside(path: str) -> bool:
        real = os.path.realpath(path.split("[")[0])
        return real == top or real.startswith(top + os.sep)

    def judged(path: str) -> str:
        if not path:
            return path
        if "://" in path or path.startswith("//"):
            return outside(path)
        absolute = layer.ComputeAbsolutePath(path)
        file = absolute.split("[")[0]
        if "<UDIM>" in file:
            file = os.path.dirname(file)
        if not os.path.isabs(file) or inside(file):
            if os.path.isabs(file) and not os.path.exists(file) and path.lower().endswith(LAYERS):
                out.cut.append((path[:200], name, "missing"))
                return ""
            if not os.path.isabs(file) and path.lower().split("[")[0].endswith(LAYERS):
                # a search path: the resolver would look for it in places that are not ours
                beside = os.path.join(os.path.dirname(layer.realPath or top), path)
                if not (os.path.exists(beside) and inside(beside)):
                    out.cut.append((path[:200], name, "missing"))
                    return ""
            return path
        return outside(path)

    def outside(path: str) -> str:
        """What stands for a path that is not followed: of images the same one counted from the bundle's top, where its file
        name is looked for, as with all formats, and missed; of all else nothing."""
        plain = re.sub(r"^(\w+://|[A-Za-z]:)", "", path.replace("\\", "/")).split("[")[0]
        steps = [s for s in plain.split("/") if s not in ("", ".", "..")]
        if not steps or not plain.lower().endswith(IMAGES):
            out.cut.append((path[:200], name, "outside"))
            return ""
        return "/".join(steps)

    UsdUtils.ModifyAssetPaths(layer, judged)
    found = []
    for dependency in layer.GetCompositionAssetDependencies():
        absolute = layer.ComputeAbsolutePath(dependency) if dependency else ""
        if absolute and inside(absolute):
            found.append(absolute)
    return found


LAYERS = (".usd", ".usda", ".usdc", ".usdz")
IMAGES = (".png", ".jpg", ".jpeg", ".webp", ".bmp", ".tga", ".tif", ".tiff", ".exr", ".ktx2")
