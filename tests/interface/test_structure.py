"""Structure in the page: families of copies one by one, what a frame costs, ways to combine, and a budget."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import trimesh
from playwright.sync_api import expect

from tests.core.test_sides import at
from tests.interface.browser import BrowserTest
from tests.server.stand import begin, client, work


def hall() -> bytes:
    """Benches and bollards whose placement is in their vertices."""
    scene = trimesh.Scene()
    bench = trimesh.util.concatenate(
        [trimesh.creation.box([1.8, 0.05, 0.45], transform=at(0, 0.43, 0)), trimesh.creation.box([1.8, 0.4, 0.05], transform=at(0, 0.65, 0.2))]
    )  # fmt: skip
    bollard = trimesh.creation.cylinder(0.2, 0.5, sections=16, transform=at(0, 0.25, 0, (np.pi / 2, [1.0, 0, 0])))
    for name, made, number in (("bench", bench, 12), ("bollard", bollard, 5)):
        for k in range(number):
            placed = made.copy().apply_transform(at(2.4 * (k % 6), 0, (3 if name == "bench" else -4) * (1 + k // 6)))
            scene.add_geometry(placed, node_name=f"{name}_{k:02}", geom_name=f"{name}_{k:02}")
    return bytes(scene.export(file_type="glb"))


def shared_hall() -> bytes:
    """Nine crates that share a mesh."""
    scene = trimesh.Scene()
    for k in range(9):
        scene.add_geometry(
            trimesh.creation.box([2, 2, 2]),
            node_name=f"crate_{k}",
            geom_name="crate",
            transform=at(2.5 * (k % 3), 1, 2.5 * (k // 3)),
        )
    return bytes(scene.export(file_type="glb"))


class Structure(BrowserTest):
    def haul(self) -> dict[str, Any]:
        with client() as c:
            return begin(c, hall(), name="flattened.glb")

    def test_families_are_chosen_one_by_one_by_keyboard_and_share_their_meshes(self) -> None:
        page, haul = self.page, self.haul()
        page.goto(f"{self.address}/hauls/{haul['id']}/survey")
        self.drawn()
        page.get_by_role("button", name="Loose copies").focus()
        page.keyboard.press("Enter")
        families = page.get_by_role("list", name="To be mended by itself")
        expect(families.get_by_role("listitem")).to_have_count(2)
        expect(families).to_contain_text(re.compile(r"12 copies of “bench_00”, .* mm off at most"))
        families.get_by_role("checkbox").nth(1).focus()
        page.keyboard.press("Space")
        page.get_by_role("button", name="for the 5 selected").click()
        route = self.route_once(haul["id"], lambda r: any(s["kind"] == "share_copies" for s in r["steps"]))
        step = next(s for s in route["steps"] if s["kind"] == "share_copies")
        self.assertEqual(len(step["where"]["parts"]), 5)
        self.assert_nothing_overflows()
        with client() as c:
            done = work(c, haul["id"], "run")
            self.assertEqual(done["result"]["counts"]["uniqueMeshes"], 13)

    def test_pieces_are_picked_in_the_view_to_be_split_off(self) -> None:
        page = self.page
        with client() as c:
            haul = begin(c, shared_hall(), name="shared.glb")
            step = {"kind": "split_parts", "by": "picked"}
            edit = {"route": {"steps": [{"kind": "match_units_axes"}, step]}}
            headers = {"If-Match": f'"{haul["version"]}"'}
            self.assertEqual(c.patch(f"/api/hauls/{haul['id']}", json=edit, headers=headers).status_code, 200)
            work(c, haul["id"], "run")
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        self.drawn()
        page.get_by_role("button", name="Numbers of Split").click()
        for number, name in ((1, "Pick points in the view"), (2, "Pick another point")):
            page.get_by_role("button", name=name).click()
            expect(page.get_by_text("Click on what is to be split off.")).to_be_visible()
            box = page.get_by_test_id("view").bounding_box()
            assert box
            for across, down in [(x, y) for y in (0.5, 0.45, 0.55) for x in (0.5, 0.45, 0.55, 0.4, 0.6)]:
                page.mouse.click(box["x"] + box["width"] * across, box["y"] + box["height"] * down)
                self.still()
                if page.locator("dialog[open]").count():
                    break
            expect(page.get_by_role("button", name=f"Remove point {number}")).to_be_visible()
        page.get_by_role("button", name="Remove point 2").click()
        self.assert_nothing_overflows()
        page.get_by_role("button", name="Save").click()
        route = self.route_once(haul["id"], lambda r: bool(r["steps"][1].get("points")))
        self.assertEqual(len(route["steps"][1]["points"]), 1)
        with client() as c:
            done = work(c, haul["id"], "run")
            changes = next(r for r in done["run"]["records"] if r["kind"] == "split_parts")["changes"]
        # the point lies on a crate, which is one shell and stays whole: nothing lies beside it
        self.assertFalse([c for c in changes if c["problem"]], changes)
        self.assertIn("1 part stays whole", changes[0]["text"])

    def test_a_batch_under_the_pointer_tells_its_price(self) -> None:
        page = self.page
        with client() as c:
            haul = begin(c, shared_hall(), name="shared.glb")
        page.goto(f"{self.address}/hauls/{haul['id']}/survey")
        self.drawn()
        page.get_by_label("Lens").select_option("batches")
        expect(page.get_by_text("one colour and pattern per mesh and material")).to_be_visible()
        box = page.locator("canvas").first.bounding_box()
        assert box
        told = page.get_by_text(
            re.compile(r"^this batch: 9 parts, one draw call with instancing, 9 without, 108 triangles")
        )
        for k in range(1, 12):
            for j in range(1, 12):
                page.mouse.move(box["x"] + box["width"] * k / 12, box["y"] + box["height"] * j / 12)
                self.still()
                if told.count():
                    break
            if told.count():
                break
        expect(told).to_be_visible()
        page.mouse.move(5, 5)
        expect(page.get_by_text("one colour and pattern per mesh and material")).to_be_visible()

    def test_cost_ways_and_budget(self) -> None:
        page, haul = self.page, self.haul()
        page.goto(f"{self.address}/hauls/{haul['id']}/mend")
        self.drawn()
        page.get_by_text("Cost of a frame, ways to combine, budget").click()
        expect(page.get_by_text("A frame, estimated")).to_be_visible()
        calls = page.locator("dt", has_text=re.compile("^Draw calls$")).last.locator("xpath=following-sibling::dd")
        # the renderer's own counter, which instances what is shared, agrees with the figures of the page
        drawn = self.drawn()
        expect(calls).to_have_text("17")
        self.assertEqual(drawn, 17)
        costly = page.get_by_role("region", name="What costs most")
        costly.get_by_role("button", name="part", exact=True).click()
        expect(costly.get_by_role("listitem")).to_have_count(17)
        page.get_by_label("Combine by").select_option("all")
        page.get_by_role("button", name="Compare all parts").click()
        table = page.get_by_role("table", name="Ways to let the parts travel")
        expect(table.get_by_role("row", name="Draw calls")).to_contain_text("171717")
        page.get_by_label("At most so many draw calls").fill("3")
        page.get_by_role("button", name="Find steps").click()
        plan = page.get_by_role("region", name="Steps towards the budget")
        expect(plan).to_contain_text("✓ The budget is met.")
        plan.get_by_role("button", name="Add 1 step").click()
        self.route_once(haul["id"], lambda r: any(s["kind"] == "combine_parts" for s in r["steps"]))
        self.assert_nothing_overflows()
        with client() as c:
            done = work(c, haul["id"], "run")
        self.assertLessEqual(done["result"]["counts"]["drawCalls"], 3)
        page.reload()
        self.assertEqual(self.drawn(), done["result"]["counts"]["drawCalls"])
