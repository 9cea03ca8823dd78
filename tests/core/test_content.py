"""Images that show once, upright and not mirrored: laid on known surfaces, told where they are not, and proven on arrival."""

from __future__ import annotations

import io
import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image as Picture

from tests.core.test_sides import as_mesh
from tests.core.test_split import proven
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.geometry.tangents import with_tangents
from tidy_caravan.core.scene import GLTF, Image, Material, Mesh, Scene, Texture, TextureUse, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey

TURN = trimesh.transformations.rotation_matrix


def picture(width: int, height: int) -> bytes:
    out = io.BytesIO()
    Picture.new("RGB", (width, height), (200, 40, 40)).save(out, "PNG")
    return out.getvalue()


def sheet(wide: float = 4.0, high: float = 2.0) -> Mesh:
    """Upright, its front to +Z, its lower left corner the first."""
    points = np.array([[0, 0, 0], [wide, 0, 0], [wide, high, 0], [0, high, 0]], np.float32)
    return Mesh(points, np.array([[0, 1, 2], [0, 2, 3]], np.uint32), np.zeros(2, np.int32), uvs=(RIGHT,))


RIGHT = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
"""As it should lie: v grows downwards."""


def scene(
    *meshes: Mesh, at: Any = None, which: Any = None, use: TextureUse = TextureUse(0), pixels: Any = (512, 256)
) -> Scene:
    at = np.tile(np.eye(4), (len(meshes), 1, 1)) if at is None else np.asarray(at)
    which = np.arange(len(meshes)) if which is None else np.asarray(which)
    nodes = make_nodes([-1] * len(at), at, [f"screen {k}" for k in range(len(at))], mesh=which)
    return Scene(
        GLTF,
        nodes,
        meshes,
        (Material("board", base_color_texture=use),),
        (Texture(0),),
        (Image("b", "image/png", picture(*pixels)),),
    )


def fit(scene: Scene, **how: Any) -> tuple[Scene, list[str]]:
    out, changes = parse_step({"kind": "fit_content", **how}).apply(scene, StepContext(BUILT_IN[0]))
    return out, [c.text for c in changes]


def codes(scene: Scene) -> list[str]:
    return [f.code for f in survey(scene, BUILT_IN[0]) if f.code.startswith("uv.content")]


def corner(scene: Scene, node: int, point: Any) -> Any:
    """The coordinates of the image where the part has a corner in the world."""
    mesh = scene.meshes[scene.nodes.mesh[node]]
    places = mesh.positions @ scene.nodes.world[node, :3, :3].T + scene.nodes.world[node, :3, 3]
    row = int(np.argmin(np.linalg.norm(places - point, axis=1)))
    return mesh.uvs[0][row]


class Found(unittest.TestCase):
    def test_each_way_to_lie_wrongly_is_named_and_mended_and_the_right_one_is_left(self) -> None:
        wrong = {
            "mirrored": lambda u: u * [-1, 1] + [1, 0], "turned by 90°": lambda u: np.stack([u[:, 1], 1 - u[:, 0]], 1),
            "turned by 180°": lambda u: 1 - u, "0 to 50 %": lambda u: u / 2, "0 to 200 %": lambda u: u * 2,
            "-10 to 90 %": lambda u: u - 0.1, "mirrored, turned by 180°": lambda u: u * [1, -1] + [0, 1],
        }  # fmt: skip
        for how, change in wrong.items():
            mesh = replace(sheet(), uvs=(np.asarray(change(RIGHT), np.float32),))
            bad = scene(mesh)
            found = next(f for f in survey(bad, BUILT_IN[0]) if f.code == "uv.content")
            self.assertIn(how, found.text)
            good, _ = parse_step(found.mend).apply(bad, StepContext(BUILT_IN[0]))
            self.assertEqual(codes(good), [])
            np.testing.assert_allclose(good.meshes[0].uvs[0], RIGHT, atol=1e-6)
            self.assertEqual(parse_step(found.mend).apply(good, StepContext(BUILT_IN[0])), (good, []))
        clean = scene(sheet())
        self.assertEqual(codes(clean), [])
        self.assertIs(fit(clean)[0], clean)

    def test_the_tangents_of_the_coordinates_before_go_with_them(self) -> None:
        mirrored = replace(
            sheet(),
            uvs=(RIGHT * np.float32([-1, 1]) + np.float32([1, 0]),),
            normals=np.tile(np.float32([0, 0, 1]), (4, 1)),
        )
        good, _ = fit(scene(with_tangents(mirrored, 0)))
        self.assertIsNone(good.meshes[0].tangents)
        right = with_tangents(replace(mirrored, uvs=(RIGHT,)), 0)
        self.assertIs(fit(scene(right))[0].meshes[0].tangents, right.tangents)

    def test_along_the_axes_of_every_destination_it_is_the_same(self) -> None:
        for to in BUILT_IN:
            context = StepContext(to)
            for uv, wanted in ((RIGHT, []), (RIGHT * [-1, 1] + [1, 0], ["uv.content"])):
                made = scene(replace(sheet(), uvs=(np.asarray(uv, np.float32),)), at=[TURN(0.7, [0, 1, 0])])
                there, _ = parse_step({"kind": "match_units_axes"}).apply(made, context)
                found = [f for f in survey(there, to) if f.code.startswith("uv.content")]
                self.assertEqual([f.code for f in found], wanted, to.name)
                for f in found:
                    self.assertIn("mirrored; the surface measures 4 × 2 m", f.text)
                mended, _ = parse_step({"kind": "fit_content"}).apply(there, context)
                self.assertEqual([f.code for f in survey(mended, to) if f.code.startswith("uv.content")], [])

    def test_what_is_no_content_is_not_asked(self) -> None:
        turned = replace(sheet(), uvs=(1 - RIGHT,))
        plain = scene(turned)
        named = plain.but(nodes=replace(plain.nodes, names=("wall",)))
        self.assertEqual(codes(named), [])
        tiled = scene(replace(sheet(), uvs=(7 * RIGHT,)))
        self.assertEqual(codes(tiled), [])
        for other in (named, tiled):  # nor laid out, unless it is chosen
            self.assertIs(fit(other)[0], other)
            np.testing.assert_allclose(fit(other, material="board")[0].meshes[0].uvs[0], RIGHT, atol=1e-6)
        self.assertEqual(codes(plain.but(materials=(Material("board"),))), [])
        self.assertEqual(codes(plain), ["uv.content"])

    def test_another_shape_than_the_image_is_told_and_cut_or_whole_it_keeps_its_own(self) -> None:
        square = scene(sheet(2, 2))
        self.assertEqual(codes(square), ["uv.content-shape"])
        _, told = fit(scene(replace(sheet(2, 2), uvs=(1 - RIGHT,))))
        self.assertIn("stretched to 50 %", told[0])
        for how, low, high in (("cut", [0.25, 0], [0.75, 1]), ("whole", [0, -0.5], [1, 1.5])):
            made, _ = fit(square, fit=how)
            np.testing.assert_allclose(
                [made.meshes[0].uvs[0].min(axis=0), made.meshes[0].uvs[0].max(axis=0)], [low, high], atol=1e-6
            )
            self.assertEqual(codes(made), [])

    def test_turn_flip_scale_and_offset_as_seen_from_the_front(self) -> None:
        top_left, top_right = [0, 2, 0], [4, 2, 0]
        for how, left, right in (
            ({"turn": "quarter"}, [0, 1], [0, 0]), ({"turn": "half"}, [1, 1], [0, 1]), ({"turn": "three_quarters"}, [1, 0], [1, 1]),
            ({"flip": "sideways"}, [1, 0], [0, 0]), ({"flip": "upside_down"}, [0, 1], [1, 1]),
            ({"scalePercent": 50.0}, [-0.5, -0.5], [1.5, -0.5]),
            ({"rightPercent": 25.0, "downPercent": 50.0}, [-0.25, -0.5], [0.75, -0.5]),
        ):  # fmt: skip
            made, _ = fit(scene(sheet()), **how)
            np.testing.assert_allclose(
                [corner(made, 0, top_left), corner(made, 0, top_right)], [left, right], atol=1e-6, err_msg=str(how)
            )


class Surfaces(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(
        st.floats(-np.pi, np.pi), st.floats(-1.2, 1.2), st.floats(0.3, 6), st.floats(0.3, 6), st.booleans(), st.floats(0.01, 100),
        st.floats(-1e4, 1e4),
    )  # fmt: skip
    def test_however_it_stands_its_corners_are_those_of_the_image(
        self, heading: float, pitch: float, wide: float, high: float, mirrored: bool, scale: float, far: float
    ) -> None:
        at = TURN(heading, [0, 1, 0]) @ TURN(pitch, [1, 0, 0])
        at[:3, 3] = far
        local = at.copy()
        local[:3, :3] *= scale
        if mirrored:
            local[:3, 0] *= -1
        mesh = replace(sheet(wide, high), uvs=())
        if mirrored:  # its mesh as well, so that it is the same to look at
            points = mesh.positions * np.array([-1, 1, 1], np.float32)
            mesh = replace(mesh, positions=points, indices=mesh.indices[:, ::-1])
        made, _ = fit(scene(mesh, at=[local]))
        for point, wanted in zip(sheet(wide, high).positions, RIGHT, strict=True):
            np.testing.assert_allclose(corner(made, 0, at[:3, :3] @ (point * scale) + far), wanted, atol=2e-5)

    def test_bent_screens_are_unrolled_at_the_same_scale_all_along(self) -> None:
        angle = np.linspace(-1.0, 1.0, 21)
        for lying in (False, True):
            rim = np.stack([3 * np.sin(angle), np.zeros(21), -3 * np.cos(angle)], 1)
            points = np.concatenate([rim, rim + [0, 2.0, 0]])
            k = np.arange(20)
            faces = np.concatenate([np.stack([k, k + 1, k + 22], 1), np.stack([k, k + 22, k + 21], 1)])
            if lying:  # bent from top to bottom, about an axis that runs to the right
                points = points @ TURN(np.pi / 2, [0, 0, 1])[:3, :3].T
            mesh = Mesh(
                points.astype(np.float32),
                faces.astype(np.uint32),
                np.zeros(40, np.int32),
                uvs=(np.zeros((42, 2), np.float32),),
            )
            bent = scene(mesh, pixels=(600, 200))
            made, told = fit(bent)
            self.assertIn("bent", told[0])
            self.assertEqual([c for c in codes(made) if c == "uv.content"], [])
            uv = made.meshes[0].uvs[0]
            along = uv[:21, 1 if lying else 0]
            np.testing.assert_allclose(np.abs(np.diff(along)), 1 / 20, atol=1e-5)
            np.testing.assert_allclose([uv.min(axis=0), uv.max(axis=0)], [[0, 0], [1, 1]], atol=1e-6)
        dome = as_mesh(trimesh.creation.icosphere(2).slice_plane([0, 0, 0], [0, 0, 1]))
        same, told = fit(scene(dome), where={"names": ["screen*"]})
        self.assertEqual(same.meshes[0].id, dome.id)
        self.assertIn("bent both ways", told[0])

    def test_of_a_body_it_is_the_largest_upright_face_and_the_rest_stays(self) -> None:
        body = as_mesh(trimesh.creation.box([4, 2, 0.1]))
        body = replace(body, uvs=(np.full((body.vertices, 2), 0.25, np.float32),))
        made, _ = fit(scene(body), where={"names": ["screen*"]})
        mesh = made.meshes[0]
        shows = np.ptp(mesh.uvs[0][mesh.indices], axis=1).max(axis=1) > 0.5
        self.assertEqual(int(shows.sum()), 2)
        np.testing.assert_allclose(np.abs(mesh.positions[mesh.indices[shows]][..., 2]), 0.05, atol=1e-6)
        self.assertTrue((mesh.uvs[0][mesh.indices[~shows]] == 0.25).all())

    def test_parts_that_share_a_mesh_and_stand_differently_are_all_upright(self) -> None:
        upside = TURN(np.pi, [0, 0, 1])
        beside = TURN(0.7, [0, 1, 0])
        beside[:3, 3] = 9
        made, _ = fit(scene(replace(sheet(), uvs=()), at=[np.eye(4), upside, beside], which=[0, 0, 0]))
        self.assertEqual(codes(made), [])
        self.assertEqual(made.nodes.mesh[0], made.nodes.mesh[2])
        self.assertEqual(len(made.meshes), 2)

    def test_what_the_texture_does_by_itself_is_reckoned_with(self) -> None:
        use = TextureUse(0, offset=(0.3, 0.1), rotation=0.5, scale=(2.0, 0.5))
        made, _ = fit(scene(sheet(), use=use))
        self.assertEqual(codes(made), [])
        c, s = np.cos(0.5), np.sin(0.5)
        image = (made.meshes[0].uvs[0] * use.scale) @ np.array([[c, s], [-s, c]]).T + use.offset
        np.testing.assert_allclose(image, RIGHT, atol=1e-6)

    def test_an_image_that_is_read_from_another_set_is_told_and_left(self) -> None:
        other = scene(replace(sheet(), uvs=(1 - RIGHT, RIGHT)), use=TextureUse(0, channel=1))
        out, told = fit(other, where={"names": ["screen*"]})
        self.assertIs(out, other)
        self.assertEqual(told, ["1 part stays as it is: no image is read there from the first UV set"])
        self.assertEqual(codes(other), [])
        self.assertEqual(fit(other, material="another"), (other, []))

    def test_it_arrives_in_every_format(self) -> None:
        for fmt in sorted(writable()):
            with self.subTest(fmt=fmt):
                bad = scene(replace(sheet(), uvs=((1 - RIGHT),)))
                ok, said, result = proven(bad, [{"kind": "fit_content"}], fmt)
                self.assertTrue(ok, said)
                self.assertEqual(codes(result), [])
