"""Light over HTTP and from the shell: budgets while a slider moves, and the preview bake with its page."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import trimesh

from tests.core.test_sides import at
from tests.harden.kills import Application
from tests.server.stand import begin, client, database, settings, work
from tests.server.test_prices import answered
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.tidy import tidy_store


def room() -> bytes:
    """A floor, a wall, and a post four times."""
    scene = trimesh.Scene()
    scene.add_geometry(trimesh.creation.box([6, 0.2, 6]), node_name="floor", geom_name="floor")
    scene.add_geometry(trimesh.creation.box([6, 3, 0.2]), node_name="wall", geom_name="wall", transform=at(0, 1.6, -3))
    for k in range(4):
        post = trimesh.creation.box([0.2, 1, 0.2])
        scene.add_geometry(post, node_name=f"post_{k}", geom_name="post", transform=at(k - 1.5, 0.6, 1))
    return bytes(scene.export(file_type="glb"))


STEPS = [
    {"kind": "match_units_axes"}, {"kind": "lightmap_uvs", "resolution": 64, "paddingTexels": 2},
    {"kind": "light_budget", "texelM": 0.1, "paddingTexels": 2},
]  # fmt: skip


def lit(c: Any) -> dict[str, Any]:
    """A haul whose result has lightmaps with sizes."""
    haul = begin(c, room())
    edit = {"route": {"steps": STEPS}}
    answer = c.patch(f"/api/hauls/{haul['id']}", json=edit, headers={"If-Match": f'"{haul["version"]}"'})
    assert answer.status_code == 200, answer.text
    return work(c, haul["id"], "run")


class Budgets(unittest.TestCase):
    def test_parts_are_in_the_sets_that_they_were_in_at_the_source(self) -> None:
        sets = [
            {"id": "floor", "name": "Floor", "rules": [{"names": ["floor"]}], "treatment": {"leaveOut": True}},
            {"id": "posts", "name": "Posts", "rules": [{"names": ["post_*"]}], "treatment": {"lightmapped": False}},
        ]
        with client() as c:
            haul = begin(c, room())
            steps = [{"kind": "what_travels"}, *STEPS]
            edit = {"route": {"steps": steps, "sets": sets}}
            answer = c.patch(f"/api/hauls/{haul['id']}", json=edit, headers={"If-Match": f'"{haul["version"]}"'})
            self.assertEqual(answer.status_code, 200, answer.text)
            haul = work(c, haul["id"], "run")
            told = c.get(f"/api/scenes/{haul['result']['id']}/light", params={"texelM": 0.05}).json()
            self.assertEqual((told["maps"], told["dearest"][0]["name"]), (1, "wall"))
            # parts of treatments that differ are never put together: posts have none, the wall has a lightmap
            ways = answered(c, f"/api/scenes/{haul['result']['id']}/alternatives", {"by": "all"})["alternatives"]
            self.assertEqual(min(w["price"]["objects"] for w in ways), 2)

    def test_texel_sizes_and_megabytes(self) -> None:
        with client() as c:
            haul = lit(c)
            scene = haul["result"]["id"]
            fine = c.get(f"/api/scenes/{scene}/light", params={"texelM": 0.01}).json()
            coarse = c.get(f"/api/scenes/{scene}/light", params={"texelM": 0.04}).json()
            self.assertEqual((fine["maps"], fine["guessed"]), (6, 0))
            self.assertGreater(fine["bytes"], 8 * coarse["bytes"])
            self.assertEqual(sum(s["maps"] for s in fine["sizes"]), 6)
            self.assertAlmostEqual(sum(s["bytes"] for s in fine["sizes"]), fine["bytes"])
            self.assertEqual(fine["dearest"][0]["name"], "floor")
            within = c.get(f"/api/scenes/{scene}/light", params={"megabytes": 1}).json()
            self.assertLessEqual(within["bytes"], 1e6)
            self.assertGreater(within["bytes"], 0.2e6)
            least = c.get(f"/api/scenes/{scene}/light", params={"megabytes": 0.001}).json()
            self.assertEqual(least["bytes"], least["least"])
            weighed = c.get(f"/api/scenes/{scene}/light", params={"texelM": 0.01, "unseen": 0.25}).json()
            self.assertEqual(
                (fine["unseen"], weighed["unseen"], weighed["bytes"]), (0, 0, fine["bytes"])
            )  # all in sight
            began = time.monotonic()
            for _ in range(20):
                c.get(f"/api/scenes/{scene}/light", params={"texelM": 0.03})
            self.assertLess((time.monotonic() - began) / 20, 0.2)
            for bad in ({"texelM": 0}, {"megabytes": -1}, {"ceiling": 0}, {"unseen": 0}):
                self.assertEqual(c.get(f"/api/scenes/{scene}/light", params=bad).status_code, 422)


class Bakes(unittest.TestCase):
    def test_a_bake_has_figures_pages_and_a_view(self) -> None:
        with client() as c:
            scene = lit(c)["result"]["id"]
            sky = {"sky": [100, 100, 100], "ground": [0, 0, 0], "bounces": 2}
            job = c.post(f"/api/scenes/{scene}/bake", json={"samples": 16, "divide": 1, **sky}).json()
            self.assertEqual(c.get(f"/api/jobs/{job['id']}/light.exr").status_code, 409)
            until = time.monotonic() + 120
            while (job := c.get(f"/api/jobs/{job['id']}").json())["state"] in ("waiting", "running"):
                self.assertLess(time.monotonic(), until)
                time.sleep(0.1)
            self.assertEqual(job["state"], "done", job)
            told = c.get(f"/api/jobs/{job['id']}/answer").json()["bake"]
            self.assertEqual((told["maps"], told["samples"], told["lost"]), (6, 16, []))
            floor = next(p for p in told["parts"] if p["name"] == "floor")
            # most of the floor's upper side sees nearly the whole sky, its underside none
            self.assertGreater(floor["brightest"], 0.9 * np.pi * 100)
            self.assertLess(floor["lux"], np.pi * 100)
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "light.exr"
                path.write_bytes(c.get(f"/api/jobs/{job['id']}/light.exr").content)
                pixels = OpenEXR.File(str(path)).channels()["RGB"].pixels
            self.assertEqual(pixels.dtype, np.float32)
            self.assertAlmostEqual(float(pixels.max() / (np.pi * 100)), 1.0, delta=0.35)
            self.assertEqual(c.get(f"/api/jobs/{job['id']}/light.png").content[:4], b"\x89PNG")
            view = c.get(f"/api/jobs/{job['id']}/view").content
            header = json.loads(view[8 : 8 + int.from_bytes(view[:8], "little")])
            self.assertEqual(header["places"]["shape"], [6, 4])
            self.assertEqual(header["pages"]["shape"], [1, *pixels.shape[:2], 4])
            self.assertEqual(header["leaves"]["shape"], [6])
            self.assertEqual(c.get(f"/api/jobs/{job['id']}/light.exr?page=1").status_code, 404)
            self.tidied()
            for ending in ("exr", "png"):
                self.assertEqual(c.get(f"/api/jobs/{job['id']}/light.{ending}").status_code, 200, "it was freed")
            one = answered(c, f"/api/scenes/{scene}/bake", {"samples": 1, "parts": [self.identity(c, scene)], **sky})
            self.assertEqual([p["name"] for p in one["bake"]["parts"]], ["wall"])

    def tidied(self) -> None:
        """The store as it is when everything in it is old, and what nothing names has gone."""
        store = Store(settings().store)
        lone = store.put_blob(b"a blob that nothing names")
        for key in store.older_than(-10):
            os.utime(store.path(key), (1, 1))
        until = time.monotonic() + 30
        while store.exists(lone):
            self.assertLess(time.monotonic(), until)
            tidy_store(database(), settings().store, 10, 60, 7)
            time.sleep(0.1)

    def identity(self, c: Any, scene: str) -> str:
        rows = c.get(f"/api/scenes/{scene}/parts", params={"limit": "50"}).json()["items"]
        return str(next(r["identity"] for r in rows if r["name"] == "wall"))

    def test_without_maps_it_says_what_to_do(self) -> None:
        with client() as c:
            scene = begin(c, room())["source"]["id"]
            job = c.post(f"/api/scenes/{scene}/bake", json={}).json()
            until = time.monotonic() + 60
            while (job := c.get(f"/api/jobs/{job['id']}").json())["state"] in ("waiting", "running"):
                self.assertLess(time.monotonic(), until)
                time.sleep(0.1)
            self.assertEqual(job["state"], "failed")
            self.assertIn("Texel budget", job["problem"]["title"])


class Kept(unittest.TestCase):
    def test_parts_that_did_not_change_keep_their_light_and_it_is_told(self) -> None:
        with client() as c:
            haul = lit(c)
            ask = {"samples": 2, "divide": 1, "bounces": 2}
            first = answered(c, f"/api/scenes/{haul['result']['id']}/bake", ask)["bake"]
            self.assertEqual((first["before"], first["rays"] > 0), (0, True))
            post = next(
                p for p in c.get(f"/api/scenes/{haul['result']['id']}/parts").json()["items"] if p["name"] == "post_0"
            )
            gone = {
                "id": "gone",
                "name": "Gone",
                "rules": [],
                "added": [post["identity"]],
                "treatment": {"leaveOut": True},
            }
            edit = {"route": {"steps": [{"kind": "what_travels"}, *STEPS], "sets": [gone]}}
            answer = c.patch(f"/api/hauls/{haul['id']}", json=edit, headers={"If-Match": f'"{haul["version"]}"'})
            self.assertEqual(answer.status_code, 200, answer.text)
            scene = work(c, haul["id"], "run")["result"]["id"]
            second = answered(c, f"/api/scenes/{scene}/bake", ask)["bake"]
            before = {p["name"]: p["before"] for p in second["parts"]}
            # the wall is four metres off, the last post three; the floor and the next post stand beside what went
            self.assertEqual(before, {"floor": False, "wall": True, "post_1": False, "post_2": True, "post_3": True})
            self.assertLess(second["rays"], first["rays"])
            anew = answered(c, f"/api/scenes/{scene}/bake", {**ask, "keep": False})["bake"]
            self.assertEqual((anew["before"], anew["rays"] > 0), (0, True))


class Killed(unittest.TestCase):
    def test_tiles_that_were_traced_before_a_kill_are_there_after_it(self) -> None:
        with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
            os.chmod(folder, 0o755)
            application = Application(Path(folder) / "state")
            try:
                application.start()
                job = self.begun(application)
                before = self.traced(Path(folder), 6)
                application.stop(9)
                application.start()
                until = time.monotonic() + 180
                while True:
                    told = application.call("GET", f"/api/jobs/{job}")
                    state = told.json()["state"] if told is not None else "waiting"
                    if state not in ("waiting", "running"):
                        break
                    self.assertLess(time.monotonic(), until)
                    time.sleep(0.2)
                self.assertEqual(state, "done")
                answer = application.call("GET", f"/api/jobs/{job}/answer")
                assert answer is not None
                self.assertEqual(answer.json()["bake"]["samples"], 120)
                after = self.traced(Path(folder), 0)
                self.assertEqual(before.items() & after.items(), before.items(), "a tile was traced again")
                self.assertEqual(len(after), 31, "thirty tiles, and the light of the parts")
            finally:
                application.stop()

    def begun(self, application: Application) -> str:
        """The job that bakes the result of a haul."""
        made = application.call("POST", "/api/hauls", files=[("files", ("room.glb", room()))])
        assert made is not None
        path = f"/api/hauls/{made.json()['id']}"

        def settled() -> dict[str, Any]:
            until = time.monotonic() + 90
            while True:
                answer = application.call("GET", path)
                haul = answer.json() if answer is not None else {}
                if haul and not haul.get("job"):
                    return dict(haul)
                if haul and haul["job"]["state"] in ("done", "failed", "cancelled"):
                    return dict(haul)
                self.assertLess(time.monotonic(), until)
                time.sleep(0.2)

        haul = settled()
        application.call("PATCH", path, json={"route": {"steps": STEPS}}, headers={"If-Match": f'"{haul["version"]}"'})
        application.call("POST", f"{path}/run")
        scene = settled()["result"]["id"]
        job = application.call("POST", f"/api/scenes/{scene}/bake", json={"samples": 120, "divide": 1})
        assert job is not None
        return str(job.json()["id"])

    def traced(self, folder: Path, least: int) -> dict[str, int]:
        """Files of traced tiles and where they lie on the disk, once there are so many."""
        until = time.monotonic() + 90
        while True:
            found = {str(p): p.stat().st_ino for p in folder.rglob("*.done") if b"behind" in p.read_bytes()[:600]}
            if len(found) >= least:
                return found
            self.assertLess(time.monotonic(), until)
            time.sleep(0.2)


class Shell(unittest.TestCase):
    def test_light_and_bake(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file, route = Path(folder) / "room.glb", Path(folder) / "route.json"
            file.write_bytes(room())
            route.write_text(json.dumps({"steps": STEPS}))

            def ask(*words: str) -> tuple[int, Any]:
                command = [
                    sys.executable,
                    "-m",
                    "tidy_caravan.cli",
                    *words,
                    "--to",
                    "metre-y-up-right",
                    "--route",
                    str(route),
                    "--json",
                ]
                done = subprocess.run(command, capture_output=True, text=True, timeout=240, check=False)
                return done.returncode, json.loads(done.stdout) if done.stdout else done.stderr

            code, told = ask("light", str(file), "--texel", "0.05")
            self.assertEqual((code, told["maps"]), (0, 6))
            code, told = ask("light", str(file), "--megabytes", "0.0001")
            self.assertEqual(code, 1)
            out = Path(folder) / "out"
            code, told = ask("bake", str(file), "--out", str(out), "--samples", "2", "--divide", "2")
            self.assertEqual((code, told["maps"], told["samples"]), (0, 6, 2))
            self.assertEqual(sorted(p.name for p in out.iterdir()), ["light.exr", "light.png"])
            more = (
                "--parts",
                "post_*",
                "--sun",
                "2",
                "--lamps-color",
                "1,0.5,0.25",
                "--white",
                "100",
                "--denoise",
                "--mark",
            )
            code, told = ask("bake", str(file), "--out", str(out), "--samples", "1", "--divide", "2", *more)
            self.assertEqual((code, told["maps"], told["white"], told["lost"]), (0, 4, 100, []))
            for wrong in (("--parts", "nobody"), ("--sun", "-1"), ("--glow-color", "1,2"), ("--samples", "0")):
                code, told = ask("bake", str(file), "--out", str(out), *wrong)
                self.assertEqual(code, 2, (wrong, told))
                self.assertNotIn("Traceback", told)


if __name__ == "__main__":
    unittest.main()
