"""Step: lightmaps of many parts on shared pages, with a place for each."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Effect
from tidy_caravan.core.lightmap.pages import laid_on_pages
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.words import plural, weight


@step
class LightPages(Step):
    """Puts the lightmaps that parts have a size for on shared pages: one image for many parts instead of one for each. The
    coordinates of the meshes stay; each part gets the scale and offset that bring its own to the page, in the
    manifest, and in the file where it can hold them: glTF among the data of its node (lightmapPlace: scaleOffset, page) or
    beside the transforms of a list (_LIGHTMAP_SCALE_OFFSET, _LIGHTMAP_PAGE), OpenUSD as primvars (lightmapScaleOffset,
    lightmapPage; upwards). The arrival compares them."""

    title = "Lightmap pages"
    summary = "Many parts on one lightmap image, with scale and offset for each."

    phase = Phase.LIGHT

    kind: Literal["light_pages"] = "light_pages"
    side: int = parameter(
        2048, "Page", "No page is longer; never more than the destination takes", "texels", ge=64, le=16384
    )
    by: Literal["layer", "all"] = parameter(
        "layer", "Together", "layer: each layer has pages of its own; all: whatever fits"
    )

    def effects(self) -> tuple[Effect, ...]:
        return ()

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        wanted = context.selected(self.where, scene) & (nodes.lightmap[:, 0] > 0) & (nodes.mesh >= 0)
        rows = np.flatnonzero(wanted)
        if not len(rows):
            text = "No part has a lightmap with a size: put “Texel budget” before this step"
            return scene, [Change(text=text, count=0, problem=True)]
        side = min(self.side, context.destination.max_texture)
        size = nodes.lightmap[rows].astype(np.int64)
        fits = size.max(axis=1) <= side
        changes = []
        if not fits.all():
            large = rows[~fits]
            text = f"{plural(len(large), 'map is', 'maps are')} larger than a page of {side} texels, and stay by themselves"
            changes.append(Change(text=text, count=len(large), problem=True, parts=identities_of(scene, large)))
            rows, size = rows[fits], size[fits]
        group = nodes.layer[rows].astype(np.int64) if self.by == "layer" else np.zeros(len(rows), np.int64)
        found = laid_on_pages(size, group, side)
        # pages that parts outside of this step are on keep their numbers
        others = nodes.page.copy()
        others[rows] = 0
        begin = int(others[others[:, 3] > 0, 0].max(initial=-1)) + 1
        page = others
        page[rows] = np.column_stack([found.page + begin, found.corner, found.size[found.page]])
        if len(rows):
            texels = int(found.size.prod(axis=1).sum())
            text = (
                f"{plural(len(rows), 'lightmap')} on {plural(len(found.size), 'page')}, {size.prod(axis=1).sum() / texels:.0%} of their "
                f"texels used, {weight(texels * context.destination.frame.light_bytes)}"
            )
            changes.insert(0, Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
        return scene.but(nodes=replace(nodes, page=page.astype(np.int32))), changes
