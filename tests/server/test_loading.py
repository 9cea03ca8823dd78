"""The Load station's calls: every format through the API, sets, shapes, files added later, yardsticks, destinations."""

from __future__ import annotations

import io
import json
import time
import unittest
import zipfile
from typing import Any

import httpx
import numpy as np
import safetensors.numpy
import trimesh

from tests.core.test_collada import BOUND, document, effect
from tests.core.test_far import PLACES, as_obj
from tests.server.stand import begin, client, finished, settings, work
from tests.support import PNG, one_triangle, read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.demo.three_trades import beach_usda, three_trades_files
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import load_scene, save_scene

PAINTED = document(
    f'<node name="sign">{BOUND}</node>', libraries=effect('<diffuse><texture texture="smp" texcoord="UV"/></diffuse>')
)


def previewed(c: httpx.Client, scene: str, step: dict[str, Any]) -> httpx.Response:
    """The view file that a preview's job made."""
    job = c.post(f"/api/scenes/{scene}/preview", json={"step": step}).json()
    until = time.monotonic() + 60
    while job["state"] in ("waiting", "running") and time.monotonic() < until:
        time.sleep(0.1)
        job = c.get(f"/api/jobs/{job['id']}").json()
    assert job["state"] == "done", job
    return c.get(f"/api/jobs/{job['id']}/view")


class Trades(unittest.TestCase):
    """One import of three trades serves all tests here."""

    haul: dict[str, Any]

    @classmethod
    def setUpClass(cls) -> None:
        with client() as c:
            cls.haul = begin(c, three_trades_files(), to="metre-z-up-right")
        assert cls.haul["job"]["state"] == "done", cls.haul["job"]

    def test_three_formats_land_in_one_haul_with_travel_list_and_units(self) -> None:
        source = self.haul["source"]
        self.assertEqual(self.haul["sourceName"], "beach.usda, hall.ifc, quay.dae")
        self.assertEqual(source["counts"]["parts"], 6118)
        fates = {(t["kind"], t["verdict"]): t["count"] for t in source["travel"]}
        self.assertEqual(fates[("scattered copies", "converted")], 6000)
        self.assertEqual(fates[("switched-off parts", "behind")], 1)
        self.assertEqual([c["metresPerUnit"] for c in source["units"] if c["likeliest"]], [1.0])
        with client() as c:
            layers = c.get(f"/api/scenes/{source['id']}/groups", params={"by": "layer"}).json()
        self.assertTrue({"Gallery", "Ground floor", "mooring"} <= {g["name"] for g in layers["items"]})

    def test_sets_are_counted_and_shown_while_they_are_edited(self) -> None:
        scene = self.haul["source"]["id"]
        doors = {"id": "d", "name": "Doors", "rules": [{"types": ["IfcDoor"]}]}
        south = {"id": "s", "name": "South", "rules": [{"names": ["*south*"]}]}
        with client() as c:
            first, second = c.post(f"/api/scenes/{scene}/sets/figures", json={"sets": [doors, south]}).json()
            self.assertEqual((first["parts"], first["meshes"], first["taken"]), (2, 1, 0))
            self.assertEqual((second["parts"], second["taken"]), (4, 2))
            members = c.post(f"/api/scenes/{scene}/sets/members", json=doors).json()
            self.assertEqual(len(members["sources"]), 2)
            size = np.subtract(members["max"], members["min"])
            self.assertAlmostEqual(float(size[1]), 2.1, places=4)
            bad = c.post(f"/api/scenes/{scene}/sets/figures", json={"sets": [{"id": "x"}]})
            self.assertEqual((bad.status_code, bad.json()["code"]), (422, "request.invalid"))

    def test_shapes_are_listed_tried_and_seen_before_anything_is_done(self) -> None:
        scene = self.haul["source"]["id"]
        step = json.dumps({"kind": "make_shapes", "segments": 6, "level": 0})
        with client() as c:
            now = c.get(f"/api/scenes/{scene}/shapes").json()
            then = c.get(f"/api/scenes/{scene}/shapes", params={"step": step}).json()
            beach = read(beach_usda().encode(), "beach.usda")
            (column,) = (i for i in now["items"] if i["kind"] not in {m.recipe.kind for m in beach.meshes if m.recipe})
            self.assertEqual(column["parts"], three_trades_files()["hall.ifc"].count(b"=IFCCOLUMN("))
            self.assertEqual(now["total"], 1 + sum(m.recipe is not None for m in beach.meshes))
            self.assertEqual(now["triangles"], now["then"])
            self.assertLess(then["then"], now["then"] / 2)
            view = previewed(c, scene, json.loads(step))
            self.assertEqual(view.status_code, 200)
            plain = c.get(f"/api/scenes/{scene}/view")
            self.assertLess(len(view.content), len(plain.content))
            for wrong in ({}, {"kind": "tidy_names"}, {"kind": "make_shapes", "segments": 1}):
                answer = c.post(f"/api/scenes/{scene}/preview", json={"step": wrong})
                code = "route.invalid" if wrong else "request.invalid"
                self.assertEqual((answer.status_code, answer.json()["code"]), (422, code), wrong)
            # what was no wish of anybody's any more is not in the way of work
            self.assertEqual(c.post(f"/api/scenes/{scene}/preview", json={"step": json.loads(step)}).status_code, 202)
            haul = c.get(f"/api/hauls/{self.haul['id']}").json()
            self.assertEqual(haul["job"]["kind"], "import")

    def test_the_route_with_sets_runs_packs_and_arrives(self) -> None:
        with client() as c:
            haul = c.get(f"/api/hauls/{self.haul['id']}").json()
            route = {
                "steps": [
                    {"kind": "what_travels"},
                    {"kind": "make_shapes", "segments": 8},
                    {"kind": "match_units_axes"},
                ],
                "sets": [
                    {"id": "u", "name": "Up", "rules": [{"layers": ["Gallery"]}], "treatment": {"leaveOut": True}}
                ],
            }
            edited = c.patch(
                f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": f'"{haul["version"]}"'}
            )
            self.assertEqual(edited.status_code, 200, edited.text)
            self.assertEqual(edited.json()["route"]["sets"][0]["treatment"]["leaveOut"], True)
            haul = work(c, haul["id"], "run")
            self.assertFalse(haul["run"]["stale"])
            self.assertLess(haul["result"]["counts"]["parts"], 6118 - 10)
            for fmt in ("usdz", "dae"):
                haul = work(c, haul["id"], "pack", format=fmt)
                haul = work(c, haul["id"], "arrive")
                self.assertTrue(haul["arrival"]["report"]["ok"], (fmt, haul["arrival"]["report"]["problems"]))


class Files(unittest.TestCase):
    def test_pictures_are_supplied_and_models_join_the_tree(self) -> None:
        with client() as c:
            haul = begin(c, PAINTED, "sign.dae")
            first = haul["revision"]["id"]
            self.assertIn("texture.missing", {n["code"] for n in haul["source"]["notes"]})
            answer = c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("somewhere/BOARD.png", PNG))])
            self.assertEqual((answer.status_code, answer.json()["kind"]), (202, "supply"))
            haul = finished(c, haul["id"])
            self.assertNotEqual(haul["revision"]["id"], first)
            self.assertNotIn("texture.missing", {n["code"] for n in haul["source"]["notes"]})
            self.assertEqual(c.get(f"/api/scenes/{haul['source']['id']}/images/0").content, PNG)
            answer = c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("post.glb", one_triangle().glb()))])
            self.assertEqual(answer.json()["kind"], "import")
            haul = finished(c, haul["id"])
            self.assertEqual(haul["source"]["counts"]["parts"], 2)
            self.assertEqual(c.get(f"/api/scenes/{haul['source']['id']}/images/0").content, PNG, "supplied images stay")

    def test_each_of_several_files_is_in_its_own_unit(self) -> None:
        """What was decided of the only file goes on for that one when another comes, and is taken back with it."""
        box = trimesh.creation.box((900.0, 2100.0, 40.0))
        door = "o door_1\n" + "".join(f"v {x} {y} {z}\n" for x, y, z in box.vertices.tolist())
        door += "".join(f"f {a + 1} {b + 1} {c + 1}\n" for a, b, c in box.faces.tolist())
        with client() as c:
            haul = begin(c, door.encode(), "door.obj")
            self.assertEqual(haul["source"]["files"], [])
            steps = [{"kind": "match_units_axes", "sourceMetresPerUnit": 0.001}]
            c.patch(
                f"/api/hauls/{haul['id']}",
                json={"route": {"steps": steps}},
                headers={"If-Match": f'"{haul["version"]}"'},
            )
            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("hall.glb", one_triangle().glb()))])
            haul = finished(c, haul["id"])
            said = {f["file"]: (f["convention"]["declared"], f["units"][0]["label"]) for f in haul["source"]["files"]}
            self.assertEqual(said, {"door.obj": (False, "millimetre"), "hall.glb": (True, "metre")})
            step = haul["route"]["steps"][0]
            self.assertIsNone(step["sourceMetresPerUnit"])
            self.assertEqual([(f["file"], f["metresPerUnit"]) for f in step["files"]], [("door.obj", 0.001)])
            self.told_as_read(c, haul)
            for what in ("run", "pack", "arrive"):
                haul = work(c, haul["id"], what)
            self.assertTrue(haul["arrival"]["report"]["ok"])
            rows = c.get(f"/api/scenes/{haul['result']['id']}/parts?limit=9").json()["items"]
            sizes = {r["name"]: max(r["sizeX"], r["sizeY"], r["sizeZ"]) for r in rows}
            self.assertAlmostEqual(sizes["door_1"], 2.1, 5)
            self.assertLess(max(sizes.values()), 3)
            answer = c.post(f"/api/hauls/{haul['id']}/undo", headers={"If-Match": f'"{haul["version"]}"'})
            self.assertEqual(answer.status_code, 200, answer.text)
            self.assertEqual(answer.json()["route"]["steps"][0]["sourceMetresPerUnit"], 0.001)
            c.post(f"/api/hauls/{haul['id']}/redo", headers={"If-Match": f'"{answer.json()["version"]}"'})
            c.delete(f"/api/hauls/{haul['id']}/files", params={"path": "hall.glb"})
            haul = finished(c, haul["id"])
            step = haul["route"]["steps"][0]
            self.assertEqual((haul["source"]["files"], step["files"], step["sourceMetresPerUnit"]), ([], [], 0.001))

    def told_as_read(self, c: httpx.Client, haul: dict[str, Any]) -> None:
        """What the Load station shows of a source whose door was millimetres: rows, their order, boxes and the view."""
        at, asked = f"/api/scenes/{haul['source']['id']}", {"read": haul["reading"], "sort": "size", "descending": True}
        rows = {way: c.get(f"{at}/parts", params=asked | {"read": way}).json()["items"] for way in ("", asked["read"])}
        self.assertEqual([r["name"] for r in rows[""]], ["door_1", "tri"])
        self.assertAlmostEqual(rows[""][0]["sizeY"], 2100, 6)
        door, tri = rows[asked["read"]]
        self.assertEqual((door["name"], tri["name"]), ("door_1", "tri"))
        np.testing.assert_allclose([door[k] for k in ("sizeX", "sizeY", "sizeZ")], (0.9, 2.1, 0.04), atol=1e-9)
        self.assertEqual([tri[k] for k in ("x", "y", "sizeX")], [rows[""][1][k] for k in ("x", "y", "sizeX")])
        thin = c.get(f"{at}/parts", params=asked | {"sort": "sizeX", "descending": "true"}).json()["items"]
        self.assertEqual([r["name"] for r in thin], ["tri", "door_1"])  # 1 m and 0.9 m; as the file says it is 900 m
        box = c.get(f"{at}/picked", params={"read": asked["read"], "search": "door"}).json()
        np.testing.assert_allclose(np.subtract(box["max"], box["min"]), (0.9, 2.1, 0.04), atol=1e-9)
        nothing = c.get(f"{at}/picked", params={"read": asked["read"], "search": "no such part"})
        self.assertEqual(nothing.json(), {"sources": [], "min": [0, 0, 0], "max": [0, 0, 0]})
        found = next(f for f in c.get(f"/api/hauls/{haul['id']}/findings?of=source").json() if f["partCount"] == 1)
        place = c.get(f"{at}/findings/{found['id']}/places", params={"read": asked["read"]}).json()[0]
        self.assertAlmostEqual(place["size"], float(np.linalg.norm((0.9, 2.1, 0.04))) / 2, 6)
        extents = []
        for way in ("", asked["read"]):
            data = c.get(f"{at}/view", params={"read": way}).content
            meta = json.loads(bytes(safetensors.numpy.load(data)["meta.json"]))
            extents.append(max(np.subtract(meta["high"], meta["low"])))
        self.assertGreater(extents[0], 2000)
        self.assertLess(extents[1], 3)
        for path in ("parts", "picked", "view"):
            answer = c.get(f"{at}/{path}", params={"read": "0123456789abcdef"})
            self.assertEqual((answer.status_code, answer.json()["code"]), (409, "reading.changed"), path)

    def test_what_was_picked_by_hand_follows_its_parts(self) -> None:
        """A file joins whose name comes first, then the first one is sent again without one of its parts."""
        scene = trimesh_scene(61, 6, odd=False)
        with client() as c:
            haul = begin(c, {"quay.glb": scene.export(file_type="glb")})
            base = f"/api/scenes/{haul['source']['id']}"
            rows = c.get(f"{base}/parts?limit=10").json()["items"]
            picked = {r["name"]: r["identity"] for r in rows[:3]}
            gone, stays, third = picked
            route = {
                "steps": [{"kind": "match_units_axes"}, {"kind": "mend_normals", "where": {"parts": [picked[third]]}}],
                "sets": [{"id": "s", "name": "Railings", "added": [picked[gone], picked[stays]]}],
            }
            c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": f'"{haul["version"]}"'})

            def named(haul: dict[str, Any]) -> tuple[list[str], list[str]]:
                known = c.get(f"/api/scenes/{haul['source']['id']}/parts?limit=100").json()["items"]
                names = {r["identity"]: r["name"] for r in known}
                route = haul["route"]
                return (
                    [names.get(i, "?") for i in route["sets"][0]["added"]],
                    [names.get(i, "?") for i in route["steps"][1]["where"]["parts"]],
                )

            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("beach.glb", one_triangle().glb()))])
            haul = finished(c, haul["id"])
            self.assertEqual(haul["source"]["counts"]["parts"], 7)
            self.assertEqual(named(haul), ([gone, stays], [third]))
            whole = scene.export(file_type="glb")
            scene.graph.transforms.remove_node(gone)
            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("quay.glb", scene.export(file_type="glb")))])
            haul = finished(c, haul["id"])
            self.assertEqual(haul["source"]["counts"]["parts"], 6)
            self.assertEqual(named(haul), (["?", stays], [third]), "its name is kept, and is no other part's")
            notes = [n["text"] for n in haul["source"]["notes"] if n["code"] == "import.picked-gone"]
            self.assertEqual(len(notes), 1)
            self.assertIn(f"“{gone}” was picked by hand (set “Railings”)", notes[0])
            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("quay.glb", whole))])
            self.assertEqual(named(finished(c, haul["id"])), ([gone, stays], [third]), "it came back")

    def test_files_of_one_name_come_and_go_and_take_nothing_from_each_other(self) -> None:
        """One lies in a folder: neither its parts nor what was picked of them go when another of its name is sent without one."""
        with client() as c:
            haul = begin(c, {"east/hall.glb": trimesh_scene(7, 3, odd=False).export(file_type="glb")})
            at, first = (
                f"/api/hauls/{haul['id']}",
                c.get(f"/api/scenes/{haul['source']['id']}/parts").json()["items"][0],
            )
            sets = [{"id": "s", "name": "by hand", "added": [first["identity"]]}]
            c.patch(at, json={"route": {**haul["route"], "sets": sets}}, headers={"If-Match": f'"{haul["version"]}"'})

            def picked(now: dict[str, Any]) -> list[list[float]]:
                there = c.get(f"/api/scenes/{now['source']['id']}/parts?limit=99").json()["items"]
                added = now["route"]["sets"][0]["added"]
                return [[p[k] for k in ("sizeX", "sizeY", "sizeZ")] for p in there if p["identity"] in added]

            wanted = [[first[k] for k in ("sizeX", "sizeY", "sizeZ")]]
            other = trimesh_scene(8, 4, odd=False).export(file_type="glb")
            c.post(f"{at}/files", files=[("files", ("hall.glb", other))])
            now = finished(c, haul["id"])
            self.assertEqual((now["source"]["counts"]["parts"], picked(now)), (7, wanted))
            c.delete(f"{at}/files", params={"path": "hall.glb"})
            self.assertEqual(picked(finished(c, haul["id"])), wanted)
            c.post(f"{at}/files", files=[("files", ("hall.glb", other))])
            finished(c, haul["id"])
            c.delete(f"{at}/files", params={"path": "east/hall.glb"})
            now = finished(c, haul["id"])
            self.assertEqual((now["source"]["counts"]["parts"], picked(now)), (4, []))
            self.assertEqual(len([n for n in now["source"]["notes"] if n["code"] == "import.picked-gone"]), 1)

    def test_the_site_stays_where_it_was_when_files_come_anew(self) -> None:
        """Points and volumes that a route holds are in the world of the haul: its origin does not wander with its parts."""
        with client() as c:
            haul = begin(c, as_obj(), "door.obj")
            more = np.concatenate([PLACES, PLACES[1] + np.arange(1, 9)[:, None] * (30.0, 0.0, 0.0)])
            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("door.obj", as_obj(more)))])
            again = finished(c, haul["id"])
            before, now = (
                {p["name"]: p for p in c.get(f"/api/scenes/{h['source']['id']}/parts").json()["items"]}
                for h in (haul, again)
            )
            self.assertEqual((len(before), len(now)), (3, 11))
            for name, part in before.items():
                for axis in ("x", "y", "z"):
                    self.assertAlmostEqual(now[name][axis], part[axis], 6)
            notes = [n["text"] for n in again["source"]["notes"] if n["code"] == "import.recentred"]
            self.assertEqual(len(notes), 1)
            self.assertIn("as before", notes[0])

    def test_a_file_that_comes_before_the_others_changes_no_unit(self) -> None:
        with client() as c:
            haul = begin(c, {"quay.glb": one_triangle().glb()})
            sign = document('<node name="sign"><instance_geometry url="#g"/></node>')
            inches = sign.replace(b"<asset></asset>", b'<asset><unit meter="0.0254" name="inch"/></asset>')
            self.assertNotEqual(inches, sign)
            for name, data in (("a.dae", inches), ("quay.glb", one_triangle().glb())):
                c.post(f"/api/hauls/{haul['id']}/files", files=[("files", (name, data))])
                now = finished(c, haul["id"])
                self.assertEqual(now["source"]["counts"]["parts"], 2)
                self.assertEqual(now["source"]["convention"]["metresPerUnit"], 1.0)

    def test_a_file_is_taken_out_again_and_what_was_picked_in_others_stays(self) -> None:
        with client() as c:
            glbs = {
                name: trimesh_scene(k, 4, odd=False).export(file_type="glb")
                for k, name in enumerate(("a.glb", "b.glb"))
            }
            haul = begin(c, glbs)
            at = f"/api/hauls/{haul['id']}"
            parts = c.get(f"/api/scenes/{haul['source']['id']}/parts").json()["items"]
            kept = next(p for p in parts if p["identity"].startswith("b.glb|"))
            sets = [{"id": "s", "name": "by hand", "added": [kept["identity"]]}]
            c.patch(at, json={"route": {**haul["route"], "sets": sets}}, headers={"If-Match": f'"{haul["version"]}"'})
            self.assertEqual(haul["revision"]["files"], ["a.glb", "b.glb"])
            self.assertEqual(c.delete(f"{at}/files", params={"path": "c.glb"}).json()["code"], "file.unknown")
            self.assertEqual(c.delete(f"{at}/files", params={"path": "a.glb"}).status_code, 202)
            now = finished(c, haul["id"])
            self.assertEqual((now["revision"]["files"], now["source"]["counts"]["parts"]), (["b.glb"], 4))
            (name,) = now["route"]["sets"][0]["added"]
            there = {p["identity"]: p for p in c.get(f"/api/scenes/{now['source']['id']}/parts").json()["items"]}
            self.assertEqual(
                [there[name][k] for k in ("name", "x", "y", "z")], [kept[k] for k in ("name", "x", "y", "z")]
            )
            only = c.delete(f"{at}/files", params={"path": "b.glb"})
            self.assertEqual((only.status_code, only.json()["code"]), (409, "file.only"))

    def test_pictures_that_fit_nothing_are_a_sentence_and_nothing_is_lost(self) -> None:
        with client() as c:
            haul = begin(c, PAINTED, "sign.dae")
            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("other.png", PNG))])
            after = finished(c, haul["id"])
            self.assertEqual((after["job"]["state"], after["job"]["problem"]["code"]), ("failed", "supply.nothing"))
            self.assertEqual(after["revision"]["id"], haul["revision"]["id"])
            # what is no image and no model either is named as that
            c.post(f"/api/hauls/{haul['id']}/files", files=[("files", ("hall.xyz", b"x")), ("files", ("o.png", PNG))])
            problem = finished(c, haul["id"])["job"]["problem"]
            self.assertEqual((problem["code"], problem["where"]), ("supply.unknown", "“hall.xyz”"))
            self.assertIn("Models can be .dae, .glb", problem["title"])

    def test_an_import_can_be_cancelled_while_the_library_reads(self) -> None:
        copies = beach_usda()
        body = io.BytesIO()
        with zipfile.ZipFile(body, "w") as archive:
            for k in range(12):
                archive.writestr(f"beach_{k}.usda", copies.replace('"beach"', f'"beach_{k}"', 1))
        with client() as c:
            answer = c.post("/api/hauls", files=[("files", ("beaches.zip", body.getvalue()))]).json()
            c.post(f"/api/jobs/{answer['job']['id']}/cancel")
            haul = finished(c, answer["id"])
            self.assertEqual((haul["job"]["state"], haul["revision"]), ("cancelled", None))

    def test_recipes_and_travel_lists_survive_the_store(self) -> None:
        from tidy_caravan.core.formats import bundle_from_files, load

        scene = load(bundle_from_files({"beach.usda": beach_usda().encode()}))
        store = Store(settings().store)
        back = load_scene(store, save_scene(store, scene))
        self.assertEqual(back.travel, scene.travel)
        for a, b in zip(back.meshes, scene.meshes, strict=True):
            self.assertEqual((a.id, a.recipe is None), (b.id, b.recipe is None))
            if a.recipe and b.recipe:
                self.assertEqual(
                    (a.recipe.kind, dict(a.recipe.values), dict(a.recipe.setting)),
                    (b.recipe.kind, dict(b.recipe.values), dict(b.recipe.setting)),
                )
                for k, v in b.recipe.arrays.items():
                    np.testing.assert_array_equal(a.recipe.arrays[k], v)


class Yardsticks(unittest.TestCase):
    def test_made_answered_read_and_kept(self) -> None:
        with client() as c:
            formats = [f["name"] for f in c.get("/api/formats").json()]
            self.assertTrue({"glb", "gltf", "usda", "usdz", "dae", "ply", "stl", "obj"} <= set(formats))
            got = c.get("/api/yardstick/metre-y-up-right/glb")
            self.assertEqual(got.content[:4], b"glTF")
            packed = c.get("/api/yardstick/metre-y-up-right/dae")
            with zipfile.ZipFile(io.BytesIO(packed.content)) as archive:
                self.assertIn("yardstick.dae", archive.namelist())
            ask = {"destination": "metre-y-up-right", "format": "glb"}
            answers = c.post("/api/yardstick/answer", json=ask | {"habit": "inches"}).json()
            reading = c.post("/api/yardstick/read", json=ask | {"answers": answers}).json()
            self.assertEqual(reading["sentence"], "The other side reads your metres as inches and keeps the axes.")
            made = reading["destination"] | {"name": "yard-proven"}
            kept = c.put("/api/destinations/yard-proven", json=made)
            self.assertEqual(kept.status_code, 200, kept.text)
            stored = c.get("/api/destinations/yard-proven")
            self.assertEqual(stored.json()["importers"]["glb"]["file"]["metresPerUnit"], 0.0254)
            haul = begin(c, one_triangle().glb(), to="yard-proven")
            self.assertEqual(haul["destination"]["importers"]["glb"]["proof"]["factor"], 0.0254)
            self.assertEqual(c.delete("/api/destinations/yard-proven").status_code, 428)
            gone = c.delete("/api/destinations/yard-proven", headers={"If-Match": stored.headers["ETag"]})
            self.assertEqual(gone.status_code, 204)
            self.assertEqual(c.get("/api/destinations/yard-proven").status_code, 404)

    def test_what_cannot_be_is_refused_with_a_sentence(self) -> None:
        with client() as c:
            ask = {"destination": "metre-y-up-right", "format": "glb"}
            for path, body, status in (
                ("answer", ask | {"habit": "perfect"}, 400),
                ("answer", ask | {"format": "docx", "habit": "inches"}, 422),
                ("answer", ask | {"destination": "nowhere", "habit": "inches"}, 422),
                ("read", ask | {"answers": {"sizes": [1, 2], "marks": ["X", "Y", "Z"]}}, 422),
            ):
                answer = c.post(f"/api/yardstick/{path}", json=body)
                self.assertEqual(answer.status_code, status, answer.text)
                self.assertTrue(answer.json()["title"])
            reading = c.post(
                "/api/yardstick/read", json=ask | {"answers": {"sizes": [1, 2, 9], "marks": ["X", "Y", "Z"]}}
            ).json()
            self.assertTrue(reading["problems"])
            self.assertIsNone(reading["destination"])

    def test_a_haul_can_be_switched_to_another_destination_at_any_time(self) -> None:
        with client() as c:
            haul = begin(c, one_triangle().glb())
            for d in BUILT_IN[1:]:
                answer = c.patch(
                    f"/api/hauls/{haul['id']}",
                    json={"destination": d.name},
                    headers={"If-Match": f'"{haul["version"]}"'},
                )
                haul = answer.json()
                self.assertEqual(haul["destination"]["name"], d.name)


if __name__ == "__main__":
    unittest.main()
