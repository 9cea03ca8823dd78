"""IFC: models authored with ifcopenshell's own calls, compared with what was put in."""

from __future__ import annotations

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from unittest import mock

import ifcopenshell.api.aggregate as aggregate
import ifcopenshell.api.context as context
import ifcopenshell.api.feature as feature
import ifcopenshell.api.geometry as geometry
import ifcopenshell.api.group as group
import ifcopenshell.api.owner.settings as owner
import ifcopenshell.api.project as project
import ifcopenshell.api.pset as pset
import ifcopenshell.api.root as root
import ifcopenshell.api.spatial as spatial
import ifcopenshell.api.style as style
import ifcopenshell.api.type as types
import ifcopenshell.api.unit as unit
import numpy as np

from tests.support import PNG, sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import Cancelled, UnusableInput
from tidy_caravan.core.figures import bounds_metres
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.formats.ifc.native import scene as ifc_scene
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.make_shapes import MakeShapes
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work.isolation import nursery

SIZE = (5.0, 0.2, 3.0)
CORNERS = [(x, y, z) for x in (0.0, 900.0) for y in (0.0, 900.0) for z in (0.0, 900.0)]
CUBE = [(0, 1, 3), (0, 3, 2), (4, 6, 7), (4, 7, 5), (0, 4, 5), (0, 5, 1), (2, 3, 7), (2, 7, 6), (0, 2, 6), (0, 6, 4),
        (1, 5, 7), (1, 7, 3)]  # fmt: skip


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

    def faces(self, corners: Any = CORNERS, triangles: Any = CUBE) -> Any:
        """Triangles in the file's unit."""
        points = self.f.createIfcCartesianPointList3D(corners)
        numbers = [tuple(i + 1 for i in t) for t in triangles]
        return self.f.createIfcTriangulatedFaceSet(points, None, None, numbers, None)

    def nothing(self) -> Any:
        """A solid that cannot be made: its profile has no size."""
        flat = self.f.createIfcRectangleProfileDef("AREA", None, None, 0.0, 0.0)
        corner = self.f.createIfcAxis2Placement3D(self.f.createIfcCartesianPoint((0.0, 0.0, 0.0)), None, None)
        return self.f.createIfcExtrudedAreaSolid(flat, corner, self.f.createIfcDirection((0.0, 0.0, 1.0)), 900.0)

    def shape(self, *items: Any) -> Any:
        return self.f.createIfcShapeRepresentation(self.body, "Body", "Tessellation", list(items))

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


class Shown(unittest.TestCase):
    def test_layers_that_are_off_hide_what_is_on_them(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        rows = {name: m.block() for name in ("off", "frozen", "on", "unknown")}
        for k, (name, shape) in enumerate(rows.items()):
            m.element(name, storey, at(6 * k, 0, 0), shape)
            on, frozen = {"off": (False, False), "frozen": (True, True), "on": (True, False)}.get(name, (None, None))
            if on is not None:
                m.f.createIfcPresentationLayerWithStyle(name, None, [shape], None, on, frozen, False, [])
        scene = m.read()
        hidden = {scene.nodes.names[i]: bool(scene.nodes.flags[i] & HIDDEN) for i in scene.nodes.parts}
        self.assertEqual(hidden, {"off": True, "frozen": True, "on": False, "unknown": False})

    def test_highlights_are_roughness(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        color = m.f.createIfcColourRgb(None, 0.5, 0.2, 0.1)
        for name, kind, value in (
            ("a", "IfcSpecularRoughness", 0.3),
            ("b", "IfcSpecularExponent", 6.0),
            ("c", "", 0.0),
        ):
            shine = m.f.create_entity(kind, value) if kind else None
            look = m.f.createIfcSurfaceStyleRendering(color, 0.0, None, None, None, None, None, shine, "BLINN")
            box = m.faces()
            m.f.createIfcStyledItem(box, [m.f.createIfcSurfaceStyle(name, "BOTH", [look])], None)
            m.element(name, storey, at(0, 0, 0), m.shape(box), "IfcFurniture")
        self.assertEqual({x.name: x.roughness for x in m.read().materials}, {"a": 0.3, "b": 0.5, "c": 0.8})

    def test_where_an_older_file_lies_is_read_from_its_property_sets(self) -> None:
        m = Model("IFC2X3")
        m.element("wall", m.storey("Ground", 0), at(0, 0, 0), m.block())
        values = {
            "Eastings": 512000.0,
            "Northings": 4000.5,
            "OrthogonalHeight": 3.0,
            "XAxisAbscissa": 0.8,
            "XAxisOrdinate": 0.6,
        }
        pset.edit_pset(m.f, pset=pset.add_pset(m.f, product=m.project, name="ePSet_MapConversion"), properties=values)
        name = {"Name": "EPSG:25832", "MapUnit": "METRE"}
        pset.edit_pset(m.f, pset=pset.add_pset(m.f, product=m.project, name="ePSet_ProjectedCRS"), properties=name)
        geo = m.read().extras["extras"]["georeference"]
        self.assertEqual((geo["eastings"], geo["northings"], geo["height"]), (512000.0, 4000.5, 3.0))
        self.assertEqual((geo["xAxisAbscissa"], geo["xAxisOrdinate"], geo["system"]), (0.8, 0.6, "EPSG:25832"))
        self.assertEqual(geo["metresPerMapUnit"], 1.0)


class Dressed(unittest.TestCase):
    """What the geometry library leaves out of face sets."""

    def sheet(self, m: Model, repeat: bool = True, image: Any = None) -> Any:
        """A sheet of two triangles in the plane of X and Y, its image a quarter along and upright."""
        sheet = m.faces(
            [(0.0, 0.0, 0.0), (2000.0, 0.0, 0.0), (2000.0, 1000.0, 0.0), (0.0, 1000.0, 0.0)], [(0, 1, 2), (0, 2, 3)]
        )
        image = image or m.f.createIfcImageTexture(repeat, False, None, None, None, "maps/boards.png")
        places = m.f.createIfcTextureVertexList([(0.25, 0.0), (1.25, 0.0), (1.25, 0.5), (0.25, 0.5)])
        m.f.createIfcIndexedTriangleTextureMap([image], sheet, places, [(1, 2, 3), (1, 3, 4)])
        look = m.f.createIfcSurfaceStyleRendering(m.f.createIfcColourRgb(None, 0.5, 0.2, 0.1), 0.25)
        style = m.f.createIfcSurfaceStyle("boards", "BOTH", [look, m.f.createIfcSurfaceStyleWithTextures([image])])
        m.f.createIfcStyledItem(sheet, [style], None)
        return sheet

    def test_images_come_with_their_coordinates(self) -> None:
        m = Model()
        m.element("sign", m.storey("Ground", 3.0), at(1, 0, 0), m.shape(self.sheet(m)), "IfcFurniture")
        scene = load(bundle_from_files({"hall.ifc": m.bytes(), "maps/boards.png": PNG}))
        (mesh,), (material,), (image,) = scene.meshes, scene.materials, scene.images
        self.assertEqual((image.data, image.mime), (PNG, "image/png"))
        # an image says its own colour; how clear it is is the style's
        self.assertEqual((material.name, material.base_color), ("boards", (1.0, 1.0, 1.0, 0.75)))
        assert material.base_color_texture is not None
        sampler = scene.textures[material.base_color_texture.texture].sampler
        assert sampler is not None
        self.assertEqual((sampler.wrap_s, sampler.wrap_t), (10497, 33071))
        # half a repeat a metre, from a quarter on; t runs up from the foot of the image, v down from its top
        x, y, _ = mesh.positions.astype(np.float64).T
        np.testing.assert_allclose(mesh.uvs[0], np.column_stack([0.25 + x / 2, 1.0 - y / 2]), atol=1e-6)
        self.assertEqual([t for t in scene.travel if t.verdict == "behind"], [])
        with TemporaryDirectory() as folder:
            package, result = sent(scene, "s", "0" * 64, BUILT_IN[0], Route(), "glb")
            save(package.files, Path(folder))
            self.assertTrue(prove(Path(folder), scene, result)[0].ok)
        missing = load(bundle_from_files({"hall.ifc": m.bytes()}))
        self.assertEqual([n.code for n in missing.notes], ["texture.missing"])
        self.assertEqual([(t.kind, t.count) for t in missing.travel if t.verdict == "behind"], [("images", 1)])

    def test_an_image_may_be_moved_and_may_only_shade_the_colour(self) -> None:
        m = Model()
        move = m.f.createIfcCartesianTransformationOperator2D(
            m.f.createIfcDirection((0.0, 1.0)), m.f.createIfcDirection((-1.0, 0.0)), m.f.createIfcCartesianPoint((0.5, 0.25)), 2.0
        )  # fmt: skip
        image = m.f.createIfcImageTexture(True, True, "MODULATE", move, None, "boards.png")
        m.element("sign", m.storey("Ground", 0), at(0, 0, 0), m.shape(self.sheet(m, image=image)), "IfcFurniture")
        (mesh,), (material,) = (scene := m.read()).meshes, scene.materials
        x, y, _ = mesh.positions.astype(np.float64).T
        s, t = 0.25 + x / 2, y / 2
        # a quarter turn, twice as large, then moved: s goes where t was, and t against s
        np.testing.assert_allclose(mesh.uvs[0], np.column_stack([0.5 - 2 * t, 1.0 - (0.25 + 2 * s)]), atol=1e-6)
        self.assertAlmostEqual(material.base_color[0], 0.2140, 4)

    def test_an_image_within_the_file_comes_too(self) -> None:
        m = Model()
        bits = "".join(f"{byte:08b}" for byte in PNG)
        blob = m.f.createIfcBlobTexture(True, True, None, None, None, "PNG", bits)
        m.element("sign", m.storey("Ground", 0), at(0, 0, 0), m.shape(self.sheet(m, image=blob)), "IfcFurniture")
        self.assertEqual([(i.data, i.mime) for i in m.read().images], [(PNG, "image/png")])

    def test_colours_by_triangle_are_materials_and_copies_share_them(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        box = m.faces()
        table = m.f.createIfcColourRgbList([(1.0, 0.0, 0.0), (0.0, 0.5, 0.0)])
        m.f.createIfcIndexedColourMap(box, 0.5, table, [1] * 4 + [2] * 8)
        kind = root.create_entity(m.f, ifc_class="IfcFurnitureType", name="crate")
        geometry.assign_representation(m.f, product=kind, representation=m.shape(box))
        for k in range(3):
            m.element(f"crate {k}", storey, at(2 * k, 0, 0), kind="IfcFurniture", of=kind)
        pole = m.f.createIfcExtrudedAreaSolid(
            m.f.createIfcCircleProfileDef("AREA", None, None, 100.0),
            m.f.createIfcAxis2Placement3D(m.f.createIfcCartesianPoint((0.0, 0.0, 0.0)), None, None),
            m.f.createIfcDirection((0.0, 0.0, 1.0)), 3000.0,
        )  # fmt: skip
        grey = m.f.createIfcSurfaceStyleRendering(m.f.createIfcColourRgb(None, 0.5, 0.5, 0.5), 0.0)
        m.f.createIfcStyledItem(pole, [m.f.createIfcSurfaceStyle("grey", "BOTH", [grey])], None)
        m.element("pole", storey, at(0, 5, 0), m.shape(pole), "IfcColumn")
        scene = m.read()
        crates = [i for i in scene.nodes.parts if scene.nodes.names[i].startswith("crate")]
        self.assertEqual(len(set(scene.nodes.mesh[crates].tolist())), 1)
        mesh = scene.meshes[scene.nodes.mesh[crates[0]]]
        areas: dict[Any, float] = {}
        p = mesh.positions.astype(np.float64)[mesh.indices]
        for area, slot in zip(
            np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1) / 2, mesh.material, strict=True
        ):
            color = tuple(round(c, 4) for c in scene.materials[slot].base_color)
            areas[color] = areas.get(color, 0.0) + float(area)
        # 0.5 in sRGB is 0.2140 in light (IEC 61966-2-1); two sides of a box of 0.9 m are red
        self.assertEqual(
            {k: round(v, 3) for k, v in areas.items()}, {(1.0, 0.0, 0.0, 0.5): 1.62, (0.0, 0.214, 0.0, 0.5): 3.24}
        )
        pole_mesh = next(x for x in scene.meshes if x.recipe is not None)
        assert pole_mesh.recipe is not None
        self.assertEqual(scene.materials[pole_mesh.recipe.values["material"]].name, "grey")
        self.assertEqual(len(scene.materials), 3)
        self.assertEqual([f.code for f in survey(scene, BUILT_IN[0]) if f.code.startswith("material.")], [])

    def test_what_cannot_be_had_is_told_and_the_body_is_the_librarys(self) -> None:
        m = Model()
        storey = m.storey("Ground", 0)
        box = m.faces()
        m.f.createIfcIndexedColourMap(box, None, m.f.createIfcColourRgbList([(1.0, 0.0, 0.0)]), [1] * 11 + [9])
        m.element("crate", storey, at(0, 0, 0), m.shape(box), "IfcFurniture")
        scene = m.read()
        self.assertEqual(scene.meshes[0].triangles, 12)
        self.assertEqual(
            [(t.kind, t.count) for t in scene.travel if t.verdict == "behind"], [("colours by triangle", 1)]
        )


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

    def test_an_element_that_comes_without_one_of_its_pieces_says_so(self) -> None:
        m = self.model()
        storey = m.f.by_type("IfcBuildingStorey")[0]
        broken = m.nothing()
        wrong = m.faces(CORNERS, [*CUBE, (0, 1, 99)])
        for name, items in (
            ("half", [m.faces(), broken]),
            ("other", [m.faces(), wrong]),
            ("whole", [m.faces(), m.faces()]),
        ):
            m.element(name, storey, at(5, 0, 0), m.shape(*items), "IfcFurniture")
        axis = m.f.createIfcShapeRepresentation(m.body, "Axis", "SolidModel", [broken])
        whole = next(e for e in m.f.by_type("IfcFurniture") if e.Name == "whole")
        whole.Representation.Representations = [*whole.Representation.Representations, axis]
        told = [n.text for n in m.read().notes if n.code == "import.element"]
        self.assertEqual(len(told), 2, told)
        self.assertTrue("“half”" in told[0] and "IfcExtrudedAreaSolid" in told[0], told)
        self.assertTrue("“other”" in told[1] and "IfcTriangulatedFaceSet" in told[1], told)

    def test_an_opening_that_cuts_nothing_is_told_and_one_that_cuts_is_not(self) -> None:
        for heights, told in (((1.0,), []), ((9.0,), ["guess"]), ((1.0, 9.0), ["guess"]), ((None,), ["damaged"]),
                              ((1.0, None), ["damaged"])):  # fmt: skip
            m = Model()
            wall = m.element("north wall", m.storey("Ground", 0), at(0, 0, 0), m.block())
            for z in heights:
                opening = root.create_entity(m.f, ifc_class="IfcOpeningElement", name="hole")
                shape = m.block(1.0, 1.0, 1.0) if z is not None else m.shape(m.nothing())
                geometry.assign_representation(m.f, product=opening, representation=shape)
                feature.add_feature(m.f, feature=opening, element=wall)
                geometry.edit_object_placement(m.f, product=opening, matrix=at(2, -0.5, z or 1.0))
            scene = m.read()
            with self.subTest(heights):
                self.assertEqual([n.kind for n in scene.notes if n.code == "import.opening"], told)
                self.assertTrue(all("“north wall”" in n.text for n in scene.notes), scene.notes)
                self.assertEqual(scene.meshes[0].triangles > 12, 1.0 in heights)

    def test_what_becomes_no_part_of_the_scene_is_named(self) -> None:
        m = self.model()
        storey, wall = m.f.by_type("IfcBuildingStorey")[0], m.f.by_type("IfcWall")[0]
        self.assertEqual([t for t in m.read().travel if t.verdict == "behind"], [])
        box = m.faces()
        image = m.f.createIfcImageTexture(True, True, None, None, None, "boards.png")
        m.f.createIfcIndexedTriangleTextureMap([image], box, m.f.createIfcTextureVertexList([(0.0, 0.0)]), None)
        m.f.createIfcIndexedColourMap(box, None, m.f.createIfcColourRgbList([(1.0, 0.0, 0.0)]), [1] * 12)
        post = m.element("post", storey, at(3, 0, 0), m.shape(box), "IfcFurniture")
        point = m.f.createIfcCartesianPoint((0.0, 0.0, 0.0))
        white = m.f.createIfcColourRgb(None, 1.0, 1.0, 1.0)
        lamp = m.f.createIfcLightSourcePositional("lamp", white, 0.0, 1.0, point, 1.0, 1.0, 0.0, 0.0)
        shine = m.f.createIfcShapeRepresentation(m.body, "Lighting", "LightSource", [lamp])
        post.Representation.Representations = [*post.Representation.Representations, shine]
        bench = root.create_entity(m.f, ifc_class="IfcFurnitureType", name="bench")
        geometry.assign_representation(m.f, product=bench, representation=m.shape(m.faces()))
        zone = root.create_entity(m.f, ifc_class="IfcSpatialZone", name="fire zone")
        geometry.assign_representation(m.f, product=zone, representation=m.block())
        aggregate.assign_object(m.f, products=[zone], relating_object=m.building)
        group.assign_group(m.f, products=[wall], group=group.add_group(m.f, name="north"))
        scene = m.read()
        behind = {t.kind: t.count for t in scene.travel if t.verdict == "behind"}
        for kind in (
            "textures",
            "colours by triangle",
            "lamps",
            "types that nothing is of",
            "IfcSpatialZone",
            "IfcGroup",
        ):
            self.assertEqual(behind.pop(kind, 0), 1, kind)
        self.assertEqual(behind, {})
        self.assertEqual(sorted(scene.nodes.names[i] for i in scene.nodes.parts), ["good", "post"])
        self.assertEqual(scene.notes, ())
        m.f.by_type("IfcGeometricRepresentationContext")[0].WorldCoordinateSystem = m.f.createIfcAxis2Placement3D(
            m.f.createIfcCartesianPoint((2000.0, 0.0, 0.0)), None, None
        )
        self.assertEqual([n.code for n in m.read().notes], ["import.system"])

    def test_a_library_of_types_is_no_empty_scene_without_a_word(self) -> None:
        m = Model()
        bench = root.create_entity(m.f, ifc_class="IfcFurnitureType", name="bench")
        geometry.assign_representation(m.f, product=bench, representation=m.shape(m.faces()))
        (note,) = m.read().notes
        self.assertEqual(note.code, "import.types")
        self.assertIn("“bench”", note.text)

    def test_an_element_that_kills_the_library_costs_itself_only(self) -> None:
        m = self.model()
        storey = m.f.by_type("IfcBuildingStorey")[0]
        killer = m.element("killer", storey, at(5, 0, 0), m.block())
        m.element("after", storey, at(9, 0, 0), m.block())
        import os

        os.environ["CARAVAN_TEST_KILL"] = killer.GlobalId
        self.addCleanup(os.environ.pop, "CARAVAN_TEST_KILL", None)
        nursery().close()  # children have the environment that it was started with
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
        # what is read sooner than that is not asked whether to go on
        with mock.patch("tidy_caravan.core.formats.shared.pace.PATIENCE", 0.001), self.assertRaises(Cancelled):
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
