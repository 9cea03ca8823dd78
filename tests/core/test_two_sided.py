"""Surfaces with two sides: by a mark on their material, or by faces back to back."""

from __future__ import annotations

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

from tests.core.test_winding import SHAPES, found_in, scene_of, strip
from tests.support import Gltf, read, sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable, write
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.steps import StepContext, Where
from tidy_caravan.core.steps.two_sided import TwoSided


def two_bowls() -> Scene:
    """Two parts of one mesh and one of another, all of one material; a fourth part has none."""
    bowl, g = SHAPES["bowl"], Gltf()
    cloth = g.put("materials", {"name": "cloth", "pbrMetallicRoughness": {"metallicFactor": 0.25}})
    meshes = [g.mesh(bowl.vertices * k, bowl.faces.ravel(), NORMAL=bowl.vertex_normals) for k in (1, 2, 3)]
    for m in meshes[:2]:
        g.json["meshes"][m]["primitives"][0]["material"] = cloth
    for k, m in enumerate((meshes[0], meshes[0], meshes[1], meshes[2])):
        g.node(mesh=m, name=f"bowl {k}", translation=[9.0 * k, 0, 0])
    return g.scene()


def look_of(scene: Scene, part: int) -> tuple[str, bool, float] | None:
    slot = int(scene.meshes[scene.nodes.mesh[part]].material[0])
    m = scene.materials[slot] if slot >= 0 else None
    return None if m is None else (m.name, m.double_sided, m.metallic)


class ByMaterial(unittest.TestCase):
    def test_only_the_chosen_parts_change_and_copies_stay_shared(self) -> None:
        for names, looks, meshes in (
            (["bowl *"], [("cloth", True)] * 3 + [("two-sided", True)], 3),
            (["bowl 0", "bowl 1"], [("cloth two-sided", True)] * 2 + [("cloth", False), None], 3),
            (["bowl 1"], [("cloth", False), ("cloth two-sided", True), ("cloth", False), None], 4),
            (["bowl 3"], [("cloth", False)] * 3 + [("two-sided", True)], 3),
        ):
            with self.subTest(names=names):
                out, changes = TwoSided(where=Where(names=names)).apply(two_bowls(), StepContext())
                found = [look_of(out, k) for k in range(4)]
                self.assertEqual([f and f[:2] for f in found], looks)
                self.assertTrue(all(f[2] == 0.25 for f in found[:3] if f), "a copy keeps its other values")
                self.assertEqual(len(out.meshes), meshes)
                self.assertEqual(changes[0].count, sum(bool(x and x[1]) for x in looks))
                again = TwoSided(where=Where(names=names)).apply(out, StepContext())
                self.assertEqual((again[0].materials, again[1]), (out.materials, []))

    def test_an_independent_reader_sees_the_mark(self) -> None:
        out, _ = TwoSided(where=Where(names=["bowl 0"])).apply(two_bowls(), StepContext())
        back = read(write(out, "glb", "x").files["x.glb"])
        marks = sorted((m.name, m.double_sided) for m in back.materials)
        self.assertEqual(marks, [("cloth", False), ("cloth two-sided", True)])


class ByFaces(unittest.TestCase):
    def test_twice_the_triangles_and_normals_to_either_side(self) -> None:
        scene = two_bowls()
        out, _ = TwoSided(by="faces").apply(scene, StepContext())
        self.assertEqual(len(out.meshes), len(scene.meshes))
        for mesh in out.meshes:
            count = mesh.triangles // 2
            self.assertEqual(count, len(SHAPES["bowl"].faces))
            assert mesh.normals is not None
            corners = mesh.positions.astype(np.float64)[mesh.indices]
            facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
            np.testing.assert_allclose(facing[:count], -facing[count:], atol=1e-6)
            self.assertGreater(np.einsum("fki,fi->fk", mesh.normals[mesh.indices], facing).min(), 0)
        again, changes = TwoSided(by="faces").apply(out, StepContext())
        self.assertEqual(([m.id for m in again.meshes], changes), ([m.id for m in out.meshes], []))

    def test_a_mend_for_twisted_sheets(self) -> None:
        band = strip(1)
        scene = scene_of((band.positions, band.indices))
        finding = next(f for f in found_in(scene) if f.code == "faces.one-sided")
        assert finding.mend
        for by in ("material", "faces"):
            route = Route.model_validate({"steps": [{**finding.mend, "by": by}]})
            out, records = run(scene, route, BUILT_IN[0])
            self.assertEqual(records[0].changes[0].count, 1)
            self.assertEqual(out.meshes[0].triangles, len(band.indices) * (2 if by == "faces" else 1))


class Arrived(unittest.TestCase):
    def test_either_way_is_proven_in_every_format(self) -> None:
        scene = two_bowls()
        for fmt in sorted(writable()):
            for by in ("material", "faces"):
                step: dict[str, Any] = {"kind": "two_sided", "by": by, "where": {"names": ["bowl 1", "bowl 3"]}}
                route = Route.model_validate({"steps": [{"kind": "match_units_axes"}, step]})
                with self.subTest(format=fmt, by=by), TemporaryDirectory() as folder:
                    package, result = sent(scene, "s", "0" * 64, BUILT_IN[2], route, fmt)
                    save(package.files, Path(folder) / "p")
                    report, _ = prove(Path(folder) / "p", scene, result)
                    told = [r.told for r in report.rows if r.faults]
                    self.assertTrue(report.ok, (told, report.problems))


if __name__ == "__main__":
    unittest.main()
