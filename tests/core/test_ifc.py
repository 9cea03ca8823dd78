"""IFC: models authored with ifcopenshell's own calls, compared with what was put in."""

from __future__ import annotations

import unittest
from typing import Any

import ifcopenshell.api.aggregate as aggregate
import ifcopenshell.api.context as context
import ifcopenshell.api.feature as feature
import ifcopenshell.api.geometry as geometry
import ifcopenshell.api.owner.settings as owner
import ifcopenshell.api.project as project
import ifcopenshell.api.pset as pset
import ifcopenshell.api.root as root
import ifcopenshell.api.spatial as spatial
import ifcopenshell.api.style as style
import ifcopenshell.api.type as types
import ifcopenshell.api.unit as unit
import numpy as np

from tidy_caravan.core.errors import Cancelled, UnusableInput
from tidy_caravan.core.figures import bounds_metres
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.formats.ifc.native import scene as ifc_scene
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.make_shapes import MakeShapes
from tidy_caravan.core.work.isolation import nursery

SIZE = (5.0, 0.2, 3.0)


class Model:
    """A building with storeys under construction; lengths in metres, whatever the file's unit."""

    def __init__(self, version: str = "IFC4", length: str = "MILLIMETERS") -> None:
        self.f: Any = project.create_file(version=version)
        if version == "IFC2X3":
            person = self.f.createIfcPerson(None, "author")
            organization = self.f.createIfcOrganization(None, "us")
            self.user = self.f.createIfcPersonAndOrganization(person, organization)
            self.tool = self.f.createIfcApplication(organization, "1", "test", "test")
            owner.get_user = lambda ifc: next(iter(ifc.by_type("IfcPersonAndOrganization")), None)
            owner.get_application = lambda ifc: next(iter(ifc.by_type("IfcApplication")), None)
        self.project = root.create_entity(self.f, ifc_class="IfcProject", name="Landing")
        unit.assign_unit(self.f, length={"is_metric": True, "raw": length})
        model = context.add_context(self.f, context_type="Model")
        self.body = context.add_context(
            self.f, context_type="Model", context_identifier="Body", target_view="MODEL_VIEW", parent=model
        )
        self.site = root.create_entity(self.f, ifc_class="IfcSite", name="Shore")
        self.building = root.create_entity(self.f, ifc_class="IfcBuilding", name="Hall")
        aggregate.assign_object(self.f, products=[self.site], relating_object=self.project)
        aggregate.assign_object(self.f, products=[self.building], relating_object=self.site)

    def storey(self, name: str, z: float) -> Any:
        made = root.create_entity(self.f, ifc_class="IfcBuildingStorey", name=name)
        aggregate.assign_object(self.f, products=[made], relating_object=self.building)
        geometry.edit_object_placement(self.f, product=made, matrix=at(0, 0, z))
        return made

    def block(self, x: float = SIZE[0], y: float = SIZE[1], z: float = SIZE[2]) -> Any:
        return geometry.add_wall_representation(self.f, context=self.body, length=x, height=z, thickness=y)

    def element(
        self, name: str, storey: Any, matrix: Any, shape: Any = None, kind: str = "IfcWall", of: Any = None
    ) -> Any:
        made = root.create_entity(self.f, ifc_class=kind, name=name)
        if of is not None:
            types.assign_type(self.f, related_objects=[made], relating_type=of)
        elif shape is not None:
            geometry.assign_representation(self.f, product=made, representation=shape)
        geometry.edit_object_placement(self.f, product=made, matrix=matrix)
        if storey is not None:
            spatial.assign_container(self.f, products=[made], relating_structure=storey)
        return made

    def bytes(self) -> bytes:
        return str(self.f.to_string()).encode()

    def read(self) -> Scene:
        return load(bundle_from_files({"hall.ifc": self.bytes()}))


def at(x: float, y: float, z: float, turn: float = 0.0) -> Any:
    c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    return np.array([[c, -s, 0, x], [s, c, 0, y], [0, 0, 1, z], [0, 0, 0, 1]], np.float64)


class Reading(unittest.TestCase):
    def test_every_schema_gives_metres_the_spatial_tree_and_the_right_places(self) -> None:
        for version in ("IFC2X3", "IFC4", "IFC4X3"):
            for length in ("MILLIMETERS", "METERS"):
                with self.subTest(version=version, length=length):
                    m = Model(version, length)
                    storey = m.storey("Level 1", 3.5)
                    m.element("wall", storey, at(2, 7, 3.5, 90), m.block())
                    scene = m.read()
                    self.assertEqual((scene.convention.metres_per_unit, scene.convention.up), (1.0, "Z"))
                    (part,) = scene.nodes.parts.tolist()
                    self.assertEqual(scene.nodes.paths[part], "Landing/Shore/Hall/Level 1/wall")
                    np.testing.assert_allclose(scene.nodes.world[part], at(2, 7, 3.5, 90), atol=1e-9)
                    box = bounds_metres(scene)
                    np.testing.assert_allclose(box[1] - box[0], (0.2, 5.0, 3.0), atol=1e-6)
                    storey_node = scene.nodes.names.index("Level 1")
                    np.testing.assert_allclose(scene.nodes.world[storey_node][:3, 3], (0, 0, 3.5), atol=1e-9)

    def test_mapped_representations_are_one_mesh_however_many_places(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        door = root.create_entity(m.f, ifc_class="IfcDoorType", name="D-01")
        geometry.assign_representation(m.f, product=door, representation=m.block(0.9, 0.05, 2.1))
        for i in range(20):
            m.element(f"door {i}", storey, at(1.5 * i, 0, 0, 15.0 * i), kind="IfcDoor", of=door)
        scene = m.read()
        self.assertEqual((len(scene.nodes.parts), len(scene.meshes)), (20, 1))
        for i, part in enumerate(scene.nodes.parts.tolist()):
            np.testing.assert_allclose(scene.nodes.world[part], at(1.5 * i, 0, 0, 15.0 * i), atol=1e-9)
        self.assertEqual(scene.meshes[0].name, "D-01")

    def test_openings_are_cut_and_stay_behind(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        wall = m.element("wall", storey, at(0, 0, 0), m.block())
        opening = root.create_entity(m.f, ifc_class="IfcOpeningElement", name="hole")
        geometry.assign_representation(m.f, product=opening, representation=m.block(1.0, 0.6, 2.0))
        geometry.edit_object_placement(m.f, product=opening, matrix=at(2, -0.2, 0.5))
        feature.add_feature(m.f, feature=opening, element=wall)
        scene = m.read()
        self.assertEqual([scene.nodes.names[i] for i in scene.nodes.parts], ["wall"])
        mesh = scene.meshes[0]
        p = mesh.positions.astype(np.float64)[mesh.indices]
        volume = np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum() / 6
        self.assertAlmostEqual(volume, 5 * 0.2 * 3 - 1 * 0.2 * 2, places=5)
        self.assertIn("IfcOpeningElement", {t.kind for t in scene.travel if t.verdict == "behind"})

    def test_styles_properties_and_layers(self) -> None:
        m = Model()
        storey = m.storey("Gallery", 3.0)
        shape = m.block()
        made = style.add_style(m.f, name="Oak")
        style.add_surface_style(
            m.f, style=made, ifc_class="IfcSurfaceStyleShading",
            attributes={"SurfaceColour": {"Name": None, "Red": 1.0, "Green": 0.5, "Blue": 0.0}, "Transparency": 0.25},
        )  # fmt: skip
        style.assign_representation_styles(m.f, shape_representation=shape, styles=[made])
        door = m.element("door", storey, at(0, 0, 3), shape, kind="IfcDoor")
        door.OverallHeight, door.OverallWidth = 2100.0, 900.0
        values = pset.add_pset(m.f, product=door, name="Pset_DoorCommon")
        pset.edit_pset(m.f, pset=values, properties={"FireRating": "EI30", "IsExternal": True, "Reference": "D"})
        scene = m.read()
        (part,) = scene.nodes.parts.tolist()
        material = scene.materials[scene.meshes[0].slots[0]]
        self.assertEqual((material.name, material.alpha_mode), ("Oak", "BLEND"))
        np.testing.assert_allclose(material.base_color, (1, 0.21404114, 0, 0.75), atol=1e-5)
        data = scene.nodes.extras[part]["ifc"]
        self.assertEqual(data["class"], "IfcDoor")
        self.assertEqual(data["id"], door.GlobalId)
        self.assertEqual((data["height"], data["width"], data["storey"]), (2.1, 0.9, "Gallery"))
        self.assertEqual((data["fireRating"], data["isExternal"]), ("EI30", True))
        self.assertEqual(scene.layers, ("Gallery",), "storeys are the layers where the file has none")
        layer = m.f.createIfcPresentationLayerAssignment("A-DOOR", None, [shape], None)
        self.assertEqual(layer.Name, "A-DOOR")
        self.assertEqual(m.read().layers, ("A-DOOR",))

    def test_far_models_are_recentred_and_say_by_how_much(self) -> None:
        m = Model(length="METERS")
        storey = m.storey("Ground", 0)
        for i in range(3):
            m.element(f"wall {i}", storey, at(452_310.25 + i, 5_411_020.5, 12), m.block())
        scene = m.read()
        box = bounds_metres(scene)
        self.assertLess(float(np.abs(box).max()), 100.0)
        offset = scene.extras["extras"]["georeference"]["offsetMetres"]
        world = scene.nodes.world[scene.nodes.parts][:, :3, 3] + offset
        np.testing.assert_allclose(world, [(452_310.25 + i, 5_411_020.5, 12) for i in range(3)], atol=1e-6)
        self.assertIn("import.recentred", {n.code for n in scene.notes})

    def test_elements_outside_the_tree_are_not_lost(self) -> None:
        m = Model()
        m.storey("Ground", 0)
        m.element("stray", None, at(1, 0, 0), m.block())
        scene = m.read()
        self.assertEqual([scene.nodes.paths[i] for i in scene.nodes.parts], ["not in the spatial tree/stray"])


class Round(unittest.TestCase):
    """Circles pushed along a line keep their parameters."""

    def column(self, m: Model, **profile: Any) -> Any:
        kind = "IfcCircleHollowProfileDef" if "WallThickness" in profile else "IfcCircleProfileDef"
        made = m.f.create_entity(kind, ProfileType="AREA", **profile)
        return geometry.add_profile_representation(m.f, context=m.body, profile=made, depth=3.0)

    def test_columns_and_pipes_are_recipes_with_the_volume_of_their_formula(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        kind = root.create_entity(m.f, ifc_class="IfcColumnType", name="C-01")
        geometry.assign_representation(m.f, product=kind, representation=self.column(m, Radius=200.0))
        for i in range(4):
            m.element(f"column {i}", storey, at(2.0 * i, 0, 0, 20.0 * i), kind="IfcColumn", of=kind)
        pipe = self.column(m, Radius=100.0, WallThickness=10.0)
        m.element("pipe", storey, at(0, 5, 0), pipe, kind="IfcColumn")
        scene = m.read()
        self.assertEqual((len(scene.nodes.parts), len(scene.meshes)), (5, 2))
        known = (np.pi * 0.04 * 3, np.pi * (0.01 - 0.0081) * 3)
        for mesh, volume in zip(scene.meshes, known, strict=True):
            assert mesh.recipe is not None
            self.assertEqual(mesh.recipe.kind, "extrusion")
            p = mesh.positions.astype(np.float64)[mesh.indices]
            got = np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum() / 6
            self.assertAlmostEqual(got / volume, 1.0, delta=0.03)
        out, _ = MakeShapes(segments=12).apply(scene, StepContext())
        self.assertEqual({m.triangles for m in out.meshes}, {12 * 2 + 10 * 2, 12 * 4 + 12 * 4})

    def test_one_with_an_opening_is_left_to_the_library(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        element = m.element("holed", storey, at(0, 0, 0), self.column(m, Radius=300.0), kind="IfcColumn")
        opening = root.create_entity(m.f, ifc_class="IfcOpeningElement", name="hole")
        geometry.assign_representation(m.f, product=opening, representation=m.block(1.0, 0.1, 1.0))
        geometry.edit_object_placement(m.f, product=opening, matrix=at(-0.5, -0.05, 1.0))
        feature.add_feature(m.f, feature=opening, element=element)
        scene = m.read()
        self.assertIsNone(scene.meshes[0].recipe)
        mesh = scene.meshes[0]
        p = mesh.positions.astype(np.float64)[mesh.indices]
        volume = np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum() / 6
        self.assertLess(volume, np.pi * 0.09 * 3 - 0.05)


class Trouble(unittest.TestCase):
    def model(self) -> Model:
        m = Model()
        storey = m.storey("Ground", 0)
        m.element("good", storey, at(0, 0, 0), m.block())
        return m

    def test_elements_with_broken_geometry_are_findings_and_the_rest_loads(self) -> None:
        m = self.model()
        storey = m.f.by_type("IfcBuildingStorey")[0]
        empty = m.f.createIfcShapeRepresentation(
            m.body, "Body", "Brep", [m.f.createIfcFacetedBrep(m.f.createIfcClosedShell([]))]
        )
        m.element("empty", storey, at(5, 0, 0), empty)
        points = [m.f.createIfcCartesianPoint((0.0, 0.0, 0.0)) for _ in range(3)]
        face = m.f.createIfcFace([m.f.createIfcFaceOuterBound(m.f.createIfcPolyLoop(points), True)])
        flat = m.f.createIfcShapeRepresentation(
            m.body, "Body", "Brep", [m.f.createIfcFacetedBrep(m.f.createIfcClosedShell([face]))]
        )
        m.element("flat", storey, at(6, 0, 0), flat)
        scene = m.read()
        self.assertEqual([scene.nodes.names[i] for i in scene.nodes.parts], ["good"])
        told = [n for n in scene.notes if n.code == "import.element"]
        self.assertEqual(len(told), 2)
        self.assertIn("empty", scene.nodes.names, "the element stays in the tree")

    def test_an_element_that_kills_the_library_costs_itself_only(self) -> None:
        m = self.model()
        storey = m.f.by_type("IfcBuildingStorey")[0]
        killer = m.element("killer", storey, at(5, 0, 0), m.block())
        m.element("after", storey, at(9, 0, 0), m.block())
        import os

        os.environ["CARAVAN_TEST_KILL"] = killer.GlobalId
        self.addCleanup(os.environ.pop, "CARAVAN_TEST_KILL", None)
        nursery().close()  # children have the environment that it was started with
        from unittest import mock

        import tidy_caravan.core.formats.ifc.read as reader

        with mock.patch.object(reader, "JOB", "tests.core.test_ifc:load_and_die"):
            scene = m.read()
        self.assertEqual(sorted(scene.nodes.names[i] for i in scene.nodes.parts), ["after", "good"])
        told = [n for n in scene.notes if n.code == "import.element"]
        self.assertEqual([n.where for n in told], [killer.GlobalId])

    def test_cancel_stops_it(self) -> None:
        bundle = bundle_from_files({"hall.ifc": self.model().bytes()})

        def stop(*_: object) -> None:
            raise Cancelled("stopped by the user")

        object.__setattr__(bundle, "tell", stop)
        with self.assertRaises(Cancelled):
            load(bundle)

    def test_what_is_no_model_is_one_sentence(self) -> None:
        whole = self.model().bytes()
        for data in (
            whole[: len(whole) // 2],
            b"ISO-10303-21;\nHEADER;\nENDSEC;\nEND-ISO-10303-21;",
            whole.replace(b"FILE_SCHEMA(('IFC4'))", b"FILE_SCHEMA(('AUTOMOTIVE_DESIGN'))"),
            b"ISO-10303-21;" + bytes(range(256)) * 4,
        ):
            with self.subTest(data[:40]), self.assertRaises(UnusableInput) as caught:
                load(bundle_from_files({"hall.ifc": data}))
            self.assertTrue(caught.exception.sentence().startswith("hall.ifc: "))


def load_and_die(path: str, most_nodes: int, skip: tuple[str, ...], careful: bool) -> Any:
    """The real job in a library that dies on one element, as native code does."""
    import os

    import ifcopenshell.geom

    target = os.environ["CARAVAN_TEST_KILL"]
    real_shape, real_iterator = ifcopenshell.geom.create_shape, ifcopenshell.geom.iterator

    def shape(settings: Any, product: Any, *more: Any) -> Any:
        if product.GlobalId == target:
            os.abort()
        return real_shape(settings, product, *more)

    def iterator(settings: Any, file: Any, threads: int, include: Any = None, exclude: Any = None) -> Any:
        if any(p.GlobalId == target for p in include):
            os.abort()
        return real_iterator(settings, file, threads, include=include)

    ifcopenshell.geom.create_shape, ifcopenshell.geom.iterator = shape, iterator
    return ifc_scene.load(path, most_nodes, skip, careful)


if __name__ == "__main__":
    unittest.main()
