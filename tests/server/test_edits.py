"""What was changed in a haul, its source or a destination is undone and done again; what was deleted is restored."""

from __future__ import annotations

import unittest
import uuid
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import func, select, update

from tests.server.stand import begin, client, database, finished, settings
from tests.support import trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.server.db.models import DestinationRow, Edit, Job
from tidy_caravan.server.db.models import Haul as Haul_
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.edits import MOST_KEPT, told, told_of_files
from tidy_caravan.server.store.tidy import tidy_store

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

    def finish(self, answer: Any) -> None:
        """Waits for the job that was answered; the haul is read anew."""
        assert answer.status_code == 202, answer.text
        self.now = finished(self.c, self.now["id"])

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
            self.assertEqual(
                c.delete(f"{haul.at}?forGood=true", headers={"If-Match": f'"{haul.now["version"]}"'}).status_code, 204
            )
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

    def test_a_new_source_is_undone_with_what_followed_it_and_with_its_work(self) -> None:
        """A step for one part; files with another tree come, are added and taken out; then all of it back and forth."""
        with client() as c:
            haul = Haul(c, glb(3))
            picked = c.get(f"/api/scenes/{haul.now['source']['id']}/parts").json()["items"][0]
            haul.edit(route=route([{"kind": "place_pivots", "where": {"parts": [picked["identity"]]}}]))
            haul.finish(c.post(f"{haul.at}/run"))
            haul.finish(c.post(f"{haul.at}/pack", json={"format": "glb"}))
            states = [haul.now]
            name = picked["name"].encode()
            other = glb(3).replace(b'"' + name + b'"', b'"' + name[::-1] + b'"')
            self.assertNotEqual(other, glb(3))
            haul.finish(c.post(f"{haul.at}/files", files=[("files", ("quay.glb", other))]))
            (part,) = haul.now["route"]["steps"][0]["where"]["parts"]
            self.assertNotEqual(part, picked["identity"], "the step follows its part")
            states.append(haul.now)
            haul.finish(c.post(f"{haul.at}/files", files=[("files", ("deck/rails.glb", glb(4)))]))
            states.append(haul.now)
            haul.finish(c.delete(f"{haul.at}/files", params={"path": "quay.glb"}))
            states.append(haul.now)
            what = ["New version of quay.glb", "Add rails.glb", "Remove quay.glb"]
            self.assertEqual([s["undo"] for s in states[1:]], what)
            self.assertIsNone(haul.now["run"])
            for way, order in (("undo", (2, 1, 0)), ("redo", (1, 2, 3)), ("undo", (2, 1, 0))):
                for k in order:
                    self.assertEqual(haul.turn(way), 200)
                    for key in ("name", "route", "revision", "source", "run", "package", "sourceName"):
                        self.assertEqual(haul.now[key], states[k][key], (way, k, key))
            self.assertEqual((haul.now["open"]["state"], haul.now["run"]["stale"]), ("packed", False))
            haul.finish(c.post(f"{haul.at}/arrive"))
            self.assertTrue(haul.now["arrival"]["report"]["ok"])

    def test_a_source_is_not_taken_from_work_that_goes_on(self) -> None:
        with client() as c:
            haul = Haul(c, glb(3))
            haul.finish(c.post(f"{haul.at}/files", files=[("files", ("rails.glb", glb(4)))]))
            with session_for(database()) as session:
                job = Job(id=uuid.uuid4(), haul_id=uuid.UUID(haul.now["id"]), kind="run", state="waiting", arguments={})
                job.created = datetime.now(UTC) + timedelta(days=1)  # nobody takes it up within this test
                session.add(job)
            self.assertEqual(haul.turn("undo"), 409)
            with session_for(database()) as session:
                session.delete(session.merge(job))
            self.assertEqual(haul.turn("undo"), 200)


class Deleted(unittest.TestCase):
    def test_a_haul_is_restored_as_it_was_until_it_is_deleted_for_good(self) -> None:
        with client() as c:
            haul = Haul(c, glb(5))
            haul.edit(name="To be deleted")
            haul.finish(c.post(f"{haul.at}/run"))
            was, listed = (
                haul.now,
                lambda deleted: [
                    h["id"] for h in c.get("/api/hauls", params={"deleted": deleted, "limit": 500}).json()["items"]
                ],
            )

            def delete(version: str, **how: Any) -> Any:
                return c.delete(haul.at, params=how, headers={"If-Match": version})

            self.assertEqual(c.post(f"{haul.at}/restore").json()["code"], "haul.not-deleted")
            gone = delete(f'"{was["version"]}"')
            self.assertEqual(
                (gone.status_code, was["id"] in listed(False), was["id"] in listed(True)), (204, False, True)
            )
            scene = f"/api/scenes/{was['source']['id']}"
            for answer in (
                c.get(haul.at), c.post(f"{haul.at}/run"), c.patch(haul.at, json={"name": "x"}), c.post(f"{haul.at}/undo"),
                c.post(f"{scene}/plan", json={}), delete(gone.headers["ETag"]),
            ):  # fmt: skip
                self.assertEqual((answer.status_code, answer.json()["code"]), (404, "haul.unknown"))
            self.assertEqual(haul.answered(c.post(f"{haul.at}/restore")), 200)
            self.assertEqual((was["id"] in listed(False), was["id"] in listed(True)), (True, False))
            self.assertEqual({**haul.now, "version": 0, "job": None}, {**was, "version": 0, "job": None})
            self.assertEqual(haul.turn("undo"), 200, "what was changed before can still be undone")
            gone = delete(f'"{haul.now["version"]}"')
            self.assertEqual(delete('"1"', forGood=True).status_code, 412)
            self.assertEqual(delete(gone.headers["ETag"], forGood=True).status_code, 204)
            self.assertEqual(c.post(f"{haul.at}/restore").status_code, 404)

    def test_the_days_in_which_it_can_be_restored_end(self) -> None:
        own = BUILT_IN[0].model_dump(by_alias=True) | {"name": "for-some-days"}
        with client() as c:
            old, young = Haul(c, glb(5)), Haul(c, glb(5))
            for haul in (old, young):
                c.delete(haul.at, headers={"If-Match": f'"{haul.now["version"]}"'})
            tag = c.put("/api/destinations/for-some-days", json=own).headers["ETag"]
            c.delete("/api/destinations/for-some-days", headers={"If-Match": tag})
            with session_for(database()) as session:
                session.execute(
                    update(Haul_).where(Haul_.id == uuid.UUID(old.now["id"])).values(deleted=func.now() - timedelta(8))
                )
                session.execute(update(DestinationRow).values(deleted=func.now() - timedelta(days=6)))
            tidy_store(database(), settings().store, 10, 60, 7)
            self.assertEqual([c.post(f"{h.at}/restore").status_code for h in (old, young)], [404, 200])
            self.assertEqual(c.post("/api/destinations/for-some-days/restore").status_code, 200)


class Destinations(unittest.TestCase):
    def test_changes_and_deletion_are_taken_back(self) -> None:
        at = "/api/destinations/pier-engine"
        with client() as c:

            def tag() -> dict[str, str]:
                return {"If-Match": c.get(at).headers["ETag"]}

            def changes() -> list[str]:
                return list(c.get(f"{at}/changes").json().values())

            one = BUILT_IN[1].model_dump(by_alias=True, mode="json") | {"name": "pier-engine", "builtIn": False}
            docs = [one, one | {"title": "Pier"}, one | {"title": "Pier", "maxTexture": 512}]
            self.assertEqual(c.put(at, json=docs[0]).status_code, 200)
            self.assertEqual((changes(), c.post(f"{at}/undo", headers=tag()).status_code), (["", ""], 409))
            for doc in docs[1:]:
                c.put(at, json=doc, headers=tag())
            self.assertEqual(changes(), ["Change of conventions", ""])
            for k in (1, 0):
                self.assertEqual(c.post(f"{at}/undo", headers=tag()).json(), docs[k])
            self.assertEqual(changes(), ["", "Rename"])
            self.assertEqual(c.post(f"{at}/redo", headers=tag()).json(), docs[1])
            self.assertEqual(c.post(f"{at}/redo").status_code, 428)
            stale = tag()
            self.assertEqual(c.delete(at, headers=stale).status_code, 204)
            self.assertEqual([c.get(at).status_code, c.get(f"{at}/changes").status_code], [404, 404])
            self.assertIn("pier-engine", [d["name"] for d in c.get("/api/destinations?deleted=true").json()])
            self.assertNotIn("pier-engine", [d["name"] for d in c.get("/api/destinations").json()])
            unusable = c.post("/api/hauls", files=[("files", ("a.glb", glb(1)))], data={"destination": "pier-engine"})
            self.assertEqual(unusable.json()["code"], "destination.unknown")
            self.assertEqual(c.post(f"{at}/restore").json(), docs[1])
            self.assertEqual(c.post(f"{at}/restore").status_code, 409)
            self.assertEqual(c.put(at, json=docs[0], headers=stale).status_code, 412, "what was read before is old")
            self.assertEqual(changes(), ["Rename", "Change of conventions"], "as before it was deleted")
            c.delete(at, headers=tag())
            self.assertEqual(c.put(at, json=docs[2]).status_code, 200, "the name is free for another")
            self.assertEqual(c.post(f"{at}/undo", headers=tag()).json(), docs[1], "and that one is not lost")


class Words(unittest.TestCase):
    def test_each_change_is_named(self) -> None:
        def named(before: list[dict[str, Any]], after: list[dict[str, Any]]) -> str:
            return told({"route": route(before)}, {"route": route(after)})

        a, b, c = STEPS
        self.assertEqual(named([a], [a, b]), "Add Mend normals")
        self.assertEqual(named([a, b], [b, a]), "Move of a step")
        self.assertEqual(named([a, b], [a, {**b, "enabled": False}]), "Switch off Mend normals")
        self.assertEqual(named([a, {**b, "enabled": False}], [a, b]), "Switch on Mend normals")
        self.assertEqual(named([a, b], [a, {**b, "creaseDeg": 20}]), "Change of Mend normals")
        self.assertEqual(named([a], [a, b, c]), "Change of the route")
        self.assertEqual(named([{**a, "x": 1}, {**b, "x": 1}], [a, b]), "Change of several steps")
        self.assertEqual(named([b, {**b, "x": 1}], [{**b, "x": 1}, b]), "Move of a step")
        left = {"route": route([a], left=[1])}
        self.assertEqual(told(left, {"route": route([a])}), "Change of what is left as it is")

    def test_of_files_what_was_done_to_them(self) -> None:
        a, b, c = ["a.glb", "1"], ["b.glb", "2"], ["c/c.glb", "3"]
        for before, after, what in (
            ([a], [a, c], "Add c.glb"), ([a], [a, b, c], "Add 2 files"), ([a, b], [a], "Remove b.glb"),
            ([a, b], [["a.glb", "9"], b], "New version of a.glb"), ([a], [b], "New version of the source"),
        ):  # fmt: skip
            self.assertEqual(told_of_files(before, after), what)


if __name__ == "__main__":
    unittest.main()
