"""Noise taken out of a page of light by a library made for lightmaps; in a process of its own, as all native work."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import Any

import numpy as np

from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop

LOADS = ("pyoidn",)
DENOISE = Work("light denoised", 1, f"{__name__}:page", memory=6 << 30)


def page(arrays: Mapping[str, AnyArray]) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on a page of light (H, W, 3)."""
    from pyoidn import denoise

    light = np.ascontiguousarray(arrays["light"], np.float32)
    return {"light": np.maximum(denoise(light, filter_type="RTLightmap"), 0)}, {}


def denoised(light: AnyArray, workshop: Workshop) -> AnyArray | str:
    """A page (H, W, 3) without its noise; why not, where it failed."""
    digest = hashlib.blake2b(np.ascontiguousarray(light).data, digest_size=16).hexdigest()
    size = int(light.size)
    piece = Piece(digest, {"light": light}, {}, 60 + size / 100_000, size)
    outcome = workshop.do(DENOISE, [piece], keep=False)[0]
    return outcome.arrays["light"] if isinstance(outcome, Done) else outcome.reason
