"""A person's way through the application: drop a file, see, mend, run, pack, download, arrive."""

from __future__ import annotations

import base64
import contextlib
import io
import json
import unittest
import zipfile
from pathlib import Path

from playwright.sync_api import Route, TimeoutError, expect

from tests.interface.browser import BrowserTest
from tests.server.stand import begin, client
from tests.support import ROOT, one_triangle, trimesh_scene, validate_bytes

AXE = ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js"
DROP = """([name, data]) => {
  const bytes = Uint8Array.from(atob(data), c => c.charCodeAt(0));
  const transfer = new DataTransfer();
  transfer.items.add(new File([bytes], name));
  for (const kind of ['dragenter', 'dragover', 'drop'])
    window.dispatchEvent(new DragEvent(kind, { dataTransfer: transfer, bubbles: true, cancelable: true }));
}"""


class Journey(BrowserTest):
    def drop(self, name: str, data: bytes) -> None:
        self.page.evaluate(DROP, [name, base64.b64encode(data).decode()])

    def test_drop_to_arrival(self) -> None:
        page = self.page
        page.goto(self.address)
        expect(page.get_by_role("heading", name="Hauls")).to_be_visible()
        self.drop("quay-pieces.glb", trimesh_scene(21, 20).export(file_type="glb"))
        page.wait_for_url("**/survey")
        findings = page.get_by_role("region", name="Findings")
        expect(findings.get_by_text("Missing normals")).to_be_visible(timeout=60_000)
        self.drawn()
        # a finding shows its parts
        findings.get_by_text("Mirrored parts").click()
        expect(page.get_by_test_id("ledger")).to_have_attribute("data-total", "4")
        findings.get_by_text("Mirrored parts").click()
        expect(page.get_by_test_id("ledger")).to_have_attribute("data-total", "20")
        # one click puts the mend on the tape, in its place
        findings.get_by_role("button", name="Mend normals").click()
        tape = page.get_by_role("list", name="Steps of the route")
        expect(tape.locator("li[data-step]")).to_have_count(4)
        self.assertEqual(
            [s.get_attribute("data-step") for s in tape.locator("li[data-step]").all()],
            ["what_travels", "match_units_axes", "mend_normals", "lightmap_uvs"],
        )
        expect(findings.get_by_role("button", name="on the tape").first).to_be_visible()
        page.get_by_role("combobox", name="Destination").select_option("metre-z-up-right")
        expect(page.get_by_role("combobox", name="Destination")).to_have_value("metre-z-up-right")
        page.get_by_role("button", name="Run route").click()
        expect(page.get_by_text("ran in")).to_be_visible(timeout=90_000)
        expect(findings.get_by_text("Missing normals")).to_have_count(0)
        expect(tape.get_by_text("3 meshes given normals").or_(tape.get_by_text("given normals"))).to_be_visible()
        page.get_by_role("link", name="Pack").click()
        page.get_by_role("button", name="Pack", exact=True).click()
        expect(page.get_by_role("link", name="Download")).to_be_visible(timeout=90_000)
        with page.expect_download() as caught:
            page.get_by_role("link", name="Download").click()
        with zipfile.ZipFile(io.BytesIO(Path(caught.value.path()).read_bytes())) as archive:
            manifest = json.loads(archive.read("manifest.json"))
            self.assertEqual((len(manifest["parts"]), manifest["destination"]["name"]), (20, "metre-z-up-right"))
            checked = validate_bytes({"scene.glb": archive.read("scene.glb")})
        self.assertEqual((checked["errors"], checked["warnings"]), (0, 0))
        page.get_by_role("link", name="Arrive").click()
        page.get_by_role("button", name="Read back and compare").click()
        expect(page.get_by_test_id("verdict")).to_have_text("✓ Arrived as it left", timeout=60_000)
        expect(page.get_by_test_id("ledger")).to_have_attribute("data-total", "20")
        expect(page.get_by_label("Wipe between source and result")).to_be_visible()
        self.assert_nothing_overflows()

    def test_a_bad_file_is_a_sentence_on_the_screen(self) -> None:
        self.page.goto(self.address)
        self.drop("broken.glb", b"glTF\x02\0\0\0\xff\xff\0\0" + b"\0" * 20)
        self.page.wait_for_url("**/survey")
        expect(self.page.get_by_role("alert").first).to_contain_text("cut off", timeout=30_000)
        self.page.goto(f"{self.address}/hauls/00000000-0000-0000-0000-000000000000/survey")
        expect(self.page.get_by_role("alert")).to_contain_text("no such haul")
        self.faults[:] = [f for f in self.faults if "404" not in f]  # the browser tells of the missing haul itself

    def test_a_step_is_opened_changed_switched_off_and_moved(self) -> None:
        page = self.page
        self.open_haul("Landing, all stages", "mend")
        tape = page.get_by_role("list", name="Steps of the route")
        tape.get_by_role("button", name="Numbers of Lightmap UV set").click()
        dialog = page.get_by_role("dialog", name="Lightmap UV set")
        resolution, save = dialog.get_by_label("resolution"), dialog.get_by_role("button", name="Save")
        for text, why in (("", "fill"), ("8192", "4096"), ("100.5", "100 and 101"), ("1e999", "number")):
            resolution.fill("")
            resolution.press_sequentially(text)
            save.click()
            self.assertIn(why, resolution.evaluate("e => e.validationMessage"))
        # what the server refuses is told where it was given, and nothing of it is lost
        refusal = {"status": 507, "code": "disk.full", "title": "There is no room.", "where": ""}
        page.route("**/api/hauls/*", lambda r: r.fulfill(status=507, json=refusal) if r.request.method == "PATCH" else r.fallback())  # fmt: skip
        resolution.fill("128")
        save.click()
        expect(dialog.get_by_role("alert")).to_have_text("There is no room.")
        page.unroute("**/api/hauls/*")
        save.click()
        expect(dialog).to_have_count(0)
        page.get_by_role("button", name="Close message").click()
        self.faults[:] = [f for f in self.faults if "507" not in f]  # the browser tells of it itself
        # what may be empty may be emptied again
        tape.get_by_role("button", name="Numbers of Match units and axes").click()
        dialog = page.get_by_role("dialog", name="Match units and axes")
        unit = dialog.get_by_label("One unit of the source")
        unit.press_sequentially("0")
        dialog.get_by_role("button", name="Save").click()
        self.assertIn("greater than 0", unit.evaluate("e => e.validationMessage"))
        unit.fill("")
        dialog.get_by_role("button", name="Save").click()
        expect(dialog).to_have_count(0)
        tape.get_by_role("checkbox", name="Lightmap UV set on").click()
        expect(tape.get_by_text("switched off")).to_be_visible()
        tape.get_by_role("button", name="Lightmap UV set earlier").click()
        expect(tape.locator("li[data-step]").nth(1)).to_have_attribute("data-step", "lightmap_uvs")
        tape.get_by_role("button", name="Lightmap UV set later").click()
        tape.get_by_role("checkbox", name="Lightmap UV set on").click()
        expect(tape.locator("li[data-step]").nth(1)).to_have_attribute("data-step", "match_units_axes")

    def test_clicks_that_follow_each_other_at_once_are_no_other_persons_changes(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb(), name="hasty.glb")
            page = self.page
            page.goto(f"{self.address}/hauls/{haul['id']}/mend")
            boxes = page.get_by_role("list", name="Steps of the route").get_by_role("checkbox")
            expect(boxes).to_have_count(3)
            held: list[Route] = []
            page.route("**/api/hauls/*", lambda r: held.append(r) if r.request.method == "PATCH" else r.fallback())
            boxes.first.dblclick()
            boxes.nth(1).click(force=True)  # it waits for the answer to the first
            for one in held:
                one.continue_()
            page.unroute("**/api/hauls/*")
            expect(boxes.first).to_be_enabled()
            shown = [boxes.nth(k).is_checked() for k in range(3)]
            now = c.get(f"/api/hauls/{haul['id']}").json()
            self.assertEqual([s["enabled"] for s in now["route"]["steps"]], shown)
            self.assertEqual((len(held), now["version"] - haul["version"]), (1, 1))
            expect(page.get_by_role("alert")).to_have_count(0)


class Scale(BrowserTest):
    def test_twenty_thousand_parts(self) -> None:
        page = self.page
        haul = self.open_haul("Landing, all stages", "survey")
        ledger = page.get_by_test_id("ledger")
        expect(ledger).to_have_attribute("data-total", "20000")
        self.assertEqual(self.drawn(), haul["counts"]["drawCallsInstanced"])  # batches, not parts
        self.assertLess(ledger.locator("[data-row]").count(), 80)  # only what is seen exists
        page.keyboard.press("Tab")
        ledger.focus()
        page.keyboard.press("End")
        last = ledger.locator("[data-row='19999']")
        expect(last).to_be_visible()
        expect(last).not_to_contain_text("·")
        before = page.get_by_test_id("view").screenshot()
        last.click()
        expect(last).to_have_attribute("aria-selected", "true")
        expect(page.get_by_text("1 selected")).to_be_visible()
        self.still()
        self.assertNotEqual(before, page.get_by_test_id("view").screenshot())  # the view went there
        self.assertEqual(self.drawn(), haul["counts"]["drawCallsInstanced"])
        page.get_by_role("searchbox").fill("s39_gate")
        expect(ledger).to_have_attribute("data-total", "23")
        ledger.get_by_role("columnheader", name="Size").get_by_role("button").click()
        expect(ledger.locator("[data-row='0']")).to_contain_text("1.20 m")

    def test_a_bar_tells_the_scale_and_a_person_stands_where_one_clicks(self) -> None:
        page = self.page
        self.open_haul("Pellwick", "survey")
        before = self.drawn()
        bar = page.get_by_test_id("scale-bar")

        def metres_per_pixel() -> float:
            length, unit = bar.inner_text().split()
            wide = bar.locator("span").last.evaluate("e => e.getBoundingClientRect().width")
            return float(length) * {"km": 1000.0, "m": 1.0, "cm": 0.01, "mm": 0.001}[unit] / float(wide)

        first = metres_per_pixel()
        # about 90 m of landing across some 500 pixels
        self.assertTrue(0.08 < first < 0.4, first)
        view = page.get_by_test_id("view").locator("canvas")
        box = view.bounding_box()
        assert box is not None
        view.hover()
        for _ in range(4):
            page.mouse.wheel(0, -200)
        self.still()
        self.assertLess(metres_per_pixel(), first * 0.95)
        calls = self.drawn()
        page.get_by_role("button", name="Set down the figure of a person").click()
        expect(page.get_by_text("Click where the person of 1.75 m is to stand")).to_be_visible()
        page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.5)
        away = page.get_by_role("button", name="Take the figure of a person away")
        expect(away).to_be_visible()
        expect(page.get_by_text("Click where the person")).to_have_count(0)
        self.still()
        self.assertGreater(self.drawn(), calls)
        expect(page.get_by_text("selected ×")).to_have_count(0)
        away.click()
        self.still()
        self.assertEqual(self.drawn(), calls)
        self.assertEqual(calls, before)

    def test_a_click_in_the_view_selects_a_part(self) -> None:
        self.open_haul("Pellwick", "survey")
        box = self.page.get_by_test_id("view").bounding_box()
        assert box
        for fx, fy in ((0.5, 0.55), (0.45, 0.5), (0.55, 0.6), (0.4, 0.6), (0.6, 0.55)):
            self.page.mouse.click(box["x"] + box["width"] * fx, box["y"] + box["height"] * fy)
            with contextlib.suppress(TimeoutError):
                self.page.get_by_text("1 selected").wait_for(timeout=2000)
                return
        self.fail("no click met a part")


class Screens(BrowserTest):
    def test_every_station_fits_and_is_accessible(self) -> None:
        self.page.goto(self.address)
        expect(self.page.get_by_text("Pellwick Ferry Landing").first).to_be_visible()
        self.check("hauls")
        for station in ("load", "survey", "mend", "light", "pack", "arrive"):
            with self.subTest(station=station):
                self.open_haul("Pellwick", station)
                self.still()
                if station == "mend":  # what is left open has no mend yet
                    expect(self.page.get_by_role("navigation", name="Trail")).to_contain_text("mended")
                self.check(station)
        self.page.keyboard.press("d")
        self.assertEqual(self.page.locator("html").get_attribute("data-theme"), "dusk")
        self.check("dusk")
        self.page.keyboard.press("d")

    def check(self, where: str) -> None:
        self.assert_nothing_overflows()
        self.page.evaluate(AXE.read_text())
        report = self.page.evaluate("axe.run(document, {resultTypes: ['violations']})")
        serious = [(v["id"], [n["target"] for n in v["nodes"]][:3], v["nodes"][0].get("failureSummary", "")[:200])
                   for v in report["violations"] if v["impact"] in ("serious", "critical")]  # fmt: skip
        self.assertEqual(serious, [], where)

    def test_lenses_show_different_pictures_and_the_same_draw_calls(self) -> None:
        self.open_haul("Pellwick", "mend")
        calls = self.drawn()
        seen = set()
        for lens in ("shaded", "faces", "sharing", "batches", "uv0", "uv1"):
            self.page.get_by_label("Lens").select_option(lens)
            self.still()
            seen.add(self.page.get_by_test_id("view").screenshot())
            self.assertEqual(self.drawn(), calls)
        self.assertEqual(len(seen), 6)

    def test_keys(self) -> None:
        self.open_haul("Pellwick", "survey")
        self.page.keyboard.press("?")
        expect(self.page.get_by_role("dialog", name="Keyboard shortcuts")).to_be_visible()
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("5")
        self.page.wait_for_url("**/pack")
        self.page.keyboard.press("/")
        expect(self.page.get_by_role("searchbox")).to_be_focused()

    def test_a_change_is_undone_and_done_again_by_button_and_keys(self) -> None:
        page = self.page
        with client() as c:
            haul = begin(c, one_triangle().glb())
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        step = page.locator("[data-step=lightmap_uvs]")
        step.get_by_role("button", name="off the tape").click()
        expect(step).to_have_count(0)
        page.get_by_role("searchbox").press("Control+z")  # a field has an undo of its own
        page.get_by_role("button", name="Undo: Remove Lightmap UV set").click()
        expect(step).to_have_count(1)
        expect(page.get_by_role("button", name="Undo", exact=True)).to_be_disabled()
        page.get_by_role("button", name="Redo: Remove Lightmap UV set").press("Control+Shift+Z")
        expect(step).to_have_count(0)
        page.keyboard.press("Control+z")
        expect(step).to_have_count(1)
        page.get_by_label("Destination", exact=True).select_option("metre-y-up-left")
        expect(page.get_by_role("button", name="Undo: Change of destination")).to_be_enabled()
        expect(page.get_by_role("button", name="Redo", exact=True)).to_be_disabled()
        self.route_once(haul["id"], lambda route: route == haul["route"])

    def test_single_keys_can_be_switched_off_and_on_again(self) -> None:
        self.open_haul("Pellwick", "survey")
        lens = self.page.get_by_label("Lens", exact=True)
        self.page.keyboard.press("Control+l")
        expect(lens).to_have_value("shaded")
        self.page.keyboard.press("l")
        expect(lens).to_have_value("faces")
        for on, value in ((False, "faces"), (True, "sharing")):
            self.page.get_by_role("button", name="Keyboard shortcuts").click()
            self.page.get_by_label("Use single keys").set_checked(on)
            self.page.keyboard.press("Escape")
            self.page.keyboard.press("l")
            expect(lens).to_have_value(value)


if __name__ == "__main__":
    unittest.main()
