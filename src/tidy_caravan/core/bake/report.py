"""What a bake comes to, as it is told: of all parts together and of each."""

from __future__ import annotations

from typing import Annotated

import numpy as np
from pydantic import Field

from tidy_caravan.core.bake.baking import Ask, Baked
from tidy_caravan.core.bake.lamps import Powers
from tidy_caravan.core.bake.mix import BRIGHTNESS, Mix
from tidy_caravan.core.bake.pages import Layout
from tidy_caravan.core.bake.world import unread
from tidy_caravan.core.conventions.destinations import CamelModel
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import Bool

Power = Annotated[float, Field(ge=0, le=1e9)]
Colour = tuple[Power, Power, Power]
LEAST_LEAKS, LEAST_SHARE = 3, 1e-4
"""Texels of a part with a leak, and their part of all of its texels; fewer are taken for chance."""
LISTED = 500
FAINT_SUN = 200.0
"""Lux of all suns together below which they are doubted: a full moon gives a quarter of one, thick dusk a hundred."""


class BakeAsk(CamelModel):
    """What to bake. divide: maps that many times smaller each way, for a first look. sky, ground: candela per m². sun, lamps,
    glow: what the power of the file's suns, of its other lamps and of what glows is multiplied with, and of which colour;
    all of these can be changed afterwards without anything being traced again. parts: identities, all when there are none.
    keep: parts that did not change, nor stand near one that did, keep their light. white: lux that the picture shows as white,
    found out when there is none. mark: leaks and texels that look into a wall are marked in the picture. denoise: the page is
    what it may be without noise; figures stay those of what was traced."""

    samples: int = Field(default=8, ge=1, le=65_536)
    divide: int = Field(default=4, ge=1, le=64)
    bounces: int = Field(default=6, ge=0, le=64)
    sky: Colour = (2000.0, 2300.0, 2800.0)
    ground: Colour = (300.0, 300.0, 280.0)
    sun: Power = 1.0
    sun_color: Colour = (1.0, 1.0, 1.0)
    lamps: Power = 1.0
    lamps_color: Colour = (1.0, 1.0, 1.0)
    glow: Power = 1.0
    glow_color: Colour = (1.0, 1.0, 1.0)
    parts: list[str] = Field(default_factory=list, max_length=100_000)
    keep: bool = True
    white: float | None = Field(default=None, gt=0, le=1e9)
    mark: bool = False
    denoise: bool = False

    def mix(self) -> Mix:
        def times(power: float, colour: Colour) -> Colour:
            return power * colour[0], power * colour[1], power * colour[2]

        return Mix(
            times(self.sun, self.sun_color), times(self.lamps, self.lamps_color), times(self.glow, self.glow_color),
            self.sky, self.ground,
        )  # fmt: skip

    def on(self, scene: Scene) -> Ask:
        """The same for a scene."""
        chosen = None
        if self.parts:
            given, names = set(self.parts), scene.identities.names
            chosen = np.array([0 <= s < len(names) and names[s] in given for s in scene.nodes.source.tolist()])
        each = max(1, min(4, self.samples))
        return Ask(self.samples, each, self.divide, self.bounces, chosen, self.keep)


class BakedPart(CamelModel):
    """lux: mean of the part's texels. noise: standard error by the mean. buried: part of the texels that look into a wall.
    leaks: texels that light of the sky or a sun reached straight through a gap of some millimetres. before: its light is
    from before other parts changed."""

    name: str
    source: int
    width: int
    height: int
    texels: int
    lux: float
    brightest: float
    noise: float
    buried: float
    leaks: int
    samples: int
    before: bool


class BakedPage(CamelModel):
    """One page of maps. name: of its files. number: as the route's lightmap pages and the manifest call it, none where the maps
    were laid out for this bake alone."""

    name: str
    width: int
    height: int
    number: int | None


class BakeReport(CamelModel):
    """parts: the noisiest first, and behind them those with leaks, and those of which most looks into a wall. leaks: parts with
    any. before: parts whose light is from before others changed. beside: parts that were not asked for and show the light
    that they had. sun_lux, lamps_lumen, glow_lumen: what the file's suns, other
    lamps and glowing surfaces come to, times one. white: lux that the picture shows as white. lost: why tiles are missing.
    unread: what of the materials it does not go by, and what of the light is to be doubted."""

    parts: list[BakedPart]
    pages: list[BakedPage]
    maps: int
    texels: int
    samples: int
    rays: int
    seconds: float
    noise: float
    white: float
    before: int
    beside: int = 0
    leaks: int
    sun_lux: float
    lamps_lumen: float
    glow_lumen: float
    lost: list[str]
    unread: list[str]


def told(scene: Scene, baked: Baked, mix: Mix, white: float, seconds: float, layout: Layout) -> BakeReport:
    """The figures of a bake, the noisiest parts first."""
    parts = []
    for k, sheet in enumerate(baked.sheets[: baked.chosen]):
        bright = baked.lux(k, mix) @ BRIGHTNESS
        parts.append(
            BakedPart(
                name=scene.nodes.names[sheet.node],
                source=int(scene.nodes.source[sheet.node]),
                width=sheet.width,
                height=sheet.height,
                texels=len(sheet.index),
                lux=float(bright.mean()) if len(bright) else 0.0,
                brightest=float(bright.max()) if len(bright) else 0.0,
                noise=baked.noise(k, mix),
                buried=float(baked.buried(k).mean()) if len(bright) else 0.0,
                leaks=many(baked.leaking(k)),
                samples=baked.samples[k],
                before=baked.before[k],
            )
        )
    texels = sum(p.texels for p in parts)
    return BakeReport(
        parts=listed(parts),
        pages=[
            BakedPage(name=layout.name(k), width=w, height=h, number=layout.number[k] if layout.number else None)
            for k, (w, h) in enumerate(layout.side.tolist())
        ],
        maps=len(parts),
        texels=texels,
        samples=min(baked.samples[: baked.chosen], default=0),
        rays=baked.rays,
        seconds=seconds,
        noise=sum(p.noise * p.texels for p in parts) / max(texels, 1),
        white=white,
        before=sum(baked.before),
        beside=len(baked.sheets) - baked.chosen,
        leaks=sum(p.leaks > 0 for p in parts),
        sun_lux=baked.powers.sun,
        lamps_lumen=baked.powers.lamps,
        glow_lumen=baked.powers.glow,
        lost=baked.lost,
        unread=[*unread(scene), *doubtful(baked.powers)],
    )


def doubtful(powers: Powers) -> list[str]:
    """What is likely meant in another unit than lux: many exporters write a sun of 3 as it is set in the modelling program."""
    if not 0 < powers.sun < FAINT_SUN:
        return []
    return [
        f"The file’s suns give {powers.sun:.3g} lx together, where daylight is 10,000 to 100,000 lx: they may be meant in another "
        "unit; the power of suns multiplies them"
    ]


def many(leaking: Bool) -> int:
    """Texels with a leak, where they are more than the odd ray that passes between two fine things."""
    leaks = int(leaking.sum())
    return leaks if leaks >= max(LEAST_LEAKS, LEAST_SHARE * len(leaking)) else 0


def listed(parts: list[BakedPart]) -> list[BakedPart]:
    """The noisiest parts first, and behind them those with most leaks and those of which most looks into a wall, that many of
    each."""
    noisy = sorted(parts, key=lambda p: -p.noise)
    leaks = sorted((p for p in noisy[LISTED:] if p.leaks), key=lambda p: -p.leaks)[:LISTED]
    buried = sorted((p for p in noisy[LISTED:] if p.buried > 0 and not p.leaks), key=lambda p: -p.buried)
    return noisy[:LISTED] + leaks + buried[:LISTED]
