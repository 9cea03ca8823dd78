"""Light in the page: a budget that answers while the slider moves, and a bake that is looked at and gone on with."""

from __future__ import annotations

import io
import re
from typing import Any

import numpy as np
import PIL.Image
from playwright.sync_api import expect

from tests.interface.browser import BrowserTest
from tests.server.stand import client
from tests.server.test_light import lit


class LightStation(BrowserTest):
    def test_a_budget_is_chosen_and_put_on_the_tape(self) -> None:
        page = self.page
        with client() as c:
            haul = lit(c)
        page.goto(f"{self.address}/hauls/{haul['id']}/light")
        self.drawn()
        budget = page.get_by_role("region", name="Texel budget")
        expect(budget).to_contain_text("Lightmaps")
        before = budget.inner_text()
        slider = budget.get_by_role("slider")
        slider.focus()
        for _ in range(40):
            page.keyboard.press("ArrowRight")
        expect(budget).not_to_have_text(before)
        budget.get_by_role("radio", name="Megabytes").check()
        budget.get_by_label("Megabytes of all lightmaps").fill("2")
        expect(budget).to_contain_text(re.compile(r"[01]\.\d\d MB"))
        budget.get_by_role("button", name="Update step").click()
        route = self.route_once(haul["id"], lambda r: r["steps"][-1].get("by") == "megabytes")
        self.assertEqual((route["steps"][-1]["kind"], route["steps"][-1]["megabytes"]), ("light_budget", 2))
        self.assert_nothing_overflows()

    def test_a_first_look_and_more_samples(self) -> None:
        page = self.page
        with client() as c:
            haul = lit(c)
        page.goto(f"{self.address}/hauls/{haul['id']}/light")
        self.drawn()
        page.get_by_label("Lens").select_option("light")
        hatched = self.picture()
        bake = page.get_by_role("region", name="Preview bake")
        bake.get_by_role("button", name="First look").click()
        expect(bake.get_by_role("button", name="Go on to 4 samples")).to_be_visible(timeout=60_000)
        expect(bake).to_contain_text("6 maps")
        expect(page.get_by_label("Lens")).to_have_value("light")
        self.assertNotEqual(self.picture(), hatched)
        bake.get_by_role("button", name="Go on to 4 samples").click()
        expect(bake.get_by_role("button", name="Go on to 16 samples")).to_be_visible(timeout=60_000)
        noise = bake.get_by_role("list", name="Noise and light by part").get_by_role("listitem")
        expect(noise).to_have_count(6)
        # of one part alone: the others keep the light that they have, and it is said
        page.get_by_test_id("ledger").get_by_role("row").nth(1).click()
        bake.get_by_label("only 1 selected part").check()
        bake.get_by_role("button", name="First look").click()
        expect(bake).to_contain_text("5 other parts show the light from before.", timeout=60_000)
        expect(noise).to_have_count(1)
        self.assert_nothing_overflows()

    def test_powers_change_the_picture_and_nothing_is_traced_for_it(self) -> None:
        page = self.page
        with client() as c:
            haul = lit(c)
        page.goto(f"{self.address}/hauls/{haul['id']}/light")
        self.drawn()
        bake = page.get_by_role("region", name="Preview bake")
        more = bake.get_by_role("button", name="Go on to 4 samples")
        bake.get_by_role("button", name="First look").click()
        expect(more).to_be_enabled(timeout=60_000)
        day = self.picture()
        asked: list[Any] = []
        answers: list[Any] = []
        self.listen("response", lambda r: answers.append(r.json()) if r.url.endswith("/answer") else None)
        self.listen("request", lambda r: asked.append(r.post_data_json) if r.url.endswith("/bake") else None)
        bake.get_by_label("Sky, candela per square metre").fill("230")
        page.wait_for_function("() => document.body.innerText.includes('Tracing light')", timeout=10_000)
        expect(more).to_be_enabled(timeout=60_000)
        self.assertAlmostEqual(asked[0]["sky"][1] / 230, 1.0, delta=0.2)
        self.assertEqual((asked[0]["samples"], asked[0]["keep"]), (1, True))
        self.assertGreater(asked[0]["white"], 0)
        night = self.picture()
        self.assertNotEqual(night, day)
        self.assertLess(brightness(night), brightness(day))
        self.assertEqual([a["bake"]["rays"] for a in answers], [0])
        bake.get_by_label("denoise").check()
        expect(more).to_be_disabled()
        expect(more).to_be_enabled(timeout=60_000)
        self.assertNotEqual(self.picture(), night)

    def test_islands_are_shown_on_the_map_and_on_the_surface(self) -> None:
        page = self.page
        with client() as c:
            haul = lit(c)
        page.goto(f"{self.address}/hauls/{haul['id']}/light")
        self.drawn()
        expect(page.get_by_text("Select one part to see its lightmap")).to_be_visible()
        page.get_by_role("row").filter(has_text="wall").first.click()
        islands = page.get_by_role("region", name="Islands of the lightmap")
        expect(islands).to_contain_text("6 islands")  # a box
        plain = self.picture()
        chart = islands.get_by_role("img")
        chart.scroll_into_view_if_needed()
        chart.focus()
        page.keyboard.press("ArrowRight")
        expect(islands).to_contain_text("Island 1: 2 triangles, outlined in the view.")
        self.assertNotEqual(self.picture(), plain, "the island is not on the surface")
        page.keyboard.press("ArrowRight")
        expect(islands).to_contain_text("Island 2")
        # and back: the wall under the pointer, wherever it is in the view
        page.get_by_label("Lens").focus()
        expect(islands).to_contain_text("Point at an island")
        page.get_by_role("button", name="Frame").click()
        self.still()
        box = page.locator("canvas").last.bounding_box()
        assert box
        for x in range(1, 20):
            page.mouse.move(box["x"] + box["width"] * x / 20, box["y"] + box["height"] / 2)
            self.still()
            if "outlined in the view" in islands.inner_text():
                break
        expect(islands).to_contain_text("outlined in the view")
        self.assert_nothing_overflows()


def brightness(picture: bytes) -> float:
    with PIL.Image.open(io.BytesIO(picture)) as image:
        return float(np.asarray(image.convert("L"), np.float64).mean())
