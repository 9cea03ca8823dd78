"""Lights, cameras, skins and clips: what travels beside the geometry."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any, Literal

from tidy_caravan.core.scene.arrays import F32, F64

SHARP = 0.999
"""Part of a spot's cone that is evenly bright where its edge is sharp: less than all of it (KHR_lights_punctual)."""


OPEN = math.pi / 2 * 0.999
"""Half the angle of the spot that stands for a surface which shines to its front."""


@dataclass(frozen=True)
class Light:
    """Punctual light shining along local -Z; intensity in candela or lux, range in scene units.

    surface: what it is where it is no point, and `size` of that along local X and Y in scene units: both edges of a
    rectangle, diameters of a disk, length and diameter of a cylinder, whatever scale the node has. Where a format has no
    surfaces that shine it goes on as the point or spot that `kind` says. A sphere gives what a point does.
    """

    kind: Literal["directional", "point", "spot"]
    name: str = ""
    color: tuple[float, float, float] = (1.0, 1.0, 1.0)
    intensity: float = 1.0
    range: float | None = None
    inner_cone: float = 0.0
    outer_cone: float = 0.7853981633974483
    extras: Any = None
    surface: Literal["", "rectangle", "disk", "cylinder"] = ""
    size: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class Camera:
    """Camera looking along local -Z with +Y up; lengths in scene units, angles in radians."""

    kind: Literal["perspective", "orthographic"]
    name: str = ""
    yfov: float = 0.8
    aspect: float | None = None
    xmag: float = 1.0
    ymag: float = 1.0
    znear: float = 0.1
    zfar: float | None = None
    extras: Any = None


@dataclass(frozen=True, eq=False)
class Skin:
    """joints: node indices. inverse_bind: (J, 4, 4) or None for identities."""

    joints: tuple[int, ...]
    inverse_bind: F64 | None = None
    skeleton: int = -1
    name: str = ""
    extras: Any = None


@dataclass(frozen=True, eq=False)
class Channel:
    """times: (K,) seconds. values: (K or 3K, width) by path; rotations are xyzw quaternions."""

    node: int
    path: Literal["translation", "rotation", "scale", "weights"]
    times: F32
    values: F32
    interpolation: Literal["LINEAR", "STEP", "CUBICSPLINE"] = "LINEAR"


@dataclass(frozen=True, eq=False)
class Clip:
    channels: tuple[Channel, ...]
    name: str = ""
    extras: Any = None


@dataclass(frozen=True)
class Root:
    """One scene of the source: its name and root nodes."""

    nodes: tuple[int, ...]
    name: str = ""
    extras: Any = None


@dataclass(frozen=True)
class Note:
    """What a reader or a writer has to tell about a piece: the one kind of diagnostic, from file to finding.

    kind: converted (into something else), behind (did not travel), damaged (left out or repaired), guess (assumed, not
    known); of writers also rewritten (put right, or written differently) and lost (the format cannot hold it).
    """

    kind: Literal["converted", "behind", "damaged", "guess", "rewritten", "lost"]
    code: str
    where: str
    text: str
    nodes: tuple[int, ...] = field(default=())


@dataclass(frozen=True)
class Travel:
    """One line of the travel list: what becomes of all things of a kind.

    verdict: travels (as it is), converted (into something, see `into`, within `tolerance`), behind (see `why`).
    """

    kind: str
    verdict: Literal["travels", "converted", "behind"]
    count: int
    into: str = ""
    tolerance: str = ""
    why: str = ""
