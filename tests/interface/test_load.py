"""The Load station and the destinations in the browser."""

from __future__ import annotations

import json
import unittest
from pathlib import Path
from typing import Any

from playwright.sync_api import expect

from tests.core.test_collada import BOUND, document, effect
from tests.interface.browser import BrowserTest
from tests.interface.test_journey import AXE
from tests.server.stand import begin, client
from tests.support import PNG, one_triangle

PAINTED = document(
    f'<node name="sign">{BOUND}</node>', libraries=effect('<diffuse><texture texture="smp" texcoord="UV"/></diffuse>')
)


class Load(BrowserTest):
    def pages(self, name: str) -> None:
        self.page.get_by_role("navigation", name="Pages of the Load station").get_by_role("button", name=name).click()

    def test_travel_list_shows_the_three_fates(self) -> None:
        self.open_haul("Landing from three", "load")
        self.pages("Travel list")
        converted = self.page.get_by_role("region", name="Is converted")
        expect(converted).to_contain_text("scattered copies")
        expect(converted).to_contain_text("within 2 mm")
        expect(self.page.get_by_role("region", name="Stays behind")).to_contain_text("cut out of what they open")
        self.assert_nothing_overflows()

    def test_missing_pictures_are_supplied_on_the_spot(self) -> None:
        with client() as c:
            haul = begin(c, PAINTED, "sign.dae")
        self.page.goto(f"{self.address}/hauls/{haul['id']}/load")
        self.pages("Travel list")
        missing = self.page.get_by_role("region", name="Missing images")
        expect(missing).to_contain_text("board.png")
        self.page.get_by_label("Missing images").locator("input").set_input_files(
            [{"name": "board.png", "mimeType": "image/png", "buffer": PNG}]
        )
        expect(missing).to_have_count(0)

    def test_a_file_of_several_is_taken_out_again(self) -> None:
        with client() as c:
            haul = begin(c, {"quay.glb": one_triangle().glb(), "sign.dae": PAINTED, "board.png": PNG})
        self.page.goto(f"{self.address}/hauls/{haul['id']}/load")
        self.page.get_by_text("3 files").click()
        self.assert_nothing_overflows()
        files = self.page.get_by_role("list", name="Files of the source")
        files.get_by_role("button", name="Remove sign.dae").click()
        expect(self.page.get_by_text("2 files")).to_be_visible()
        expect(self.page.get_by_role("navigation", name="Trail")).to_contain_text("1 part")
        expect(files).not_to_contain_text("sign.dae")

    def test_the_unit_is_decided_with_one_click_and_never_silently(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())
        self.page.goto(f"{self.address}/hauls/{haul['id']}/load")
        self.pages("Unit")
        row = self.page.get_by_role("row").filter(has_text="centimetre")
        row.get_by_role("button", name="Use").click()
        expect(row.get_by_role("button", name="in use")).to_be_visible()
        wanted = {"kind": "match_units_axes", "sourceMetresPerUnit": 0.01}
        self.route_once(haul["id"], lambda route: any(wanted.items() <= s.items() for s in route["steps"]))

    def test_nothing_can_be_put_on_the_tape_before_the_kinds_of_steps_are_known(self) -> None:
        """A click before that used to do nothing, and said so to nobody."""
        with client() as c:
            haul = begin(c, one_triangle().glb())
        waiting: list[Any] = []
        self.page.route("**/api/steps", lambda route: waiting.append(route))
        self.page.goto(f"{self.address}/hauls/{haul['id']}/load")
        self.pages("Unit")
        use = self.page.get_by_role("row").filter(has_text="centimetre").get_by_role("button")
        expect(use).to_be_disabled()
        waiting[0].continue_()
        expect(use).to_be_enabled()
        use.click()
        expect(use).to_have_text("in use")

    def test_kinds_of_steps_that_cannot_be_had_are_told_and_asked_for_again(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())
        refused = {"title": "The disk is full. Free some room.", "status": 507, "code": "full"}
        self.page.route("**/api/steps", lambda route: route.fulfill(status=507, json=refused))
        self.page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        tape = self.page.get_by_role("region", name="Tape")
        expect(tape.get_by_role("alert")).to_have_text("The steps cannot be shown: The disk is full. Free some room.")
        expect(tape.get_by_role("button", name="Add a step")).to_be_disabled()
        self.page.unroute("**/api/steps")
        tape.get_by_role("button", name="Try again").click()
        expect(tape.get_by_role("button", name="Add a step")).to_be_enabled()
        self.faults = [f for f in self.faults if "507" not in f]  # the browser tells of the answers themselves

    def test_a_file_is_given_another_unit_than_the_others(self) -> None:
        page = self.page
        haul = self.open_haul("Landing from three", "load")
        self.pages("Unit")
        files = page.get_by_role("table", name="Units of the files")
        expect(files.get_by_role("row").filter(has_text="quay.dae")).to_contain_text("centimetre, Z up")
        files.get_by_role("button", name="gates.obj").click()
        units = page.get_by_role("table", name="Units that the scene may be in")
        expect(units.get_by_role("row").filter(has_text="likeliest")).to_contain_text("5 of 5")
        units.get_by_role("row").filter(has_text="inch").get_by_role("button", name="Use").click()
        expect(files.get_by_role("row").filter(has_text="gates.obj")).to_contain_text("inchfoot – to be decided")

        def said(route: dict[str, Any]) -> Any:
            step = next(s for s in route["steps"] if s["kind"] == "match_units_axes")
            return [(f["file"], f["metresPerUnit"], f["up"]) for f in step["files"]]

        self.route_once(haul["id"], lambda route: said(route) == [("gates.obj", 0.0254, "Z")])
        # the ledger and the view show it as it is read now: a gate of 1.2 m in feet is one of 10 cm in inches
        page.get_by_role("searchbox").or_(page.get_by_placeholder("Search")).first.fill("ticket_gate_1")
        expect(page.get_by_test_id("ledger")).to_contain_text("10.0 cm")
        expect(page.get_by_test_id("view")).to_contain_text("source, as the route reads it")
        page.get_by_role("button", name="Numbers of Match units and axes").click()
        form = page.get_by_role("dialog", name="Match units and axes")
        expect(form.get_by_role("group", name="gates.obj").get_by_label("One unit")).to_have_value("0.0254")
        form.get_by_role("button", name="Read gates.obj as it says").click()
        form.get_by_role("button", name="Save").click()
        self.route_once(haul["id"], lambda route: said(route) == [])
        expect(files.get_by_role("row").filter(has_text="gates.obj")).to_contain_text("assumed")
        self.assert_nothing_overflows()
        for _ in range(2):
            page.get_by_role("button", name="Undo").first.click()
            page.wait_for_load_state("networkidle")
        self.route_once(haul["id"], lambda route: said(route) == [("gates.obj", 0.3048, "Z")])

    def test_shapes_are_tried_in_the_view_before_they_are_on_the_tape(self) -> None:
        page = self.page
        self.open_haul("Landing from three", "load")
        self.pages("Shapes")
        expect(
            page.get_by_role("table", name="Shapes").get_by_role("row").filter(has_text="rowing_boat")
        ).to_contain_text("level 2")
        tolerance = page.get_by_label("Tolerance in millimetres")
        tolerance.fill("")
        tolerance.press_sequentially("0.05")  # through 0 and 0.0, which are no tolerances
        expect(tolerance).to_have_value("0.05")
        tolerance.fill("0")
        page.get_by_label("Round things by").focus()  # what could not be used is what it was
        expect(tolerance).to_have_value("0.05")
        page.get_by_label("Round things by").select_option("segments")
        segments = page.get_by_label("Segments of a full circle")
        segments.fill("")
        segments.press_sequentially("24")  # through 2, which makes no circle
        expect(segments).to_have_value("24")
        segments.fill("6")
        before = page.get_by_test_id("view-figures").inner_text()
        page.get_by_role("button", name="Try it").click()
        expect(page.get_by_text("as it would be made")).to_be_visible()
        expect(page.get_by_test_id("view-figures")).not_to_have_text(before)
        page.get_by_role("button", name="Put on the tape").click()
        expect(page.locator("[data-step=make_shapes]")).to_have_count(1)
        page.locator("[data-step=make_shapes]").get_by_role("button", name="Take Make shapes again off").click()
        expect(page.locator("[data-step=make_shapes]")).to_have_count(0)

    def test_a_set_by_rule_and_by_a_box_drawn_in_the_view(self) -> None:
        page = self.page
        haul = self.open_haul("Landing from three", "load")
        self.pages("Sets")
        expect(page.get_by_role("list", name="Sets in order of precedence").get_by_role("listitem")).to_have_count(3)
        page.get_by_role("button", name="New set").click()
        figures = page.get_by_test_id("set-figures")
        page.get_by_placeholder("bench_*, lamp_post_??").fill("lamp_post_*")
        expect(figures).to_contain_text("12 parts")
        page.get_by_placeholder("bench_*, lamp_post_??").fill("")
        page.get_by_role("button", name="Draw it in the view").click()
        box = page.get_by_test_id("view").locator("canvas").bounding_box()
        assert box
        page.mouse.move(box["x"] + 10, box["y"] + 10)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] - 10, box["y"] + box["height"] - 10, steps=4)
        page.mouse.up()
        expect(figures).to_contain_text("parts of")
        expect(page.get_by_title("Show the box in the view")).to_be_visible()
        page.get_by_label("Name of the set").fill("Everything drawn")
        page.get_by_label("shadow only").check()
        page.get_by_role("button", name="Save set").click()
        item = page.get_by_role("listitem").filter(has_text="Everything drawn")
        expect(item).to_contain_text("throws a shadow only")
        expect(item).to_contain_text("decided further up")
        last = self.route_once(haul["id"], lambda route: route["sets"][-1]["name"] == "Everything drawn")["sets"][-1]
        self.assertIn("inside", last["rules"][0])
        item.get_by_role("button", name="Delete Everything drawn").click()
        expect(item).to_have_count(0)

    def test_every_page_is_accessible(self) -> None:
        self.open_haul("Landing from three", "load")
        self.page.evaluate(AXE.read_text())
        for name in ("Contents", "Travel list", "Unit", "Shapes", "Sets"):
            self.pages(name)
            self.still()
            report = self.page.evaluate("axe.run(document, {resultTypes: ['violations']})")
            serious = [v for v in report["violations"] if v["impact"] in ("serious", "critical")]
            self.assertEqual([(v["id"], v["nodes"][0]["html"][:200]) for v in serious], [], name)


class Destinations(BrowserTest):
    def test_a_stand_in_answers_and_the_proof_is_kept_edited_and_carried(self) -> None:
        page = self.page
        page.goto(f"{self.address}/destinations/metre-y-up-right")
        expect(page.get_by_role("img", name="The yardstick")).to_be_visible()
        page.get_by_label("Simulated receiver").select_option("centimetres")
        reading = page.get_by_test_id("reading")
        expect(reading).to_contain_text("reads your metres as centimetres")
        page.get_by_role("button", name="Save as a destination of my own").click()
        page.wait_for_url("**/destinations/metre-y-up-right-proven*")
        expect(page.get_by_role("list", name="Proofs")).to_contain_text("glb")
        page.get_by_role("button", name="Edit").click()
        page.get_by_label("Title").fill("The old engine")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_role("heading", name="The old engine")).to_be_visible()
        with page.expect_download() as got:
            page.get_by_role("link", name="Export JSON").click()
        data = json.loads(Path(got.value.path()).read_text())
        self.assertEqual(data["title"], "The old engine")
        page.get_by_label("Destination as JSON").set_input_files(
            [
                {
                    "name": "d.json",
                    "mimeType": "application/json",
                    "buffer": json.dumps(data | {"title": "Carried"}).encode(),
                }
            ]
        )
        expect(page.get_by_role("heading", name="Carried")).to_be_visible()
        for name in ("Carried", "The old engine"):
            row = page.get_by_role("region", name="List of destinations").get_by_role("link", name=name)
            row.click()
            page.get_by_role("button", name=f"Delete {name}").click()
            expect(row).to_have_count(0)
        page.get_by_role("status").get_by_role("button", name="Undo").last.click()
        expect(page.get_by_role("heading", name="The old engine")).to_be_visible()
        page.get_by_role("button", name="Edit").click()
        page.get_by_label("Title").fill("Renamed")
        page.get_by_role("button", name="Save").click()
        page.get_by_role("button", name="Undo: Rename").click()
        expect(page.get_by_role("heading", name="The old engine")).to_be_visible()
        expect(page.get_by_role("button", name="Redo: Rename")).to_be_enabled()
        page.keyboard.press("Control+Shift+Z")
        expect(page.get_by_role("heading", name="Renamed")).to_be_visible()
        page.get_by_role("button", name="Restore Carried").click()
        expect(page.get_by_role("heading", name="Carried")).to_be_visible()

    def test_answers_by_hand_and_answers_that_cannot_be(self) -> None:
        page = self.page
        page.goto(f"{self.address}/destinations/metre-z-up-right")
        for axis, size in zip("XYZ", ("1", "2", "3"), strict=True):
            page.get_by_label(f"Size along {axis}").fill(size)
        ends = ("one block", "two blocks", "three blocks")
        for end, axis in zip(ends, ("+X", "+X", "+Z"), strict=True):
            page.get_by_role("group", name=f"The end with {end} points along").get_by_role(
                "button", name=axis, exact=True
            ).click()
        page.get_by_role("button", name="Calculate").click()
        expect(page.get_by_test_id("reading")).to_contain_text("Two marks cannot lie on one axis")
        page.get_by_role("group", name="The end with two blocks points along").get_by_role(
            "button", name="+Y", exact=True
        ).click()
        page.get_by_role("button", name="Calculate").click()
        expect(page.get_by_test_id("reading")).to_contain_text("keeps the axes")
        self.assert_nothing_overflows()
        page.evaluate(AXE.read_text())
        report = page.evaluate("axe.run(document, {resultTypes: ['violations']})")
        serious = [v for v in report["violations"] if v["impact"] in ("serious", "critical")]
        self.assertEqual([(v["id"], v["nodes"][0]["html"][:200]) for v in serious], [])

    def test_the_yardstick_is_downloaded(self) -> None:
        self.page.goto(f"{self.address}/destinations")
        with self.page.expect_download() as got:
            self.page.get_by_role("link", name="Download").click()
        self.assertEqual(got.value.suggested_filename, "yardstick.glb")


if __name__ == "__main__":
    unittest.main()
