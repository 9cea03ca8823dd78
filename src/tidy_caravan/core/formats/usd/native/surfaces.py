"""USD geometry prims into meshes and recipes: polygons, subdivision surfaces, primitives, curves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from pxr import UsdGeom

from tidy_caravan.core.geometry.corners import corner_mesh
from tidy_caravan.core.geometry.folds import FLAT, Folds, folds_of
from tidy_caravan.core.geometry.recipes import Fineness, level_for, make
from tidy_caravan.core.geometry.triangulate import fan_or_ears
from tidy_caravan.core.scene import Mesh, Recipe
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, AnyArray, usable_rows
from tidy_caravan.core.words import counted, plural

PRIMITIVES = ("Cube", "Sphere", "Cylinder", "Cone", "Capsule", "Plane", "Cylinder_1", "Capsule_1")
NOT_UV = ("normals", "displayColor", "displayOpacity", "tangents")
UV_TYPES = ("texCoord2f[]", "texCoord2d[]", "texCoord2h[]", "float2[]", "double2[]", "half2[]", "texCoord3f[]")
Said = tuple[str, str, str]
NOUNS = {"vertex": "points", "varying": "points", "faceVarying": "corners", "uniform": "faces"}
UV_FIRST = ("st", "st0", "UVMap", "map1", "uv", "st1")


@dataclass
class Surface:
    """A prim's geometry before its materials are known.

    sets: names of the UV sets in the order of the mesh. notes: (kind, code, text) to tell.
    converted: what the prim was, and into what, for the travel list.
    """

    mesh: Mesh | None
    sets: tuple[str, ...] = ()
    dropped: int = 0
    guess: str = ""
    converted: tuple[str, str, str] | None = None
    notes: tuple[Said, ...] = ()
    folds: Folds = FLAT


def value(attribute: Any, time: Any, spare: Any) -> Any:
    found = attribute.Get(time) if attribute else None
    return spare if found is None else found


def per_corner(values: AnyArray, interpolation: str, corner: I64, face_of: I64) -> AnyArray | None:
    """Values of a primvar at every corner; None when there are too few of them."""
    if interpolation == "constant":
        return np.repeat(values[:1], len(corner), axis=0) if len(values) else None
    index = {"uniform": face_of, "faceVarying": np.arange(len(corner))}.get(interpolation, corner)
    if len(index) and (int(index.max()) >= len(values) or int(index.min()) < 0):
        return None
    out: AnyArray = values[index]
    return out


def flattened(primvar: Any, time: Any, width: int, what: str, notes: list[Said]) -> F32 | None:
    """(N, width) values of a primvar, its indices resolved; those that point at nothing are noughts, and told."""
    values: AnyArray = np.asarray(value(primvar, time, ()), np.float32)
    if not values.size:
        return None
    rows = values.reshape(len(values), -1)[:, :width]
    index: I64 = np.asarray(primvar.GetIndices(time) if primvar.IsIndexed() else (), np.int64).reshape(-1)
    if not primvar.IsIndexed():
        return rows
    usable = (index >= 0) & (index < len(rows))
    out = np.zeros((len(index), rows.shape[1]), np.float32)
    out[usable] = rows[index[usable]]
    if not usable.all():
        notes.append(("damaged", "import.damaged", f"{plural(int((~usable).sum()), 'index', 'indices')} of {what}: nothing is there; 0 was taken instead."))  # fmt: skip
    return out


def fitted(
    values: F32 | None, kind: str, sizes: Mapping[str, int], what: str, notes: list[Said]
) -> tuple[F32 | None, str]:
    """Values as many as their interpolation asks for, and that; what is not so is told.

    sizes: by interpolation, how many there have to be.
    """
    if values is None or kind == "constant":
        return values, kind
    kind = kind if kind in sizes else "vertex"
    count, wanted = len(values), sizes[kind]
    if count == wanted:
        return values, kind
    told = (
        f"There {'is' if count == 1 else 'are'} {plural(count, 'value')} of {what} for {counted(wanted, NOUNS[kind])}"
    )
    other = next((k for k in ("faceVarying", "vertex", "uniform") if sizes[k] == count), None)
    if other is not None:
        notes.append(("guess", "import.interpolation", f"{told}; they were taken for those of the {NOUNS[other]}."))
        return values, other
    if count > wanted:
        notes.append(("guess", "import.interpolation", f"{told}; the first of them were taken."))
        return values[:wanted], kind
    notes.append(("damaged", "import.damaged", f"{told}; they were left out."))
    return None, kind


def uv_names(api: Any, wanted: tuple[str, ...]) -> list[str]:
    """UV primvars of a prim: those its materials read first, then the usual names, then by name."""
    found = []
    for primvar in api.GetPrimvarsWithValues():
        kind = primvar.GetTypeName()
        name = primvar.GetPrimvarName()
        if name not in NOT_UV and str(kind) in UV_TYPES:
            found.append(name)
    order = {n: i for i, n in enumerate((*wanted, *(u for u in UV_FIRST if u not in wanted)))}
    return sorted(found, key=lambda n: (order.get(n, len(order)), n))


def read_mesh(prim: Any, time: Any, material: I32 | int, wanted: tuple[str, ...], metres: float, name: str) -> Surface:
    """A Mesh prim. material: one slot for all faces, or (F,) a slot per face."""
    mesh = UsdGeom.Mesh(prim)
    points: F64 = np.asarray(value(mesh.GetPointsAttr(), time, ()), np.float64).reshape(-1, 3)
    counts: I64 = np.asarray(value(mesh.GetFaceVertexCountsAttr(), time, ()), np.int64).reshape(-1)
    corner: I64 = np.asarray(value(mesh.GetFaceVertexIndicesAttr(), time, ()), np.int64).reshape(-1)
    if not len(points) or not len(counts):
        return Surface(None)
    if (counts < 0).any() or counts.sum() > len(corner):
        keep = np.cumsum(np.maximum(counts, 0)) <= len(corner)
        counts = counts[: int(np.argmin(keep)) if not keep.all() else len(keep)]
        counts = counts[counts >= 0]
    corner = corner[: int(counts.sum())]
    slots: I32 = np.full(len(counts), material, np.int32) if isinstance(material, int) else material[: len(counts)]
    if len(slots) < len(counts):
        slots = np.concatenate([slots, np.full(len(counts) - len(slots), -1, np.int32)])
    api = UsdGeom.PrimvarsAPI(prim)
    sizes = {"vertex": len(points), "varying": len(points), "faceVarying": len(corner), "uniform": len(counts)}
    notes: list[Said] = []
    data = Corners.read(mesh, api, time, wanted, sizes, notes)
    told = tuple(notes)
    scheme = str(value(mesh.GetSubdivisionSchemeAttr(), time, "none"))
    authored = scheme != "none" and mesh.GetSubdivisionSchemeAttr().HasAuthoredValue()
    holes: I64 = np.asarray(value(mesh.GetHoleIndicesAttr(), time, ()), np.int64).reshape(-1)
    flipped = str(value(mesh.GetOrientationAttr(), time, "rightHanded")) == "leftHanded"
    if flipped:
        order = reversed_faces(counts)
        corner = corner[order]
        data = data.at_corners(corner, counts, order)
    if len(holes):
        shown = np.ones(len(counts), np.bool_)
        shown[holes[(holes >= 0) & (holes < len(counts))]] = False
        keep = np.repeat(shown, counts)
        data = data.at_corners(corner, counts).kept(keep)
        corner, counts, slots = corner[keep], counts[shown], slots[shown]
    sets = tuple(data.sets)
    if authored:
        cage = data.at_corners(corner, counts)
        recipe = cage_recipe(mesh, time, scheme, points, corner, counts, slots, cage.uvs)
        made = make(recipe, Fineness(level=level_for(len(counts))), metres, name) if recipe else None
        if made is not None and made.recipe is not None:
            level = made.recipe.setting["level"]
            return Surface(made, sets, converted=("subdivision surfaces", f"meshes at level {level}", ""), notes=told)
    folds = folds_of(points, corner, counts)
    out, dropped = as_it_stands(points, corner, counts, slots, data, name), 0
    if out is None:
        loose = data.at_corners(corner, counts)
        out, dropped = corner_mesh(
            points,
            corner,
            counts,
            normals=loose.normals,
            uvs=loose.uvs,
            colors=() if loose.colors is None else (loose.colors,),
            material=slots,
            name=name,
        )
    if scheme != "none" and not authored and out is not None and not dropped:
        # its polygons stay, with what it takes to refine them after all
        silent = cage_recipe(mesh, time, scheme, points, corner, counts, slots, data.at_corners(corner, counts).uvs)
        if silent is not None:
            out = replace(out, recipe=replace(silent, setting={"level": 0}))
        return Surface(out, sets, dropped, guess="scheme", notes=told, folds=folds)
    return Surface(out, sets, dropped, notes=told, folds=folds)


def as_it_stands(points: F64, corner: I64, counts: I64, slots: I32, data: Corners, name: str) -> Mesh | None:
    """The quick way: all data belongs to the points, so the points are the vertices. None where that is not so."""
    if not data.by_point or not len(counts) or counts.min() < 3:
        return None
    if corner.min() < 0 or corner.max() >= len(points) or not usable_rows(points).all():
        return None
    triangles, owner = fan_or_ears(points[corner], counts)
    return Mesh(
        points.astype(np.float32),
        corner[triangles].astype(np.uint32),
        slots[owner],
        normals=data.normals,
        uvs=tuple(data.uvs),
        colors=() if data.colors is None else (data.colors,),
        name=name,
    )


@dataclass
class Corners:
    """UV sets, normals and colours of a mesh; by_point: one row per point, otherwise one per corner once spread.

    kinds: interpolation of each, in the order UV sets, normals, colours.
    """

    sets: list[str]
    uvs: list[F32]
    normals: F32 | None
    colors: F32 | None
    kinds: list[str]
    by_point: bool

    @classmethod
    def read(
        cls, mesh: Any, api: Any, time: Any, wanted: tuple[str, ...], sizes: Mapping[str, int], notes: list[Said]
    ) -> Corners:
        """sizes: see `fitted`. notes: what is to be told is added there."""
        points = sizes["vertex"]
        sets: list[str] = []
        uvs: list[F32] = []
        kinds: list[str] = []
        for name in uv_names(api, wanted):
            primvar, what = api.GetPrimvar(name), f"the UV set “{name[:60]}”"
            flat = flattened(primvar, time, 2, what, notes)
            flat, kind = fitted(flat, primvar.GetInterpolation(), sizes, what, notes)
            if flat is None:
                continue
            uv = np.nan_to_num(flat)
            uv[:, 1] = 1.0 - uv[:, 1]
            sets.append(name)
            uvs.append(uv)
            kinds.append(kind)
        normals, normal_kind = fitted(*normals_of(mesh, api, time, notes), sizes, "the normals", notes)
        colors, color_kind = fitted(*color_of(api, time, notes), sizes, "the colours", notes)
        kinds += [normal_kind, color_kind]
        out = cls(sets, uvs, normals, colors, kinds, False)
        rows = [*uvs, normals, colors]
        there = [(len(v), k) for v, k in zip(rows, kinds, strict=True) if v is not None]
        if all((k in ("vertex", "varying") and n == points) or (k == "constant" and n) for n, k in there):
            out.by_point = True
            spread_ = [
                v if v is None or k != "constant" else np.repeat(v[:1], points, axis=0)
                for v, k in zip(rows, kinds, strict=True)
            ]
            out.uvs = [u for u in spread_[:-2] if u is not None]
            out.normals, out.colors = spread_[-2], spread_[-1]
            out.kinds = ["vertex"] * len(kinds)
        return out

    def at_corners(self, corner: I64, counts: I64, order: I64 | None = None) -> Corners:
        """The same with a row per corner; `order` takes face-varying rows in another order. Too short ones go."""
        if self.kinds and all(k == "corner" for k in self.kinds):
            return self
        face_of = np.repeat(np.arange(len(counts)), counts)

        def row(values: F32 | None, kind: str) -> F32 | None:
            if values is None:
                return None
            found = per_corner(values, kind, corner, face_of)
            if found is not None and kind == "faceVarying" and order is not None:
                found = found[order]
            return None if found is None else np.ascontiguousarray(found, np.float32)

        uvs = [row(u, k) for u, k in zip(self.uvs, self.kinds, strict=False)]
        kept = [k for k, u in enumerate(uvs) if u is not None]
        return Corners(
            [self.sets[k] for k in kept],
            [u for u in uvs if u is not None],
            row(self.normals, self.kinds[-2]),
            row(self.colors, self.kinds[-1]),
            ["corner"] * (len(kept) + 2),
            False,
        )

    def kept(self, keep: AnyArray) -> Corners:
        """Only the marked corners; for data that is at corners."""
        return replace(
            self,
            uvs=[u[keep] for u in self.uvs],
            normals=None if self.normals is None else self.normals[keep],
            colors=None if self.colors is None else self.colors[keep],
        )


def cage_recipe(
    mesh: Any, time: Any, scheme: str, points: F64, corner: I64, counts: I64, slots: I32, uvs: list[F32]
) -> Recipe | None:
    """What refining takes: the cage with its creases. None for one that cannot be refined."""
    usable = (corner >= 0) & (corner < len(points))
    if not usable.all() or (counts < 3).any() or not usable_rows(points).all():
        return None
    arrays: dict[str, AnyArray] = {"points": points, "corner": corner, "counts": counts, "material": slots}
    arrays |= {f"uv{k}": u.astype(np.float64) for k, u in enumerate(uvs)}
    lengths: I64 = np.asarray(value(mesh.GetCreaseLengthsAttr(), time, ()), np.int64).reshape(-1)
    chain: I64 = np.asarray(value(mesh.GetCreaseIndicesAttr(), time, ()), np.int64).reshape(-1)
    sharp: F64 = np.asarray(value(mesh.GetCreaseSharpnessesAttr(), time, ()), np.float64).reshape(-1)
    edges: list[tuple[int, int]] = []
    values: list[float] = []
    at = 0
    for i, n in enumerate(lengths.tolist()):
        run = chain[at : at + n].tolist()
        at += n
        for k, pair in enumerate(zip(run, run[1:], strict=False)):
            j = i if len(sharp) == len(lengths) else at - n - i + k
            if j < len(sharp):
                edges.append(pair)
                values.append(float(sharp[j]))
    if edges:
        arrays |= {"edges": np.array(edges, np.int64), "sharpness": np.array(values)}
    corners: I64 = np.asarray(value(mesh.GetCornerIndicesAttr(), time, ()), np.int64).reshape(-1)
    if len(corners):
        strength: F64 = np.asarray(value(mesh.GetCornerSharpnessesAttr(), time, ()), np.float64).reshape(-1)
        if len(strength) == len(corners):
            arrays |= {"corners": corners, "cornerSharpness": strength}
    return Recipe("subdivision", {"scheme": scheme, "uvs": len(uvs)}, arrays)


def reversed_faces(counts: I64) -> I64:
    """Corner order that runs every face the other way round, beginning with the same corner."""
    first = np.repeat(np.cumsum(counts) - counts, counts)
    size = np.repeat(counts, counts)
    within = np.arange(int(counts.sum())) - first
    out: I64 = first + (size - within) % np.maximum(size, 1)
    return out


def normals_of(mesh: Any, api: Any, time: Any, notes: list[Said]) -> tuple[F32 | None, str]:
    """Normals as authored, and their interpolation; the primvar goes before the attribute."""
    primvar = api.GetPrimvar("normals")
    if primvar and primvar.HasValue():
        return flattened(primvar, time, 3, "the normals", notes), primvar.GetInterpolation()
    attribute = mesh.GetNormalsAttr()
    flat = attribute.Get(time) if attribute else None
    if flat is None or not len(flat):
        return None, "vertex"
    values = np.asarray(flat, np.float32).reshape(-1, 3)
    # one for all is what a flat sheet has, whatever it says
    return values, "constant" if len(values) == 1 else mesh.GetNormalsInterpolation()


def color_of(api: Any, time: Any, notes: list[Said]) -> tuple[F32 | None, str]:
    """Vertex colours of displayColor when it varies over the prim; a constant one becomes a material."""
    primvar = api.GetPrimvar("displayColor")
    if not primvar or not primvar.HasValue() or primvar.GetInterpolation() == "constant":
        return None, "vertex"
    flat = flattened(primvar, time, 3, "the colours", notes)
    if flat is None or flat.shape[1] != 3:
        return None, "vertex"
    out: F32 = np.column_stack([np.clip(np.nan_to_num(flat), 0, 1), np.ones(len(flat))]).astype(np.float32)
    return out, primvar.GetInterpolation()


def read_primitive(prim: Any, time: Any, material: int, metres: float, name: str) -> Surface:
    """A Cube, Sphere, Cylinder, Cone, Capsule or Plane as a recipe and its mesh."""
    kind = str(prim.GetTypeName())

    def number(attribute: str, spare: float) -> float:
        found = value(prim.GetAttribute(attribute), time, spare)
        return float(found) if np.isfinite(float(found)) else spare

    axis = str(value(prim.GetAttribute("axis"), time, "Z"))
    values: dict[str, Any] = {"material": material, "axis": axis if axis in ("X", "Y", "Z") else "Z"}
    if kind == "Cube":
        size = number("size", 2.0)
        values |= {"shape": "box", "x": size, "y": size, "z": size, "axis": "Z"}
    elif kind == "Plane":
        values |= {"shape": "plane", "width": number("width", 2.0), "length": number("length", 2.0)}
    else:
        values |= {"shape": kind.split("_")[0].lower(), "radius": number("radius", 1.0 if kind != "Capsule" else 0.5)}
        if kind != "Sphere":
            values["height"] = number("height", 2.0 if kind != "Capsule" else 1.0)
        if kind in ("Cylinder_1", "Capsule_1"):
            values["radius"] = number("radiusBottom", 1.0)
    if any(not values[k] > 0 for k in ("x", "width", "length", "radius") if k in values):
        return Surface(None)
    mesh = make(Recipe("primitive", values), Fineness(), metres, name)
    round_ = values["shape"] not in ("box", "plane")
    return Surface(mesh, ("st",), converted=("parametric primitives", "meshes", "2 mm" if round_ else ""))


def read_curves(prim: Any, time: Any, material: int, metres: float, name: str) -> Surface:
    """BasisCurves with widths as tubes, with normals as ribbons."""
    curves = UsdGeom.BasisCurves(prim)
    points: F64 = np.asarray(value(curves.GetPointsAttr(), time, ()), np.float64).reshape(-1, 3)
    counts: I64 = np.asarray(value(curves.GetCurveVertexCountsAttr(), time, ()), np.int64).reshape(-1)
    widths: F64 = np.asarray(value(curves.GetWidthsAttr(), time, ()), np.float64).reshape(-1)
    if not len(points) or (counts < 0).any() or counts.sum() > len(points) or not usable_rows(points).all():
        return Surface(None)
    if not len(widths) or not (np.nan_to_num(widths) > 0).any():
        return Surface(None, guess="thin")
    wide = spread(np.nan_to_num(widths), len(points), counts)
    linear = str(value(curves.GetTypeAttr(), time, "cubic")) == "linear"
    basis = "linear" if linear else str(value(curves.GetBasisAttr(), time, "bezier"))
    if basis not in ("linear", "bezier", "bspline", "catmullRom"):
        return Surface(None, guess="basis")
    wrap = str(value(curves.GetWrapAttr(), time, "nonperiodic"))
    if wrap == "pinned" and basis in ("bspline", "catmullRom"):
        points, wide, counts = pinned(points, wide, counts, basis)
    arrays: dict[str, AnyArray] = {"points": points, "counts": counts, "widths": wide}
    facing = np.asarray(value(curves.GetNormalsAttr(), time, ()), np.float64).reshape(-1, 3)
    if len(facing) and wrap != "pinned":
        arrays["normals"] = spread(facing, len(points), counts)
    values = {"basis": basis, "closed": wrap == "periodic", "material": material}
    recipe = Recipe("tube", values, arrays)
    try:
        mesh = make(recipe, Fineness(), metres, name)
    except ValueError:  # hair: more than any mesh holds, so as coarse as can be, or not at all
        try:
            mesh = make(recipe, Fineness(segments=3), metres, name)
        except ValueError:
            return Surface(None, guess="thin")
    into = "ribbons" if "normals" in arrays else "tubes"
    return Surface(mesh, ("st",), converted=("curves", into, "2 mm"))


def spread(values: AnyArray, points: int, counts: I64) -> AnyArray:
    """Per-point values from one for all, one per curve, or one per point; varying ones are stretched."""
    if len(values) == points:
        return values
    if len(values) == len(counts):
        return np.repeat(values, counts, axis=0)
    if len(values) == 1:
        return np.repeat(values, points, axis=0)
    where = np.linspace(0, len(values) - 1, points)
    if values.ndim == 1:
        return np.interp(where, np.arange(len(values)), values)
    return values[np.rint(where).astype(np.int64)]


def pinned(points: F64, widths: F64, counts: I64, basis: str) -> tuple[F64, F64, I64]:
    """Curves that shall reach their ends get phantom points there (UsdGeomBasisCurves, “pinned”)."""
    out_p, out_w, out_c = [], [], []
    at = 0
    for n in counts.tolist():
        p, w = points[at : at + n], widths[at : at + n]
        at += n
        if n < 2:
            continue
        out_p.append(np.concatenate([[2 * p[0] - p[1]], p, [2 * p[-1] - p[-2]]]))
        out_w.append(np.concatenate([w[:1], w, w[-1:]]))
        out_c.append(n + 2)
    if not out_p:
        return points[:0], widths[:0], counts[:0]
    return np.concatenate(out_p), np.concatenate(out_w), np.array(out_c, np.int64)
