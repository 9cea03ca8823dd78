"""An IFC model into a scene, through ifcopenshell. Runs in a child process.

The spatial tree is the tree; elements that map one representation share its mesh; openings are cut by the
library; what fails is reported element by element.
"""

from __future__ import annotations

import math
import multiprocessing
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import ifcopenshell
import ifcopenshell.geom
import ifcopenshell.util.element as elements
import ifcopenshell.util.placement as placements
import ifcopenshell.util.unit as units
import numpy as np
from ifcopenshell.ifcopenshell_wrapper import set_log_format_json

from tidy_caravan.core.formats.ifc.native.data import by_type, data_of, georeference, presentation_layers, switched_off
from tidy_caravan.core.formats.ifc.native.doubts import doubts_of
from tidy_caravan.core.formats.ifc.native.face_sets import CREASE_DEG, Looks, dressed, only_used
from tidy_caravan.core.formats.ifc.native.left import name_what_stays, not_drawn
from tidy_caravan.core.formats.ifc.native.round import TOLERANCE_M, round_extrusion
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.geometry.corners import corner_mesh
from tidy_caravan.core.geometry.own_origin import rebased
from tidy_caravan.core.geometry.smoothing import corner_normals
from tidy_caravan.core.scene import HIDDEN, Convention, Material, Mesh, Note, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F64, I32, AnyArray, usable_rows
from tidy_caravan.core.space.site import FAR_M
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.nursery import report

MOST_NOTED = 200
ROUGHNESS = 0.8
"""Of a surface whose style says nothing of its highlight."""


@dataclass
class Shape:
    """One product's geometry: key of the shared part, placement in metres."""

    geometry: str
    matrix: F64


@dataclass
class Building:
    """State of one import."""

    file: Any
    most_nodes: int
    skip: frozenset[str]
    careful: bool
    scale: float = 1.0
    notes: list[Note] = field(default_factory=list)
    travels: Travels = field(default_factory=Travels)
    meshes: dict[str, Mesh | None] = field(default_factory=dict)
    shapes: dict[int, Shape] = field(default_factory=dict)
    shift: dict[str, F64] = field(default_factory=dict)
    materials: list[Material] = field(default_factory=list)
    failed: list[tuple[Any, str]] = field(default_factory=list)
    unasked: Counter[str] = field(default_factory=Counter)
    """Properties that do not go on, by the set that they are in."""
    maps: bool = False
    """Whether the file has images or colours on its triangles, which the library leaves out."""
    slots: I32 = field(default_factory=lambda: np.zeros(0, np.int32))
    """The materials of the body that was taken last."""
    looks: Looks = field(default_factory=lambda: Looks([]))
    _slot: dict[tuple[Any, ...], int] = field(default_factory=dict)

    def drawn(self) -> list[Any]:
        """Products with a body that is to be shown."""
        hidden = not_drawn(self.file)
        return [
            p for p in by_type(self.file, "IfcProduct")
            if p.id() not in hidden and getattr(p, "Representation", None) is not None and p.GlobalId not in self.skip
        ]  # fmt: skip

    def settings(self) -> Any:
        out = ifcopenshell.geom.settings()
        out.set("mesher-linear-deflection", TOLERANCE_M)
        out.set("weld-vertices", True)
        return out

    def tessellate(self) -> None:
        """All geometry at once; in the careful way one element at a time, each announced before it is begun."""
        products = self.drawn()
        done: set[int] = set()
        if products and not self.careful:
            threads = max(1, multiprocessing.cpu_count())
            walker = ifcopenshell.geom.iterator(self.settings(), self.file, threads, include=products)
            if walker.initialize():
                while True:
                    shape = walker.get()
                    done.add(shape.id)
                    self.take(shape)
                    report("tessellating", len(done), len(products))
                    if not walker.next():
                        break
        for k, product in enumerate(products):
            if product.id() in done:
                continue
            if not surfaces_in(product):
                self.travels.behind(f"{product.is_a()} without a surface", 1, "only lines or points represent it")
                continue
            if self.careful:
                report("element", product.GlobalId, 0)
                report("tessellating", k, len(products))
            try:
                self.take(ifcopenshell.geom.create_shape(self.settings(), product))
            except (RuntimeError, ValueError) as error:
                self.failed.append((product, " ".join(str(error).split())[:120]))

    def take(self, shape: Any) -> None:
        geometry = shape.geometry
        key = str(geometry.id)
        placed = np.frombuffer(shape.transformation_buffer, np.float64).reshape(4, 4).T.copy()
        if key not in self.meshes:
            product, made = self.file.by_id(shape.id), self.mesh(geometry, key, shape)
            shift = self.shift.get(key)
            again = (
                dressed(product, made, self.of_items(geometry), self.scale, shift, self.looks) if self.maps else None
            )
            self.meshes[key] = again or round_extrusion(product, made, self.scale, shift) or made
        if self.meshes[key] is None:
            self.failed.append((self.file.by_id(shape.id), "its geometry has no usable face"))
            return
        if key in self.shift:
            placed[:3, 3] += placed[:3, :3] @ self.shift[key]
        self.shapes[shape.id] = Shape(key, placed)

    def of_items(self, geometry: Any) -> dict[int, int]:
        """The material of each item of the body that was taken last."""
        items, which = np.asarray(geometry.item_ids, np.int64), np.asarray(geometry.material_ids, np.int64)
        if len(items) != len(which):
            return {}
        each, first = np.unique(items, return_index=True)
        return {int(i): int(self.slots[w]) for i, w in zip(each, which[first], strict=True) if 0 <= w < len(self.slots)}

    def mesh(self, geometry: Any, key: str, shape: Any) -> Mesh | None:
        points: F64 = np.frombuffer(geometry.verts_buffer, np.float64).reshape(-1, 3).copy()
        faces: AnyArray = np.frombuffer(geometry.faces_buffer, np.int32).reshape(-1, 3).astype(np.int64)
        if not len(faces) or not len(points):
            return None
        finite = usable_rows(points)
        points, origin = rebased(points, faces.ravel(), metres=1.0)
        if origin.any():
            self.shift[key] = origin
        self.slots = slots = np.array([self.material(m, shape.type) for m in geometry.materials] or [-1], np.int32)
        which: AnyArray = np.frombuffer(geometry.material_ids_buffer, np.int32)
        per_face = slots[which] if len(which) == len(faces) else np.full(len(faces), slots[0], np.int32)
        usable = finite[faces].all(axis=1)
        normals = np.zeros((len(faces), 3, 3), np.float32)
        normals[usable] = np.round(corner_normals(points, faces[usable], CREASE_DEG), 6)
        mesh, _ = corner_mesh(
            points,
            faces.ravel(),
            np.full(len(faces), 3, np.int64),
            normals=normals.reshape(-1, 3),
            material=per_face,
            name=self.mesh_name(shape),
        )
        return mesh

    def mesh_name(self, shape: Any) -> str:
        product = self.file.by_id(shape.id)
        kind = elements.get_type(product)
        return str((kind.Name if kind is not None and kind.Name else None) or product.Name or product.is_a()[3:])

    def material(self, style: Any, product: str) -> int:
        color = style.diffuse
        rgb = tuple(round(float(np.clip(np.nan_to_num(c), 0, 1)), 6) for c in (color.r(), color.g(), color.b()))
        clear = float(style.transparency)
        alpha = 1.0 - clear if math.isfinite(clear) and 0 < clear <= 1 else 1.0
        name, roughness = str(style.name), ROUGHNESS
        number = int(style.instance_id())
        if number > 0:
            entity = self.file.by_id(number)
            name = str(getattr(entity, "Name", None) or name)
            roughness = roughness_of(entity)
        else:
            self.travels.converted("elements without a style", 1, "the library's colour for their class")
        key = (name, rgb, alpha, roughness)
        if key not in self._slot:
            self._slot[key] = len(self.materials)
            linear = tuple(c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in rgb)
            self.materials.append(
                Material(
                    name,
                    (linear[0], linear[1], linear[2], alpha),
                    metallic=0.0,
                    roughness=roughness,
                    alpha_mode="BLEND" if alpha < 1 else "OPAQUE",
                )
            )
        return self._slot[key]

    def scene(self) -> Scene:
        self.maps = any(by_type(self.file, k) for k in ("IfcIndexedColourMap", "IfcIndexedTriangleTextureMap"))
        self.looks = Looks(self.materials)
        self.scale = scale = float(units.calculate_unit_scale(self.file))
        self.tessellate()
        names: list[str] = []
        parents: list[int] = []
        worlds: list[F64] = []
        columns: list[int] = []
        flags: list[int] = []
        layers: list[str] = []
        extras: dict[int, Any] = {}
        order: dict[str, int] = {}
        meshes: list[Mesh] = []
        seen: set[int] = set()
        layer_of, off = presentation_layers(self.file), switched_off(self.file)
        by_storey = not layer_of

        def add(entity: Any, parent: int, storey: str) -> int:
            if len(names) >= self.most_nodes:
                raise ValueError(f"more than {self.most_nodes} nodes")
            here = len(names)
            shape = self.shapes.get(entity.id())
            names.append(str(getattr(entity, "Name", None) or entity.is_a()[3:]))
            parents.append(parent)
            worlds.append(
                shape.matrix if shape else world_matrix(entity, scale, worlds[parent] if parent >= 0 else np.eye(4))
            )
            mesh = -1
            if shape is not None and (made := self.meshes[shape.geometry]) is not None:
                mesh = order.setdefault(shape.geometry, len(meshes))
                if mesh == len(meshes):
                    meshes.append(made)
            columns.append(mesh)
            flags.append(HIDDEN if mesh >= 0 and entity.id() in off else 0)
            layers.append(storey if by_storey else layer_of.get(entity.id(), ""))
            extras[here] = {"ifc": data_of(entity, storey, scale, self.unasked)}
            return here

        # depth first, in the order of the file; relations may form cycles in damaged files
        waiting = [(p, -1, "") for p in reversed(by_type(self.file, "IfcProject"))]
        while waiting:
            entity, parent, storey = waiting.pop()
            if entity.id() in seen or entity.is_a() in ("IfcOpeningElement", "IfcOpeningStandardCase"):
                continue
            seen.add(entity.id())
            if entity.is_a("IfcBuildingStorey"):
                storey = str(entity.Name or "storey")
            here = add(entity, parent, storey)
            waiting += [(child, here, storey) for child in reversed(below(entity))]
        loose = [p for p in self.drawn() if p.id() not in seen and p.id() in self.shapes]
        if loose:
            holder = len(names)
            names.append("not in the spatial tree")
            parents.append(-1)
            worlds.append(np.eye(4))
            columns.append(-1)
            flags.append(0)
            layers.append("")
            for product in loose:
                add(product, holder, "")
            self.notes.append(
                Note(
                    "guess",
                    "import.loose",
                    "IfcProduct",
                    f"{plural(len(loose), 'element hangs', 'elements hang')} on no storey, and in a group of {'its' if len(loose) == 1 else 'their'} own.",
                )
            )
        return self.assemble(names, parents, worlds, columns, flags, layers, extras, meshes)

    def assemble(
        self, names: list[str], parents: list[int], worlds: list[F64], columns: list[int], flags: list[int],
        layers: list[str], extras: dict[int, Any], meshes: list[Mesh],
    ) -> Scene:  # fmt: skip
        count = len(names)
        world = np.array(worlds, np.float64).reshape(count, 4, 4)
        drawn = np.array(columns) >= 0
        offset = np.zeros(3)
        if drawn.any():
            middle = np.median(world[drawn, :3, 3], axis=0)
            if np.abs(middle).max() > FAR_M:
                offset = np.rint(middle)
                world[:, :3, 3] -= offset
                # groups that stayed at the map's origin would hang their parts on two huge opposite moves
                stray = ~drawn & (np.abs(world[:, :3, 3]).max(axis=1) > FAR_M)
                world[stray, :3, 3] = 0.0
        parent = np.array(parents, np.int64)
        local = world.copy()
        inner = np.flatnonzero(parent >= 0)
        local[inner] = affine_inverse(world[parent[inner]]) @ world[inner]
        local[:, 3] = (0, 0, 0, 1)
        known = list(dict.fromkeys(x for x in layers if x))
        where = {x: i for i, x in enumerate(known)}
        scene_extras: dict[str, Any] = {}
        geo = georeference(self.file, self.scale)
        if geo or offset.any():
            scene_extras["extras"] = {"georeference": {**geo, "offsetMetres": offset.tolist()}}
        if offset.any():
            self.notes.append(
                Note(
                    "converted",
                    "import.recentred",
                    "IfcSite",
                    f"The model lies {np.linalg.norm(offset) / 1000:.1f} km from its origin; it was recentred by "
                    f"{offset[0]:.0f}, {offset[1]:.0f}, {offset[2]:.0f} m, and the offset is kept.",
                )
            )
        self.leave_behind()
        if self.maps:
            meshes, self.materials = only_used(meshes, self.materials)
        ids = {i: e["ifc"]["id"] for i, e in extras.items() if isinstance(e["ifc"].get("id"), str)}
        where_of = [where.get(x, -1) for x in layers]
        nodes = make_nodes(
            parent, local, names, mesh=columns, layer=where_of, flags=np.array(flags, np.uint8), extras=extras, ids=ids
        )
        return Scene(
            Convention(1.0, "Z", "Y", "right", bool(by_type(self.file, "IfcUnitAssignment"))),
            nodes,
            tuple(meshes),
            tuple(self.materials),
            textures=tuple(self.looks.textures),
            images=tuple(self.looks.images),
            layers=tuple(known),
            notes=tuple(self.notes),
            extras=scene_extras,
            format="ifc",
        )

    def leave_behind(self) -> None:
        self.notes += name_what_stays(self.file, self.travels, self.looks.used)
        shown = len(self.shapes)
        self.travels.converted("solids, sweeps and mapped representations", shown, "meshes", "2 mm")
        sets, why = self.unasked.most_common(), "class, type, storey, size and what is asked most go on as data"
        for name, count in sets[:MOST_NOTED]:
            self.travels.behind(f"properties in “{name[:60]}”", count, why)
        self.travels.behind("properties in further sets", sum(count for _, count in sets[MOST_NOTED:]), why)
        self.travels.behind("elements whose geometry fails", len(self.failed) + len(self.skip), "see the findings")
        for product, why in self.failed[:MOST_NOTED]:
            self.notes.append(
                Note("damaged", "import.element", f"{product.is_a()} {product.GlobalId}",
                     f"“{str(product.Name or product.is_a())[:60]}” has no usable geometry ({why}); the rest was read.")
            )  # fmt: skip
        self.notes += doubts_of(self.file, ifcopenshell.get_log(), {p.id() for p, _ in self.failed})
        for guid in sorted(self.skip):
            self.notes.append(
                Note(
                    "damaged",
                    "import.element",
                    guid,
                    "The geometry library crashed or hung on this element; it was left out.",
                )
            )


def roughness_of(style: Any) -> float:
    """What a surface style says of its highlight as a roughness: as it is, or from the exponent of a lobe
    as for the shininess of other formats (Karis, Specular BRDF Reference, 2013)."""
    for look in getattr(style, "Styles", None) or ():
        highlight: Any = getattr(look, "SpecularHighlight", None)
        value = getattr(highlight, "wrappedValue", None)
        if not isinstance(value, (int, float)) or not math.isfinite(value) or value < 0:
            continue
        if highlight.is_a("IfcSpecularRoughness"):
            return round(min(1.0, float(value)), 6)
        return round(math.sqrt(2.0 / (value + 2.0)), 6)
    return ROUGHNESS


def below(entity: Any) -> list[Any]:
    """What an entity decomposes into, what it contains, and what is nested in it."""
    out: list[Any] = []
    for relation in getattr(entity, "IsDecomposedBy", None) or ():
        out += list(relation.RelatedObjects)
    for relation in getattr(entity, "IsNestedBy", None) or ():
        out += [o for o in relation.RelatedObjects if o.is_a("IfcProduct")]
    for relation in getattr(entity, "ContainsElements", None) or ():
        out += list(relation.RelatedElements)
    for relation in getattr(entity, "HasOpenings", None) or ():
        # doors and windows fill openings and may be contained nowhere else
        opening = relation.RelatedOpeningElement
        for filling in getattr(opening, "HasFillings", None) or ():
            element = filling.RelatedBuildingElement
            if not getattr(element, "ContainedInStructure", None):
                out.append(element)
    # relations are sets; the order of the file is the one that stays the same
    return sorted({e.id(): e for e in out if e is not None}.values(), key=lambda e: int(e.id()))


def world_matrix(entity: Any, scale: float, above: F64) -> F64:
    """World matrix in metres of an entity without a shape; that of its parent where it has no placement."""
    placement = getattr(entity, "ObjectPlacement", None)
    if placement is None:
        return above
    try:
        out: F64 = np.array(placements.get_local_placement(placement), np.float64)
    except (RuntimeError, ValueError, AttributeError, RecursionError, TypeError):
        return above
    out[:3, 3] *= scale
    return out if np.isfinite(out).all() and abs(np.linalg.det(out[:3, :3])) > 1e-9 else above


def surfaces_in(product: Any) -> bool:
    """False when only lines, points or boxes represent a product."""
    kinds = {str(r.RepresentationType or "") for r in product.Representation.Representations}
    names = {str(r.RepresentationIdentifier or "") for r in product.Representation.Representations}
    lines = {
        "Curve2D",
        "Curve",
        "Curve3D",
        "Annotation2D",
        "Point",
        "PointCloud",
        "BoundingBox",
        "GeometricCurveSet",
        "Text",
    }
    return not (kinds <= lines or names <= {"Axis", "FootPrint", "Box", "Annotation", "Reference"})


def load(path: str, most_nodes: int, skip: tuple[str, ...], careful: bool) -> tuple[Scene | None, str]:
    """(scene, why not): called in a child process. skip: GlobalIds that the library cannot survive."""
    report("parsing", 0, 0)
    set_log_format_json()  # type: ignore[no-untyped-call]
    try:
        file = ifcopenshell.open(path)
    except (RuntimeError, OSError, ValueError, ifcopenshell.Error) as error:
        return None, f"the file cannot be parsed ({' '.join(str(error).split())[:120]})"
    if file is None or not by_type(file, "IfcProject"):
        return None, "there is no IfcProject in it"
    building = Building(file, most_nodes, frozenset(skip), careful)
    try:
        scene = building.scene()
    except ValueError as error:
        if "nodes" in str(error):
            return None, f"it has {error}"
        raise
    return building.travels.onto(scene), ""
