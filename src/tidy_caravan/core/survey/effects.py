"""What a fault does to the artist: the groups that findings are shown in."""

from __future__ import annotations

from typing import Literal

Effect = Literal["looks wrong", "flickers", "leaks light", "breaks in the engine", "wastes", "to know"]

EFFECTS: dict[str, Effect] = {
    "faces": "looks wrong",
    "normals": "looks wrong",
    "tangents": "looks wrong",
    "texture": "looks wrong",
    "texture.format": "to know",
    "texture.packed": "to know",
    "uv": "looks wrong",
    "uv.lightmap-overlaps": "leaks light",
    "uv.lightmap-range": "leaks light",
    "uv.second-missing": "leaks light",
    "gaps": "leaks light",
    "flicker": "flickers",
    "geometry.repeated": "flickers",
    "part.twice": "flickers",
    "origin": "flickers",
    "unit": "breaks in the engine",
    "axes": "breaks in the engine",
    "scale": "breaks in the engine",
    "transform": "breaks in the engine",
    "pivot": "breaks in the engine",
    "grid": "breaks in the engine",
    "grid.seam": "leaks light",
    "name": "breaks in the engine",
    "limit": "breaks in the engine",
    "geometry": "breaks in the engine",
    "geometry.loose": "wastes",
    "geometry.unjoined": "wastes",
    "density": "wastes",
    "density.coarse": "looks wrong",
    "sharing": "wastes",
    "mesh": "wastes",
    "material": "wastes",
    "tree": "wastes",
    "speed": "wastes",
    "structure": "wastes",
    "travel": "to know",
    "travel.nothing": "looks wrong",
    "survey": "to know",
    "import": "to know",
}
"""By code, or by what stands before its point."""


def effect_of(code: str) -> Effect:
    """The group of a finding; what readers note under codes of their own is to know."""
    return EFFECTS.get(code) or EFFECTS.get(code.partition(".")[0]) or "to know"
