"""The demo's yard: every fault in it is named where it is and nowhere else, and the proposed route mends it and arrives."""

from __future__ import annotations

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from tests.support import read
from tidy_caravan.core.carry import package_of, prove
from tidy_caravan.core.conventions.destinations import destination
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.proposal import propose
from tidy_caravan.core.route import Route, as_json, run
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey import Finding, survey
from tidy_caravan.core.work.heavy import Remembered, Workshop
from tidy_caravan.demo.work_yard import NAME, PLANTED, yard_files

TO = destination("centimetre-z-up-left")
OF_THE_WHOLE = {"uv.second-missing", "sharing.none", "speed.draw-calls", "material.unused", "mesh.unused"}
"""Found as well: what the yard has as a whole."""
FOR_A_PERSON = {
    "faces.one-sided": {"twisted_strap"},  # no turning makes two sides of one
    "origin.apart": {"marker_left_out_at_sea"},  # it may be meant to be seen from there
    "transform.flattened": {"shadow_scaled_flat"},
    "uv.content-shape": {"departures_display_twice_as_wide"},  # its image has to be made anew, or cut
    "scale.left": {"brick_pier_large"},  # it cannot lose its scale while its mesh is another's as well
}
"""What the proposed route leaves."""


class Surveyed(unittest.TestCase):
    """The yard with what is found in it, once for all tests of a class."""

    scene: Scene
    found: list[Finding]

    @classmethod
    def setUpClass(cls) -> None:
        cls.scene, cls.kept = read(yard_files(), f"{NAME}.gltf"), Workshop(results=Remembered())
        cls.found = survey(cls.scene, TO, cls.kept)


class Yard(Surveyed):
    def names(self, scene: Scene, finding: Finding) -> set[str]:
        return {scene.nodes.names[i] for i in finding.parts}

    def test_every_fault_is_named_where_it_is_and_nowhere_else(self) -> None:
        told: dict[str, set[str]] = {}
        for f in self.found:
            told.setdefault(f.code, set()).update(self.names(self.scene, f))
        self.assertEqual({c: sorted(set(n)) for c, n in PLANTED.items()}, {c: sorted(told.get(c, ())) for c in PLANTED})
        self.assertEqual(set(told) - set(PLANTED), OF_THE_WHOLE)

    def test_the_proposed_route_mends_them_and_what_it_made_arrives(self) -> None:
        steps = [as_json(p.step) for p in propose(self.found, TO)]
        route = Route(steps=steps)
        done, records = run(self.scene, route, TO, workshop=self.kept)
        left = survey(done, TO, self.kept)
        rest = {f.code: self.names(done, f) for f in left if f.code not in OF_THE_WHOLE}
        self.assertEqual(rest, FOR_A_PERSON)
        self.assertEqual([c.text for r in records for c in r.changes if c.problem and r.kind != "turn_faces"], [])
        for fmt in ("glb", "usdc"):
            with self.subTest(format=fmt), TemporaryDirectory() as folder:
                package = package_of(done, self.scene, NAME, "0" * 64, TO, route, fmt, records, left)  # type: ignore[arg-type]
                save(package.files, Path(folder))
                report, _ = prove(Path(folder), self.scene, done, self.kept)
                wrong = [*report.problems, *report.lost, *report.extra, *(r.told for r in report.rows if r.faults)]
                self.assertEqual(wrong, [])


if __name__ == "__main__":
    unittest.main()
