"""Prices over HTTP and from the shell: totals, what costs most, ways side by side, steps that meet a budget."""

from __future__ import annotations

import json
import subprocess
import sys
import time
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import trimesh

from tests.core.test_sides import at
from tests.server.stand import begin, client


def benches() -> bytes:
    scene = trimesh.Scene()
    mesh = trimesh.creation.box([2, 0.5, 0.5])
    for k in range(20):
        scene.add_geometry(
            mesh, node_name=f"bench_{k:02}", geom_name="bench", transform=at(3 * (k % 5), 0, 2 * (k // 5))
        )
    return scene.export(file_type="glb")  # type: ignore[no-any-return]


def answered(c: Any, path: str, body: dict[str, Any]) -> Any:
    job = c.post(path, json=body).json()
    until = time.monotonic() + 60
    while job["state"] in ("waiting", "running") and time.monotonic() < until:
        time.sleep(0.1)
        job = c.get(f"/api/jobs/{job['id']}").json()
    assert job["state"] == "done", job
    return c.get(f"/api/jobs/{job['id']}/answer").json()


class Prices(unittest.TestCase):
    def test_totals_ways_and_plans(self) -> None:
        with client() as c:
            haul = begin(c, benches())
            scene = haul["source"]["id"]
            total = c.get(f"/api/scenes/{scene}/price").json()
            counts = haul["source"]["counts"]
            self.assertEqual((total["objects"], total["drawCalls"], total["drawCallsInstanced"]), (20, 20, 1))
            self.assertEqual((total["triangles"], total["drawCalls"]), (counts["triangles"], counts["drawCalls"]))
            self.assertEqual(total["weights"]["callUs"], 15.0)
            for by, rows in (("part", 20), ("mesh", 1), ("material", 1), ("layer", 1)):
                found = c.get(f"/api/scenes/{scene}/costly", params={"by": by}).json()
                self.assertEqual(len(found), rows, by)
                self.assertAlmostEqual(sum(r["frameUs"] for r in found), total["frameUs"], places=3)
                self.assertEqual(sum(r["drawCalls"] for r in found), 20)
            ways = answered(c, f"/api/scenes/{scene}/alternatives", {"by": "all"})["alternatives"]
            self.assertEqual([w["price"]["drawCalls"] for w in ways], [20, 20, 20, 1, 1])
            self.assertEqual([w["price"]["objects"] for w in ways], [20, 20, 20, 1, 1])
            self.assertEqual(sum(w["recommended"] for w in ways), 1)
            some = answered(c, f"/api/scenes/{scene}/alternatives", {"by": "all", "where": {"names": ["bench_0*"]}})
            self.assertEqual([w["price"]["objects"] for w in some["alternatives"]], [10, 10, 10, 1, 1])
            plan = answered(c, f"/api/scenes/{scene}/plan", {"drawCalls": 5})["plan"]
            self.assertTrue(plan["met"])
            self.assertLessEqual(plan["prices"][-1]["drawCalls"], 5)
            impossible = answered(c, f"/api/scenes/{scene}/plan", {"triangles": 10})["plan"]
            self.assertFalse(impossible["met"])
            self.assertIn("triangles are still", impossible["over"][0])
            # what was proposed runs as it was priced
            route = {"steps": [{"kind": "match_units_axes"}, *plan["steps"]]}
            now = c.get(f"/api/hauls/{haul['id']}").json()
            edited = c.patch(
                f"/api/hauls/{haul['id']}", json={"route": route}, headers={"If-Match": f'"{now["version"]}"'}
            )
            self.assertEqual(edited.status_code, 200, edited.text)

    def test_answers_that_are_not_there_and_questions_that_cannot_be(self) -> None:
        with client() as c:
            scene = begin(c, benches())["source"]["id"]
            self.assertEqual(c.post(f"/api/scenes/{scene}/plan", json={"drawCalls": -1}).status_code, 422)
            self.assertEqual(c.post(f"/api/scenes/{scene}/alternatives", json={"by": "colour"}).status_code, 422)
            self.assertEqual(c.get("/api/jobs/00000000-0000-0000-0000-000000000000/answer").status_code, 404)

    def test_the_shell_says_the_same(self) -> None:
        with TemporaryDirectory() as folder:
            file = Path(folder) / "benches.glb"
            file.write_bytes(benches())
            command = [sys.executable, "-m", "tidy_caravan.cli", "price", str(file), "--to", "metre-y-up-right", "--parts", "bench_*", "--by", "all", "--calls", "5", "--json"]  # fmt: skip
            out = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
        self.assertEqual(out.returncode, 0, out.stderr)
        told = json.loads(out.stdout)
        self.assertEqual(told["price"]["drawCalls"], 20)
        self.assertEqual([w["price"]["drawCalls"] for w in told["alternatives"]], [20, 20, 20, 1, 1])
        self.assertTrue(told["plan"]["met"])
