"""Findings in the page: by what they do, mended for all or for some, left as they are; and the lenses that show them."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import expect

from tests.interface.browser import BrowserTest
from tests.server.stand import begin, client
from tests.server.test_left import glb


class Findings(BrowserTest):
    def opened(self) -> str:
        with client() as c:
            haul: str = begin(c, glb("poster", "locker"), name="turned.glb")["id"]
        self.page.goto(f"{self.address}/hauls/{haul}/survey")
        self.drawn()
        return haul

    def test_one_is_left_with_its_reason_and_taken_back_by_keyboard_alone(self) -> None:
        haul, page = self.opened(), self.page
        group = page.get_by_role("region", name="looks wrong")
        expect(group.get_by_role("heading")).to_contain_text("Looks wrong")
        finding = group.get_by_role("button", name="Seen from behind")
        expect(finding).to_contain_text("rays from either side")
        finding.focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("row").filter(has_text="poster")).to_be_visible()
        expect(page.get_by_role("row").filter(has_text="bench")).to_have_count(0)
        group.get_by_role("button", name="Leave it …").focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("textbox", name="Why it is left as it is")).to_be_focused()
        page.keyboard.type("stage flats")
        page.keyboard.press("Enter")
        left = page.get_by_text("Left as they are: 1 finding")
        expect(left).to_be_visible()
        route = self.route_once(haul, lambda r: bool(r["left"]))
        self.assertEqual(route["left"], [{"code": "faces.seen-from-behind", "because": "stage flats", "parts": []}])
        self.assert_nothing_overflows()
        left.press("Enter")
        expect(page.get_by_text("Left as it is: stage flats")).to_be_visible()
        page.get_by_role("button", name="Take back").focus()
        page.keyboard.press("Enter")
        self.route_once(haul, lambda r: not r["left"])
        expect(left).to_have_count(0)

    def test_what_cannot_be_had_is_told_where_it_would_be(self) -> None:
        """No answer is no praise: neither the station nor the ledger says that nothing was found."""
        page, told = self.page, "The disk is full. Free some space, then try again."
        refused = {"type": "about:blank", "status": 507, "code": "disk.full", "title": told, "where": ""}
        page.route(re.compile(r"/findings(\?|$)"), lambda route: route.fulfill(status=507, json=refused))
        page.route("**/api/formats", lambda route: route.fulfill(status=507, json=refused))
        self.open_haul("Fitters", "survey")
        station = page.get_by_role("region", name="survey station")
        expect(station.get_by_role("alert")).to_have_text(told)
        page.get_by_role("button", name="findings", exact=True).click()
        expect(page.get_by_role("grid", name="Findings of the scene").get_by_role("alert")).to_have_text(told)
        expect(page.get_by_text("Nothing found.")).to_have_count(0)
        page.get_by_role("link", name="Pack").click()
        expect(page.get_by_text(f"Formats: {told}")).to_be_visible()
        self.faults = [f for f in self.faults if "507" not in f]  # the browser tells of the answers themselves

    def test_what_the_view_lacks_is_told_and_can_be_asked_for_again(self) -> None:
        """Neither an empty pane, nor black where an image should be, nor the browser's own sign for a broken one."""
        page, told = self.page, "The disk is full. Free some space, then try again."
        refused = {"type": "about:blank", "status": 507, "code": "disk.full", "title": told, "where": ""}
        page.route(re.compile(r"/(images/\d+|picture\.png)$"), lambda route: route.fulfill(status=507, json=refused))
        page.route(
            re.compile(r"/scenes/[^/]+/(view|picked)(\?|$)"), lambda route: route.fulfill(status=507, json=refused)
        )
        page.route("**/api/yardstick/habits", lambda route: route.fulfill(status=507, json=refused))
        haul = self.asked("hauls?limit=500&search=Fitters")["items"][0]
        page.goto(self.address)
        expect(page.get_by_text("The image could not be loaded").first).to_be_visible()
        page.goto(f"{self.address}/hauls/{haul['id']}/survey")
        expect(page.get_by_text(f"The view cannot be shown: {told}")).to_be_visible()
        page.get_by_role("button", name="Mirrored parts").click()
        expect(page.get_by_text(f"What is marked in the view: {told}")).to_be_visible()
        page.unroute(re.compile(r"/scenes/[^/]+/(view|picked)(\?|$)"))
        page.get_by_role("button", name="Try again").click()
        self.drawn()
        expect(page.get_by_text(f"drawn in its colour: {told}")).to_be_visible()
        self.still()
        dark = page.locator("canvas").evaluate(
            """(canvas) => { const flat = document.createElement('canvas');
            flat.width = canvas.width; flat.height = canvas.height;
            const pen = flat.getContext('2d'); pen.drawImage(canvas, 0, 0);
            const all = pen.getImageData(0, 0, flat.width, flat.height).data;
            let dark = 0; for (let i = 0; i < all.length; i += 4) dark += all[i + 3] > 0 && all[i] + all[i + 1] + all[i + 2] < 12;
            return dark; }"""
        )
        self.assertEqual(dark, 0, "black points")
        page.goto(f"{self.address}/destinations")
        expect(page.get_by_text(f"Habits of importers: {told}")).to_be_visible()
        self.faults = [f for f in self.faults if "507" not in f]

    def test_a_page_of_many_findings_scrolls_them_and_not_itself(self) -> None:
        self.open_haul("Fitters", "survey")
        page = self.page
        last = page.get_by_role("region", name="wastes").get_by_role("heading").first
        expect(last).to_be_attached()
        self.assert_nothing_overflows()
        last.scroll_into_view_if_needed()
        expect(last).to_be_visible()
        self.assert_nothing_overflows()
        self.assertEqual(page.evaluate("[scrollX, scrollY]"), [0, 0])
        wide = page.get_by_role("main").bounding_box()
        page.get_by_role("button", name="Propose a route").click()
        expect(page.get_by_role("heading", name="Proposed route")).to_be_visible()
        self.assertEqual(page.get_by_role("main").bounding_box(), wide, "what is behind a dialog stays where it was")

    def test_a_mend_for_the_chosen_parts_only(self) -> None:
        haul, page = self.opened(), self.page
        page.get_by_role("button", name="Seen from behind").click()
        page.get_by_role("row").filter(has_text="poster").click()
        page.get_by_role("button", name="for the 1 selected").click()
        route = self.route_once(haul, lambda r: any(s["kind"] == "turn_faces" for s in r["steps"]))
        step = next(s for s in route["steps"] if s["kind"] == "turn_faces")
        self.assertEqual((step["how"], len(step["where"]["parts"])), ("seen", 1))
        self.assertIn("poster", step["where"]["parts"][0])

    def test_every_lens_draws_something_of_its_own_and_counts_the_same_calls(self) -> None:
        self.opened()
        page = self.page
        calls = self.drawn()
        pictures = {}
        for name in page.get_by_label("Lens").get_by_role("option").all_inner_texts():
            page.get_by_label("Lens").select_option(label=name)
            self.still()
            pictures[name] = page.locator("canvas").first.screenshot()
            self.assertEqual(self.drawn(), calls, name)
        for name in ("Pivots", "Hard edges", "Texture scale", "Reversed faces"):
            self.assertNotEqual(pictures[name], pictures["As it looks"], name)
        self.assertNotEqual(pictures["Pivots"], pictures["Hard edges"])


if __name__ == "__main__":
    unittest.main()
