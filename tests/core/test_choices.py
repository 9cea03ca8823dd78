"""What the further choices of steps do, each against a figure that is known without the step."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh

from tests.core.test_content import scene as content_scene
from tests.core.test_content import sheet
from tests.core.test_doors import door
from tests.core.test_doors import scene_of as door_scene
from tests.core.test_sides import as_mesh, at, scene_of
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.scene import Camera, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step

BOX = trimesh.creation.box


def done(scene: Scene, kind: str, **more: Any) -> tuple[Scene, list[str]]:
    out, changes = parse_step({"kind": kind, **more}).apply(scene, StepContext(BUILT_IN[0]))
    return out, [c.text for c in changes]


def folded(degrees: float) -> Mesh:
    """Two squares that meet along an edge and bend there, without normals."""
    turn = np.radians(degrees)
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [1 + np.cos(turn), 0, -np.sin(turn)], [1 + np.cos(turn), 1, -np.sin(turn)]])  # fmt: skip
    faces = np.array([[0, 1, 2], [0, 2, 3], [1, 4, 5], [1, 5, 2]], np.uint32)
    return Mesh(points.astype(np.float32), faces, np.zeros(4, np.int32))


def of(*meshes: Mesh) -> Scene:
    made = scene_of({f"part_{k}": (BOX(), at(5 * k, 0, 0)) for k in range(len(meshes))})
    return made.but(meshes=meshes)


class Choices(unittest.TestCase):
    def test_crease_angle(self) -> None:
        for crease, vertices in ((30, 8), (50, 6)):
            out, _ = done(of(folded(40)), "mend_normals", creaseDegrees=crease)
            mesh = out.meshes[0]
            assert mesh.normals is not None
            self.assertEqual(mesh.vertices, vertices)
            lean = np.degrees(np.arccos(np.clip(mesh.normals @ np.array([0, 0, 1.0]), -1, 1)))
            edge = np.abs(mesh.positions[:, 0] - 1) < 1e-6
            self.assertEqual(sorted(set(lean[edge].round(3).tolist())), [0, 40] if vertices == 8 else [20])

    def test_a_part_of_the_triangles_stays(self) -> None:
        x, y = np.meshgrid(np.arange(21.0), np.arange(21.0))
        k = (np.arange(20)[:, None] * 21 + np.arange(20)).ravel()
        faces = np.concatenate([np.column_stack([k, k + 1, k + 22]), np.column_stack([k, k + 22, k + 21])])
        points = np.column_stack([x.ravel(), np.zeros(441), y.ravel()]).astype(np.float32)
        flat = Mesh(points, faces[:, ::-1].astype(np.uint32), np.zeros(len(faces), np.int32))
        self.assertEqual(done(of(flat), "simplify")[0].meshes[0].triangles, 2)
        for least in (10, 50, 100):
            left = done(of(flat), "simplify", leastPercent=least)[0].meshes[0].triangles
            self.assertTrue(8 * least <= left <= 8 * least + 2, (least, left))

    def test_gaps_narrower_than_asked_for_stay(self) -> None:
        parts = {"a": (BOX([1, 1, 1]), at(0, 0.5, 0)), "b": (BOX([1, 1, 1]), at(1.0005, 0.5, 0)), "c": (BOX([1, 1, 1]), at(2.0025, 0.5, 0))}  # fmt: skip
        for least, closed in ((0.1, [0, 0]), (1.0, [0.5, 0])):
            out, _ = done(scene_of(parts), "close_gaps", leastMm=least)
            box = out.part_bounds
            apart = [1000 * float(box[k + 1, 0, 0] - box[k, 1, 0]) for k in range(2)]
            np.testing.assert_allclose(apart, closed, atol=1e-3)

    def test_how_near_to_the_end_is_the_border(self) -> None:
        """A rib a third of a metre off the end of a panel that is a hundredth too long."""
        panel = trimesh.util.concatenate(
            [BOX([2.01, 1, 0.1]).apply_translation([1.005, 0.5, 0.05]), BOX([0.1, 1, 0.05]).apply_translation([1.7, 0.5, 0.125])]
        )  # fmt: skip
        for border, rib in ((100, 1.75), (600, 1.74)):
            out, _ = done(of(as_mesh(panel)), "fit_grid", cell=1.0, borderMm=border)
            x = out.meshes[0].positions[:, 0]
            self.assertAlmostEqual(float(x.max()), 2, places=5)
            self.assertAlmostEqual(float(x[x < 1.9].max()), rib, places=5)

    def test_leaves_without_a_handle(self) -> None:
        scene = door_scene(door(None), [np.eye(4)])
        self.assertEqual(len(done(scene, "part_leaves")[0].nodes.parts), 1)
        out, told = done(scene, "part_leaves", anySlab=True)
        self.assertEqual(len(out.nodes.parts), 2)
        self.assertIn("1 door does not show by a handle on which side they hang: a guess, the lower side", told[-1])

    def test_a_cut_without_caps_stays_open(self) -> None:
        scene = scene_of({"a": (BOX([2, 2, 2]), at(0, 0, 0))})
        for caps, edges in ((True, 0), (False, 4)):
            out, _ = done(scene, "split_parts", by="plane", axis="x", atM=0.5, caps=caps)
            self.assertEqual(len(out.nodes.parts), 2)
            for number in out.nodes.mesh[out.nodes.parts].tolist():
                mesh = out.meshes[number]
                half = trimesh.Trimesh(mesh.positions, mesh.indices, process=True)
                self.assertEqual(half.is_watertight, caps)
                lengths = np.bincount(half.edges_unique_inverse)
                open_m = half.edges_unique_length[lengths == 1].sum()
                self.assertAlmostEqual(float(open_m), 2.0 * edges, places=5)

    def test_islands_on_blocks(self) -> None:
        """No block of 4 × 4 texels that two islands of the set touch."""
        made = as_mesh(trimesh.util.concatenate([BOX([1, 0.7, 0.4]), trimesh.creation.cylinder(0.2, 1.3, sections=7).apply_translation([2, 0, 0])]))  # fmt: skip
        shared = {}
        for on in (False, True):
            out, _ = done(of(made), "lightmap_uvs", resolution=64, paddingTexels=1, onBlocks=on)
            mesh = out.meshes[0]
            flat = Mesh(np.column_stack([mesh.uvs[1], np.zeros(mesh.vertices)]).astype(np.float32), mesh.indices, mesh.material)  # fmt: skip
            island, corners = shells_of(flat).label, mesh.uvs[1][mesh.indices] * 64 / 4
            owners: dict[tuple[int, int], set[int]] = {}
            steps = np.linspace(0, 1, 60)
            p, q = (g.ravel() for g in np.meshgrid(steps, steps))
            inside = np.column_stack([1 - p - q, p, q])[p + q <= 1] * 0.9997 + 0.0001  # a border is no block's own
            for k, triangle in enumerate(corners):
                for x, y in np.unique(np.floor(inside @ triangle).astype(int), axis=0).tolist():
                    owners.setdefault((x, y), set()).add(int(island[k]))
            self.assertGreater(len(set(island.tolist())), 3)
            shared[on] = sum(len(o) > 1 for o in owners.values())
        self.assertEqual(shared[True], 0)
        self.assertGreater(shared[False], 0, "without it there are such blocks, or nothing is shown")

    def test_the_first_set_is_not_laid_out_anew_where_that_is_not_asked_for(self) -> None:
        """A strip of six squares whose first set is clean and in one piece, beside one by automatic charts."""
        points = np.array([[x, y, 0.2 * (x % 2)] for x in range(7) for y in range(2)], np.float32)
        k = 2 * np.arange(6)
        faces = np.concatenate([np.column_stack([k, k + 2, k + 3]), np.column_stack([k, k + 3, k + 1])]).astype(np.uint32)  # fmt: skip
        along = np.repeat(np.arange(7) * np.hypot(1, 0.2), 2)
        uv = np.column_stack([along / 8, np.tile([0.0, 1.0], 7) / 8]).astype(np.float32)
        strip = Mesh(points, faces, np.zeros(12, np.int32), uvs=(uv,))
        told = {first: done(of(strip), "lightmap_uvs", firstSet=first)[1] for first in (True, False)}
        self.assertIn("first set", " ".join(told[True]))
        self.assertNotIn("first set", " ".join(told[False]))

    def test_an_image_that_is_still_to_be_made(self) -> None:
        turned = replace(sheet(4, 2), uvs=(sheet().uvs[0][:, ::-1].copy(),))
        for wide, high, turn, said in (
            (1000, 500, "no", "1000 × 500 px, 250 pixels a metre; 1200 × 600 px would be 300 a metre"),
            (500, 1000, "quarter", "500 × 1000 px, 250 pixels a metre; 600 × 1200 px would be 300 a metre"),
        ):
            image = {"pixelsWide": wide, "pixelsHigh": high, "pixelsPerMetre": 300}
            (text,) = done(content_scene(turned), "fit_content", turn=turn, **image)[1]
            self.assertIn(said, text)

    def test_names_of_cameras(self) -> None:
        scene = scene_of({"a": (BOX(), at(0, 0, 0)), "eye": (BOX(), at(3, 0, 0))}, cameras=(Camera("eye", 0.9),))
        nodes = make_nodes([-1, -1], scene.nodes.local, scene.nodes.names, mesh=[0, -1])
        scene = scene.but(nodes=replace(nodes, camera=np.array([-1, 0], np.int32)))
        self.assertEqual(done(scene, "tidy_names", cameraPrefix="CAM_")[0].nodes.names, ("a", "CAM_eye"))


if __name__ == "__main__":
    unittest.main()
