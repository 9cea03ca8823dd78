"""Identities in the database: what was stored before they came is named once, and nothing that was picked is lost."""

from __future__ import annotations

import json
import unittest
import uuid

from sqlalchemy import text

from tests.server.stand import begin, client, settings, work
from tests.support import read, trimesh_scene
from tidy_caravan.core.scene import HIDDEN, Note
from tidy_caravan.server import columns
from tidy_caravan.server.columns import part_column, part_columns
from tidy_caravan.server.db.models import Run
from tidy_caravan.server.db.naming import name_parts
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.jobs.record import note_rows
from tidy_caravan.server.store.blobs import Store


class Notes(unittest.TestCase):
    def test_more_than_are_kept_are_counted(self) -> None:
        kept = note_rows([Note("damaged", "a", "b", "c")] * 2003)
        self.assertEqual((len(kept), kept[-1]["text"]), (2001, "And 3 more notes on this scene."))


class Naming(unittest.TestCase):
    def test_what_was_stored_with_numbers_gets_names(self) -> None:
        with client() as c:
            haul = begin(c, {"quay.glb": trimesh_scene(7, 5, odd=False).export(file_type="glb")})
            haul = work(c, haul["id"], "run")
            scenes = {k: haul[k]["id"] for k in ("source", "result")}
            before = {k: c.get(f"/api/scenes/{v}/parts?limit=100").json()["items"] for k, v in scenes.items()}
            rows = before["source"]
            old = {
                "steps": [
                    {"kind": "mend_normals", "where": {"parts": [rows[0]["source"]]}},
                    {"kind": "place_pivots", "where": {"parts": [999_999]}},
                ],
                "sets": [
                    {"id": "s", "name": "By hand", "added": [rows[1]["source"]], "removed": [rows[2]["source"]],
                     "rules": [{"parts": [rows[3]["source"]]}, {"names": ["post*"]}]}
                ],
            }  # fmt: skip
            number = {"haul": haul["id"], "route": json.dumps(old), "scenes": list(scenes.values())}
            with session_for(settings().database) as session:
                here = "ANY(CAST(:scenes AS uuid[]))"
                session.execute(text(f"UPDATE part SET identity = '' WHERE scene_id = {here}"), number)
                session.execute(text(f"UPDATE scene SET named = false WHERE id = {here}"), number)
                run = session.get_one(Run, uuid.UUID(haul["run"]["id"]))
                told = [c["parts"] for r in run.records for c in r["changes"]]
                back = {r["identity"]: r["source"] for r in rows}
                run.records = [
                    {**r, "changes": [{**c, "parts": [back[p] for p in c["parts"]]} for c in r["changes"]]}
                    for r in run.records
                ]
                session.execute(text("UPDATE haul SET route = CAST(:route AS jsonb) WHERE id = :haul"), number)
            for times in (2, 0):
                with session_for(settings().database) as session:
                    self.assertEqual(name_parts(session, Store(settings().store)), times)
            for key, scene in scenes.items():
                after = c.post(f"/api/scenes/{scene}/parts/named", json={"parts": [r["identity"] for r in before[key]]})
                self.assertEqual(after.json(), {"items": before[key], "gone": []})
            after_all = c.get(f"/api/hauls/{haul['id']}").json()
            again = [change["parts"] for record in after_all["run"]["records"] for change in record["changes"]]
            self.assertEqual(again, told)
            self.assertTrue(any(told))
            route = after_all["route"]
            names = [r["identity"] for r in rows]
            self.assertEqual(route["steps"][0]["where"]["parts"], names[:1])
            self.assertEqual((route["steps"][1]["where"]["parts"], route["steps"][1]["enabled"]), ([], False))
            one = route["sets"][0]
            self.assertEqual((one["added"], one["removed"]), (names[1:2], names[2:3]))
            self.assertEqual((one["rules"][0]["parts"], one["rules"][1]["names"]), (names[3:4], ["post*"]))

    def test_names_that_are_not_there_are_told(self) -> None:
        with client() as c:
            haul = begin(c, {"quay.glb": trimesh_scene(8, 3, odd=False).export(file_type="glb")})
            answer = c.post(f"/api/scenes/{haul['source']['id']}/parts/named", json={"parts": ["quay.glb|buoy|1"]})
            self.assertEqual(answer.json(), {"items": [], "gone": ["quay.glb|buoy|1"]})
            edit = {"route": {"steps": [], "sets": [{"id": "s", "name": "Numbers", "added": [3]}]}}
            refused = c.patch(f"/api/hauls/{haul['id']}", json=edit, headers={"If-Match": f'"{haul["version"]}"'})
            self.assertEqual((refused.status_code, refused.json()["code"]), (422, "request.invalid"))


class Columns(unittest.TestCase):
    def test_a_second_one_of_a_name_is_refused(self) -> None:
        with self.assertRaisesRegex(ValueError, "two columns called “triangles”"):

            @part_column(int)
            def triangles(f: columns.PartFacts) -> list[int]:
                return []

    def test_each_says_what_the_scene_says(self) -> None:
        scene = trimesh_scene(9, 6)
        source = read(scene.export(file_type="glb"))
        facts = columns.PartFacts(source, [])
        found = {c.name: c.of(facts) for c in part_columns()}
        self.assertEqual({len(v) for v in found.values()}, {len(source.nodes.parts)})
        for k, i in enumerate(source.nodes.parts.tolist()):
            mesh = source.meshes[source.nodes.mesh[i]]
            self.assertEqual(found["triangles"][k], mesh.triangles)
            self.assertEqual(found["path"][k], source.nodes.paths[i])
            self.assertEqual(found["hidden"][k], bool(source.nodes.flags[i] & HIDDEN))
            self.assertEqual(found["identity"][k], source.identities.names[i])
        whole = scene.bounds
        low = min(a - b / 2 for a, b in zip(found["x"], found["size_x"], strict=True))
        self.assertAlmostEqual(low, float(whole[0][0]), places=4)


if __name__ == "__main__":
    unittest.main()
