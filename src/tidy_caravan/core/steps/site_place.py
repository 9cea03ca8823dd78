"""Step: puts a recentred scene back to where its site lies."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.space.site import moved, taken_off, with_offset
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, step


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
        try:
            out = with_offset(moved(scene, offset), np.zeros(3))
        except ValueError as error:
            return scene, [Change(text=f"not moved back: {error}", count=1, problem=True)]
        text = f"moved by {offset[0]:.0f}, {offset[1]:.0f}, {offset[2]:.0f} m (east, north, up)"
        return out, [Change(text=text, count=len(out.nodes.parts))]

    def as_source(self, scene: Scene, context: StepContext) -> Scene:
        """The place is the source's own: the comparison is with it as it lay before reading recentred it."""
        return self.apply(scene, context)[0]
