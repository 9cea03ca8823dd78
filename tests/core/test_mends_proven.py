"""Every mend on its way to a package: what it declares passes in every format, the same undeclared does not, and what
it was not for has its hashes as before."""

from __future__ import annotations

import fnmatch
import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from unittest import mock

import numpy as np
import trimesh

from tests.core.test_density import grid
from tests.core.test_gaps import pipe
from tests.core.test_pivots import leaf
from tests.core.test_sides import at, box_without, over, scene_of, sheet
from tests.core.test_vertices import soup
from tests.harden.routes import try_routes
from tests.planted import kiosk
from tests.trees import as_mesh
from tidy_caravan.core.arrival.surfaces import difference
from tidy_caravan.core.carry import carry, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, known_steps, parse_step
from tidy_caravan.core.survey import survey

BOX = trimesh.creation.box
CONE = trimesh.creation.cone(0.4, 1.3, sections=9)
TURN = trimesh.transformations.rotation_matrix(0.7, [1, 2, 3], [2, 0, 1])


def place() -> Scene:
    """Something for every mend, far apart, and a bystander that none of them is for."""
    dense = trimesh.Trimesh(*grid(12), process=False)
    parts = {
        "ground": (sheet(80, 80), at(0, -0.05, 0, (-np.pi / 2, [1.0, 0, 0]))),
        "cabinet": (over(box_without([1, 2, 0.5], [0, -1, 0])), at(-15, 0.952, 0)),
        "kiosk": (BOX([1, 1, 1]), at(0, 0.5, 0)),
        "label": (sheet(0.5, 0.4), at(0.1, 0.5, 0.5)),
        "slab": (BOX([3, 0.2, 3]), at(10, 0.2, 0)),
        "post": (BOX([0.5, 1, 0.5]), at(10, 0.803, 0)),
        "pipe": (pipe(24, 36), at(14, 0.5, 9)),
        "leaf": (leaf(0.35), at(-8, 1.2, 3)),
        "soup": (trimesh.creation.cylinder(0.5, 1), at(0, 1, -9)),
        "dense": (dense, at(5, 0.5, 8)),
        "turned": (BOX([1, 2, 0.7]), at(0, 3, 12) @ TURN),
        "stairs": (trimesh.util.concatenate([BOX([1, 1, 1]), BOX([1, 1, 1], transform=at(1, 1, 0))]), at(20, 3, 20)),
        "twin 1": (CONE, at(30, 1, 0)),
        "twin 2": (CONE.copy().apply_transform(at(30, 2, 9) @ TURN), at(0, 0, 0)),
        "bystander": (trimesh.creation.icosphere(2), at(-20, 2, -20)),
    }
    scene = scene_of(parts)
    meshes = list(scene.meshes)
    names = list(parts)
    meshes[names.index("soup")] = soup(parts["soup"][0])
    uv = np.asarray(dense.vertices[:, :2], np.float32)
    old = meshes[names.index("dense")]
    meshes[names.index("dense")] = Mesh(old.positions, old.indices, old.material, uvs=(uv,))
    return scene.but(meshes=tuple(meshes))


MENDS: dict[str, tuple[str, dict[str, Any]]] = {
    "seen": ("cabinet", {"kind": "turn_faces", "how": "seen"}),
    "lift": ("label", {"kind": "mend_overlaps", "offsetMm": 4}),
    "close": ("post", {"kind": "close_gaps"}),
    "crack": ("pipe", {"kind": "close_gaps"}),
    "hinge": ("leaf", {"kind": "place_pivots", "at": "hinge", "onlyFar": False}),
    "corner": ("kiosk", {"kind": "place_pivots", "at": "corner", "onlyFar": False}),
    "join": ("soup", {"kind": "clean_vertices"}),
    "part": ("stairs", {"kind": "part_edges", "offsetMm": 2}),
    "simplify": ("dense", {"kind": "simplify", "errorMm": 1}),
    "subdivide": ("slab", {"kind": "subdivide", "edgeMm": 800}),
    "share": ("twin ?", {"kind": "share_copies"}),
    "rotation": ("turned", {"kind": "bake_rotation"}),
    "scale": ("dense", {"kind": "texture_scale", "metresPerRepeat": 0.25}),
    "project": ("dense", {"kind": "first_uvs", "by": "planar", "anew": True, "metresPerRepeat": 0.3}),
}


def route(*names: str) -> Route:
    where = {part: {"names": [part]} for part, _ in MENDS.values()}
    steps = [{**MENDS[n][1], "where": where[MENDS[n][0]]} for n in names]
    return Route.model_validate({"steps": [{"kind": "match_units_axes", "bakeScale": False}, *steps]})


class Mends(unittest.TestCase):
    def told(self, fmt: str, chosen: Route) -> tuple[bool, list[str]]:
        scene = place()
        with TemporaryDirectory() as folder:
            package, result, *_ = carry(scene, "s", "0" * 64, BUILT_IN[2], chosen, fmt)  # type: ignore[arg-type]
            save(package.files, Path(folder) / "p")
            report, _ = prove(Path(folder) / "p", scene, result)
        return report.ok, [*report.problems, *(str(r.told) for r in report.rows if r.faults)]

    def test_all_of_them_pass_together_in_every_format(self) -> None:
        for fmt in sorted(writable()):
            with self.subTest(format=fmt):
                ok, said = self.told(fmt, route(*MENDS))
                self.assertTrue(ok, said)

    def test_undeclared_none_of_them_passes(self) -> None:
        for name, (_, step) in MENDS.items():
            with self.subTest(mend=name), mock.patch.object(known_steps()[step["kind"]], "effects", lambda self: ()):
                ok, said = self.told("glb", route(name))
                if name == "join":
                    self.assertTrue(ok, said)  # the same triangles at the same places: nothing that could be told
                else:
                    self.assertFalse(ok, name)

    def test_they_touch_nothing_that_they_are_not_for(self) -> None:
        scene = place()
        before = {
            scene.nodes.names[i]: (scene.meshes[scene.nodes.mesh[i]].id, scene.nodes.world[i].tobytes())
            for i in range(len(scene.nodes))
        }
        for name, (part, step) in MENDS.items():
            with self.subTest(mend=name):
                out, changes = parse_step({**step, "where": {"names": [part]}}).apply(scene, StepContext())
                self.assertTrue(changes)
                after = {
                    out.nodes.names[i]: (out.meshes[out.nodes.mesh[i]].id, out.nodes.world[i].tobytes())
                    for i in out.nodes.parts.tolist()
                }
                changed = {k for k, v in after.items() if before[k] != v}
                # of two copies the first may be the one that both share, as it is
                self.assertTrue(changed)
                self.assertLessEqual(changed, set(fnmatch.filter(before, part)))
                moved = np.abs(out.part_bounds - scene.part_bounds).max() * 1000
                limit = {"lift": 4.01, "close": 3.01, "crack": 1.2, "simplify": 1.0}.get(name, 0.001)
                self.assertLessEqual(moved, limit)


class ForSome(unittest.TestCase):
    def test_every_step_may_be_for_one_of_two_that_share_a_mesh(self) -> None:
        # three posts share a mesh, so that two do when one has its own
        nodes = kiosk().nodes
        mesh = nodes.mesh.copy()
        mesh[6] = mesh[3]
        scene = replace(kiosk(), nodes=replace(nodes, mesh=mesh))
        more = {
            "texture_scale": {"metresPerRepeat": 0.3},
            "lightmap_uvs": {"keepGood": False},
            "first_uvs": {"anew": True},
        }
        for kind in known_steps():
            if kind in ("match_units_axes", "light_pages"):
                continue
            steps = [
                {"kind": "match_units_axes"},
                {"kind": kind, "where": {"names": ["post left"]}, **more.get(kind, {})},
            ]
            with self.subTest(step=kind), TemporaryDirectory() as folder:
                route = Route.model_validate({"steps": steps})
                package, result, *_ = carry(scene, "s", "0" * 64, BUILT_IN[1], route, "glb")
                save(package.files, Path(folder) / "p")
                report, _ = prove(Path(folder) / "p", scene, result)
                self.assertTrue(report.ok, [*report.problems, *(str(r.told) for r in report.rows if r.faults)])

    def test_each_of_two_faces_at_one_place_is_its_own_whatever_their_order(self) -> None:
        ball = trimesh.creation.icosphere(1)
        both = np.stack([ball.faces, ball.faces[:, ::-1]], axis=1).reshape(-1, 3)
        one, other = (as_mesh(trimesh.Trimesh(ball.vertices, faces, process=False)) for faces in (both, both[1:]))
        for a, b, turned in ((one, other, 0), (other, one, 0), (one, as_mesh(ball), 0)):
            self.assertEqual(difference(a, b, np.eye(4), np.eye(4), 1e-4, False).turned, turned)
        back = as_mesh(trimesh.Trimesh(ball.vertices, ball.faces[:, ::-1], process=False))
        self.assertEqual(difference(as_mesh(ball), back, np.eye(4), np.eye(4), 1e-4, False).turned, 80)

    def test_points_may_be_numbered_anew_and_nothing_else_may_differ_by_that(self) -> None:
        ball, turn = trimesh.creation.icosphere(2), trimesh.transformations.rotation_matrix(0.4, (1, 2, 3))
        rng = np.random.default_rng(8)
        count, many = len(ball.vertices), len(ball.faces)
        dressed = {
            "normals": np.asarray(ball.vertex_normals, np.float32), "uvs": (rng.random((count, 2), np.float32),),
            "tangents": np.c_[rng.normal(size=(count, 3)), rng.choice([-1, 1], count)].astype(np.float32),
            "colors": (rng.random((count, 4), np.float32),),
        }  # fmt: skip
        whole = replace(as_mesh(ball, **dressed), material=rng.integers(-1, 3, many, np.int32))
        bent, moved = dressed["uvs"][0].copy(), whole.positions.copy()
        bent[5] += 0.01
        moved[7] += (0, 0, 0.25)
        others: list[tuple[Mesh, Any]] = [
            (whole, lambda d: d.normal < 0.01 and max(d.uv.values()) <= 1 and not d.handed and d.color == 0),
            (replace(whole, uvs=(bent,)), lambda d: max(d.uv.values()) > 100),
            (replace(whole, positions=moved), lambda d: d.distance > 0.2),
            (replace(whole, tangents=whole.tangents * np.float32([1, 1, 1, -1])), lambda d: d.handed == 3 * many),
            (replace(whole, material=np.roll(whole.material, 1)), lambda d: len(d.slots) > 4),
            (replace(whole, colors=(whole.colors[0] * np.float32(0.5),)), lambda d: d.color > 0.3),
            (replace(whole, indices=np.roll(whole.indices, 1, axis=1)), lambda d: not d.turned and d.distance < 1e-6),
            (replace(whole, indices=whole.indices[:, ::-1].copy()), lambda d: d.turned == many),
        ]
        order = rng.permutation(count)
        place = np.argsort(order).astype(np.uint32)
        for number, (other, right) in enumerate(others):
            anew = replace(
                other, positions=other.positions[order], indices=place[other.indices], normals=other.normals[order],
                tangents=other.tangents[order], uvs=(other.uvs[0][order],), colors=(other.colors[0][order],),
            )  # fmt: skip
            for mirrored in (False, True):
                mirror = np.diag([-1.0 if mirrored else 1.0, 1, 1, 1])
                one, same = (
                    difference(whole, m, turn @ mirror, turn @ mirror, 1e-4, mirrored, 8, 4, True)
                    for m in (other, anew)
                )
                with self.subTest(number=number, mirrored=mirrored):
                    self.assertTrue(mirrored or right(one), one)
                    for name, value in vars(one).items():
                        if isinstance(value, float):
                            self.assertAlmostEqual(value, getattr(same, name), 4, name)
                        elif name == "uv":
                            np.testing.assert_allclose(list(value.values()), list(same.uv.values()), atol=1e-3)
                        else:
                            self.assertEqual(value, getattr(same, name), name)

    def test_some_random_routes_over_random_scenes(self) -> None:
        self.assertEqual(try_routes(16, 7000).faults, [])


class Offered(unittest.TestCase):
    def test_a_mend_is_offered_only_where_it_would_change_something(self) -> None:
        """Instances of two sizes keep theirs, mirrors stay where they are taken, and a node with data is not empty."""
        sizes = [np.eye(4), np.diag([3.0, 3, 3, 1]), np.diag([-1.0, 1, 1, 1]), np.eye(4)]
        nodes = make_nodes([-1] * 4, np.array(sizes), ["small", "large", "left", "berth"], mesh=[0, 0, 0, -1], extras={3: {"berth": 2}})  # fmt: skip
        scene = Scene(GLTF, nodes, (as_mesh(CONE),))
        for destination in BUILT_IN:
            one, _ = parse_step({"kind": "match_units_axes"}).apply(scene, StepContext(destination))
            found = {f.code: f for f in survey(one, destination)}
            self.assertIsNone(found["scale.left"].mend)
            self.assertIn("share a mesh with parts of another size", found["scale.left"].text)
            self.assertEqual("transform.mirrored" in found, destination.negative_scale)
            self.assertIsNone(found["transform.mirrored"].mend if destination.negative_scale else None)
            self.assertNotIn("tree.empty", found)
        bare = scene.but(nodes=replace(nodes, extras={}))
        self.assertEqual({f.code: f for f in survey(bare, BUILT_IN[0])}["tree.empty"].parts, [3])
