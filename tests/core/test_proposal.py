"""The proposed route: every mend once, in order, with its reasons, and nothing left to mend afterwards."""

from __future__ import annotations

import unittest

from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.proposal import Proposed, as_route, propose
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.survey import Finding, survey
from tidy_caravan.core.work.heavy import Remembered, Workshop
from tidy_caravan.demo.ferry_landing import landing_files


def finding(mend: dict[str, object] | None, code: str = "x", guess: bool = False) -> Finding:
    return Finding(code=code, severity="warning", title=code, text=f"about {code}", count=1, mend=mend, guess=guess)


class Proposals(unittest.TestCase):
    def kinds(self, proposed: list[Proposed]) -> list[str]:
        return [p.step.kind for p in proposed]

    def test_what_every_delivery_needs_and_nothing_else_without_findings(self) -> None:
        self.assertEqual(self.kinds(propose([], BUILT_IN[1])), ["what_travels", "match_units_axes"])
        self.assertIn(BUILT_IN[1].title, propose([], BUILT_IN[1])[1].reasons[0])

    def test_mends_are_put_together_in_order_with_their_reasons(self) -> None:
        proposed = propose(
            [
                finding({"kind": "match_units_axes", "sourceMetresPerUnit": 0.01}, "unit"),
                finding({"kind": "tidy_names"}, "names"),
                finding({"kind": "match_units_axes", "sourceMetresPerUnit": 0.1, "sourceUp": "Z"}, "axis"),
                finding({"kind": "turn_faces"}, "turned", guess=True),
                finding({"kind": "turn_faces", "how": "outwards", "where": {"parts": ["a|b|0"]}}, "out"),
                finding({"kind": "turn_faces", "how": "outwards", "where": {"parts": ["a|c|0"]}}, "out too"),
                finding({"kind": "drop_degenerates"}, "flat"),
                finding({"kind": "set", "name": "Rooms"}, "set"),
                finding(None, "nothing to do"),
            ],
            BUILT_IN[0],
        )
        self.assertEqual(
            self.kinds(proposed),
            ["what_travels", "match_units_axes", "drop_degenerates", "turn_faces", "turn_faces", "tidy_names"],
        )
        by = {f"{p.step.kind} {getattr(p.step, 'how', '')}": p for p in proposed}
        units = by["match_units_axes "]
        self.assertEqual((units.step.source_metres_per_unit, units.step.source_up), (0.01, "Z"))  # type: ignore[attr-defined]
        self.assertEqual((len(units.reasons), units.guess), (3, False))
        self.assertTrue(by["turn_faces agree"].guess)
        outwards = by["turn_faces outwards"]
        self.assertEqual((outwards.step.where.parts, outwards.guess), (["a|b|0", "a|c|0"], False))
        enabled = {s["kind"] + str(s.get("how", "")): s["enabled"] for s in as_route(proposed)["steps"]}
        self.assertEqual((enabled["turn_facesagree"], enabled["turn_facesoutwards"]), (False, True))

    def test_what_is_turned_to_be_seen_may_flicker_then(self) -> None:
        def turned(*parts: str, guess: bool = False, **more: object) -> Finding:
            step = {"kind": "turn_faces", "how": "seen", "where": {"parts": list(parts)}, **more}
            return finding(step, "faces.seen-from-behind", guess)

        (lift,) = [p for p in propose([turned("a|b|0")], BUILT_IN[0]) if p.step.kind == "mend_overlaps"]
        self.assertEqual((lift.step.where.parts, lift.guess), (["a|b|0"], False))
        (lift,) = [
            p
            for p in propose([turned("a|b|0", guess=True, unsure=True)], BUILT_IN[0])
            if p.step.kind == "mend_overlaps"
        ]
        self.assertTrue(lift.guess)
        flicker = finding({"kind": "mend_overlaps", "where": {"parts": ["a|c|0"]}}, "flicker.between")
        (lift,) = [p for p in propose([turned("a|b|0"), flicker], BUILT_IN[0]) if p.step.kind == "mend_overlaps"]
        self.assertEqual(set(lift.step.where.parts), {"a|b|0", "a|c|0"})

    def test_copies_are_looked_for_once_more_behind_what_makes_them(self) -> None:
        loose = finding({"kind": "share_copies", "where": {"parts": ["a|b|0"]}}, "sharing.loose-copies")
        doubled = finding({"kind": "drop_repeated"}, "geometry.repeated")
        overlaps = finding({"kind": "mend_overlaps"}, "flicker.between")
        self.assertEqual(self.kinds(propose([loose], BUILT_IN[0])).count("share_copies"), 1)
        out = propose([finding(None, "sharing.none"), doubled, overlaps], BUILT_IN[0])
        self.assertEqual(self.kinds(out)[2:], ["drop_repeated", "share_copies", "mend_overlaps"])
        out = propose([loose, doubled, overlaps], BUILT_IN[0])
        self.assertEqual(self.kinds(out)[2:], ["share_copies", "drop_repeated", "share_copies", "mend_overlaps"])
        self.assertEqual([p.rank for p in out], sorted(p.rank for p in out))
        self.assertEqual((out[2].given, out[4].given), (["where"], []))

    def test_the_demo_has_nothing_left_to_mend_after_its_proposal(self) -> None:
        scene = load(bundle_from_files(landing_files()))
        kept = Workshop(results=Remembered())
        for to in BUILT_IN[1:3]:
            with self.subTest(destination=to.name):
                proposed = propose(survey(scene, to, kept), to)
                steps = [p.step.model_copy(update={"enabled": True}) for p in proposed]  # as one who looked and agreed
                out, records = run(scene, Route(steps=steps), to, workshop=kept)
                self.assertFalse([c for r in records for c in r.changes if c.problem])
                # what a person is asked about may be asked again, at its true size
                left = {f.code for f in survey(out, to, kept) if f.mend and f.severity != "info" and not f.guess}
                self.assertEqual(left, set())


if __name__ == "__main__":
    unittest.main()
