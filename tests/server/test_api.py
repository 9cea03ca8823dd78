"""The API over a real database and real workers, from upload to arrival and through every refusal."""

from __future__ import annotations

import io
import json
import threading
import unittest
import uuid
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

import httpx
import numpy as np
import orjson

from tests.core.test_gltf import everything
from tests.planted import kiosk
from tests.server.stand import begin, client, database, finished, running, settings, work
from tests.support import one_triangle, read, trimesh_scene, validate_bytes
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import write
from tidy_caravan.core.route import Route, chain, steps_of
from tidy_caravan.core.route import run as run_route
from tidy_caravan.demo.ferry_landing import landing_files
from tidy_caravan.server.db.models import SceneRow
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import StoreSteps, from_bytes, load_scene, save_scene
from tidy_caravan.server.store.tidy import named_keys
from tidy_caravan.server.view import view_bytes

SHORT = {
    "steps": [
        {"kind": "match_units_axes"},
        {"kind": "mend_normals"},
        {"kind": "lightmap_uvs", "resolution": 64, "paddingTexels": 2},
    ]
}


class Journey(unittest.TestCase):
    def test_from_file_to_proven_package(self) -> None:
        with client() as c:
            source = trimesh_scene(1, 20).export(file_type="glb").replace(b'"box 0"', b'"b/x 0"')
            haul = begin(c, source, to="centimetre-z-up-left")
            self.assertEqual(
                (haul["job"]["state"], haul["source"]["counts"]["parts"], haul["open"]["state"]),
                ("done", 20, "surveyed"),
            )
            findings = c.get(f"/api/scenes/{haul['source']['id']}/findings").json()
            serious = [f for f in findings if f["severity"] != "info"]
            self.assertEqual(
                (haul["open"]["survey"], haul["open"]["mend"]),
                (len(serious), sum(f["mend"] is not None for f in serious)),
            )
            mirrored = next(f for f in findings if f["code"] == "transform.mirrored")
            picked = c.get(f"/api/scenes/{haul['source']['id']}/picked", params={"finding": mirrored["id"]}).json()
            self.assertEqual(len(picked["sources"]), mirrored["count"])
            edited = c.patch(f"/api/hauls/{haul['id']}", json={"route": SHORT}, headers={"If-Match": '"1"'})
            self.assertEqual((edited.status_code, edited.headers["ETag"]), (200, '"2"'))
            haul = work(c, haul["id"], "run")
            self.assertEqual([r["kind"] for r in haul["run"]["records"]], [s["kind"] for s in SHORT["steps"]])
            self.assertFalse(haul["run"]["stale"])
            haul = work(c, haul["id"], "pack", format="glb")
            haul = work(c, haul["id"], "arrive")
            report = haul["arrival"]["report"]
            self.assertTrue(report["ok"], report)
            self.assertEqual(haul["open"]["state"], "arrived")
            rows = c.get(f"/api/arrivals/{haul['arrival']['id']}/rows", params={"limit": 5}).json()
            self.assertEqual((rows["total"], len(rows["items"])), (20, 5))
            rows = c.get(f"/api/arrivals/{haul['arrival']['id']}/rows", params={"search": "b/x"}).json()
            self.assertEqual([r["name"] for r in rows["items"]], ["b/x 0"])
            packed = c.get(f"/api/packages/{haul['package']['id']}/download")
            with zipfile.ZipFile(io.BytesIO(packed.content)) as archive:
                self.assertEqual(sorted(archive.namelist()), ["manifest.json", "scene.glb"])
                checked = validate_bytes({"scene.glb": archive.read("scene.glb")})
            self.assertEqual((checked["errors"], checked["warnings"]), (0, 0))
            self.assertEqual(packed.content, c.get(f"/api/packages/{haul['package']['id']}/download").content)
            moved = c.patch(
                f"/api/hauls/{haul['id']}", json={"destination": "metre-y-up-left"}, headers={"If-Match": '"2"'}
            ).json()
            self.assertTrue(moved["run"]["stale"])

    def test_failed_import_is_a_sentence_and_a_folder_of_files_works(self) -> None:
        with client() as c:
            bad = begin(c, b"glTF" + b"\1" * 40)
            self.assertEqual(bad["job"]["state"], "failed")
            self.assertIn("version", bad["job"]["problem"]["title"])
            good = begin(c, {f"folder/{k}": v for k, v in landing_files().items()})
            self.assertEqual((good["job"]["state"], good["source"]["counts"]["parts"]), ("done", 333))
            image = c.get(f"/api/scenes/{good['source']['id']}/images/0")
            self.assertEqual((image.status_code, image.headers["content-type"]), (200, "image/png"))
            picture = c.get(f"/api/scenes/{good['source']['id']}/picture.png").content
            self.assertTrue(picture.startswith(b"\x89PNG"))

    def test_what_arrived_is_shown_with_its_images_and_they_are_kept(self) -> None:
        """The view of a scene that is not in the store as a whole names them as well."""
        files = {"kiosk.glb": write(kiosk(), "glb", "kiosk").files["kiosk.glb"]}
        with client() as c:
            haul = begin(c, files)
            for what in ("run", "pack", "arrive"):
                haul = work(c, haul["id"], what, **({"format": "glb"} if what == "pack" else {}))
            arrived = haul["arrival"]["sceneId"]
            told = from_bytes(c.get(f"/api/scenes/{arrived}/view").content)[0]["materials"]
            shown = [m["image"] for m in told if m["image"] >= 0]
            self.assertEqual(len(shown), 2)
            pictures = {image.data for image in kiosk().images}
            for index in shown:
                image = c.get(f"/api/scenes/{arrived}/images/{index}")
                self.assertEqual((image.status_code, image.headers["content-type"]), (200, "image/png"))
                self.assertIn(image.content, pictures)
            self.assertEqual(c.get(f"/api/scenes/{arrived}/images/99").status_code, 404)
            with session_for(database()) as session:
                row = session.get_one(SceneRow, uuid.UUID(arrived))
                self.assertLessEqual({i[1] for i in row.images if i}, named_keys(session, Store(settings().store)))

    def haul_of_name(self, name: str) -> dict[str, Any]:
        g = one_triangle()
        g.json["nodes"][0]["name"] = name
        document = g.finish()
        document["buffers"][0]["uri"] = "a.bin"
        with client() as c:
            return begin(c, {"a.gltf": json.dumps(document).encode(), "a.bin": bytes(g.blob)})

    def test_zero_characters_and_endless_names_reach_the_database(self) -> None:
        haul = self.haul_of_name("a\x00b" + "x" * 5000)
        self.assertEqual(haul["job"]["state"], "done")
        with client() as c:
            (part,) = c.get(f"/api/scenes/{haul['source']['id']}/parts").json()["items"]
        self.assertNotIn("\0", part["name"])
        self.assertTrue(part["name"].endswith("x" * 5000))

    def test_half_a_character_is_told_and_costs_no_more(self) -> None:
        haul = self.haul_of_name("a\ud800")
        self.assertEqual(haul["job"]["state"], "done")
        with client() as c:
            (part,) = c.get(f"/api/scenes/{haul['source']['id']}/parts").json()["items"]
            notes = c.get(f"/api/scenes/{haul['source']['id']}").json()["notes"]
        self.assertEqual(part["name"], "a\ufffd")
        self.assertIn("import.json", [n["code"] for n in notes])


class Ledger(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        with client() as c:
            cls.haul = begin(c, trimesh_scene(5, 50).export(file_type="glb"))
        cls.scene = cls.haul["source"]["id"]

    def page(self, **query: Any) -> dict[str, Any]:
        with client() as c:
            answer = c.get(f"/api/scenes/{self.scene}/parts", params=query)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.json()  # type: ignore[no-any-return]

    def check_picked(self, parts: list[dict[str, Any]]) -> None:
        with client() as c:
            picked = c.get(f"/api/scenes/{self.scene}/picked").json()
        self.assertEqual(sorted(picked["sources"]), sorted(p["source"] for p in parts))
        for axis, (low, high) in enumerate(zip(picked["min"], picked["max"], strict=True)):
            size, place = ("sizeX", "sizeY", "sizeZ")[axis], "xyz"[axis]
            self.assertAlmostEqual(low, min(p[place] - p[size] / 2 for p in parts), places=9)
            self.assertAlmostEqual(high, max(p[place] + p[size] / 2 for p in parts), places=9)

    def test_groups_add_up_to_their_parts(self) -> None:
        with client() as c:
            haul = begin(c, landing_files())
            scene = f"/api/scenes/{haul['source']['id']}"
            parts = c.get(f"{scene}/parts", params={"limit": 1000}).json()["items"]
            top = c.get(f"{scene}/groups", params={"by": "tree"}).json()["items"]
            self.assertEqual({g["name"] for g in top}, {p["path"].split("/")[0] for p in parts})
            branch = next(g for g in top if g["below"])
            for under in (branch["name"], branch["name"] + "/" + parts[0]["path"].split("/")[1]):
                inside = [p for p in parts if p["path"] == under or p["path"].startswith(under + "/")]
                page = c.get(f"{scene}/groups", params={"by": "tree", "under": under, "limit": 1000}).json()
                groups = page["items"]
                self.assertEqual((page["total"], len(inside) > 1), (len(groups), True))
                for figure in ("parts", "triangles", "drawCalls", "findings"):
                    of = {"parts": lambda p: 1, "drawCalls": lambda p: p["materials"]}.get(
                        figure, lambda p, f=figure: p[f]
                    )
                    self.assertEqual(sum(g[figure] for g in groups), sum(map(of, inside)), figure)
                depth = under.count("/") + 1
                for g in groups:
                    own = [p for p in inside if (p["path"].split("/") + [""])[depth] == g["name"]]
                    meshes = {p["mesh"]: p["materials"] for p in own}
                    self.assertEqual(
                        (g["parts"], g["meshes"], g["drawCallsInstanced"]),
                        (len(own), len(meshes), sum(meshes.values())),
                    )
            layers = c.get(f"{scene}/groups", params={"by": "layer"}).json()["items"]
            self.assertEqual(sum(g["parts"] for g in layers), len(parts))
            name = layers[0]["name"]
            in_layer = c.get(f"{scene}/parts", params={"layer": name}).json()["total"]
            self.assertEqual(in_layer, sum(p["layer"] == name for p in parts))

    def test_materials_lead_to_the_parts_that_carry_them(self) -> None:
        with client() as c:
            haul = begin(c, landing_files())
            scene = f"/api/scenes/{haul['source']['id']}"
            page = c.get(f"{scene}/materials", params={"sort": "name", "descending": False}).json()
            self.assertEqual(page["total"], haul["source"]["counts"]["materials"])
            names = [m["name"].lower() for m in page["items"]]
            self.assertEqual(names, sorted(names))
            parts = c.get(f"{scene}/parts", params={"limit": 1000}).json()["items"]
            for m in page["items"]:
                answer = c.get(f"{scene}/parts", params={"material": m["material"], "limit": 1}).json()
                carrying = sum(m["name"] in p["materialNames"].split(", ") for p in parts)
                self.assertEqual((m["parts"], answer["total"]), (carrying, carrying), m["name"])
            self.assertEqual(sum(m["triangles"] for m in page["items"]), haul["source"]["counts"]["triangles"])
            self.assertEqual(c.get(f"{scene}/parts", params={"material": 999}).status_code, 404)

    def test_sort_filter_and_pages(self) -> None:
        everything_ = self.page(limit=1000)["items"]
        self.assertEqual(len(everything_), 50)
        by_size = self.page(sort="size", descending=True, limit=50)["items"]
        sizes = [max(p["sizeX"], p["sizeY"], p["sizeZ"]) for p in by_size]
        self.assertEqual(sizes, sorted(sizes, reverse=True))
        self.assertEqual(
            [p["node"] for p in self.page(offset=10, limit=5)["items"]], [p["node"] for p in everything_[10:15]]
        )
        boxes = self.page(search="box")
        self.assertEqual(boxes["total"], sum("box" in p["path"] for p in everything_))
        mesh = everything_[0]["mesh"]
        self.assertEqual(self.page(mesh=mesh)["total"], everything_[0]["instances"])
        self.assertEqual(
            [p["node"] for p in self.page(sources=f"{everything_[3]['source']}")["items"]], [everything_[3]["node"]]
        )
        self.check_picked(everything_)
        for trick in ("%", "_", "\\", "'; drop table part; --"):
            self.assertEqual(self.page(search=trick)["total"], sum(trick in p["path"] for p in everything_))

    def test_meshes_add_up(self) -> None:
        with client() as c:
            meshes = c.get(f"/api/scenes/{self.scene}/meshes").json()
        self.assertEqual((meshes["total"], sum(m["instances"] for m in meshes["items"])), (3, 50))
        self.assertEqual(sum(m["trianglesDrawn"] for m in meshes["items"]), self.haul["source"]["counts"]["triangles"])

    def test_places_and_sizes_are_those_of_the_scene(self) -> None:
        scene = read(trimesh_scene(5, 50).export(file_type="glb"))
        for row, box in zip(self.page(limit=50)["items"], scene.part_bounds, strict=True):
            np.testing.assert_allclose([row["x"], row["y"], row["z"]], box.mean(axis=0), atol=1e-9)
            np.testing.assert_allclose([row["sizeX"], row["sizeY"], row["sizeZ"]], box[1] - box[0], atol=1e-9)


class Refusals(unittest.TestCase):
    def problem(self, answer: httpx.Response, status: int, code: str) -> None:
        self.assertEqual(
            (answer.status_code, answer.headers["content-type"]), (status, "application/problem+json"), answer.text
        )
        body = answer.json()
        self.assertEqual(body["code"], code)
        self.assertTrue(body["title"])

    def test_every_refusal_is_a_problem_document(self) -> None:
        none = "00000000-0000-0000-0000-000000000000"
        with client() as c:
            haul = begin(c, one_triangle().glb())
            mine, scene = f"/api/hauls/{haul['id']}", haul["source"]["id"]
            self.problem(c.get(f"/api/hauls/{none}"), 404, "haul.unknown")
            self.problem(c.get("/api/hauls/x"), 404, "not-found")
            self.problem(c.get("/api/nothing"), 404, "not-found")
            self.problem(c.patch(mine, json={"name": "x"}), 428, "version.missing")
            self.problem(c.patch(mine, json={"name": "x"}, headers={"If-Match": '"9"'}), 412, "version.stale")
            self.problem(c.patch(mine, json={"odd": 1}, headers={"If-Match": '"1"'}), 422, "request.invalid")
            self.problem(
                c.patch(mine, json={"destination": "moon"}, headers={"If-Match": '"1"'}), 422, "destination.unknown"
            )
            self.problem(
                c.patch(mine, json={"route": {"steps": [{"kind": "fly"}]}}, headers={"If-Match": '"1"'}),
                422,
                "route.invalid",
            )
            self.problem(c.post(f"{mine}/pack", json={"format": "glb"}), 409, "haul.not-run")
            self.problem(c.post(f"{mine}/arrive"), 409, "haul.not-packed")
            self.problem(c.post(f"{mine}/pack", json={"format": "exe"}), 422, "format.unknown")
            self.problem(c.get(f"/api/scenes/{scene}/parts", params={"limit": 0}), 422, "request.invalid")
            self.problem(c.get(f"/api/scenes/{none}/parts"), 404, "scene.unknown")
            self.problem(c.get(f"/api/scenes/{scene}/images/7"), 404, "image.unknown")
            self.problem(c.get(f"/api/hauls/{none}/proposal"), 404, "haul.unknown")
            bad = begin(c, b"glTF" + b"\1" * 40)
            self.problem(c.get(f"/api/hauls/{bad['id']}/proposal"), 409, "haul.empty")
            self.problem(c.post("/api/hauls", files=[("files", ("../../up.glb", b"x"))]), 422, "upload.path")
            self.problem(
                c.post("/api/hauls", content=b"x", headers={"content-type": "application/json"}), 422, "request.invalid"
            )
            self.problem(c.post(f"/api/jobs/{haul['job']['id']}/cancel"), 409, "job.over")
            self.problem(
                c.put("/api/destinations/metre-y-up-right", json=BUILT_IN[0].model_dump(by_alias=True)),
                409,
                "destination.built-in",
            )

    def test_foreign_pages_hosts_and_oversized_uploads(self) -> None:
        with client() as c:
            self.problem(c.get("/api/hauls", headers={"Host": "evil.example"}), 421, "host.unknown")
            self.problem(c.post("/api/hauls", headers={"Origin": "http://evil.example"}), 403, "origin.foreign")
            self.problem(c.delete("/api/hauls/x", headers={"Origin": "null"}), 403, "origin.foreign")
            large = b"x" * (settings().upload_bytes + (2 << 20))
            self.problem(c.post("/api/hauls", files=[("files", ("a.glb", large))]), 413, "upload.too-large")

            def endless() -> Any:
                for _ in range(80):
                    yield b"x" * (1 << 20)

            answer = c.post(
                "/api/hauls", content=endless(), headers={"content-type": "multipart/form-data; boundary=b"}
            )
            self.assertIn(answer.status_code, (400, 413))
            self.assertIn("default-src 'self'", c.get("/api/health").headers["content-security-policy"])

    def test_only_one_work_at_a_time_and_only_one_edit_wins(self) -> None:
        with client() as c:
            haul = begin(c, trimesh_scene(9, 30).export(file_type="glb"))
            first = c.post(f"/api/hauls/{haul['id']}/run")
            self.assertEqual(first.status_code, 202)
            self.problem(c.post(f"/api/hauls/{haul['id']}/run"), 409, "job.busy")
            finished(c, haul["id"])
            codes: list[int] = []

            def edit(name: str) -> None:
                with client() as other:
                    codes.append(
                        other.patch(
                            f"/api/hauls/{haul['id']}", json={"name": name}, headers={"If-Match": '"1"'}
                        ).status_code
                    )

            threads = [threading.Thread(target=edit, args=(f"n{i}",)) for i in range(6)]
            for t in threads:
                t.start()
            for t in threads:
                t.join()
            self.assertEqual(sorted(codes), [200, 412, 412, 412, 412, 412])

    def test_own_destinations_are_kept_with_optimistic_locking(self) -> None:
        own = BUILT_IN[1].model_dump(by_alias=True) | {"name": "house-engine", "title": "House engine"}
        with client() as c:
            self.assertEqual(c.put("/api/destinations/house-engine", json=own).headers["ETag"], '"1"')
            self.problem(c.put("/api/destinations/house-engine", json=own), 428, "version.missing")
            self.assertEqual(
                c.put("/api/destinations/house-engine", json=own, headers={"If-Match": '"1"'}).headers["ETag"], '"2"'
            )
            self.assertIn("house-engine", [d["name"] for d in c.get("/api/destinations").json()])
            haul = begin(c, one_triangle().glb(), to="house-engine")
            self.assertEqual(haul["destination"]["title"], "House engine")


class Storage(unittest.TestCase):
    def test_a_scene_in_the_store_is_the_scene(self) -> None:
        store = Store(settings().store)
        scene = everything().scene()
        key = save_scene(store, scene)
        self.assertEqual(key, save_scene(store, scene))
        back = load_scene(store, key)
        self.assertEqual([m.id for m in back.meshes], [m.id for m in scene.meshes])
        self.assertEqual(
            (back.materials, back.images, back.lights, back.cameras, back.roots),
            (scene.materials, scene.images, scene.lights, scene.cameras, scene.roots),
        )
        np.testing.assert_array_equal(back.nodes.world, scene.nodes.world)
        a, _ = run_route(scene, _route(), BUILT_IN[1])
        b, _ = run_route(back, _route(), BUILT_IN[1])
        self.assertEqual(save_scene(store, a), save_scene(store, b))

    def test_scenes_after_steps_are_kept_and_missed_without_harm(self) -> None:
        store = Store(settings().store)
        steps = StoreSteps(store, "scene/xx/some-source")
        scene = read(trimesh_scene(77, 9).export(file_type="glb"))
        route = Route(steps=[{"kind": "match_units_axes"}, {"kind": "place_pivots", "onlyFar": False}])
        with mock.patch("tidy_caravan.core.route.KEPT_SECONDS", -1.0):
            first, told = run_route(scene, route, BUILT_IN[2], kept=steps)
        key = chain(steps_of(route), route, BUILT_IN[2], scene, steps.source)[-1]
        kept = steps.get(key)
        assert kept is not None
        self.assertEqual(write(kept[0], "glb", "x").files, write(first, "glb", "x").files)
        self.assertEqual(kept[1], told)
        # freed meanwhile: as if it had never been there
        gone = orjson.loads(store.get(f"cache/{key[:2]}/{key}.step"))["scene"]
        Path(store.path(gone)).unlink()
        self.assertIsNone(steps.get(key))
        again, _ = run_route(scene, route, BUILT_IN[2], kept=steps)
        self.assertEqual(write(again, "glb", "x").files, write(first, "glb", "x").files)

    def test_keys_cannot_leave_the_store(self) -> None:
        for key in ("../x", "/etc/hostname", "a/../../b"):
            with self.assertRaises(ValueError):
                Store(settings().store).get(key)

    def test_the_view_draws_every_instance_where_it_is(self) -> None:
        scene = read(trimesh_scene(3, 30).export(file_type="glb"))
        meta, arrays = from_bytes(view_bytes(scene))
        self.assertEqual((len(arrays["instances"]), len(meta["meshes"])), (30, 3))
        matrices = arrays["instances"].reshape(-1, 4, 4).transpose(0, 2, 1)
        expected = scene.nodes.world[arrays["nodes"]]
        np.testing.assert_allclose(matrices[:, :3, 3] + meta["centre"], expected[:, :3, 3], atol=1e-4)
        self.assertEqual(sum(m["indices"] for m in meta["meshes"]), sum(m.triangles * 3 for m in scene.meshes))


def _route() -> Any:
    from tidy_caravan.core.route import Route

    return Route(steps=[{"kind": "match_units_axes"}])


class Live(unittest.TestCase):
    def test_progress_is_told_and_cancel_stops_it(self) -> None:
        with client() as c:
            haul = begin(c, trimesh_scene(11, 30).export(file_type="glb"))
            route = {"steps": [{"kind": "lightmap_uvs", "resolution": 4096, "paddingTexels": 64, "keepGood": False}]}
            c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": '"1"'})
            heard: list[dict[str, Any]] = []
            with httpx.stream(
                "GET", f"{running()}/api/events", params={"haul": haul["id"]}, timeout=60, verify=False
            ) as stream:
                lines = stream.iter_lines()
                next(lines)
                job = c.post(f"/api/hauls/{haul['id']}/run").json()
                for line in lines:
                    if not line.startswith("data: "):
                        continue
                    heard.append(json.loads(line[6:]))
                    if len(heard) == 1:
                        self.assertEqual(c.post(f"/api/jobs/{job['id']}/cancel").status_code, 202)
                    if heard[-1]["state"] not in ("waiting", "running"):
                        break
            self.assertEqual({h["haul"] for h in heard}, {haul["id"]})
            self.assertEqual(heard[-1]["state"], "cancelled")
            self.assertIsNone(c.get(f"/api/hauls/{haul['id']}").json()["run"])


if __name__ == "__main__":
    unittest.main()
