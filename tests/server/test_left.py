"""Findings left as they are: with the route, undone with it, counted out, kept through the next version of the source."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from tests.core.test_sides import at, over, place
from tests.server.stand import begin, client, finished, work


def glb(*turned: str, lean: float = 0.0) -> bytes:
    """The place of the visible sides, some parts turned over; lean moves the bench, as a later version would."""
    scene = trimesh.Scene()
    for name, (made, matrix) in place().items():
        shift = at(lean, 0, 0) if name == "bench" else np.eye(4)
        scene.add_geometry(over(made) if name in turned else made, name, name, transform=shift @ matrix)
    return bytes(scene.export(file_type="glb"))


class LeftAsItIs(unittest.TestCase):
    CODE = "faces.seen-from-behind"

    def findings(self, c: Any, haul: dict[str, Any], **query: str) -> dict[str, dict[str, Any]]:
        answer = c.get(f"/api/hauls/{haul['id']}/findings", params=query)
        self.assertEqual(answer.status_code, 200, answer.text)
        return {f["code"]: f for f in answer.json()}

    def put(self, c: Any, haul: dict[str, Any], *left: dict[str, Any]) -> dict[str, Any]:
        now = c.get(f"/api/hauls/{haul['id']}").json()
        route = {**now["route"], "left": list(left)}
        tag = {"If-Match": f'"{now["version"]}"'}
        answer = c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers=tag)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.json()  # type: ignore[no-any-return]

    def test_it_is_said_counted_and_taken_back(self) -> None:
        with client() as c:
            haul = begin(c, glb("poster", "locker"))
            before = self.findings(c, haul)[self.CODE]
            self.assertEqual((before["effect"], before["left"], before["partCount"]), ("looks wrong", "", 2))
            edited = self.put(c, haul, {"code": self.CODE, "because": "stage flats", "parts": []})
            self.assertEqual(edited["open"]["survey"], haul["open"]["survey"] - 1)
            self.assertEqual(self.findings(c, haul)[self.CODE]["left"], "stage flats")
            steps = [p["step"]["kind"] for p in c.get(f"/api/hauls/{haul['id']}/proposal").json()]
            self.assertNotIn("turn_faces", steps)
            listed = next(h for h in c.get("/api/hauls?limit=500").json()["items"] if h["id"] == haul["id"])
            self.assertEqual(listed["open"]["survey"], edited["open"]["survey"])
            back = self.put(c, haul)
            self.assertEqual(back["open"]["survey"], haul["open"]["survey"])
            steps = [p["step"]["kind"] for p in c.get(f"/api/hauls/{haul['id']}/proposal").json()]
            self.assertIn("turn_faces", steps)

    def test_a_set_is_proposed_of_parts_that_stand_far_away_without_those_that_are_left(self) -> None:
        """It is for the others then; put on the route it leaves them out, and nothing else."""
        scene = trimesh.Scene()
        for k in range(12):
            scene.add_geometry(
                trimesh.creation.box((1, 1, 1 + 0.1 * k)), f"bollard {k}", f"bollard {k}", transform=at(3 * k, 0, 0)
            )
        for k in range(2):
            scene.add_geometry(
                trimesh.creation.box((2, 1, 3 + k)), f"buoy {k}", f"buoy {k}", transform=at(9000, 0, 50 * k)
            )
        with client() as c:
            haul = begin(c, bytes(scene.export(file_type="glb")))
            rows = c.get(f"/api/scenes/{haul['source']['id']}/parts", params={"limit": 50}).json()["items"]
            names = {r["name"]: r["identity"] for r in rows}
            both = self.findings(c, haul)["origin.apart"]["mend"]["set"]
            self.assertEqual(set(both["added"]), {names["buoy 0"], names["buoy 1"]})
            haul = self.put(
                c, haul, {"code": "origin.apart", "because": "seen from the quay", "parts": [names["buoy 0"]]}
            )
            one = self.findings(c, haul)["origin.apart"]["mend"]["set"]
            self.assertEqual(one["added"], [names["buoy 1"]])
            route = {**haul["route"], "sets": [{"id": "far", **one}]}
            tag = {"If-Match": f'"{haul["version"]}"'}
            self.assertEqual(c.patch(f"/api/hauls/{haul['id']}", json={"route": route}, headers=tag).status_code, 200)
            done = work(c, haul["id"], "run")
            rows = c.get(f"/api/scenes/{done['result']['id']}/parts", params={"limit": 50}).json()["items"]
            self.assertEqual({r["name"] for r in rows}, {*names} - {"buoy 1"})

    def test_some_parts_only_and_through_the_next_version(self) -> None:
        with client() as c:
            haul = begin(c, glb("poster", "locker"))
            scene = haul["source"]["id"]
            rows = c.get(f"/api/scenes/{scene}/parts", params={"limit": 50}).json()["items"]
            names = {r["name"]: r["identity"] for r in rows}
            one = {"code": self.CODE, "because": "stage flat", "parts": [names["poster"]]}
            edited = self.put(c, haul, one)
            self.assertEqual(edited["open"]["survey"], haul["open"]["survey"])
            found = self.findings(c, haul)[self.CODE]
            self.assertEqual((found["left"], found["leftParts"]), ("", 1))
            self.assertEqual(found["mend"]["step"]["where"]["parts"], [names["locker"]])
            files = [("files", ("scene.glb", glb("poster", lean=0.2)))]
            self.assertIn(c.post(f"/api/hauls/{haul['id']}/files", files=files).status_code, (200, 202))
            finished(c, haul["id"])
            later = self.findings(c, haul)[self.CODE]
            self.assertEqual((later["left"], later["partCount"]), ("stage flat", 1))

    def test_what_makes_no_sense_is_refused_with_a_sentence(self) -> None:
        with client() as c:
            haul = begin(c, glb("poster"))
            tag = {"If-Match": f'"{haul["version"]}"'}
            for left in ([{"code": "", "because": "x"}], [{"code": "a", "because": ""}], [{"code": "a"}]):
                answer = c.patch(f"/api/hauls/{haul['id']}", json={"route": {"steps": [], "left": left}}, headers=tag)
                self.assertEqual(answer.status_code, 422, left)
                self.assertIn("title", answer.json())
            self.assertEqual(c.get(f"/api/hauls/{haul['id']}/findings", params={"of": "result"}).status_code, 409)
