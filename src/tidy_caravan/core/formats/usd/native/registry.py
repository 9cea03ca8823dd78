"""The library's registry of schemas, read once before children are forked: each of them would take 40 ms for it."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from pxr import Usd, UsdGeom, Work


@lru_cache(maxsize=1)
def get_ready() -> Any:
    """Reads it in this one thread, since others would be missing after a fork. The stage that it takes is kept: the library
    closes stages in a thread."""
    Work.SetConcurrencyLimit(1)
    stage = Usd.Stage.CreateInMemory()
    UsdGeom.Mesh.Define(stage, "/mesh")
    return stage


def use_all_processors() -> None:
    """To be called in a child, before it does anything."""
    Work.SetMaximumConcurrencyLimit()
