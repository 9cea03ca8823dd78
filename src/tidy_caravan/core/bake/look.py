"""A look at the light of a scene: asked for, traced, laid out on a page and told; the same for page, shell and server."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

from tidy_caravan.core.bake.baking import Baked, bake, mapped
from tidy_caravan.core.bake.denoising import denoised
from tidy_caravan.core.bake.pages import Page, exposure, exr, paged, shown, spread
from tidy_caravan.core.bake.report import BakeAsk, BakeReport, told
from tidy_caravan.core.closeup import png
from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, U8
from tidy_caravan.core.work.heavy import Tell, Workshop


@dataclass(frozen=True)
class Look:
    """srgb: (H, W, 3) the page as it is shown, white where `report.white` says."""

    report: BakeReport
    baked: Baked
    page: Page
    srgb: U8

    def files(self) -> dict[str, bytes]:
        """The page as floats and as a picture."""
        return {"light.exr": exr(self.page.light), "light.png": png(self.srgb)}

    def places(self) -> dict[int, F64]:
        """By node, scale and offset (4,) of its map on the page."""
        return dict(zip((s.node for s in self.baked.sheets), self.page.places(), strict=True))


def look_at(
    scene: Scene, channel: int, asked: BakeAsk, workshop: Workshop, tell: Tell = lambda done, total: None
) -> Look:
    """Bakes what is asked for. Raises CaravanError when there is no map to bake, or more of them than a page holds; both
    before anything is traced."""
    ask, began = asked.on(scene), time.monotonic()
    _, sizes = mapped(scene, channel, ask)
    if not len(sizes):
        raise CaravanError(
            "no part has a lightmap with a size: put “Lightmap UV set” and “Texel budget” on the tape and run it",
            code="bake.no-maps",
        )
    try:
        spread(sizes)
    except ValueError as error:
        raise CaravanError(str(error), code="bake.too-large") from error
    baked = bake(scene, channel, ask, workshop, tell)
    mix = asked.mix()
    page = paged(baked, mix)
    if asked.denoise:
        clean = denoised(page.light, workshop)
        if isinstance(clean, str):
            baked.lost.append(f"the noise could not be taken out ({clean})")
        else:
            page = replace(page, light=clean)
    white = asked.white or exposure(page.light)
    return Look(told(scene, baked, mix, white, time.monotonic() - began), baked, page, shown(page, white, asked.mark))
