"""Scenes at map coordinates: no edge and no place may be rounded, in whatever format they come or go."""

from __future__ import annotations

import io
import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import ifcopenshell.api.geometry as geometry
import ifcopenshell.api.georeference as georeferencing
import numpy as np
import PIL.Image
import trimesh

from tests.core.test_arrival import MATCH, deliver
from tests.core.test_ifc import Model, at
from tests.core.test_pose import PLAIN
from tests.core.test_sides import at as moved_to
from tests.core.test_sides import over, scene_of
from tests.core.test_sides import place as hall
from tests.harden.arrivals import one as alarm_of
from tests.independent import independent, same
from tests.planted import kiosk
from tests.support import read, sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import bundle_from_files, writable
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.geometry.animation import posed
from tidy_caravan.core.identity import follow
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.picture import picture
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import GLTF, Channel, Clip, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.selection import PartSet
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.space.site import SITE, as_before, recentred, taken_off, together
from tidy_caravan.core.space.transforms import split_trs
from tidy_caravan.core.survey import survey
from tidy_caravan.server.store.scenes import from_bytes
from tidy_caravan.server.view import view_bytes

CORNER = np.array([452_310.25, 12.5, 5_411_020.125])
SHAPE = trimesh.creation.box((0.12, 2.1, 0.035))
"""A door leaf: its thinnest edge is a twelfth of what float32 rounds to at that distance."""
PLACES = np.array([[0.0, 0.0, 0.0], [40.0, 3.0, -25.0], [-12.345678, 0.5, 7.654321]])


def known() -> F64:
    """Middles of all triangles, in metres as written."""
    points = np.asarray(SHAPE.vertices, np.float64)
    return np.concatenate([(points + CORNER + p)[SHAPE.faces].mean(axis=1) for p in PLACES])


def as_obj(places: F64 = PLACES) -> bytes:
    lines, base = [], 1
    for k, place in enumerate(places):
        lines.append(f"o leaf_{k}")
        lines += [f"v {x:.9f} {y:.9f} {z:.9f}" for x, y, z in np.asarray(SHAPE.vertices) + CORNER + place]
        lines += [f"f {a + base} {b + base} {c + base}" for a, b, c in SHAPE.faces]
        base += len(SHAPE.vertices)
    return "\n".join(lines).encode()


def as_ply() -> bytes:
    points = np.concatenate([np.asarray(SHAPE.vertices) + CORNER + p for p in PLACES])
    faces = np.concatenate([np.asarray(SHAPE.faces) + k * len(SHAPE.vertices) for k in range(len(PLACES))])
    head = f"ply\nformat ascii 1.0\nelement vertex {len(points)}\nproperty double x\nproperty double y\nproperty double z\n"
    head += f"element face {len(faces)}\nproperty list uchar int vertex_indices\nend_header\n"
    body = [f"{x:.9f} {y:.9f} {z:.9f}" for x, y, z in points] + [f"3 {a} {b} {c}" for a, b, c in faces]
    return (head + "\n".join(body) + "\n").encode()


def as_stl() -> bytes:
    """In the millimetres, Z up, that the reader takes STL for."""
    lines = []
    turned = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]]) * 1000.0
    for k, place in enumerate(PLACES):
        lines.append(f"solid leaf_{k}")
        points = (np.asarray(SHAPE.vertices) + CORNER + place) @ turned.T
        for face in SHAPE.faces:
            lines.append("facet normal 0 0 0\nouter loop")
            lines += [f"vertex {x:.6f} {y:.6f} {z:.6f}" for x, y, z in points[face]]
            lines.append("endloop\nendfacet")
        lines.append(f"endsolid leaf_{k}")
    return "\n".join(lines).encode()


def as_collada() -> bytes:
    geometries, nodes = [], []
    for k, place in enumerate(PLACES):
        points = np.asarray(SHAPE.vertices) + CORNER + place
        numbers = " ".join(f"{v:.9f}" for v in points.ravel())
        indices = " ".join(map(str, np.asarray(SHAPE.faces).ravel()))
        geometries.append(
            f'<geometry id="g{k}"><mesh><source id="p{k}"><float_array id="a{k}" count="{points.size}">{numbers}</float_array>'
            f'<technique_common><accessor source="#a{k}" count="{len(points)}" stride="3"><param name="X" type="float"/>'
            f'<param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>'
            f'<vertices id="v{k}"><input semantic="POSITION" source="#p{k}"/></vertices>'
            f'<triangles count="{len(SHAPE.faces)}"><input semantic="VERTEX" source="#v{k}" offset="0"/><p>{indices}</p>'
            "</triangles></mesh></geometry>"
        )
        below = '<node id="lamp" name="lamp"><translate>1 2 3</translate></node>' if k == 0 else ""
        nodes.append(f'<node id="n{k}" name="leaf {k}"><instance_geometry url="#g{k}"/>{below}</node>')
    return (
        '<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">'
        "<asset><created>2020-01-01T00:00:00Z</created><modified>2020-01-01T00:00:00Z</modified>"
        '<unit name="meter" meter="1"/><up_axis>Y_UP</up_axis></asset>'
        f"<library_geometries>{''.join(geometries)}</library_geometries><library_visual_scenes>"
        f'<visual_scene id="s">{"".join(nodes)}</visual_scene></library_visual_scenes>'
        '<scene><instance_visual_scene url="#s"/></scene></COLLADA>'
    ).encode()


SOURCES = {"leaves.obj": as_obj, "leaves.ply": as_ply, "leaves.stl": as_stl, "leaves.dae": as_collada}


class Far(unittest.TestCase):
    def test_read_from_text_at_map_coordinates_and_written_to_every_format(self) -> None:
        truth = known()
        for name, make in SOURCES.items():
            scene = read({name: make()}, name)
            for kind in sorted(writable()):
                with self.subTest(source=name, kind=kind):
                    package, _ = sent(scene, name, "0" * 64, PLAIN, MATCH, kind)  # type: ignore[arg-type]
                    got = independent({k: v for k, v in package.files.items() if k != "manifest.json"}, kind)
                    self.assertTrue(same(got - CORNER, truth - CORNER, 1e-5), np.abs(got).max(axis=0))

    def test_arrivals_agree_and_notice_a_millimetre(self) -> None:
        for name, make in SOURCES.items():
            scene = read({name: make()}, name)
            for d in BUILT_IN:
                for kind in ("glb", "obj", "dae", "ply"):
                    with self.subTest(source=name, to=d.name, kind=kind), TemporaryDirectory() as folder:
                        report = deliver(scene, d, Path(folder), MATCH, kind)  # type: ignore[arg-type]
                        self.assertTrue(report.ok, (report.problems, report.worst, report.tolerances))
                        self.assertLess(report.worst.surface_mm, 0.01)

    def test_a_part_here_is_compared_as_finely_when_others_stand_kilometres_away(self) -> None:
        """A lump was kept about one place of its own, which rounded what stands far from the middle of all."""
        near = np.vstack([PLACES, [[11_300.0, 0.0, -4_100.0], [18_141.3, 2.0, 16_670.7]]]) - CORNER
        scene = read({"leaves.obj": as_obj(near)}, "leaves.obj")
        for kind in sorted(writable()):
            with self.subTest(kind=kind), TemporaryDirectory() as folder:
                report = deliver(scene, BUILT_IN[0], Path(folder), MATCH, kind)  # type: ignore[arg-type]
                self.assertTrue(report.ok, (report.problems, report.worst, [r.told for r in report.rows if r.faults]))
                here = [r.surface_mm for r in report.rows if not r.path.endswith(("3", "4"))]
                self.assertEqual(len(here), 3)
                self.assertLess(max(here), 0.003)

    def test_what_hangs_below_a_rebased_node_stays(self) -> None:
        scene = read({"x.dae": as_collada()}, "x.dae")
        lamp = scene.nodes.names.index("lamp")
        np.testing.assert_allclose(scene.nodes.world[lamp, :3, 3], (1, 2, 3), atol=1e-9)
        for mesh in scene.meshes:
            self.assertLess(float(np.abs(mesh.positions).max()), 3.0)

    def test_parts_near_their_origin_keep_it(self) -> None:
        box = trimesh.creation.box((1, 2, 3))
        box.apply_translation((10, 0, -20))
        data = box.export(file_type="obj")
        scene = read({"x.obj": data.encode() if isinstance(data, str) else data}, "x.obj")
        np.testing.assert_array_equal(scene.nodes.world[scene.nodes.parts[0]], np.eye(4))

    def test_a_fine_mesh_some_way_off_is_judged_by_its_edges(self) -> None:
        """Two millimetre steps on a sheet of one metre, 60 m away: rounding would cost a thousandth of an edge."""
        steps = np.arange(0, 1.0001, 0.002)
        x, y = np.meshgrid(steps, steps)
        points = np.column_stack([x.ravel() + 60.0, y.ravel(), np.zeros(x.size)])
        n = len(steps)
        i = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
        faces = np.concatenate([np.column_stack([i, i + 1, i + n]), np.column_stack([i + 1, i + n + 1, i + n])])
        text = [f"v {a:.9f} {b:.9f} {c:.9f}" for a, b, c in points] + [f"f {a} {b} {c}" for a, b, c in faces + 1]
        scene = read({"sheet.obj": "\n".join(text).encode()}, "sheet.obj")
        mesh, world = scene.meshes[0], scene.nodes.world[scene.nodes.parts[0]]
        got = np.unique(np.round((mesh.positions.astype(np.float64) + world[:3, 3])[:, 0], 7))
        np.testing.assert_allclose(got, np.unique(np.round(points[:, 0], 7)), atol=1e-6)
        self.assertGreater(float(np.abs(world[:3, 3]).max()), 0.0)


def site_model(east: float, name: str) -> Model:
    m = Model(length="METERS")
    storey = m.storey("Ground", 0)
    for i in range(2):
        m.element(f"{name} {i}", storey, at(east + 10 * i, 5_411_020.5, 12), m.block())
    return m


def places(scene: Scene, axes: F64) -> dict[str, F64]:
    """World origin per part, in metres, east north up."""
    return {
        scene.nodes.names[i]: axes @ scene.nodes.world[i, :3, 3] * scene.convention.metres_per_unit
        for i in scene.nodes.parts.tolist()
    }


class InIfc(unittest.TestCase):
    def test_geometry_written_at_map_coordinates(self) -> None:
        """The placement is the identity and every point of the face set lies on the map."""
        m = Model(length="METERS")
        corner = CORNER[[0, 2, 1]]
        for k, place in enumerate(PLACES):
            points = np.asarray(SHAPE.vertices, np.float64) + corner + place
            shape = geometry.add_mesh_representation(
                m.f, context=m.body, vertices=[points.tolist()], faces=[SHAPE.faces.tolist()]
            )
            m.element(f"leaf {k}", m.storey(f"level {k}", 0), np.eye(4), shape)
        scene = m.read()
        offset = np.array(scene.extras["extras"]["georeference"]["offsetMetres"])
        for part in scene.nodes.parts.tolist():
            mesh, world = scene.meshes[scene.nodes.mesh[part]], scene.nodes.world[part]
            got = mesh.positions.astype(np.float64) + world[:3, 3] + offset - corner
            wanted = np.asarray(SHAPE.vertices) + PLACES[int(scene.nodes.names[part][-1])]
            self.assertTrue(same(np.unique(np.round(got, 7), axis=0), wanted, 1e-6), got)
            self.assertLess(float(np.abs(scene.nodes.local[part, :3, 3]).max()), 100.0)


class GivenBack(unittest.TestCase):
    """A far scene is recentred once, whatever its format; the step puts it back, whatever the unit turns out to be."""

    def far_glb(self) -> bytes:
        scene = trimesh.Scene()
        for k in range(3):
            place = np.eye(4)
            place[:3, 3] = (452_310.25 + 3 * k, 12.0, -5_411_020.5)
            scene.add_geometry(trimesh.creation.box((1, 2, 1)), node_name=f"post {k}", transform=place)
        return bytes(scene.export(file_type="glb"))

    def test_any_format_is_recentred_and_says_by_how_much(self) -> None:
        scene = load_all([bundle_from_files({"quay.glb": self.far_glb()})])
        self.assertLess(float(np.abs(scene.part_bounds).max()), 10.0)
        self.assertIn("import.recentred", {n.code for n in scene.notes})
        np.testing.assert_allclose(taken_off(scene), (452_313, 5_411_020, 12), atol=1.0)
        near = load_all([bundle_from_files({"box.glb": trimesh.creation.box().export(file_type="glb")})])
        self.assertFalse(taken_off(near).any())
        self.assertNotIn("import.recentred", {n.code for n in near.notes})
        large = trimesh.creation.box((30_000, 4_000, 20_000))  # a hall in millimetres that says metres
        large.apply_translation((15_000, 2_000, 10_000))
        wide = load_all([bundle_from_files({"hall.glb": large.export(file_type="glb")})])
        self.assertFalse(taken_off(wide).any(), "large is not far")

    def test_on_request_the_package_lies_at_the_site_again(self) -> None:
        """The first post stands where the file had it, in the destination's axes; the receivers agree."""
        wanted = np.array([452_310.25, 12.0, -5_411_020.5])
        scene = load_all([bundle_from_files({"quay.glb": self.far_glb()})])
        for unit, factor in ((None, 1.0), (0.01, 0.01)):
            for fmt in ("glb", "dae", "obj"):
                with self.subTest(unit=unit, format=fmt), TemporaryDirectory() as folder:
                    steps = [{"kind": "match_units_axes", "sourceMetresPerUnit": unit}, {"kind": "site_place"}]
                    route = Route.model_validate({"steps": steps})
                    package, done = sent(scene, "quay", "0" * 64, BUILT_IN[0], route, fmt)  # type: ignore[arg-type]
                    save(package.files, Path(folder))
                    report, _ = prove(Path(folder), scene, done)
                    self.assertTrue(report.ok, (report.problems, [r.told for r in report.rows][:1]))
                    axes = linear_map(GLTF, package.manifest.file_convention.convention())
                    first = min(package.manifest.parts, key=lambda p: p.source_path)
                    np.testing.assert_allclose(first.transform[12:15], axes @ wanted * factor, rtol=1e-12, atol=1e-3)
                    assert package.manifest.georeference is not None
                    kept = package.manifest.georeference["offsetMetres"]
                    np.testing.assert_allclose(kept, taken_off(scene) * factor, atol=1e-6)

    def test_a_clip_that_moves_the_top_goes_along(self) -> None:
        scene = kiosk()
        local = scene.nodes.local.copy()
        local[0, 0, 3] = 80_000
        gate = scene.clips[0].channels[0]
        slide = Channel(0, "translation", gate.times, np.array([[80_000, 0, 0], [80_001, 0, 0]], np.float32))
        t, r, s, _ = split_trs(local[:1])
        rest = {0: (tuple(t[0].tolist()), tuple(r[0].tolist()), tuple(s[0].tolist()))}
        there = scene.but(nodes=replace(scene.nodes, local=local, rest=rest), clips=(Clip((slide,), "slide"),))
        after = recentred(there)
        self.assertLess(float(np.abs(after.part_bounds).max()), 10.0)
        offset = linear_map(SITE, GLTF) @ taken_off(after)
        for time in (0.0, 0.4, 2.0):
            one, other = posed(there, time).nodes.world, posed(after, time).nodes.world
            np.testing.assert_allclose(other[:, :3, 3] + offset, one[:, :3, 3], atol=1e-5)
        for steps in ([], [{"kind": "site_place"}], [{"kind": "recentre", "east": 3.0}]):
            route = Route.model_validate({"steps": [{"kind": "match_units_axes"}, *steps]})
            for destination in BUILT_IN:
                with self.subTest(steps=steps, destination=destination.name):
                    self.assertEqual(alarm_of(after, destination, route, "glb"), "")


class Again(unittest.TestCase):
    """A new version, most of which lies elsewhere on the site, or of which nothing does."""

    MORE = np.concatenate([PLACES[1:], PLACES[1] + np.arange(1, 9)[:, None] * (30.0, 0.0, 0.0)])

    def test_what_was_taken_off_stays_and_everything_stands_where_it_stood(self) -> None:
        old, alone = (load_all([bundle_from_files({"door.obj": as_obj(p)})]) for p in (PLACES, self.MORE))
        self.assertGreater(float(np.linalg.norm(taken_off(alone) - taken_off(old))), 50)
        new = as_before(alone, old)
        np.testing.assert_array_equal(taken_off(new), taken_off(old))
        boxes = {p: s.part_bounds for p, s in (("old", old), ("new", new))}
        np.testing.assert_allclose(boxes["new"][:2], boxes["old"][1:], atol=1e-6)
        self.assertEqual([n.code for n in new.notes].count("import.recentred"), 1)
        self.assertIs(as_before(new, old), new)

    def test_it_is_let_go_where_it_would_lead_away(self) -> None:
        old = load_all([bundle_from_files({"door.obj": as_obj()})])
        near = load_all([bundle_from_files({"door.obj": as_obj(PLACES - CORNER)})])
        self.assertFalse(taken_off(near).any())
        for new, before in ((near, old), (old, near)):
            after = as_before(new, before)
            self.assertIs(after.nodes, new.nodes)
            np.testing.assert_array_equal(taken_off(after), taken_off(new))
            self.assertIn("import.other-offset", {n.code for n in after.notes})

    def test_equal_parts_are_followed_whatever_was_taken_off(self) -> None:
        """Leaves of one name; one goes, others come, and the origin with them."""

        def scene(places: F64) -> Scene:
            found = load_all([bundle_from_files({"door.obj": as_obj(places)})])
            return found.but(nodes=replace(found.nodes, names=("leaf",) * len(found.nodes)))

        old, new = scene(PLACES), scene(self.MORE)
        ids = old.identities.given(old.nodes.parts.tolist())
        found = follow(old, new, ids)
        rows = {ids.index(a): new.nodes.parts.tolist().index(new.identities.row[b]) for a, b in found.now.items()}
        self.assertEqual(rows, {1: 0, 2: 1})


class Apart(unittest.TestCase):
    """Parts that stand far from all others: named, and in nobody's way."""

    def hall(self, others: list[tuple[str, tuple[float, float, float], float]], about: float = 0.0) -> Scene:
        """Forty crates within sixty metres of a place `about` metres east, and others (name, place, edge), read from glTF."""
        rng, scene = np.random.default_rng(3), trimesh.Scene()
        crates = [(f"crate {k}", tuple(rng.uniform(-30, 30, 3) + (about, 0, 0)), 1.0) for k in range(40)]
        for name, place, edge in [*others, *crates]:
            scene.add_geometry(
                trimesh.creation.box((edge,) * 3),
                node_name=name,
                transform=trimesh.transformations.translation_matrix(place),
            )
        return load_all([bundle_from_files({"hall.glb": bytes(scene.export(file_type="glb"))})])

    def told(self, scene: Scene) -> list[tuple[str, ...]]:
        found = [f for f in survey(scene, BUILT_IN[0]) if f.code.startswith("origin.")]
        return [(f.code, *sorted(scene.nodes.names[i] for i in f.parts)) for f in found]

    def test_its_picture_shows_the_rest(self) -> None:
        """As large as without it, and not as one dot."""

        def inked(scene: Scene) -> int:
            return int((np.asarray(PIL.Image.open(io.BytesIO(picture(scene)))) < 200).any(axis=2).sum())

        alone = inked(self.hall([]))
        self.assertGreater(alone, 1000)
        for far in (6e3, 5e6):
            self.assertAlmostEqual(inked(self.hall([("lost", (far, 0.0, 0.0), 1.0)])) / alone, 1.0, delta=0.1)

    def test_what_was_forgotten_far_away_is_named_with_its_distance(self) -> None:
        for far in (6e3, 4e4, 5e6):
            with self.subTest(far=far):
                scene = self.hall([("lost", (far, 0.0, 0.0), 1.0), ("lost too", (0.0, 0.0, -3 * far), 2.0)])
                self.assertEqual(self.told(scene), [("origin.apart", "lost", "lost too")])
                finding = next(f for f in survey(scene, BUILT_IN[0]) if f.code == "origin.apart")
                assert finding.value is not None and finding.mend is not None
                self.assertAlmostEqual(finding.value, 3 * far / 1000, delta=0.05)
                chosen = PartSet.model_validate({"id": "far", **{k: v for k, v in finding.mend.items() if k != "kind"}})
                self.assertEqual(np.flatnonzero(chosen.select(scene)).tolist(), sorted(finding.parts))
                self.assertTrue(chosen.treatment.leave_out)

    def test_hills_around_long_streets_and_two_towers_are_no_strays(self) -> None:
        hills = [(f"hill {k}", (7e3 * np.cos(k), 0.0, 7e3 * np.sin(k)), 900.0) for k in range(6)]
        street = [(f"lamp {k}", (200.0 * k, 0.0, 0.0), 1.0) for k in range(100)]
        for name, others in (("hills", hills), ("street", street), ("near", [("kiosk", (900.0, 0.0, 0.0), 3.0)])):
            with self.subTest(others=name):
                self.assertNotIn("origin.apart", {code for code, *_ in self.told(self.hall(others))})

    def test_a_box_left_at_the_origin_keeps_no_site_from_being_recentred(self) -> None:
        for far in (4e5, 5e6):
            with self.subTest(far=far):
                scene = self.hall([("left behind", (0.0, 0.0, 0.0), 1.0)], far)
                self.assertEqual(self.told(scene), [("origin.apart", "left behind")])
                np.testing.assert_allclose(taken_off(scene), (far, 0, 0), atol=40)
                meta, _ = from_bytes(view_bytes(scene))
                self.assertLess(np.ptp([meta["low"], meta["high"]], axis=0).max(), 70, "what the view is to show first")

    def test_what_is_found_of_the_others_is_what_it_was_without_them(self) -> None:
        """Rays, gaps and overlaps are looked at about the middle of what stands together, on its own ground."""
        parts = hall()
        parts |= {name: (over(parts[name][0]), parts[name][1]) for name in ("poster", "locker")}
        told = []
        for far in (None, (5e5, 0, -3e5), (0, -4e6, 0), (0, 6e6, 0)):
            more = {} if far is None else {"lost": (trimesh.creation.box((1, 2, 3)), moved_to(*far))}
            scene = scene_of({**parts, **more})
            found = {
                f.code: sorted({scene.nodes.names[i] for i in f.parts} - {"lost"})
                for f in survey(scene, BUILT_IN[0])
                if f.code.startswith(("faces", "gaps", "flicker"))
            }
            told.append(found)
        self.assertIn("faces.seen-from-behind", told[0])
        self.assertEqual(told[1:], told[:1] * 3)

    def test_what_has_no_place_in_numbers_spoils_nothing_about_the_others(self) -> None:
        scene = self.hall([])
        for far in (1e30, 1e300, np.nan):
            local = scene.nodes.local.copy()
            local[-1, 0, 3] = far
            odd = scene.but(nodes=replace(scene.nodes, local=local))
            self.assertEqual(self.told(odd), [("origin.apart", scene.nodes.names[-1])])
            meta, _ = from_bytes(view_bytes(odd))
            self.assertLess(np.ptp([meta["low"], meta["high"]], axis=0).max(), 70)
        self.assertTrue(together(np.full((3, 2, 3), np.nan), 1.0).all())

    def test_of_two_halves_one_is_where_the_scene_is(self) -> None:
        boxes = np.zeros((8, 2, 3)) + np.arange(8)[:, None, None] + [[[0.0], [1.0]]]
        boxes[4:] += 1e6
        for order in (slice(None), slice(None, None, -1)):
            self.assertEqual(together(boxes[order], 1.0).tolist(), [True] * 4 + [False] * 4)


class OneSite(unittest.TestCase):
    def merged(self, files: dict[str, bytes]) -> Scene:
        return load_all([bundle_from_files({n: d}) for n, d in files.items()])

    def test_two_models_of_one_site_keep_their_distance(self) -> None:
        a, b = site_model(452_310.25, "hall"), site_model(458_810.25, "quay")
        for files in ({"a.ifc": a.bytes(), "b.ifc": b.bytes()}, {"b.ifc": b.bytes(), "a.ifc": a.bytes()}):
            scene = self.merged(files)
            found = places(scene, np.eye(3))
            np.testing.assert_allclose(found["quay 0"] - found["hall 0"], (6500, 0, 0), atol=1e-6)
            np.testing.assert_allclose(found["quay 1"] - found["quay 0"], (10, 0, 0), atol=1e-6)
            offset = np.array(scene.extras["extras"]["georeference"]["offsetMetres"])
            np.testing.assert_allclose(found["hall 0"] + offset, (452_310.25, 5_411_020.5, 12), atol=1e-6)

    def test_map_conversions_of_one_system_are_believed(self) -> None:
        """Both near their own origin; one turned by 90° on the map."""

        def model(name: str, east: float, along: tuple[float, float]) -> Model:
            m = Model(length="METERS")
            m.element(name, m.storey("Ground", 0), at(3, 4, 0), m.block())
            georeferencing.add_georeferencing(m.f)
            georeferencing.edit_georeferencing(
                m.f,
                projected_crs={"Name": "EPSG:25832"},
                coordinate_operation={
                    "Eastings": east, "Northings": 1000.0, "OrthogonalHeight": 5.0,
                    "XAxisAbscissa": along[0], "XAxisOrdinate": along[1], "Scale": 1.0,
                },
            )  # fmt: skip
            return m

        one, two = model("one", 500.0, (1.0, 0.0)), model("two", 700.0, (0.0, 1.0))
        found = places(self.merged({"one.ifc": one.bytes(), "two.ifc": two.bytes()}), np.eye(3))
        np.testing.assert_allclose(found["one"], (3, 4, 0), atol=1e-6)
        # (3, 4) turned by 90° is (-4, 3); 200 m further east
        np.testing.assert_allclose(found["two"], (196, 3, 0), atol=1e-6)

    def test_a_file_without_a_site_stands_where_its_numbers_say(self) -> None:
        model = site_model(452_310.25, "hall")
        near = trimesh.creation.box((1, 1, 1))
        near.apply_translation((452_330.25, 12.0, -5_411_020.5))
        text = [f"v {x:.9f} {y:.9f} {z:.9f}" for x, y, z in near.vertices]
        text += [f"f {a} {b} {c}" for a, b, c in near.faces + 1]
        scene = self.merged({"a.ifc": model.bytes(), "b.obj": "\n".join(text).encode()})
        east_north_up = linear_map(scene.convention, GLTF)
        found = places(scene, np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]]) @ east_north_up)
        box = scene.part_bounds[[scene.nodes.names[i] for i in scene.nodes.parts.tolist()].index("b")]
        np.testing.assert_allclose(box.mean(axis=0) - found["hall 0"], (20, 0, 0), atol=1e-3)
        self.assertIn("import.site", {n.code for n in scene.notes})

    def test_files_that_say_nothing_of_a_site_stand_as_their_numbers_say_and_are_told(self) -> None:
        """One of them 400 km from the other: which frame is meant is for a person."""
        files = {}
        for name, east in (("near.glb", 0.0), ("far.glb", 400_000.0)):
            one = trimesh.Scene()
            for k in range(3):
                place = trimesh.transformations.translation_matrix((east + 5 * k, 0, 0))
                one.add_geometry(trimesh.creation.box((1, 1, 1)), node_name=f"{name} {k}", transform=place)
            files[name] = bytes(one.export(file_type="glb"))
        scene = self.merged(files)
        self.assertIn(("guess", "import.site"), {(n.kind, n.code) for n in scene.notes})
        found = {
            scene.nodes.names[i]: b.mean(axis=0)
            for i, b in zip(scene.nodes.parts.tolist(), scene.part_bounds, strict=True)
        }
        np.testing.assert_allclose(found["far.glb 1"] - found["near.glb 0"], (400_005, 0, 0), atol=1e-6)
        finding = next(f for f in survey(scene, BUILT_IN[0]) if f.code == "origin.apart")
        self.assertIn("all of “far.glb”", finding.text)
        self.assertEqual({scene.nodes.names[i] for i in finding.parts}, {f"far.glb {k}" for k in range(3)})
        self.assertIsNone(finding.mend)


if __name__ == "__main__":
    unittest.main()
