"""What was changed in a haul is undone and done again, by whoever asks, and also after the source came anew."""

from __future__ import annotations

import unittest
import uuid
from typing import Any

from sqlalchemy import func, select

from tests.server.stand import begin, client, database, finished
from tests.support import trimesh_scene
from tidy_caravan.server.db.models import Edit
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.edits import MOST_KEPT, told

STEPS: list[dict[str, Any]] = [{"kind": "match_units_axes"}, {"kind": "mend_normals"}, {"kind": "tidy_names"}]


def route(steps: list[dict[str, Any]], **more: Any) -> dict[str, Any]:
    return {"steps": steps, **more}


class Haul:
    """A haul over the API, edited with the version that was read last."""

    def __init__(self, c: Any, files: Any) -> None:
        self.c = c
        self.now: dict[str, Any] = begin(c, files, "quay.glb") if isinstance(files, bytes) else begin(c, files)
        self.at = f"/api/hauls/{self.now['id']}"

    def answered(self, answer: Any) -> int:
        if answer.status_code == 200:
            self.now = answer.json()
        return int(answer.status_code)

    def edit(self, **change: Any) -> int:
        return self.answered(self.c.patch(self.at, json=change, headers={"If-Match": f'"{self.now["version"]}"'}))

    def turn(self, way: str) -> int:
        return self.answered(self.c.post(f"{self.at}/{way}", headers={"If-Match": f'"{self.now["version"]}"'}))

    def kinds(self) -> list[str]:
        return [s["kind"] for s in self.now["route"]["steps"]]


def glb(seed: int) -> bytes:
    return bytes(trimesh_scene(seed, 6).export(file_type="glb"))


class Edits(unittest.TestCase):
    def test_back_and_forth_over_all_that_can_be_changed(self) -> None:
        with client() as c:
            haul = Haul(c, glb(1))
            self.assertEqual(
                (haul.now["undo"], haul.now["redo"], haul.turn("undo"), haul.turn("redo")), ("", "", 409, 409)
            )
            states = [haul.now]
            for change in (
                {"route": route(STEPS)},
                {"name": "Quay at night"},
                {"destination": "metre-y-up-left"},
                {"route": route(STEPS[:2])},
                {"route": route(STEPS[:2], sets=[{"id": "s", "name": "Rails", "rules": [{"names": ["rail*"]}]}])},
            ):
                self.assertEqual(haul.edit(**change), 200)
                states.append(haul.now)
            what = [s["undo"] for s in states[1:]]
            self.assertEqual(what[1:], ["Rename", "Change of destination", "Remove Tidy names", "Change of sets"])

            def same(one: dict[str, Any], other: dict[str, Any]) -> None:
                for key in ("name", "destination", "route"):
                    self.assertEqual(one[key], other[key])

            for k in reversed(range(5)):
                self.assertEqual(haul.turn("undo"), 200)
                same(haul.now, states[k])
                self.assertEqual(haul.now["redo"], what[k])
            self.assertEqual(haul.turn("undo"), 409)
            for k in range(1, 6):
                self.assertEqual(haul.turn("redo"), 200)
                same(haul.now, states[k])
            self.assertEqual(haul.turn("redo"), 409)
            haul.turn("undo")
            haul.edit(name="Another")
            self.assertEqual((haul.now["redo"], haul.turn("redo")), ("", 409), "what is new goes on from here")
            self.assertEqual(haul.edit(name="Another"), 200)
            haul.turn("undo")
            self.assertEqual(haul.now["name"], "Quay at night", "what changes nothing is no change")

    def test_only_the_newest_are_kept_and_go_with_their_haul(self) -> None:
        with client() as c:
            haul = Haul(c, glb(1))
            for k in range(MOST_KEPT + 3):
                haul.edit(name=f"name {k}")
            undone = 0
            while haul.turn("undo") == 200:
                undone += 1
            self.assertEqual((undone, haul.now["name"]), (MOST_KEPT, "name 2"))
            self.assertEqual(c.delete(haul.at, headers={"If-Match": f'"{haul.now["version"]}"'}).status_code, 204)
        with session_for(database()) as session:
            mine = select(func.count()).select_from(Edit).where(Edit.haul_id == uuid.UUID(haul.now["id"]))
            self.assertEqual(session.scalar(mine), 0)

    def test_an_edit_of_somebody_else_is_not_undone_unseen(self) -> None:
        with client() as c:
            haul = Haul(c, glb(1))
            haul.edit(name="Mine")
            old = haul.now["version"]
            haul.edit(name="Theirs")
            for way in ("undo", "redo"):
                self.assertEqual(c.post(f"{haul.at}/{way}", headers={"If-Match": f'"{old}"'}).status_code, 412)
                self.assertEqual(c.post(f"{haul.at}/{way}").status_code, 428)

    def test_what_comes_back_names_its_parts_as_the_new_files_do(self) -> None:
        """A step for one part is taken off; then a file with another tree comes, and the step is wanted again."""
        with client() as c:
            haul = Haul(c, glb(3))
            source = haul.now["source"]["id"]
            picked = c.get(f"/api/scenes/{source}/parts").json()["items"][0]
            haul.edit(route=route([{"kind": "place_pivots", "where": {"parts": [picked["identity"]]}}]))
            haul.edit(route=route(STEPS))
            name = picked["name"].encode()
            other = glb(3).replace(b'"' + name + b'"', b'"' + name[::-1] + b'"')
            self.assertNotEqual(other, glb(3))
            self.assertEqual(c.post(f"{haul.at}/files", files=[("files", ("quay.glb", other))]).status_code, 202)
            finished(c, haul.now["id"])
            haul.now = c.get(haul.at).json()
            self.assertEqual(haul.turn("undo"), 200)
            (part,) = haul.now["route"]["steps"][0]["where"]["parts"]
            there = {p["identity"]: p for p in c.get(f"/api/scenes/{haul.now['source']['id']}/parts").json()["items"]}
            self.assertIn(part, there)
            for axis in ("x", "y", "z"):
                self.assertAlmostEqual(there[part][axis], picked[axis], 4)


class Words(unittest.TestCase):
    def test_each_change_is_named(self) -> None:
        def named(before: list[dict[str, Any]], after: list[dict[str, Any]]) -> str:
            return told(("a", {}, route(before)), ("a", {}, route(after)))

        a, b, c = STEPS
        self.assertEqual(named([a], [a, b]), "Add Mend normals")
        self.assertEqual(named([a, b], [b, a]), "Move of a step")
        self.assertEqual(named([a, b], [a, {**b, "enabled": False}]), "Switch off Mend normals")
        self.assertEqual(named([a, {**b, "enabled": False}], [a, b]), "Switch on Mend normals")
        self.assertEqual(named([a, b], [a, {**b, "creaseDeg": 20}]), "Change of Mend normals")
        self.assertEqual(named([a], [a, b, c]), "Change of the route")
        self.assertEqual(named([{**a, "x": 1}, {**b, "x": 1}], [a, b]), "Change of several steps")
        self.assertEqual(named([b, {**b, "x": 1}], [{**b, "x": 1}, b]), "Move of a step")
        self.assertEqual(
            told(("a", {}, route([a], left=[1])), ("a", {}, route([a]))), "Change of what is left as it is"
        )


if __name__ == "__main__":
    unittest.main()
