"""Which unit and which axes a set of numbers is written in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

Axis = Literal["X", "-X", "Y", "-Y", "Z", "-Z"]
Handedness = Literal["right", "left"]


@dataclass(frozen=True)
class Convention:
    """Unit and axes of a coordinate space.

    metres_per_unit: length of one unit in metres, > 0.
    up, forward: the axes that point to the sky and ahead; they must differ.
    handedness: of the three axes X, Y, Z.
    declared: True if the file or the user said so, False if it is a guess.
    """

    metres_per_unit: float = 1.0
    up: Axis = "Y"
    forward: Axis = "-Z"
    handedness: Handedness = "right"
    declared: bool = True

    def label(self) -> str:
        """For people, such as `metre, Y up, right-handed`."""
        units = {
            0.001: "millimetre",
            0.01: "centimetre",
            0.0254: "inch",
            0.3048: "foot",
            1.0: "metre",
        }
        unit = units.get(self.metres_per_unit, f"{self.metres_per_unit:g} m")
        return f"{unit}, {self.up} up, {self.handedness}-handed"

    def as_json(self) -> dict[str, Any]:
        """All of it, as the API and the shell tell it."""
        return {
            "metresPerUnit": self.metres_per_unit,
            "up": self.up,
            "forward": self.forward,
            "handedness": self.handedness,
            "declared": self.declared,
            "label": self.label(),
        }


GLTF = Convention()
"""glTF 2.0, section 3.4: metres, +Y up, right-handed; ahead of a default camera is -Z."""
