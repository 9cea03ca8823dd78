"""Where light comes from, kept apart while it is traced: each power and colour can be changed afterwards, exactly.

Light adds up, and surfaces change no colour into another: what a texel has of the sun, red by red, is what it would have of
a white sun of one lux, times the sun's own red.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene.arrays import F64, AnyArray

SUN, LAMPS, GLOW, SKY, GROUND = range(5)
GROUPS = 5
"""Suns of the file; its other lamps; surfaces that glow; the sky; and what is seen of it below the horizon."""
BRIGHTNESS = np.array([0.2126, 0.7152, 0.0722])
"""Luminance of linear colours (ITU-R BT.709)."""
WHITE = (1.0, 1.0, 1.0)
Colour = tuple[float, float, float]


@dataclass(frozen=True)
class Mix:
    """sun, lamps, glow: times what the file says, by colour. sky, ground: candela per m², by colour."""

    sun: Colour = WHITE
    lamps: Colour = WHITE
    glow: Colour = WHITE
    sky: Colour = (0.0, 0.0, 0.0)
    ground: Colour = (0.0, 0.0, 0.0)

    @property
    def gains(self) -> F64:
        """(groups, 3)."""
        return np.array([self.sun, self.lamps, self.glow, self.sky, self.ground], np.float64)

    def of(self, light: AnyArray) -> F64:
        """(…, 3) lux of light by group (…, groups, 3)."""
        out: F64 = np.einsum("...gc,gc->...c", light, self.gains)
        return out
