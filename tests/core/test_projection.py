"""First UV sets by projection against closed forms, their scale across a scene, and what puts it right."""

from __future__ import annotations

import itertools
import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh

from tests.trees import as_mesh, furthest_apart
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.scene import GLTF, Image, Material, Mesh, Scene, Texture, TextureUse, make_nodes
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey

TEXTURED = {
    "materials": (Material(name="larch", base_color_texture=TextureUse(0)),),
    "textures": (Texture(0),),
    "images": (Image(name="larch", data=b""),),
}


def scene_of(*parts: tuple[Any, Any], meshes: tuple[Mesh, ...] | None = None, use: Any = None) -> Scene:
    matrices = np.array([m for _, m in parts])
    names = [f"part_{k}" for k in range(len(parts))]
    made = meshes or tuple(as_mesh(t, 0) for t, _ in parts)
    nodes = make_nodes([-1] * len(parts), matrices, names, mesh=np.arange(len(parts)) if use is None else use)
    return Scene(GLTF, nodes, made, **TEXTURED)


def project(scene: Scene, **parameters: Any) -> tuple[Scene, list[Any]]:
    return parse_step({"kind": "first_uvs", **parameters}).apply(scene, StepContext())


def stretch(mesh: Mesh, matrix: Any) -> Any:
    """(F, 3) metres per repeat along each edge of each triangle."""
    points = mesh.positions.astype(np.float64) @ matrix[:3, :3].T
    corner, uv = points[mesh.indices], mesh.uvs[0].astype(np.float64)[mesh.indices]
    return np.linalg.norm(corner - np.roll(corner, 1, axis=1), axis=2) / np.linalg.norm(
        uv - np.roll(uv, 1, axis=1), axis=2
    )


def read_off(mesh: Mesh, matrix: Any) -> tuple[Any, Any, Any]:
    """(F, 3) which way the image's right and its top point in the world, and the front of each triangle, by three corners each."""
    corner, uv = (mesh.positions.astype(np.float64) @ matrix[:3, :3].T)[mesh.indices], mesh.uvs[0].astype(np.float64)
    edges = np.stack([corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]], axis=1)
    flat = np.stack([uv[mesh.indices[:, k]] - uv[mesh.indices[:, 0]] for k in (1, 2)], axis=1)
    along = np.linalg.solve(flat, edges)
    front = np.cross(edges[:, 0], edges[:, 1]) * np.sign(np.linalg.det(matrix[:3, :3]))
    return along[:, 0], -along[:, 1], front


def survey_codes(scene: Scene) -> set[str]:
    return {f.code for f in survey(scene, BUILT_IN[0])}


class Projection(unittest.TestCase):
    def test_a_box_has_the_size_it_was_asked_for_on_every_edge(self) -> None:
        for scale in (1.0, 3.0):
            matrix = np.diag([scale, scale, scale, 1.0])
            scene = scene_of((trimesh.creation.box([2, 3, 4]), matrix))
            out, changes = project(scene, metresPerRepeat=0.5)
            self.assertTrue(np.allclose(stretch(out.meshes[0], matrix), 0.5, atol=1e-5))
            self.assertEqual(furthest_apart(scene, out), 0.0)
            self.assertEqual(changes[0].text, "1 mesh given a first UV set by box projection")

    def test_a_unit_box_stretched_to_a_slab_or_a_post_has_the_size_on_every_edge(self) -> None:
        turn = trimesh.transformations.rotation_matrix(0.7, [1, 2, 3])
        for size in ([20, 0.2, 12], [0.1, 4, -0.1]):
            matrix = turn @ np.diag([*size, 1.0])
            out, _ = project(scene_of((trimesh.creation.box(), matrix)), metresPerRepeat=0.5)
            self.assertTrue(np.allclose(stretch(out.meshes[0], matrix), 0.5, atol=1e-5))
            self.assertEqual(survey_codes(out) & {"uv.scale", "uv.instance-scale"}, set())

    def test_a_plane_is_laid_out_along_its_thin_axis_and_upright(self) -> None:
        board = trimesh.creation.box([2, 1, 0.02])
        out, _ = project(scene_of((board, np.eye(4))), by="planar", metresPerRepeat=0.5)
        mesh = out.meshes[0]
        self.assertTrue(np.allclose(np.ptp(mesh.uvs[0], axis=0), [4, 2]))
        self.assertTrue(np.allclose(mesh.uvs[0][:, 1], -2 * mesh.positions[:, 1]))
        along, _ = project(scene_of((board, np.eye(4))), by="planar", along="X")
        self.assertTrue(np.allclose(np.ptp(along.meshes[0].uvs[0], axis=0), [0.02, 1]))

    def test_no_image_is_mirrored_as_it_is_seen_and_walls_are_upright(self) -> None:
        """By every projection, whichever axis is up, in right-handed and left-handed axes, on parts that are turned, mirrored,
        or modelled by a mirror."""
        turn, mirror = trimesh.transformations.rotation_matrix(0.4, [1, 2, 3]), np.diag([-1.0, 1, 1, 1])
        tall = {"X": [0, 1, 0], "Y": [1, 0, 0], "Z": [0, 0, 1]}
        for up, handedness, align in itertools.product(
            ("X", "-Y", "Y", "-Z", "Z"), ("right", "left"), ("object", "world")
        ):
            stand = trimesh.transformations.rotation_matrix(np.pi / 2, tall[up[-1]])
            tube = trimesh.creation.cylinder(0.5, 2, sections=24, transform=stand)
            board = trimesh.Trimesh([[0, 0, 0], [0, 2, 0], [0, 2, 1], [0, 0, 1]], [[0, 1, 2], [0, 2, 3]], process=False)
            back = trimesh.Trimesh(board.vertices, board.faces[:, ::-1], process=False)
            ball = trimesh.creation.icosphere(1).apply_transform(turn)
            for by, shape in (("box", ball), ("cylindrical", tube), ("planar", board), ("planar", back)):
                for matrix in (np.eye(4), turn, mirror, turn @ mirror):
                    with self.subTest(up=up, hand=handedness, align=align, by=by):
                        scene = scene_of((shape, matrix))
                        scene = scene.but(convention=replace(GLTF, up=up, forward="X" if up[-1] != "X" else "Y", handedness=handedness))  # fmt: skip
                        out, _ = project(scene, by=by, align=align, along="X" if by == "planar" and align == "object" else "upright" if by == "cylindrical" else "thinnest")  # fmt: skip
                        right, top, front = read_off(out.meshes[0], matrix)
                        seen = np.einsum("fi,fi->f", np.cross(right, top), front) * (1 if handedness == "right" else -1)
                        self.assertGreater(seen.min(), 0.0)
                        upright = axis_vector(up) if align == "world" else matrix[:3, :3] @ axis_vector(up)
                        own = front / np.linalg.norm(front, axis=1)[:, None]
                        walls = np.abs(own @ upright) < 0.5
                        self.assertGreater((top @ upright)[walls].min(initial=1.0), 0.0)

    def test_a_cylinder_is_wound_by_whole_repeats_and_nothing_crosses_the_seam(self) -> None:
        tube = trimesh.creation.cylinder(
            0.5, 3, sections=48, transform=trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0])
        )
        out, _ = project(scene_of((tube, np.eye(4))), by="cylindrical", metresPerRepeat=0.5)
        mesh = out.meshes[0]
        corner = mesh.positions[mesh.indices]
        normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        mantle = np.abs(normal[:, 1]) < 0.5 * np.linalg.norm(normal, axis=1)
        u = mesh.uvs[0][mesh.indices[mantle], 0]
        # 3.14 m round are six repeats of half a metre; every triangle of the mantle is a 48th of that wide
        self.assertAlmostEqual(float(np.ptp(u)), 6, delta=0.13)
        self.assertTrue(np.allclose(np.ptp(u, axis=1), 6 / 48, atol=1e-4))
        self.assertTrue(np.allclose(np.ptp(mesh.uvs[0][mesh.indices[mantle], 1], axis=1), 6, atol=1e-4))
        self.assertTrue(np.allclose(stretch(mesh, np.eye(4))[~mantle], 0.5, atol=1e-4))

    def test_cones_and_balls_have_no_lost_corner(self) -> None:
        for made in (
            trimesh.creation.cone(1, 2, sections=16),
            trimesh.creation.icosphere(2),
            trimesh.creation.torus(2, 0.5),
        ):
            out, _ = project(scene_of((made, np.eye(4))), by="cylindrical")
            uv = out.meshes[0].uvs[0][out.meshes[0].indices]
            self.assertTrue(np.isfinite(uv).all())
            self.assertLess(float(np.ptp(uv[:, :, 0], axis=1).max()), 7.0)
            self.assertEqual(out.meshes[0].triangles, len(made.faces))

    def test_world_alignment_goes_on_from_part_to_part_and_keeps_instances(self) -> None:
        panel = trimesh.creation.box([1.3, 1.3, 0.1])
        turn = trimesh.transformations.rotation_matrix(0.4, [0, 0, 1])
        turn[:3, 3] = 1.7, 0.2, 0
        scene = scene_of((panel, np.eye(4)), (panel.copy(), turn))
        for out in (
            project(scene.but(meshes=(scene.meshes[0], replace(scene.meshes[1], name="other"))), align="world")[0],
        ):
            for i in range(2):
                mesh = out.meshes[out.nodes.mesh[i]]
                world = mesh.positions @ out.nodes.world[i, :3, :3].T + out.nodes.world[i, :3, 3]
                if i == 0 or len(out.meshes) == 2:
                    front = world[:, 2] > 0.04
                    uv = mesh.uvs[0]
                    same = np.isclose(uv[:, 0], world[:, 0], atol=1e-5) & np.isclose(uv[:, 1], -world[:, 1], atol=1e-5)
                    self.assertGreaterEqual(int((same & front).sum()), 4)
        shared = scene.but(nodes=make_nodes([-1, -1], np.array([np.eye(4), turn]), ["a", "b"], mesh=[0, 0]))
        out, changes = project(shared, align="world")
        self.assertEqual(len(out.meshes), 1)
        self.assertIn("turned differently", changes[1].text)

    def test_a_set_that_is_there_stays_unless_asked_for(self) -> None:
        mesh = as_mesh(trimesh.creation.box(), 0, uvs=(np.zeros((8, 2), np.float32),))
        scene = scene_of((None, np.eye(4)), meshes=(mesh,))
        self.assertIs(project(scene)[0], scene)
        self.assertTrue(np.allclose(stretch(project(scene, anew=True)[0].meshes[0], np.eye(4)), 1, atol=1e-5))


class Scale(unittest.TestCase):
    def row(self, *sizes: float) -> Scene:
        parts = []
        for k, size in enumerate(sizes):
            scene = scene_of((trimesh.creation.box([2, 2, 2 + 0.1 * k]), np.eye(4)))
            parts.append(project(scene, metresPerRepeat=size)[0].meshes[0])
        places = [(None, trimesh.transformations.translation_matrix([4 * k, 0, 0])) for k in range(len(sizes))]
        return scene_of(*places, meshes=tuple(parts))

    def found(self, scene: Scene) -> dict[str, Any]:
        return {f.code: f for f in survey(scene, BUILT_IN[0]) if f.code in ("uv.scale", "uv.first-flat")}

    def test_the_odd_one_is_found_with_its_factor_and_put_right(self) -> None:
        scene = self.row(0.5, 0.5, 0.6, 2.0, 0.5)
        finding = self.found(scene)["uv.scale"]
        self.assertEqual(finding.parts, [3])
        self.assertAlmostEqual(finding.value, 4.0, places=2)
        out, changes = parse_step(finding.mend).apply(scene, StepContext())
        self.assertEqual(self.found(out), {})
        self.assertTrue(np.allclose(stretch(out.meshes[3], np.eye(4)), 0.5, atol=1e-3))
        self.assertEqual([m.id for m in out.meshes[:3]], [m.id for m in scene.meshes[:3]])
        again, nothing = parse_step(finding.mend).apply(out, StepContext())
        self.assertEqual((again, nothing), (out, []))
        self.assertIn("scaled by 4", changes[0].text)

    def test_a_scale_of_the_texture_in_its_material_counts(self) -> None:
        """Sets inside 0 to 1, as for one picture, of which the material makes many repeats (KHR_texture_transform)."""
        scene = self.row(0.5, 0.5, 2.0)
        inside = tuple(replace(m, uvs=(m.uvs[0] / 10,)) for m in scene.meshes)
        (bricks, *others), use = scene.materials, scene.materials[0].base_color_texture
        assert use is not None
        for scale in ((10.0, 10.0), (-20.0, 5.0)):
            tiled = replace(bricks, base_color_texture=replace(use, scale=scale))
            whole = scene.but(meshes=inside, materials=(tiled, *others))
            finding = self.found(whole)["uv.scale"]
            self.assertEqual((finding.parts, finding.mend["metresPerRepeat"]), ([2], 0.5))
            out, _ = parse_step(finding.mend).apply(whole, StepContext())
            self.assertEqual(self.found(out), {})
            self.assertTrue(np.allclose(stretch(out.meshes[2], np.eye(4)), 5.0, rtol=1e-3))
        self.assertEqual(self.found(scene.but(meshes=inside)), {}, "without it each covers its picture once at most")

    def test_one_material_of_several_on_a_mesh_is_found_and_scaled_alone(self) -> None:
        """Walls of bricks with a plinth of slate, each object with materials of its own that look alike."""
        scene = self.row(0.5, 0.5, 0.5)
        base = scene.materials[0]
        other = replace(base, name="slate", roughness=0.9)
        looks = [m for k in range(3) for m in (replace(base, name=f"bricks.{k}"), replace(other, name=f"slate.{k}"))]
        meshes = []
        for k, mesh in enumerate(scene.meshes):
            slate = np.arange(mesh.triangles) % 2 == 0
            one = mesh.with_vertices(
                mesh.indices.ravel(), indices=np.arange(3 * mesh.triangles).reshape(-1, 3).astype(np.uint32)
            )
            uv = one.uvs[0].copy()
            if k == 1:  # of one wall the slate alone is four times too large
                uv[one.indices[slate]] *= 0.25
            slots = np.where(slate, 2 * k + 1, 2 * k).astype(np.int32)
            meshes.append(replace(one, uvs=(uv,), material=slots))
        whole = scene.but(materials=tuple(looks), meshes=tuple(meshes))
        finding = self.found(whole)["uv.scale"]
        self.assertEqual((finding.parts, finding.mend["material"]), ([1], "slate.1"))
        self.assertAlmostEqual(finding.value, 4.0, places=2)
        out, _ = parse_step(finding.mend).apply(whole, StepContext())
        self.assertEqual(self.found(out), {})
        mended, slate = out.meshes[out.nodes.mesh[out.nodes.parts[1]]], np.arange(meshes[1].triangles) % 2 == 0
        np.testing.assert_array_equal(
            mended.uvs[0][mended.indices[~slate]], meshes[1].uvs[0][meshes[1].indices[~slate]]
        )
        # vertices that both share are split, and nothing else is
        welded = replace(scene.meshes[0], material=np.where(np.arange(12) % 2 == 0, 1, 0).astype(np.int32))
        one = scene_of((None, np.eye(4)), meshes=(welded,)).but(materials=tuple(looks))
        step = {"kind": "texture_scale", "metresPerRepeat": 1.0, "material": "slate.0"}
        out, _ = parse_step(step).apply(one, StepContext())
        split = out.meshes[0]
        self.assertEqual(split.triangles, 12)
        slate = np.arange(12) % 2 == 0
        corners = welded.uvs[0][welded.indices]
        np.testing.assert_allclose(split.uvs[0][split.indices[~slate]], corners[~slate])
        np.testing.assert_allclose(split.uvs[0][split.indices[slate]], corners[slate] / 2, rtol=1e-3)
        self.assertEqual(parse_step(step).apply(out, StepContext()), (out, []))

    def test_node_scale_counts_and_boards_for_one_picture_do_not(self) -> None:
        scene = self.row(0.5, 0.5, 0.5)
        self.assertEqual(self.found(scene), {})
        larger = scene.but(nodes=replace(scene.nodes, local=scene.nodes.local @ np.diag([1.0, 1, 1, 1])))
        local = np.array(larger.nodes.local)
        local[2, :3, :3] *= 5
        found = self.found(scene.but(nodes=replace(scene.nodes, local=local)))
        # the large one has most of the surface: the small ones are off against it
        self.assertEqual(found["uv.scale"].parts, [0, 1])
        # surface that shows a corner of its image is off as much as one that repeats it too often
        speck = replace(scene.meshes[0], uvs=(scene.meshes[0].uvs[0] * np.float32(0.05),))
        found = self.found(scene.but(meshes=(speck, *scene.meshes[1:])))["uv.scale"]
        self.assertEqual((found.parts, found.guess), ([0], False))
        self.assertAlmostEqual(found.value, 20.0, places=2)
        # what shows it once among others that repeat it is asked about; boards of several sizes are meant
        boards = [as_mesh(trimesh.Trimesh([[0, 0, 0], [w, 0, 0], [w, 2, 0], [0, 2, 0]], [[0, 1, 2], [0, 2, 3]]), 0) for w in (1, 9)]  # fmt: skip
        once = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
        first, second = (replace(b, uvs=(once,)) for b in boards)
        self.assertEqual(self.found(scene_of(*[(None, np.eye(4))] * 2, meshes=(first, second))), {})
        found = self.found(scene.but(meshes=(second, *scene.meshes[1:])))["uv.scale"]
        self.assertEqual((found.parts, found.guess), ([0], True))
        # nor is it sure of parts of one image, as on an atlas
        atlas = [replace(b, uvs=(once * np.float32(share),)) for b, share in zip(boards, (0.3, 0.2), strict=True)]
        found = self.found(scene_of(*[(None, np.eye(4))] * 2, meshes=tuple(atlas)))["uv.scale"]
        self.assertTrue(found.guess)

    def test_materials_of_their_own_that_look_alike_are_one_finding(self) -> None:
        """Exporters give every part a material: ten that are off are ten parts of one finding, with one mend."""
        scene = self.row(*[0.5] * 40, *[3.0] * 10)
        own = scene.but(
            meshes=tuple(replace(m, material=np.full(m.triangles, k, np.int32)) for k, m in enumerate(scene.meshes)),
            materials=tuple(replace(scene.materials[0], name=f"larch.{k:03}") for k in range(50)),
        )
        found = [f for f in survey(own, BUILT_IN[0]) if f.code == "uv.scale"]
        self.assertEqual([f.parts for f in found], [list(range(40, 50))])
        out, _ = parse_step(found[0].mend).apply(own, StepContext())
        self.assertEqual(self.found(out), {})

    def test_parts_stretched_along_one_axis_are_measured_by_their_surface(self) -> None:
        unit = [project(scene_of((trimesh.creation.box([1, 1, 1 + 0.1 * k]), np.eye(4))))[0].meshes[0] for k in (0, 1)]
        posts = [as_mesh(trimesh.creation.box([1, 1, 8 + k]), 0) for k in range(2)]
        beams = [project(scene_of((None, np.eye(4)), meshes=(m,)))[0].meshes[0] for m in posts]
        # eight times as long on one axis: the same surface as a beam has, at half the repeats and less
        long = np.diag([1.0, 1, 8, 1])
        places = [(None, trimesh.transformations.translation_matrix([3 * k, 0, 0])) for k in range(3)]
        finding = self.found(scene_of(*places, (None, long), meshes=(*beams, *unit)))["uv.scale"]
        self.assertEqual(finding.parts, [3])
        self.assertAlmostEqual(finding.value, ((4 * 8.8 + 2) / (4 * 1.1 + 2)) ** 0.5, places=4)
        out, _ = parse_step(finding.mend).apply(scene_of(*places, (None, long), meshes=(*beams, *unit)), StepContext())
        self.assertNotIn("uv.scale", self.found(out))

    def test_instances_at_different_scales_are_reported(self) -> None:
        scene = self.row(0.5, 0.5)
        places = np.array([np.diag([s, s, s, 1.0]) for s in (1.0, 1.0, 1.4)])
        shared = scene.but(nodes=make_nodes([-1] * 3, places, list("abc"), mesh=[0, 0, 0]))
        self.assertNotIn("uv.instance-scale", {f.code for f in survey(shared, BUILT_IN[0])})
        places = places.copy()
        places[2, :3, :3] *= 2
        apart = shared.but(nodes=make_nodes([-1] * 3, places, list("abc"), mesh=[0, 0, 0]))
        found = {f.code: f for f in survey(apart, BUILT_IN[0])}["uv.instance-scale"]
        self.assertEqual((len(found.parts), round(found.value or 0, 3)), (3, 2.8))

    def test_surface_without_area_in_its_set_is_found(self) -> None:
        scene = self.row(0.5, 0.5)
        line = replace(scene.meshes[0], uvs=(scene.meshes[0].uvs[0] * np.array([1, 0], np.float32),))
        finding = self.found(scene.but(meshes=(line, scene.meshes[1])))["uv.first-flat"]
        self.assertEqual((finding.parts, finding.value), ([0], 100.0))
        out, _ = parse_step(finding.mend).apply(scene.but(meshes=(line, scene.meshes[1])), StepContext())
        self.assertNotIn("uv.first-flat", self.found(out))
