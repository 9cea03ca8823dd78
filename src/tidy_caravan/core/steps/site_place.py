"""Steps: brings a far scene near the origin and keeps the offset, or puts it back to where its site lies."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.space.site import moved, taken_off, with_offset
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, parameter, step


@step
class SitePlace(Step):
    """Adds the offset that reading took off, so that the package lies at its map coordinates again.

    The offset is in the manifest either way. It goes into the top nodes; in formats without a tree it goes into the
    coordinates, which lose a quarter of a metre at four thousand kilometres where they are of single precision.
    """

    title = "Back to the site's place"
    summary = "Adds the offset that was taken off while reading, for receivers that work in map coordinates."

    phase = Phase.TRANSFORMS

    kind: Literal["site_place"] = "site_place"

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        offset = taken_off(scene)
        if not offset.any():
            return scene, []
        out = with_offset(moved(scene, offset), np.zeros(3))
        text = f"moved by {offset[0]:.0f}, {offset[1]:.0f}, {offset[2]:.0f} m (east, north, up)"
        return out, [Change(text=text, count=len(out.nodes.parts))]

    def as_source(self, scene: Scene, context: StepContext) -> Scene:
        """The place is the source's own: the comparison is with it as it lay before reading recentred it."""
        return self.apply(scene, context)[0]


@step
class Recentre(Step):
    """Takes an offset off the top nodes and keeps it, in the manifest and for receivers that ask for it.

    Far from the origin float32 rounds to distance · 2⁻²⁴. What was taken off before is added up with it.
    """

    title = "Recentre"
    summary = "Brings the scene near the origin; the offset is kept in the manifest."

    phase = Phase.TRANSFORMS

    kind: Literal["recentre"] = "recentre"
    east: float = parameter(0.0, "East", "Taken off along the site's east", "m", ge=-1e8, le=1e8)
    north: float = parameter(0.0, "North", "Taken off along the site's north", "m", ge=-1e8, le=1e8)
    up: float = parameter(0.0, "Up", "Taken off the heights", "m", ge=-1e8, le=1e8)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        offset = np.array([self.east, self.north, self.up])
        if not offset.any():
            return scene, []
        out = with_offset(moved(scene, -offset), taken_off(scene) + offset)
        text = f"{offset[0]:g}, {offset[1]:g}, {offset[2]:g} m (east, north, up) taken off, and kept in the manifest"
        return out, [Change(text=text, count=len(out.nodes.parts))]

    def as_source(self, scene: Scene, context: StepContext) -> Scene:
        """The comparison is with the source about the same origin."""
        return self.apply(scene, context)[0]
