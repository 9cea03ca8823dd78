"""Property: formats that native libraries read may be damaged anywhere; the scene or one sentence comes back."""

from __future__ import annotations

import re
import tempfile
import unittest
from functools import lru_cache
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pxr import Usd

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.figures import count
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.scene import Scene
from tidy_caravan.demo.three_trades import beach_usda, hall_ifc, quay_dae

QUIET = settings(max_examples=10, deadline=None, suppress_health_check=list(HealthCheck))
"""Each example costs a child process; thorough bending of what is parsed in our own process has its own tests."""


@lru_cache(maxsize=1)
def crate() -> bytes:
    """The beach as the library's own binary layer."""
    with tempfile.TemporaryDirectory() as folder:
        text, binary = Path(folder) / "beach.usda", Path(folder) / "beach.usdc"
        text.write_bytes(beach_usda().encode())
        stage = Usd.Stage.Open(str(text))
        stage.GetRootLayer().Export(str(binary))
        return binary.read_bytes()


@lru_cache(maxsize=1)
def hall() -> bytes:
    return hall_ifc()


def usable(case: unittest.TestCase, name: str, data: bytes) -> Scene | None:
    """The scene, sound in itself; None when it was refused with one sentence."""
    try:
        scene = load(bundle_from_files({name: data}))
    except UnusableInput as error:
        case.assertTrue(error.sentence().strip())
        case.assertNotIn("\n", error.sentence())
        return None
    nodes = scene.nodes
    case.assertTrue(np.isfinite(nodes.local).all())
    case.assertTrue((nodes.parent < len(nodes)).all())
    case.assertTrue((nodes.mesh < len(scene.meshes)).all())
    for mesh in scene.meshes:
        case.assertTrue(np.isfinite(mesh.positions[mesh.used]).all())
        case.assertLess(int(mesh.indices.max(initial=0)), max(1, mesh.vertices))
        case.assertTrue((mesh.material < len(scene.materials)).all())
    return scene


@mock.patch("tidy_caravan.core.formats.usd.read.quiet", lambda size: 3.0)
class Binary(unittest.TestCase):
    """Some of these keep the library for ever; a few seconds are as good as the usual twenty to see that it is ended."""

    @QUIET
    @given(st.data())
    def test_crate_layers(self, draw: st.DataObject) -> None:
        data = bytearray(crate())
        for _ in range(draw.draw(st.integers(1, 8))):
            data[draw.draw(st.integers(0, len(data) - 1))] = draw.draw(st.integers(0, 255))
        usable(self, "beach.usdc", bytes(data))

    @QUIET
    @given(st.floats(0.05, 0.99))
    def test_crate_layers_cut_short(self, share: float) -> None:
        data = crate()
        self.assertIsNone(usable(self, "beach.usdc", data[: int(len(data) * share)]))


NUMBERS = re.compile(rb"-?\d+\.?\d*(?:e-?\d+)?")


class Numbers(unittest.TestCase):
    """The text stays well-formed; one number of it becomes what no author meant."""

    WRONG = (b"0", b"-1", b"1e300", b"-7e38", b"999999999", b"2147483648", b"1e-320", b"nan", b"inf")

    def bend(self, data: bytes, draw: st.DataObject) -> bytes:
        spots = list(NUMBERS.finditer(data))
        spot = spots[draw.draw(st.integers(0, len(spots) - 1))]
        return data[: spot.start()] + draw.draw(st.sampled_from(self.WRONG)) + data[spot.end() :]

    @QUIET
    @given(st.data())
    def test_usd_text(self, draw: st.DataObject) -> None:
        usable(self, "beach.usda", self.bend(beach_usda().encode(), draw))

    @QUIET
    @given(st.data())
    def test_ifc(self, draw: st.DataObject) -> None:
        usable(self, "hall.ifc", self.bend(hall(), draw))

    @settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.data())
    def test_collada(self, draw: st.DataObject) -> None:
        usable(self, "quay.dae", self.bend(quay_dae()["quay.dae"], draw))


class Lines(unittest.TestCase):
    """Whole statements go missing, come twice or change places."""

    def bend(self, data: bytes, draw: st.DataObject) -> bytes:
        lines = data.splitlines(keepends=True)
        at, other = (draw.draw(st.integers(3, len(lines) - 1)) for _ in range(2))
        how = draw.draw(st.sampled_from(("lose", "double", "swap")))
        if how == "lose":
            del lines[at : at + draw.draw(st.integers(1, 20))]
        elif how == "double":
            lines.insert(at, lines[at])
        else:
            lines[at], lines[other] = lines[other], lines[at]
        return b"".join(lines)

    @QUIET
    @given(st.data())
    def test_ifc(self, draw: st.DataObject) -> None:
        usable(self, "hall.ifc", self.bend(hall(), draw))

    @QUIET
    @given(st.data())
    def test_usd_text(self, draw: st.DataObject) -> None:
        usable(self, "beach.usda", self.bend(beach_usda().encode(), draw))

    def test_one_lost_element_costs_that_element(self) -> None:
        """Known truth: a door's line taken out of the hall leaves every other part where it was."""
        whole = usable(self, "hall.ifc", hall())
        lines = hall().splitlines(keepends=True)
        doors = [k for k, line in enumerate(lines) if b"=IFCDOOR(" in line]
        left = usable(self, "hall.ifc", b"".join(lines[: doors[0]] + lines[doors[0] + 1 :]))
        assert whole and left
        self.assertEqual(count(left).parts, count(whole).parts - 1)
        places = {tuple(np.round(m[:3, 3], 6)) for m in whole.nodes.world[whole.nodes.parts]}
        self.assertLessEqual({tuple(np.round(m[:3, 3], 6)) for m in left.nodes.world[left.nodes.parts]}, places)


if __name__ == "__main__":
    unittest.main()
