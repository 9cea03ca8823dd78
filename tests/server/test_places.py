"""Places of findings and the views of a step of a run, over the API."""

from __future__ import annotations

import io
import json
import struct
import unittest
import uuid
from typing import Any

import numpy as np
import trimesh
from PIL import Image

from tests.core.test_sides import at, sheet
from tests.server.stand import begin, client, work


def flickering() -> bytes:
    scene = trimesh.Scene()
    scene.add_geometry(trimesh.creation.box([1, 1, 1]), "kiosk", "kiosk", transform=at(0, 0.5, 0))
    scene.add_geometry(sheet(0.6, 0.4), "lid", "lid", transform=at(0, 1.0002, 0, (-np.pi / 2, [1, 0, 0])))
    return bytes(scene.export(file_type="glb"))


def instances(view: bytes) -> Any:
    """(N, 16) matrices of a view file, read by hand."""
    length = struct.unpack("<Q", view[:8])[0]
    entry = json.loads(view[8 : 8 + length])["instances"]
    begin_, end = entry["data_offsets"]
    return np.frombuffer(view[8 + length + begin_ : 8 + length + end], "<f4").reshape(entry["shape"])


class Places(unittest.TestCase):
    def test_lines_are_in_metres_as_the_view_and_the_picture_shows_them(self) -> None:
        with client() as c:
            haul = begin(c, flickering())
            findings = {f["code"]: f for f in c.get(f"/api/hauls/{haul['id']}/findings").json()}
            one = findings["flicker.between"]
            self.assertEqual(one["placeCount"], 1)
            base = f"/api/scenes/{one['sceneId']}/findings/{one['id']}/places"
            place = c.get(base).json()[0]
            ends = np.array(place["lines"]).reshape(-1, 3)
            self.assertTrue(
                np.allclose([ends.min(axis=0), ends.max(axis=0)], [[-0.3, 1, -0.2], [0.3, 1, 0.2]], atol=1e-3)
            )
            self.assertTrue(np.allclose(place["centre"], [0, 1, 0], atol=1e-3))
            self.assertEqual(sorted(place["names"]), ["kiosk", "lid"])
            shot = c.get(f"{base}/0/picture.png")
            self.assertEqual((shot.status_code, shot.headers["content-type"]), (200, "image/png"))
            self.assertEqual(Image.open(io.BytesIO(shot.content)).size, (320, 180))
            # a finding that keeps no lines has its parts for places
            plain = findings["normals.missing"] if "normals.missing" in findings else findings["uv.first-missing"]
            parts = c.get(f"/api/scenes/{plain['sceneId']}/findings/{plain['id']}/places").json()
            self.assertEqual(len(parts), 2)
            self.assertEqual([p["lines"] for p in parts], [[], []])
            for path in (f"{base}/1/picture.png", f"{base}/-1/picture.png", base.replace(one["id"], str(uuid.uuid4()))):
                answer = c.get(path)
                self.assertEqual((answer.status_code, answer.json()["status"]), (404, 404), path)

    def test_a_step_of_a_run_is_seen_before_and_after(self) -> None:
        with client() as c:
            haul = begin(c, flickering())
            steps = f"/api/hauls/{haul['id']}/steps"
            self.assertEqual(c.post(f"{steps}/1/views").status_code, 409)
            route = {"steps": [{"kind": "match_units_axes"}, {"kind": "mend_overlaps"}, {"kind": "tidy_names"}]}
            tag = {"If-Match": f'"{haul["version"]}"'}
            self.assertEqual(c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers=tag).status_code, 200)
            work(c, haul["id"], "run")
            for wrong in (0, 4, -1):
                self.assertEqual(c.post(f"{steps}/{wrong}/views").status_code, 404)

            def views(number: int) -> tuple[bytes, bytes]:
                job = c.post(f"{steps}/{number}/views").json()
                while job["state"] in ("waiting", "running"):
                    job = c.get(f"/api/jobs/{job['id']}").json()
                self.assertEqual(job["state"], "done", job)
                return tuple(  # type: ignore[return-value]
                    c.get(f"/api/jobs/{job['id']}/view", params={"side": side}).content for side in ("before", "after")
                )

            before, after = views(2)
            moved = np.abs(instances(before) - instances(after)).max()
            self.assertGreater(moved, 1e-4)
            self.assertLess(moved, 0.01)
            third = views(3)
            self.assertEqual(third[0], after)
            result = c.get(f"/api/hauls/{haul['id']}").json()["result"]["id"]
            self.assertEqual(len(instances(third[1])), len(instances(c.get(f"/api/scenes/{result}/view").content)))
