"""Single screens: the list of hauls, the ledger by keyboard, meshes, cancel, formats, errors nobody wants to see."""

from __future__ import annotations

import io
import unittest
import uuid
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import PIL.Image
import trimesh
from playwright.sync_api import expect

from tests.interface.browser import BrowserTest
from tests.planted import FAULTS, kiosk
from tests.server.stand import begin, client, database, finished, settings, work
from tests.support import Gltf, one_triangle, trimesh_scene
from tidy_caravan.core.formats import write
from tidy_caravan.server.db.models import PackageRow
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.store.blobs import Store


class Hauls(BrowserTest):
    def test_rows_tell_state_and_can_be_deleted_and_restored(self) -> None:
        with client() as c:
            begin(c, one_triangle().glb(), name="to be deleted.glb")
        page = self.page
        page.goto(self.address)
        row = page.get_by_role("listitem").filter(has_text="to be deleted")
        expect(row.first).to_contain_text("1 part of 1 mesh")
        expect(row.first).to_contain_text("surveyed, not run")
        expect(row.first.get_by_role("img")).to_have_js_property("naturalWidth", 480)
        for back in ("Undo", "Restore to be deleted"):
            row.first.get_by_role("button", name="Delete to be deleted").click()
            expect(row).to_have_count(0)
            if back != "Undo":
                page.get_by_role("button", name="Deleted (1)").click()
                expect(row).to_contain_text("deleted ")
            page.get_by_role("button", name=back).click()
            if back != "Undo":
                expect(page.get_by_text("None is deleted.")).to_be_visible()
                page.get_by_role("button", name="All hauls").click()
            expect(row).to_contain_text("surveyed, not run")
        row.first.get_by_role("button", name="Delete to be deleted").click()
        page.get_by_role("button", name="Deleted (1)").click()
        page.once("dialog", lambda d: d.accept())
        row.get_by_role("button", name="Delete to be deleted for good").click()
        expect(page.get_by_text("None is deleted.")).to_be_visible()

    def test_files_can_be_chosen_instead_of_dropped(self) -> None:
        self.page.goto(self.address)
        self.page.get_by_label("Scene files").set_input_files(
            [
                {
                    "name": "sign.obj",
                    "mimeType": "text/plain",
                    "buffer": b"mtllib sign.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\no sign\nusemtl red\nf 1 2 3\n",
                },
                {"name": "sign.mtl", "mimeType": "text/plain", "buffer": b"newmtl red\nKd 1 0 0\n"},
            ]
        )
        self.page.wait_for_url("**/survey")
        expect(self.page.get_by_role("region", name="Findings").get_by_text("Which unit?")).to_be_visible()
        self.page.get_by_role("link", name="Load").click()
        expect(self.page.get_by_text("a guess, the format says nothing")).to_be_visible()


class Odd(BrowserTest):
    """Scenes that nobody designed the pages for."""

    def test_a_bead_of_a_fifth_of_a_millimetre_fills_the_view(self) -> None:
        with client() as c:
            begin(c, bytes(trimesh.creation.icosphere(subdivisions=2, radius=1e-4).export(file_type="glb")), "bead.glb")
        self.open_haul("bead", "load")
        with PIL.Image.open(io.BytesIO(self.picture())) as image:
            pixels = np.asarray(image.convert("RGB")).astype(int)
        ground = pixels[5, 5]
        self.assertGreater((np.abs(pixels - ground).sum(axis=2) > 20).mean(), 0.2)
        expect(self.page.get_by_text("0.2 mm × 0.2 mm × 0.2 mm")).to_be_visible()

    def test_lights_alone_are_told_as_what_they_are(self) -> None:
        g = Gltf()
        g.json["extensionsUsed"] = ["KHR_lights_punctual"]
        g.json["extensions"] = {"KHR_lights_punctual": {"lights": [{"type": "point"}]}}
        g.node(name="lamp", extensions={"KHR_lights_punctual": {"light": 0}})
        with client() as c:
            haul = begin(c, g.glb(), "lamps.glb")
        self.page.goto(f"{self.address}/hauls/{haul['id']}/load")
        for text in (
            "There is nothing in it to measure.",
            "There are no parts.",
            "nothing to light",
            "There is nothing to draw",
        ):
            expect(self.page.get_by_text(text)).to_be_visible()
        self.page.get_by_role("link", name="Light").click()
        expect(self.page.get_by_text("No part of this scene takes baked light.")).to_be_visible()
        self.assert_nothing_overflows()

    def test_blank_names_are_seen_and_names_from_right_to_left_turn_nothing_around(self) -> None:
        g = one_triangle()
        g.json["nodes"][0]["name"] = "  "
        g.node(mesh=0, name="رصيف")
        g.json["scenes"] = [{"nodes": [0, 1]}]
        with client() as c:
            begin(c, g.glb(), "two names.glb")
        self.open_haul("two names", "survey")
        expect(self.page.get_by_text("a blank name")).to_be_visible()
        expect(self.page.locator("bdi", has_text="رصيف").first).to_be_visible()
        told = self.page.get_by_role("region", name="Findings").locator("bdi").first
        expect(told).to_have_text("  ")


class Ledger(BrowserTest):
    def test_arrows_shift_and_escape(self) -> None:
        page = self.page
        self.open_haul("Pellwick", "survey")
        ledger = page.get_by_test_id("ledger")
        expect(ledger.locator("[data-row='3']")).to_contain_text("glazing")
        ledger.focus()
        for _ in range(3):
            page.keyboard.press("ArrowDown")
        expect(ledger.locator("[aria-selected=true]")).to_have_count(1)
        expect(ledger.locator("[data-row='2']")).to_have_attribute("aria-selected", "true")
        page.keyboard.press("Shift+ArrowDown")
        page.keyboard.press("Shift+ArrowDown")
        expect(page.get_by_text("3 selected")).to_be_visible()
        page.keyboard.press("Escape")
        expect(ledger.locator("[aria-selected=true]")).to_have_count(0)
        page.get_by_role("searchbox").fill("nothing is called this")
        expect(page.get_by_text("No part fits.")).to_be_visible()

    def test_what_is_selected_stays_selected_when_a_file_joins_before_it(self) -> None:
        page = self.page
        with client() as c:
            haul = begin(c, {"quay.glb": trimesh_scene(61, 6, odd=False).export(file_type="glb")})
            page.goto(f"{self.address}/hauls/{haul['id']}/survey")
            ledger = page.get_by_role("grid", name="Parts")
            row = ledger.locator("[data-row='2']")
            expect(row).to_be_visible()
            row.click()
            name = row.get_by_role("gridcell").first.inner_text()
            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("beach.glb", one_triangle().glb()))])
            finished(c, haul["id"])
        expect(ledger).to_have_attribute("data-total", "7")
        expect(ledger.locator("[aria-selected=true]")).to_have_count(1)
        expect(ledger.locator("[aria-selected=true]")).to_contain_text(name)
        expect(ledger.locator("[data-row='2'][aria-selected=true]")).to_have_count(0)

    def test_a_mesh_leads_to_its_parts(self) -> None:
        page = self.page
        self.open_haul("Pellwick", "mend")
        page.get_by_role("button", name="meshes", exact=True).click()
        rows = page.get_by_role("grid", name="Meshes")
        expect(rows.get_by_text("glazing bay")).to_be_visible()
        rows.get_by_text("glazing bay").click()
        expect(page.get_by_role("grid", name="Parts")).to_have_attribute("data-total", "24")
        page.get_by_role("button", name="mesh glazing bay").click()
        expect(page.get_by_role("grid", name="Parts")).to_have_attribute("data-total", "330")

    def test_figures_lead_to_what_is_behind_them(self) -> None:
        page = self.page
        self.open_haul("Pellwick", "load")
        page.get_by_role("button", name="333", exact=True).click()
        expect(page.get_by_role("grid", name="Parts")).to_have_attribute("data-total", "333")
        facts = page.get_by_role("region", name="load station")
        facts.locator("dt", has_text="Triangles drawn").locator("xpath=..").get_by_role("button").click()
        expect(page.get_by_role("columnheader", name="Triangles")).to_have_attribute("aria-sort", "descending")
        expect(page.get_by_test_id("ledger").locator("[data-row='0']")).to_contain_text("ferry hull")
        facts.locator("dt", has_text="Materials").locator("xpath=..").get_by_role("button").click()
        expect(page.get_by_role("grid", name="Materials")).to_be_visible()
        self.assert_nothing_overflows()

    def test_tree_layers_materials_and_findings_lead_to_parts(self) -> None:
        page = self.page
        self.open_haul("Pellwick", "load")
        rows = page.get_by_role("group", name="Rows of the ledger")
        rows.get_by_role("button", name="tree").click()
        tree = page.get_by_role("grid", name="Tree")
        expect(tree.locator("[data-row='0']")).to_be_visible()
        seen = []
        while tree.count():
            seen.append(tree.locator("[data-row='0']").inner_text().split("\n")[0])
            with page.expect_response(lambda r: "/groups" in r.url or "/parts" in r.url):
                tree.locator("[data-row='0']").click()
            self.still()
        self.assertGreaterEqual(len(seen), 2)
        expect(page.get_by_role("grid", name="Parts")).to_be_visible()
        self.assertLess(int(page.get_by_test_id("ledger").get_attribute("data-total") or 0), 333)
        for name, grid in (("materials", "Materials"), ("findings", "Findings of the scene")):
            rows.get_by_role("button", name=name).click()
            page.get_by_role("grid", name=grid).locator("[data-row='0']").click()
            expect(page.get_by_role("grid", name="Parts")).to_be_visible()
            expect(page.get_by_test_id("ledger").locator("[data-row='0']")).to_be_visible()
            page.keyboard.press("Escape")
            expect(page.get_by_role("grid", name="Parts")).to_have_attribute("data-total", "333")
        rows.get_by_role("button", name="layers").click()
        expect(page.get_by_role("grid", name="Layers").locator("[data-row='0']")).to_be_visible()

    def test_columns_sort_both_ways(self) -> None:
        page = self.page
        self.open_haul("Pellwick", "survey")
        header = page.get_by_role("columnheader", name="Triangles")
        header.get_by_role("button").click()
        expect(header).to_have_attribute("aria-sort", "descending")
        first = page.get_by_test_id("ledger").locator("[data-row='0']")
        expect(first).to_contain_text("ferry_hull")
        header.get_by_role("button").click()
        expect(header).to_have_attribute("aria-sort", "ascending")
        expect(first).not_to_contain_text("ferry_hull")


class Work(BrowserTest):
    def test_cancel_leaves_what_was_there(self) -> None:
        with client() as c:
            haul = begin(c, trimesh_scene(31, 20).export(file_type="glb"), name="long work.glb")
            route = {"steps": [{"kind": "lightmap_uvs", "resolution": 4096, "paddingTexels": 64, "keepGood": False}]}
            c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": '"1"'})
        page = self.page
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        self.drawn()
        page.get_by_role("button", name="Run route").click()
        strip = page.get_by_role("status", name="Work in progress")
        expect(strip).to_be_visible()
        expect(page.get_by_role("button", name="Run route")).to_be_disabled()
        strip.get_by_role("button", name="Cancel").click()
        expect(strip).to_have_count(0)
        expect(page.get_by_text("Stopped. What was there before is unchanged.")).to_be_visible()
        expect(page.get_by_text("not run yet").first).to_be_visible()

    def test_cancelled_packing_leaves_no_package(self) -> None:
        ball, g = trimesh.creation.icosphere(6), Gltf()
        for k in range(4):
            g.node(mesh=g.mesh(ball.vertices * (1 + k / 9), ball.faces.ravel()), translation=[4 * k, 0, 0])
        with client() as c:
            haul = begin(c, g.glb(), name="long packing.glb")
            c.patch(f"/api/hauls/{haul['id']}", json={"route": {"steps": []}}, headers={"If-Match": '"1"'})
            work(c, haul["id"], "run")
        page = self.page
        page.goto(f"{self.address}/hauls/{haul['id']}/pack")
        page.get_by_label("Format").select_option("usda")
        page.get_by_role("button", name="Pack", exact=True).click()
        strip = page.get_by_role("status", name="Work in progress")
        strip.get_by_role("button", name="Cancel").click()
        expect(strip).to_have_count(0)
        expect(page.get_by_text("Stopped. What was there before is unchanged.")).to_be_visible()
        self.assertIsNone(self.asked(f"hauls/{haul['id']}")["package"])
        page.get_by_role("button", name="Pack", exact=True).click()
        expect(page.get_by_role("link", name="Download")).to_be_visible(timeout=90_000)

    def test_the_proposed_route_is_reviewed_and_put_on_the_tape(self) -> None:
        ball = trimesh.creation.icosphere(2)
        faces = ball.faces.copy()
        faces[5] = faces[5][::-1]
        half = ball.faces.copy()
        rows = ball.triangles_center[:, 2] > 0.1
        half[rows] = half[rows][:, ::-1]
        g = Gltf()
        g.node(mesh=g.mesh(ball.vertices, np.concatenate([faces, faces[:3]]).ravel()), name="turned")
        g.node(mesh=g.mesh(ball.vertices, half.ravel()), name="half turned", translation=[3, 0, 0])
        with client() as c:
            haul = begin(c, g.glb(), name="proposed.glb")
            c.patch(f"/api/hauls/{haul['id']}", json={"route": {"steps": []}}, headers={"If-Match": '"1"'})
            told = c.get(f"/api/hauls/{haul['id']}/proposal").json()
        kinds = [p["step"]["kind"] for p in told]
        self.assertLess(kinds.index("drop_repeated"), kinds.index("turn_faces"))
        self.assertEqual([p["guess"] for p in told if p["step"]["kind"] == "turn_faces"], [True])
        page = self.page
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        self.drawn()
        page.get_by_role("button", name="Propose a route").click()
        dialog = page.get_by_role("dialog", name="Proposed route")
        rows_of = dialog.get_by_role("list", name="Proposed steps").get_by_role("listitem")
        expect(rows_of).to_have_count(len(kinds))
        unsure = rows_of.filter(has_text="unsure").filter(has_text="Faces turned over")
        expect(unsure.get_by_role("checkbox")).not_to_be_checked()
        for one in rows_of.filter(has_text="unsure").all():
            one.get_by_role("checkbox").press("Space")
        self.assert_nothing_overflows()
        dialog.get_by_role("button", name=f"Put {len(kinds)} steps on the tape").press("Enter")
        expect(dialog).to_have_count(0)
        expect(page.locator("[data-step]")).to_have_count(len(kinds))
        page.get_by_role("button", name="Propose a route").click()
        expect(dialog.get_by_text("on the tape already").first).to_be_visible()
        expect(dialog.get_by_role("button", name="Nothing to add")).to_be_disabled()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Run route").click()
        self.ran(haul["id"])
        expect(page.get_by_text("repeated triangles dropped").first).to_be_visible()

    def test_another_destination_makes_the_run_old_and_another_format_tells_its_losses(self) -> None:
        with client() as c:
            haul = begin(c, trimesh_scene(32, 12, odd=False).export(file_type="glb"), name="switched.glb")
            c.patch(
                f"/api/hauls/{haul['id']}",
                json={"route": {"steps": [{"kind": "match_units_axes"}]}},
                headers={"If-Match": '"1"'},
            )
            work(c, haul["id"], "run")
        page = self.page
        page.goto(f"{self.address}/hauls/{haul['id']}/pack")
        self.drawn()
        page.get_by_label("Destination").select_option("centimetre-z-up-left")
        expect(page.get_by_text("changed since the run")).to_be_visible()
        expect(page.get_by_text("The last run is older than the tape")).to_be_visible()
        page.get_by_label("Format of the package").select_option("obj")
        page.get_by_role("button", name="Pack", exact=True).click()
        expect(page.get_by_text("scene.obj")).to_be_visible()
        expect(page.get_by_text("OBJ cannot hold: sharing of meshes.")).to_be_visible()
        self.assert_nothing_overflows()

    def test_steps_stand_by_phase_and_are_added_from_a_searched_list(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb(), name="tape.glb")
        page = self.page
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        self.drawn()
        tape = page.get_by_role("region", name="Tape")
        phases = tape.get_by_role("button", expanded=True)
        expect(phases).to_have_text(["What travels", "Units and transforms", "Light"])
        tape.get_by_role("button", name="Add a step").click()
        dialog = page.get_by_role("dialog", name="Add a step")
        dialog.get_by_role("searchbox").fill("hard at sharp edges")
        expect(dialog.get_by_role("listitem")).to_have_count(1)
        dialog.get_by_role("searchbox").press("Enter")
        expect(dialog).to_have_count(0)
        expect(tape.get_by_text("Mend normals")).to_be_visible()
        expect(phases).to_have_text(["What travels", "Units and transforms", "Normals and pivots", "Light"])
        tape.get_by_role("button", name="Normals and pivots").click()
        expect(tape.get_by_text("Mend normals")).to_have_count(0)
        expect(tape.get_by_text("1 step")).to_be_visible()
        # one is enough: the list says so and takes no second
        tape.get_by_role("button", name="Add a step").click()
        dialog.get_by_role("searchbox").fill("Mend normals")
        expect(dialog.get_by_role("button", name="Mend normals")).to_be_disabled()
        expect(dialog.get_by_text("on the tape already")).to_be_visible()
        dialog.get_by_role("searchbox").fill("nothing of the kind")
        expect(dialog.get_by_text("No step fits")).to_be_visible()
        self.assert_nothing_overflows()

    def test_a_package_that_was_changed_is_told_part_by_part(self) -> None:
        with client() as c:
            haul = begin(c, {"kiosk.glb": dict(write(kiosk(), "glb", "kiosk").files)["kiosk.glb"]})
            work(c, haul["id"], "run")
            work(c, haul["id"], "pack")
            package = c.get(f"/api/hauls/{haul['id']}").json()["package"]
            with session_for(database()) as session:
                files = session.get_one(PackageRow, uuid.UUID(package["id"])).files
            key = next(f["key"] for f in files if f["path"] == "scene.glb")
            with TemporaryDirectory() as folder:
                store = Store(settings().store)
                path = Path(folder) / "scene.glb"
                path.write_bytes(store.get(key))
                for fault in ("winding of a mesh", "light intensity", "part moved"):
                    FAULTS["glb"]()[fault][0](Path(folder))
                Path(store.path(key)).write_bytes(path.read_bytes())
            work(c, haul["id"], "arrive")
        page = self.page
        page.goto(f"{self.address}/hauls/{haul['id']}/arrive")
        self.drawn()
        expect(page.get_by_test_id("verdict")).to_contain_text("Not as it left")
        problems = page.get_by_test_id("problems")
        expect(problems).to_contain_text("scene.glb is not the file that was packed")
        expect(problems).to_contain_text("light “kiosk/spot”: light is")
        row = page.get_by_role("row").filter(has_text="post left")
        expect(row).to_contain_text("mm off, limit")
        expect(row.get_by_title("12 triangles turned over")).to_have_count(1)
        self.assert_nothing_overflows()

    def test_a_finding_that_a_run_settles_narrows_nothing_any_more(self) -> None:
        with client() as c:
            bare = replace(kiosk(), meshes=tuple(replace(m, normals=None) for m in kiosk().meshes))
            haul = begin(c, {"bare.glb": dict(write(bare, "glb", "bare").files)["bare.glb"]})
            route = {"steps": [{"kind": "match_units_axes"}, {"kind": "mend_normals"}]}
            c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": '"1"'})
        page = self.page
        page.goto(f"{self.address}/hauls/{haul['id']}/survey")
        self.drawn()
        page.get_by_role("region", name="survey station").get_by_role("button", name="Missing normals").first.click()
        chip = page.get_by_title("Show all again")
        expect(chip).to_be_visible()
        page.get_by_role("button", name="Run route").click()
        self.ran(haul["id"])
        expect(page.get_by_text("after the route").first).to_be_visible()
        expect(chip).to_have_count(0)
        expect(page.get_by_text("No part fits")).to_have_count(0)

    def test_two_people_at_one_haul(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb(), name="contested.glb")
            page = self.page
            page.goto(f"{self.address}/hauls/{haul['id']}/mend")
            self.drawn()
            c.patch(f"/api/hauls/{haul['id']}", json={"name": "renamed elsewhere"}, headers={"If-Match": '"1"'})
            page.get_by_role("list", name="Steps of the route").get_by_role("checkbox").first.click()
            expect(page.get_by_role("alert")).to_contain_text("Somebody changed this haul meanwhile")
            expect(page.get_by_role("heading", name="renamed elsewhere")).to_be_visible()
        self.faults[:] = [f for f in self.faults if "412" not in f]  # the browser tells of the refusal itself

    def test_wipe_and_pair(self) -> None:
        page = self.page
        self.open_haul("Pellwick", "arrive")
        self.still()
        both = self.drawn()
        view = page.get_by_test_id("view")
        pictures = []
        for value in ("0.1", "0.9"):
            page.get_by_label("Wipe between source and result").fill(value)
            self.still()
            pictures.append(view.screenshot())
        self.assertNotEqual(*pictures)
        page.get_by_role("button", name="Pair").click()
        expect(page.get_by_label("Wipe between source and result")).to_have_count(0)
        self.still()
        self.assertLess(self.drawn(), both)


if __name__ == "__main__":
    unittest.main()
