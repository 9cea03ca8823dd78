"""A look at the light of a scene: asked for, traced, laid out on pages and told; the same for page, shell and server."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

from tidy_caravan.core.bake.baking import Baked, Begun
from tidy_caravan.core.bake.denoising import denoised
from tidy_caravan.core.bake.pages import Layout, Page, exposure, exr, for_view, laid_out, paged, shown
from tidy_caravan.core.bake.report import BakeAsk, BakeReport, told
from tidy_caravan.core.closeup import png
from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, U8
from tidy_caravan.core.work.heavy import Workshop


@dataclass(frozen=True)
class Look:
    """srgb: (H, W, 3) each page as it is shown, white where `report.white` says."""

    report: BakeReport
    baked: Baked
    layout: Layout
    pages: list[Page]
    srgb: list[U8]

    def files(self) -> dict[str, bytes]:
        """The pages as floats and as pictures; made one by one."""
        out: dict[str, bytes] = {}
        for said, page, srgb in zip(self.report.pages, self.pages, self.srgb, strict=True):
            out |= {f"{said.name}.exr": exr(page.light), f"{said.name}.png": png(srgb)}
        return out

    def for_view(self) -> tuple[dict[int, F64], U8]:
        """By node, scale, offset and page (5,) of its map, and the pages (P, H, W, 3)."""
        stack, places = for_view(self.layout, self.srgb)
        return dict(zip((s.node for s in self.baked.sheets), places, strict=True)), stack


def look_at(
    scene: Scene, channel: int, asked: BakeAsk, workshop: Workshop, tell: Tell = lambda done, total: None
) -> Look:
    """Bakes what is asked for. Raises CaravanError when there is no map to bake, or more of them than pages hold; both
    before anything is traced."""
    ask, began = asked.on(scene), time.monotonic()
    begun = Begun.of(scene, channel, ask, workshop)
    if not begun.chosen:
        raise CaravanError(
            "no part has a lightmap with a size: put “Lightmap UV set” and “Texel budget” on the tape and run it",
            code="bake.no-maps",
        )
    try:
        begun, layout = with_layout(scene, begun)
    except ValueError as error:
        raise CaravanError(str(error), code="bake.too-large") from error
    baked = begun.traced(tell)
    mix = asked.mix()
    pages = paged(baked, mix, layout)
    if asked.denoise:
        for k, page in enumerate(pages):
            clean = denoised(page.light, workshop)
            if isinstance(clean, str):
                baked.lost.append(f"the noise could not be taken out ({clean})")
            else:
                pages[k] = replace(page, light=clean)
    white = asked.white or exposure(page.light for page in pages)
    srgb = [shown(page, white, asked.mark) for page in pages]
    return Look(told(scene, baked, mix, white, time.monotonic() - began, layout), baked, layout, pages, srgb)


def with_layout(scene: Scene, begun: Begun) -> tuple[Begun, Layout]:
    """The bake and where its maps lie; without the light that others have where pages do not hold both. Raises ValueError where
    they do not hold what is asked for."""
    divide = begun.ask.divide
    try:
        return begun, laid_out(scene.nodes, *begun.sizes(), divide)
    except ValueError:
        alone = begun.alone()
        return alone, laid_out(scene.nodes, *alone.sizes(), divide)
