"""Where findings are, in the page: pictures of their places, the view that goes there, steps before and after, levels of
detail, and a point picked in the view."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh
from playwright.sync_api import expect

from tests.core.test_sides import at, sheet
from tests.interface.browser import BrowserTest
from tests.server.stand import begin, client, work


def quay() -> bytes:
    """Bollards with lids that lie flush on them, the largest first, and a ball that has levels."""
    scene = trimesh.Scene()
    for k, size in enumerate((0.8, 0.5, 0.3)):
        scene.add_geometry(trimesh.creation.box([1, 1, 1]), f"bollard_{k}", f"bollard_{k}", transform=at(4 * k, 0.5, 0))
        lid = sheet(size, size)
        scene.add_geometry(lid, f"lid_{k}", f"lid_{k}", transform=at(4 * k, 1.0002, 0, (-np.pi / 2, [1, 0, 0])))
    scene.add_geometry(trimesh.creation.icosphere(4, 0.5), "buoy", "buoy", transform=at(0, 0.5, 4))
    return bytes(scene.export(file_type="glb"))


STEPS: list[dict[str, Any]] = [
    {"kind": "match_units_axes"},
    {"kind": "mend_overlaps", "offsetMm": 20},
    {"kind": "place_pivots", "onlyFar": False},
    {"kind": "levels_of_detail", "errorMm": 8},
]


class Places(BrowserTest):
    def haul(self, steps: list[dict[str, Any]] | None = None) -> dict[str, Any]:
        with client() as c:
            haul = begin(c, quay(), name="quay.glb")
            if steps:
                tag = {"If-Match": f'"{haul["version"]}"'}
                answer = c.patch(f"/api/hauls/{haul['id']}", json={"route": {"steps": steps}}, headers=tag)
                self.assertEqual(answer.status_code, 200, answer.text)
                haul = work(c, haul["id"], "run")
        return haul

    def test_a_finding_opens_with_a_picture_of_its_worst_place_and_goes_to_the_next_by_keyboard(self) -> None:
        page, haul = self.page, self.haul()
        page.goto(f"{self.address}/hauls/{haul['id']}/survey")
        before = self.picture()
        calls = self.drawn()
        finding = page.get_by_role("button", name="Parts that flicker")
        finding.focus()
        page.keyboard.press("Enter")
        places = page.get_by_role("figure", name="Places of Parts that flicker")
        expect(places).to_contain_text("bollard_0 and lid_0")
        expect(places).to_contain_text("0.64 m²")
        expect(places).to_contain_text("place 1 of 3")
        image = places.get_by_role("img")
        expect(image).to_have_attribute("alt", "Close view of bollard_0 and lid_0")
        page.wait_for_function("e => e.complete && e.naturalWidth === 320", arg=image.element_handle())
        expect(page.get_by_text("Mend overlaps: Mend by lift, Offset 2 mm")).to_be_visible()
        shown = self.picture()
        self.assertNotEqual(shown, before)
        self.assertEqual(self.drawn(), calls)  # the lines are no draw calls of the scene
        places.get_by_role("button", name="The next place").focus()
        page.keyboard.press("Enter")
        expect(places).to_contain_text("0.25 m²")
        self.assertNotEqual(self.picture(), shown)
        page.keyboard.press("Enter")
        expect(places.get_by_role("button", name="The next place")).to_be_disabled()
        self.assert_nothing_overflows()

    def test_a_step_before_and_after_and_a_level_of_detail(self) -> None:
        page, haul = self.page, self.haul(STEPS)
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        whole = self.picture()
        button = page.get_by_role("button", name="Before and after Mend overlaps")
        button.focus()
        page.keyboard.press("Enter")
        expect(page.get_by_text("before Mend overlaps", exact=False).first).to_be_visible()
        expect(page.get_by_text("after Mend overlaps", exact=False).first).to_be_visible()
        wipe = page.get_by_role("slider")
        self.drawn()
        sides = []
        for end in ("0", "1"):
            wipe.fill(end)
            sides.append(self.picture())
        self.assertNotEqual(*sides)
        page.keyboard.press("Escape")  # out of the slider, where keys are its own
        page.keyboard.press("p")
        expect(wipe).to_have_count(0)
        level = page.get_by_label("Level of detail")
        triangles = page.get_by_test_id("view-figures")
        expect(triangles).to_contain_text("5 162 triangles")
        level.select_option("1")
        expect(page.get_by_text("level of detail 1")).to_be_visible()
        expect(triangles).not_to_contain_text("5 162 triangles")
        self.assertNotEqual(self.picture(), whole)
        self.assert_nothing_overflows()

    def test_a_pivots_point_is_picked_in_the_view_and_its_corner_catches(self) -> None:
        page, haul = self.page, self.haul(STEPS)
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        self.drawn()
        page.get_by_role("button", name="Numbers of Place pivots").click()
        page.get_by_role("button", name="Pick the point in the view").click()
        expect(page.get_by_text("Click the point; corners catch.")).to_be_visible()
        page.keyboard.press("Escape")
        expect(page.get_by_label("Pivot at")).to_have_value("base")
        expect(page.get_by_label("Point, X")).to_have_count(0)
        page.get_by_role("button", name="Pick the point in the view").click()
        box = page.get_by_test_id("view").bounding_box()
        assert box
        # somewhere on the scene: looked for over the middle of the view
        for across, down in [(x, y) for y in (0.5, 0.45, 0.55, 0.4, 0.6) for x in np.linspace(0.2, 0.8, 13)]:
            page.mouse.click(box["x"] + box["width"] * across, box["y"] + box["height"] * down)
            self.still()
            if page.locator("dialog[open]").count():
                break
        values = [float(page.get_by_label(f"Point, {k}").input_value()) for k in "XYZ"]
        self.assertTrue(any(values), values)
        expect(page.get_by_label("Pivot at")).to_have_value("point")
        page.get_by_role("button", name="Save").click()
        route = self.route_once(haul["id"], lambda r: any(s.get("at") == "point" for s in r["steps"]))
        step = next(s for s in route["steps"] if s["kind"] == "place_pivots")
        self.assertEqual([step["pointX"], step["pointY"], step["pointZ"]], values)


if __name__ == "__main__":
    unittest.main()
