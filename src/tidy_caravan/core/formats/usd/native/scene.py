"""A composed USD stage into a scene. Runs in a child process; pictures are left to the parent."""

from __future__ import annotations

import math
import time as clock
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from pxr import Gf, Usd, UsdGeom, UsdLux, UsdShade

from tidy_caravan.core.formats.shared.affine import LEFT_OUT, affine, beyond_affine
from tidy_caravan.core.formats.shared.folded import tell_folds
from tidy_caravan.core.formats.shared.many import tell, tell_rest
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.formats.usd.native.data import from_custom
from tidy_caravan.core.formats.usd.native.looks import Looks, number
from tidy_caravan.core.formats.usd.native.package import HOLDER, MARK
from tidy_caravan.core.formats.usd.native.registry import use_all_processors
from tidy_caravan.core.formats.usd.native.stage import Broken, Opened, open_stage
from tidy_caravan.core.formats.usd.native.surfaces import (
    PRIMITIVES,
    Surface,
    read_curves,
    read_mesh,
    read_primitive,
    value,
)
from tidy_caravan.core.formats.usd.native.templates import Expander, Rows, nodes_of
from tidy_caravan.core.formats.usd.native.unread import Unread
from tidy_caravan.core.geometry.folds import Folds
from tidy_caravan.core.geometry.recipes import DEFAULT_TOLERANCE_MM, Fineness, make, stretch_of
from tidy_caravan.core.scene import HIDDEN, OPEN, SCATTER, SHARP, Camera, Convention, Light, Mesh, Nodes, Note, Scene
from tidy_caravan.core.scene.arrays import F64, I32
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.nursery import report

LOADS = ("tidy_caravan.core.formats.usd.native.registry",)
PROXIES = Usd.TraverseInstanceProxies()
EACH = ("vertex", "varying")
PLACES = {"lightmapScaleOffset", "lightmapPage"}
"""What packages from here say of each copy, which is made anew."""
SHINING: dict[str, tuple[str, tuple[str, int, float], tuple[str, int, float]]] = {
    "RectLight": ("rectangle", ("width", 1, 1.0), ("height", 1, 1.0)),
    "DiskLight": ("disk", ("radius", 2, 0.5), ("radius", 2, 0.5)),
    "CylinderLight": ("cylinder", ("length", 1, 1.0), ("radius", 2, 0.5)),
    "SphereLight": ("sphere", ("radius", 2, 0.5), ("radius", 2, 0.5)),
}
"""What shines, and along its X and Y the input that says how large, how many of it that is, and what it is where none is said."""
SAME_SCALE = 1e-6
"""Part by which scales above a lamp differ and are the same."""
SKIPPED = (
    "Material",
    "Shader",
    "NodeGraph",
    "GeomSubset",
    "SkelAnimation",
    "BlendShape",
    "PhysicsScene",
    "RenderSettings",
    "RenderProduct",
    "RenderVar",
)
SETTINGS = ("PhysicsScene", "RenderSettings", "RenderProduct", "RenderVar")
LIGHTS = (
    "DistantLight",
    "SphereLight",
    "DiskLight",
    "RectLight",
    "CylinderLight",
    "DomeLight",
    "DomeLight_1",
    "GeometryLight",
)
BEHIND = {
    "Points": "only surfaces travel",
    "NurbsCurves": "export them as basis curves",
    "HermiteCurves": "export them as basis curves",
    "NurbsPatch": "export it as a mesh",
    "TetMesh": "only surfaces travel",
    "Volume": "particles and volumes do not travel",
    "Skeleton": "bones stay behind; surfaces stand in their bind pose",
}


@dataclass
class Reader:
    """State of one import."""

    opened: Opened
    top: str
    most_nodes: int
    notes: list[Note] = field(default_factory=list)
    travels: Travels = field(default_factory=Travels)
    meshes: list[Mesh] = field(default_factory=list)
    lights: list[Light] = field(default_factory=list)
    cameras: list[Camera] = field(default_factory=list)
    templates: dict[str, Rows] = field(default_factory=dict)
    folded: dict[int, Folds] = field(default_factory=dict)
    """By mesh, of its polygons."""

    def __post_init__(self) -> None:
        self.stage = self.opened.stage
        self.time = Usd.TimeCode.EarliestTime()
        self.cache = UsdGeom.XformCache(self.time)
        self.metres = float(UsdGeom.GetStageMetersPerUnit(self.stage))
        if not (math.isfinite(self.metres) and 1e-9 < self.metres < 1e6):
            self.metres = 0.01
        self.looks = Looks(self.top, self.time, self.notes)
        self._by_content: dict[str, int] = {}
        self._told: dict[str, int] = {}
        self._prims = 0
        self._last = clock.monotonic()
        self._moving = 0
        self.unread = Unread(self.time)
        self._parts: dict[int, set[int]] = {}
        self._waiting: list[tuple[str, Any]] = []
        self._handed_down: dict[str, tuple[float, float, float] | None] = {}
        # by light the scales (3,) that it was read under, what shines, and whether its area counts for nothing
        self.stretched: list[tuple[F64, str, bool]] = []

    def note(self, kind: Any, code: str, where: str, text: str) -> None:
        tell(self.notes, self._told, Note(kind, code, where[:120], text))

    def read(self) -> Scene:
        rows = Rows()
        for prim in self.stage.GetPseudoRoot().GetChildren():
            held = prim.GetCustomDataByKey(HOLDER) and not UsdGeom.Xformable(prim).GetXformOpOrderAttr().Get()
            for one in prim.GetFilteredChildren(PROXIES) if held else [prim]:
                self.walk(one, rows, -1)
        while self._waiting:
            key, prim = self._waiting.pop()
            for child in prim.GetFilteredChildren(PROXIES) if prim.IsInstance() else [prim]:
                self.walk(child, self.templates[key], -1)
        for template in [rows, *self.templates.values()]:
            self.take_up(template)
        nodes = self.lit_by_place(nodes_of(Expander(self.templates, self.most_nodes).block(rows)))
        self.make_as_fine_as_seen(nodes)
        self.tell_composition()
        tell_rest(self.notes, self._told, "the stage")
        tell_folds(self.notes, self.folded, self.meshes, nodes.mesh, "the stage")
        self.travels.behind("animated attributes", self._moving, "USD animation is not read; the first frame is taken")
        self.unread.onto(self.travels)
        layer = self.stage.GetRootLayer()
        if layer.documentation or layer.comment:
            self.travels.behind("descriptions of layers", 1, "nothing here reads them")
        for what, count in self.looks.lost.items():
            self.travels.behind(what, count, "the portable material has no place for it")
        up = str(UsdGeom.GetStageUpAxis(self.stage))
        declared = self.stage.HasAuthoredMetadata("metersPerUnit")
        if not declared:
            self.notes.append(
                Note(
                    "guess",
                    "import.unit",
                    "metersPerUnit",
                    "The stage declares no unit; centimetre, which the format falls back to, was assumed.",
                )
            )
        return Scene(
            Convention(self.metres, "Z" if up == "Z" else "Y", "Y" if up == "Z" else "-Z", "right", declared),
            nodes,
            tuple(self.meshes),
            tuple(self.looks.materials),
            tuple(self.looks.textures),
            tuple(self.looks.images),
            tuple(self.lights),
            tuple(self.cameras),
            notes=tuple(self.notes),
            extras={"extras": said} if (said := from_custom(layer.customLayerData)) else {},
            format="usd",
        )

    def walk(self, prim: Any, rows: Rows, parent: int) -> None:
        """A prim and what is below it, without recursion: scenes nest deeply."""
        stack = [(prim, parent)]
        while stack:
            one, above = stack.pop()
            self._prims += 1
            if self._prims % 256 == 0 and clock.monotonic() - self._last > 0.2:
                self._last = clock.monotonic()
                report("reading prims", self._prims, 0)
            here = self.prim(one, rows, above)
            if here is None:
                continue
            if one.IsInstance():
                self.instance(one, rows, here)
                continue
            if one.GetTypeName() == "PointInstancer":
                continue
            children = one.GetFilteredChildren(PROXIES)
            if is_one_part(one):
                own = next((c for c in children if c.GetName() == "mesh" and self.is_all_of_a_part(c)), None)
                if own is not None:
                    if own.IsInstance():
                        self.instance(own, rows, here)
                    else:
                        self.surface(own, rows, here, rows.names[here])
                    children = [c for c in children if c != own]
            stack += [(child, here) for child in reversed(children)]

    def instance(self, prim: Any, rows: Rows, here: int) -> None:
        """What a prim shares with others comes below a row. What the prim binds, or colours, holds for what is below it as
        well, and so is part of what is shared."""
        bound, by = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
        strength = UsdShade.MaterialBindingAPI.GetMaterialBindingStrength(by) if bound and by else ""
        look = f"{bound.GetPath() if bound else ''}|{strength}|{self.color_above(prim)}"
        key = f"{prim.GetPrototype().GetPath()}|{look}"
        self.ask(key, prim)
        rows.splices.append((here, key, None))

    def is_all_of_a_part(self, prim: Any) -> bool:
        """Whether a prim adds nothing but its triangles to the one that it stands below: neither a place of its own, which a
        program that does not know the mark may have given it, nor that it is not shown."""
        if not (prim.IsInstance() or prim.GetTypeName() == "Mesh") or UsdGeom.Xformable(prim).GetOrderedXformOps():
            return False
        return str(value(UsdGeom.Imageable(prim).GetVisibilityAttr(), self.time, "inherited")) != "invisible"

    def ask(self, key: str, prim: Any) -> None:
        """Sees to it that the subtree of a prim is written down, as the template of that key."""
        if key not in self.templates:
            self.templates[key] = Rows()
            self._waiting.append((key, prim))

    def take_up(self, rows: Rows) -> None:
        """Instances that are marked as one part carry the single mesh of their template themselves."""
        left = []
        for node, key, matrices in rows.splices:
            template = self.templates[key]
            if (
                matrices is None
                and node in self._parts.get(id(rows), ())
                and len(template.names) == 1
                and not template.splices
            ):
                rows.mesh[node] = template.mesh[0]
            else:
                left.append((node, key, matrices))
        rows.splices = left

    def prim(self, prim: Any, rows: Rows, above: int) -> int | None:
        """Row of one prim; None when it and what is below it are no nodes."""
        kind = str(prim.GetTypeName())
        if kind in SKIPPED:
            if kind in SETTINGS:
                self.travels.behind(f"{kind} prims", 1, "they are settings of other programs")
            return None
        if kind in ("", "Scope") and not is_one_part(prim) and not prim.IsInstance():
            # holders of materials and of abstract prims are no groups of the scene
            inside = prim.GetAllChildren()
            if inside and all(str(c.GetTypeName()) in SKIPPED or c.IsAbstract() for c in inside):
                return None
        name = prim.GetDisplayName() or prim.GetName()
        local, flags = np.eye(4), 0
        imageable = UsdGeom.Imageable(prim)
        if imageable:
            if str(value(imageable.GetVisibilityAttr(), self.time, "inherited")) == "invisible":
                flags |= HIDDEN
            purpose = imageable.GetPurposeAttr()
            word = str(purpose.Get()) if purpose.HasAuthoredValue() else "default"
            if word in ("guide", "proxy"):
                flags |= HIDDEN
                self.travels.behind(f"prims of purpose {word}", 1, "they stand in for what travels")
        xform = UsdGeom.Xformable(prim)
        if xform:
            local = self.local(prim, xform)
        here = rows.add(name, above, local, flags)
        if is_one_part(prim):
            self._parts.setdefault(id(rows), set()).add(here)
        try:
            if extra := {**self.unread.look(prim, kind), **self.data(prim)}:
                rows.extras[here] = extra
        except (ValueError, RuntimeError, TypeError, ArithmeticError):
            self.travels.behind("data of prims", 1, "they hold something that the library cannot read")
        if kind in ("Xform", "PointInstancer", "Scope", ""):
            for said in prim.GetAuthoredPropertiesInNamespace("primvars"):
                if not said.GetName().endswith(":indices"):
                    name_ = said.GetName().removeprefix("primvars:")[:60]
                    self.travels.behind(f"“{name_}” said of groups", 1, "values of a group are not carried on")
        try:
            self.content(prim, kind, name, rows, here)
        except (ValueError, RuntimeError, IndexError, TypeError, ArithmeticError) as error:
            self.note(
                "damaged",
                "import.prim",
                str(prim.GetPath()),
                f"Left empty, because it cannot be read ({error})"[:200] + ".",
            )
        return here

    def local(self, prim: Any, xform: Any) -> F64:
        if xform.TransformMightBeTimeVarying():
            self._moving += 1
        given, starts_anew = self.cache.GetLocalTransformation(prim)
        matrix = np.array(given, dtype=np.float64).reshape(4, 4).T
        if starts_anew:
            # the prim counts from the world, so what stands above it is taken off
            above = np.array(self.cache.GetLocalToWorldTransform(prim.GetParent())).T
            if abs(np.linalg.det(above)) > 0:
                matrix = np.linalg.inv(above) @ matrix
        if not np.isfinite(matrix).all() or np.abs(matrix).max() > 1e12:
            self.note(
                "damaged",
                "import.transform",
                str(prim.GetPath()),
                "The transform is not finite, or goes beyond 1e+12; the prim stands at its parent's origin now.",
            )
            return np.eye(4)
        if beyond_affine(matrix[None])[0]:
            self.note("damaged", "import.transform", str(prim.GetPath()), LEFT_OUT)
        placed: F64 = affine(matrix[None])[0]
        return placed

    def data(self, prim: Any) -> dict[str, Any]:
        """Custom data of a prim as JSON, without what says something of the prim as a prim."""
        return from_custom(prim.GetCustomData()) if prim.HasAuthoredCustomData() else {}

    def content(self, prim: Any, kind: str, name: str, rows: Rows, here: int) -> None:
        if kind == "Mesh":
            self.surface(prim, rows, here, name)
            if prim.HasAPI(UsdLux.MeshLightAPI):
                self.travels.behind("surfaces that are lights", 1, "they travel without their light")
                self.note(
                    "behind",
                    "import.light",
                    str(prim.GetPath()),
                    "A surface that is a light travels without its light.",
                )
        elif kind in PRIMITIVES or kind == "BasisCurves":
            material = self.material(prim)
            reader = read_curves if kind == "BasisCurves" else read_primitive
            self.keep(reader(prim, self.time, material, self.metres, name), prim, rows, here)
        elif kind == "PointInstancer":
            self.scatter(prim, rows, here, name)
        elif kind == "Camera":
            rows.camera[here] = self.camera(prim, name)
        elif kind in LIGHTS or prim.HasAPI(UsdLux.LightAPI):
            rows.light[here] = self.light(prim, kind, name)
        elif kind in BEHIND:
            self.travels.behind(f"{kind} prims", 1, BEHIND[kind])
            self.note(
                "behind", "import.not-a-surface", str(prim.GetPath()), f"A {kind} prim stays behind: {BEHIND[kind]}."
            )
        if prim.HasVariantSets():
            self.travels.behind("variants that are not selected", sum(
                max(0, len(prim.GetVariantSet(v).GetVariantNames()) - 1) for v in prim.GetVariantSets().GetNames()
            ), "the selected ones travel")  # fmt: skip

    def material(self, prim: Any) -> int:
        double = bool(value(UsdGeom.Gprim(prim).GetDoubleSidedAttr(), self.time, False))
        bound, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
        slot = self.looks.index(bound, double)
        if slot < 0 and (rgb := self.color_of_all(prim)) is not None:
            return self.looks.plain(rgb, double)
        return slot

    def color_above(self, instance: Any) -> tuple[float, float, float] | None:
        """The colour that holds below an instance; many hang below one prim, which is asked once."""
        own = instance.GetAttribute("primvars:displayColor")
        if own and own.HasValue():
            return self.color_of_all(instance)
        parent = instance.GetParent()
        path = str(parent.GetPath())
        if path not in self._handed_down:
            self._handed_down[path] = None if parent.IsPseudoRoot() else self.color_of_all(parent)
        return self._handed_down[path]

    def color_of_all(self, prim: Any) -> tuple[float, float, float] | None:
        """The colour of a prim that has no material, its own or what is handed down to it (UsdGeomPrimvarsAPI, “inheritance”)."""
        color = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor")
        flat = color.ComputeFlattened(self.time) if color and color.GetInterpolation() == "constant" else None
        if flat is None or not len(flat):
            return None
        red, green, blue = (float(np.clip(number(c, 0.5), 0, 1)) for c in flat[0])
        return red, green, blue

    def surface(self, prim: Any, rows: Rows, here: int, name: str) -> None:
        slot: int | I32 = self.material(prim)
        subsets = [c for c in prim.GetFilteredChildren(PROXIES) if c.GetTypeName() == "GeomSubset"]
        subsets = [UsdGeom.Subset(c) for c in subsets if UsdGeom.Subset(c).GetFamilyNameAttr().Get() == "materialBind"]
        names = list(self.looks.varnames[slot]) if isinstance(slot, int) and slot >= 0 else []
        if subsets:
            counts = value(UsdGeom.Mesh(prim).GetFaceVertexCountsAttr(), self.time, ())
            double = bool(value(UsdGeom.Gprim(prim).GetDoubleSidedAttr(), self.time, False))
            table = np.full(len(counts), slot, np.int32)
            for subset in subsets:
                bound, _ = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()
                own = self.looks.index(bound, double)
                faces = np.asarray(value(subset.GetIndicesAttr(), self.time, ()), np.int64).reshape(-1)
                table[faces[(faces >= 0) & (faces < len(table))]] = own
                if own >= 0:
                    names += [n for n in self.looks.varnames[own] if n not in names]
            slot = table
        self.keep(read_mesh(prim, self.time, slot, tuple(names), self.metres, name), prim, rows, here)

    def keep(self, surface: Surface, prim: Any, rows: Rows, here: int) -> None:
        where = str(prim.GetPath())
        for kind, code, text in surface.notes:
            self.note(kind, code, where, text)
        if surface.dropped:
            self.note(
                "damaged", "import.face", where,
                f"{plural(surface.dropped, 'face was', 'faces were')} left out: too few corners, indices that point at nothing, or positions that are no numbers.",
            )  # fmt: skip
        if surface.guess == "scheme":
            self.travels.converted("meshes without a stated scheme", 1, "polygons as they are")
            self.note(
                "guess", "import.subdivision", where,
                "It does not say whether it is a subdivision surface, which the format then takes for Catmull-Clark; "
                "its polygons were taken as they are. The step “Make shapes again” changes that.",
            )  # fmt: skip
        elif surface.guess:
            self.travels.behind("curves", 1, "without a width they have no surface")
        if surface.converted:
            kind, into, tolerance = surface.converted
            self.travels.converted(kind, 1, into, tolerance)
        if surface.mesh is not None:
            index = self._by_content.setdefault(surface.mesh.id, len(self.meshes))
            if index == len(self.meshes):
                self.meshes.append(surface.mesh)
                self.folded[index] = surface.folds
            rows.mesh[here] = index

    def scatter(self, prim: Any, rows: Rows, here: int, name: str) -> None:
        """Copies of a PointInstancer; its prototypes are hidden by being under it."""
        instancer = UsdGeom.PointInstancer(prim)
        targets = instancer.GetPrototypesRel().GetForwardedTargets()
        which = np.asarray(value(instancer.GetProtoIndicesAttr(), self.time, ()), np.int64).reshape(-1)
        count = len(which)
        if not count or not targets:
            return
        given = instancer.ComputeInstanceTransformsAtTime(
            self.time, self.time, UsdGeom.PointInstancer.ExcludeProtoXform, UsdGeom.PointInstancer.IgnoreMask
        )
        matrices = np.array(given, dtype=np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
        if len(matrices) != count:
            self.note(
                "damaged",
                "import.scatter",
                str(prim.GetPath()),
                "Its arrays differ in length; the copies were left out.",
            )
            return
        mask = instancer.ComputeMaskAtTime(self.time)
        good = np.isfinite(matrices).all(axis=(1, 2)) & (which >= 0) & (which < len(targets))
        if mask is not None and len(mask) == count:
            off = ~np.array(mask, dtype=np.bool_)
            self.travels.behind("switched-off copies", int(off.sum()), "the scatter hides them")
            good &= ~off
        if not good.all() and int((~good).sum()):
            self.note(
                "damaged",
                "import.scatter",
                str(prim.GetPath()),
                f"{int((~good).sum())} of {plural(count, 'copy', 'copies')} {'is' if (~good).sum() == 1 else 'are'} unusable or switched off.",
            )
        used = np.unique(which[good]).tolist()
        self.travels.converted("scattered copies", int(good.sum()), "instances that share their mesh")
        own = [p for p in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues() if p.GetInterpolation() in EACH]
        if names := sorted({str(p.GetPrimvarName()) for p in own} - PLACES):
            self.travels.behind(f"{', '.join(names[:3])} of single copies", count, "copies of a prototype look alike")
        for proto in used:
            target = str(targets[proto])
            if not self.stage.GetPrimAtPath(target):
                self.note(
                    "damaged", "import.scatter", str(prim.GetPath()), f"The prototype {target[:100]} is not there."
                )
                continue
            self.ask(target, self.stage.GetPrimAtPath(target))
            holder = here
            if len(used) > 1:
                holder = rows.add(target.rsplit("/", 1)[-1], here, np.eye(4))
            rows.flags[holder] |= SCATTER
            rows.splices.append((holder, target, matrices[good & (which == proto)]))

    def camera(self, prim: Any, name: str) -> int:
        c = UsdGeom.Camera(prim)
        lens = c.GetCamera(self.time)
        near, far = float(lens.clippingRange.min), float(lens.clippingRange.max)
        near = near if near > 0 else 0.1 / self.metres
        far_ = far if far > near and far < 1e9 else None
        # apertures and focal length are tenths of the stage's unit, whatever that is
        wide, high = float(lens.horizontalAperture), float(lens.verticalAperture)
        if lens.projection == Gf.Camera.Orthographic:
            made = Camera("orthographic", name, xmag=wide / 20, ymag=high / 20, znear=near, zfar=far_)
        else:
            yfov = 2 * math.atan2(high, 2 * max(float(lens.focalLength), 1e-6))
            made = Camera("perspective", name, min(yfov, 3.1), wide / high if high > 0 else None, znear=near, zfar=far_)
        self.cameras.append(made)
        return len(self.cameras) - 1

    def light(self, prim: Any, kind: str, name: str) -> int:
        """Emission into candela and lux: nits times the area that is seen; areas become points, told as converted."""
        api = UsdLux.LightAPI(prim)
        if kind.startswith("DomeLight") or kind == "GeometryLight":
            self.travels.behind(f"{kind.split('_')[0]}s", 1, "skies and glowing surfaces stay behind")
            return -1
        strength = number(value(api.GetIntensityAttr(), self.time, 1.0), 1.0)
        strength *= 2.0 ** min(40.0, number(value(api.GetExposureAttr(), self.time, 0.0), 0.0))
        rgb = [max(0.0, number(c, 1.0)) for c in value(api.GetColorAttr(), self.time, (1.0, 1.0, 1.0))]
        if value(api.GetEnableColorTemperatureAttr(), self.time, False):
            warmth = number(value(api.GetColorTemperatureAttr(), self.time, 6500.0), 6500.0)
            rgb = [c * w for c, w in zip(rgb, UsdLux.BlackbodyTemperatureAsRgb(warmth), strict=True)]
        top = max(1.0, *rgb)
        color = (rgb[0] / top, rgb[1] / top, rgb[2] / top)
        normalized = bool(value(api.GetNormalizeAttr(), self.time, False))
        shape: Any = "directional" if kind == "DistantLight" else "point"
        cone, soft = math.pi / 4, 1.0
        scales = np.linalg.norm(np.array(self.cache.GetLocalToWorldTransform(prim), np.float64)[:3, :3], axis=1)
        shines, (wide, high) = self.shining(prim, kind, scales)
        if not normalized:
            strength *= max(area_of(shines, wide, high), 1e-9)
        if prim.HasAPI(UsdLux.ShapingAPI):
            shaping = UsdLux.ShapingAPI(prim)
            angle = number(value(shaping.GetShapingConeAngleAttr(), self.time, 90.0), 90.0)
            if angle < 90.0 and shape == "point":
                shape, cone = "spot", math.radians(max(angle, 0.1))
                soft = number(value(shaping.GetShapingConeSoftnessAttr(), self.time, 0.0), 0.0)
        if kind in ("RectLight", "DiskLight", "CylinderLight"):
            into = "spot lights" if kind != "CylinderLight" else "point lights"
            if kind != "CylinderLight" and shape == "point":
                shape, cone = "spot", OPEN
            stays = cone >= OPEN or shape == "point"
            self.travels.converted(
                "area lights", 1, into + "; in OpenUSD and in baked light they stay surfaces" * stays
            )
        for what, why in dropped(prim, self.time):
            self.travels.behind(what, 1, why)
            self.note("behind", "import.light", str(prim.GetPath()), f"Of its light stays behind: {what} ({why}).")
        self.note(
            "guess",
            "import.light-intensity",
            str(prim.GetPath()),
            "Its emission was turned into candela or lux by its area; compare it on the other side.",
        )
        inner = cone * min(max(1.0 - soft, 0.0), SHARP)
        self.stretched.append((np.where(np.isfinite(scales), scales, 0.0), shines, normalized))
        surface = shines
        if surface == "sphere" or (shape == "spot" and cone < OPEN) or not 0 < wide * high < math.inf:
            surface, wide, high = "", 0.0, 0.0
        size = (wide / self.metres, high / self.metres)
        self.lights.append(
            Light(shape, name, color, strength * top, inner_cone=inner, outer_cone=cone, surface=surface, size=size)
        )
        return len(self.lights) - 1

    def make_as_fine_as_seen(self, nodes: Nodes) -> None:
        """Round things were made for their own numbers: what the nodes enlarge has to be finer, and what they shrink is
        finer than anybody sees."""
        chosen = [i for i, m in enumerate(self.meshes) if m.recipe is not None and "toleranceMm" in m.recipe.setting]
        stretch = stretch_of(nodes, len(self.meshes)) if chosen else np.zeros(0)
        for i in chosen:
            mesh, times = self.meshes[i], float(stretch[i])
            if mesh.recipe is None or abs(times - 1) <= SAME_SCALE:
                continue
            try:
                made = make(mesh.recipe, Fineness.of(mesh.recipe), self.metres * times, mesh.name)
            except ValueError as error:
                self.note(
                    "guess",
                    "import.shape-coarse",
                    mesh.name,
                    f"It is coarser than {DEFAULT_TOLERANCE_MM:g} mm: {error}.",
                )
                continue
            if made is not None:
                self.meshes[i] = made

    def lit_by_place(self, nodes: Nodes) -> Nodes:
        """Lamps below instances were read below one of them; under another scale they are as much larger, and brighter."""
        at = np.flatnonzero(nodes.light >= 0)
        if not len(at):
            return nodes
        read = np.array([scales for scales, _, _ in self.stretched])[nodes.light[at]]
        times = np.linalg.norm(nodes.world[at, :3, :3], axis=1) / np.where(read > 0, read, 1.0)
        off = ((np.abs(times - 1) > SAME_SCALE) & (read > 0)).any(axis=1)
        if not off.any():
            return nodes
        light = nodes.light.copy()
        asked = np.column_stack([light[at[off]], np.round(times[off], 9)])
        kinds, which = np.unique(asked, axis=0, return_inverse=True)
        numbers = []
        for first, *grown in kinds.tolist():
            numbers.append(len(self.lights))
            one, (_, shines, normalized) = self.lights[int(first)], self.stretched[int(first)]
            wider, higher = stretches(shines, *grown)
            brighter = 1.0 if normalized else wider * higher
            size = (one.size[0] * wider, one.size[1] * higher)
            self.lights.append(replace(one, intensity=one.intensity * brighter, size=size))
        light[at[off]] = np.array(numbers)[which.ravel()]
        return replace(nodes, light=light)

    def shining(self, prim: Any, kind: str, scales: F64) -> tuple[Any, tuple[float, float]]:
        """What shines, and its size in metres along the light's own X and Y under the scales (3,) above it; nothing of what is
        far away."""

        if kind not in SHINING:
            return "", (0.0, 0.0)
        surface, *said = SHINING[kind]
        wide, high = (
            times * self.metres * number(value(prim.GetAttribute(f"inputs:{name}"), self.time, spare), spare)
            for name, times, spare in said
        )
        wider, higher = stretches(surface, *scales.tolist())
        return surface, (wide * wider, high * higher)

    def tell_composition(self) -> None:
        for path, layer, why in self.opened.cut[:200]:
            text = {
                "outside": f"“{path}” in {layer} leads outside the bundle and was not followed.",
                "missing": f"The layer “{path}” that {layer} refers to was not found beside the scene.",
                "broken": f"The layer “{path}” cannot be parsed and was left out.",
            }[why]
            code = {
                "outside": "import.unreachable",
                "missing": "import.layer-missing",
                "broken": "import.layer-broken",
            }[why]
            self.note("damaged", code, layer, text)
        for error in self.stage.GetCompositionErrors():
            first = " ".join(str(error).split())
            code = "import.cycle" if "Cycle" in first else "import.composition"
            text = (
                "A reference leads back to itself and was left out there."
                if code == "import.cycle"
                else ("Something cannot be composed and was left out.")
            )
            where = first[first.find("</") + 1 : first.find(">", first.find("</"))] if "</" in first else ""
            self.note("damaged", code, where, text)


def stretches(surface: str, x: float, y: float, z: float) -> tuple[float, float]:
    """How much larger scales make a surface that shines along its own X and Y; of round things the mean of both ways."""
    if surface == "sphere":
        return ((x * y * z) ** (1 / 3),) * 2
    if surface == "cylinder":
        return x, math.sqrt(y * z)
    return (x, y) if surface else (1.0, 1.0)


def area_of(surface: str, wide: float, high: float) -> float:
    """Square metres that are seen of a light from where it shines brightest; 1 of what has none, and below a transform that
    is none, which is told."""
    seen = wide * high * (math.pi / 4 if surface in ("disk", "sphere") else 1.0) if surface else 1.0
    return seen if math.isfinite(seen) else 1.0


def dropped(prim: Any, time: Any) -> Iterator[tuple[str, str]]:
    """What of a light no lamp here has, and why it matters."""
    if prim.HasAPI(UsdLux.ShapingAPI):
        shaping = UsdLux.ShapingAPI(prim)
        if value(shaping.GetShapingIesFileAttr(), time, None):
            yield "IES profiles of lights", "they shine alike in all directions of their cone"
        if number(value(shaping.GetShapingFocusAttr(), time, 0.0), 0.0) > 0:
            yield "focus of lights", "they are as bright at the edge of their cone as within"
    texture = prim.GetAttribute("inputs:texture:file")
    if texture and value(texture, time, None):
        yield "images that lights show", "they shine in one colour"
    if prim.HasAPI(UsdLux.ShadowAPI) and not value(UsdLux.ShadowAPI(prim).GetShadowEnableAttr(), time, True):
        yield "lights without shadows", "all cast them"
    for word in ("light", "shadow"):
        linked = prim.GetAttribute(f"collection:{word}Link:includeRoot")
        if linked and value(linked, time, True) is False:
            yield f"links of {word}s", "they reach all parts"
    if UsdLux.LightAPI(prim).GetFiltersRel().GetTargets():
        yield "filters of lights", "nothing stands before them"
    for what, attribute in (
        ("diffuse", UsdLux.LightAPI(prim).GetDiffuseAttr()),
        ("specular", UsdLux.LightAPI(prim).GetSpecularAttr()),
    ):
        if abs(number(value(attribute, time, 1.0), 1.0) - 1) > 1e-6:
            yield f"{what} share of lights", "they give both kinds in full"


def is_one_part(prim: Any) -> bool:
    """Packages from here mark a prim and the mesh below it as one part."""
    return bool(prim.GetCustomDataByKey(MARK))


def load(main: str, top: str, most_nodes: int) -> tuple[Scene | None, Any, str]:
    """(scene, pictures to be put together, why not): called in a child process."""
    use_all_processors()
    try:
        opened = open_stage(main, top)
    except Broken as error:
        return None, {}, f"the text is broken at {error}" if str(error) else "it is no USD layer"
    report("reading prims", 0, 0)
    try:
        reader = Reader(opened, top, most_nodes)
        scene = reader.read()
    except ValueError as error:
        if "nodes" in str(error):
            return None, {}, f"it expands to {error}"
        raise
    return reader.travels.onto(scene), reader.looks.packed, ""
