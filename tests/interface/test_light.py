"""Light in the page: a budget that answers while the slider moves, and a bake that is looked at and gone on with."""

from __future__ import annotations

import re

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
        expect(bake.get_by_role("list", name="Noise and light by part").get_by_role("listitem")).to_have_count(6)
        self.assert_nothing_overflows()
