"""What a bake comes to, as it is told: of all parts together and of each."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from tidy_caravan.core.bake.baking import BRIGHTNESS, Ask, Baked
from tidy_caravan.core.bake.world import Sky, unread
from tidy_caravan.core.conventions.destinations import CamelModel
from tidy_caravan.core.scene import Scene

LISTED = 500
BURIED = 0.5
"""Part of a texel's first rays that meet backs from which on it looks into a wall."""


class BakeAsk(CamelModel):
    """What to bake. divide: maps that many times smaller each way, for a first look. sky, ground: candela per m². lamps: what
    the power of all lamps is multiplied with. parts: identities, all when there are none."""

    samples: int = Field(default=8, ge=1, le=65_536)
    divide: int = Field(default=4, ge=1, le=64)
    bounces: int = Field(default=6, ge=0, le=64)
    sky: tuple[float, float, float] = (2000.0, 2300.0, 2800.0)
    ground: tuple[float, float, float] = (300.0, 300.0, 280.0)
    lamps: float = Field(default=1.0, ge=0, le=1e6)
    parts: list[str] = Field(default_factory=list, max_length=100_000)

    def on(self, scene: Scene) -> Ask:
        """The same for a scene."""
        chosen = None
        if self.parts:
            given, names = set(self.parts), scene.identities.names
            chosen = np.array([0 <= s < len(names) and names[s] in given for s in scene.nodes.source.tolist()])
        each = max(1, min(4, self.samples))
        return Ask(self.samples, each, self.divide, self.bounces, Sky(self.sky, self.ground), self.lamps, chosen)


class BakedPart(CamelModel):
    """lux: mean of the part's texels. noise: standard error by the mean. buried: part of the texels that look into a wall."""

    name: str
    source: int
    width: int
    height: int
    texels: int
    lux: float
    brightest: float
    noise: float
    buried: float


class BakeReport(CamelModel):
    """white: lux that the picture shows as white. lost: why tiles are missing. unread: what of the materials it does not go
    by."""

    parts: list[BakedPart]
    maps: int
    texels: int
    samples: int
    rays: int
    seconds: float
    noise: float
    white: float
    lost: list[str]
    unread: list[str]


def told(scene: Scene, baked: Baked, white: float, seconds: float) -> BakeReport:
    """The figures of a bake, the noisiest parts first."""
    parts = []
    for k, sheet in enumerate(baked.sheets):
        bright = baked.light[k] @ BRIGHTNESS
        parts.append(
            BakedPart(
                name=scene.nodes.names[sheet.node],
                source=int(scene.nodes.source[sheet.node]),
                width=sheet.width,
                height=sheet.height,
                texels=len(sheet.index),
                lux=float(bright.mean()) if len(bright) else 0.0,
                brightest=float(bright.max()) if len(bright) else 0.0,
                noise=baked.noise[k],
                buried=float((baked.behind[k] > BURIED).mean()) if len(bright) else 0.0,
            )
        )
    texels = sum(p.texels for p in parts)
    return BakeReport(
        parts=sorted(parts, key=lambda p: -p.noise)[:LISTED],
        maps=len(parts),
        texels=texels,
        samples=baked.samples,
        rays=baked.rays,
        seconds=seconds,
        noise=sum(p.noise * p.texels for p in parts) / max(texels, 1),
        white=white,
        lost=baked.lost,
        unread=unread(scene),
    )
