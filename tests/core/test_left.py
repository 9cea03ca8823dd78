"""What a finding does to the artist, and findings that are left as they are, with a reason."""

from __future__ import annotations

import re
import unittest

from tests.core.test_sides import place, scene_of
from tests.support import ROOT
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.proposal import propose
from tidy_caravan.core.route import Route, parse_route
from tidy_caravan.core.survey import Left, leave, survey
from tidy_caravan.core.survey.effects import EFFECTS, effect_of


class Effects(unittest.TestCase):
    def test_every_code_of_every_check_has_a_group_of_its_own_choosing(self) -> None:
        sources = [p.read_text() for p in (ROOT / "src/tidy_caravan/core/survey").glob("*.py")]
        codes = {
            c
            for text in sources
            for c in re.findall(r'"((?:[a-z]+)\.(?:[a-z-]+))"', text)
            if c.partition(".")[0] in EFFECTS
        }
        self.assertGreater(len(codes), 40)
        for code in codes:
            self.assertTrue(EFFECTS.get(code) or EFFECTS.get(code.partition(".")[0]), code)
        self.assertEqual(effect_of("flicker.between"), "flickers")
        self.assertEqual(effect_of("uv.second-missing"), "leaks light")
        self.assertEqual(effect_of("a reader's own"), "to know")


class LeftAsTheyAre(unittest.TestCase):
    def setUp(self) -> None:
        parts = place()
        for name in ("poster", "locker"):
            made = parts[name][0].copy()
            made.faces = made.faces[:, ::-1]
            parts[name] = (made, parts[name][1])
        self.scene = scene_of(parts)
        self.names = dict(zip(self.scene.nodes.names, self.scene.identities.names, strict=True))

    def found(self, *left: Left) -> dict[str, object]:
        out = leave(survey(self.scene, BUILT_IN[0]), self.scene, left)
        return {f.code: f for f in out}

    def test_as_a_whole_it_has_no_say_in_what_is_proposed(self) -> None:
        one = Left(code="faces.seen-from-behind", because="stage flats")
        finding = self.found(one)["faces.seen-from-behind"]
        self.assertEqual(finding.left, "stage flats")  # type: ignore[attr-defined]
        findings = leave(survey(self.scene, BUILT_IN[0]), self.scene, [one])
        self.assertNotIn("turn_faces", [p.step.kind for p in propose(findings, BUILT_IN[0])])
        self.assertIn("turn_faces", [p.step.kind for p in propose(survey(self.scene, BUILT_IN[0]), BUILT_IN[0])])

    def test_of_some_parts_the_mend_is_for_the_others(self) -> None:
        one = Left(code="faces.seen-from-behind", because="stage flat", parts=[self.names["poster"], "gone|since|1"])
        finding = self.found(one)["faces.seen-from-behind"]
        self.assertEqual((finding.left, finding.left_parts), ("", 1))  # type: ignore[attr-defined]
        self.assertEqual(finding.mend["where"]["parts"], [self.names["locker"]])  # type: ignore[attr-defined]
        both = [one, Left(code="faces.seen-from-behind", because="built in", parts=[self.names["locker"]])]
        self.assertEqual(self.found(*both)["faces.seen-from-behind"].left, "stage flat; built in")  # type: ignore[attr-defined]
        other = Left(code="pivot.far", because="no matter")
        self.assertEqual(self.found(other)["faces.seen-from-behind"].left, "")  # type: ignore[attr-defined]

    def test_it_travels_with_the_route(self) -> None:
        data = {"steps": [], "left": [{"code": "gaps.leak", "because": "expansion joint", "parts": ["a|b|1"]}]}
        route = parse_route(data)
        self.assertEqual(Route.model_validate(route.model_dump(by_alias=True, mode="json")), route)
        self.assertEqual(route.left[0].because, "expansion joint")
