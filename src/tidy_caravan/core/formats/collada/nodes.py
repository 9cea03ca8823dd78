"""COLLADA visual scenes into nodes: transform stacks, instances of nodes and geometries, layers, lights, cameras."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tidy_caravan.core.errors import TooLarge
from tidy_caravan.core.formats.collada.looks import Looks
from tidy_caravan.core.formats.collada.meshes import Geometry, Unreadable, read_geometry
from tidy_caravan.core.formats.collada.skins import Posed, bound, posed, source_geometry
from tidy_caravan.core.formats.collada.xml import Document, Element, label, number, numbers
from tidy_caravan.core.formats.shared.affine import LEFT_OUT, affine, beyond_affine
from tidy_caravan.core.formats.shared.bundle import Budget, Limits
from tidy_caravan.core.formats.shared.many import tell, tell_rest
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.geometry.folds import Folds, folds_of
from tidy_caravan.core.geometry.own_origin import placed_at
from tidy_caravan.core.scene import SHARP, Camera, Light, Mesh, Nodes, Note, make_nodes
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.space.srgb import linear
from tidy_caravan.core.words import plural

DEEPEST = 400
PIVOTS = ("rotatepivot", "scalepivot", "pivot")
TRANSFORMS = ("matrix", "translate", "rotate", "scale", "lookat", "skew")
LAST_ROW = [0.0, 0.0, 0.0, 1.0]
UNUSABLE = np.full((4, 4), np.nan)


@dataclass
class Builder:
    """Grows the columns of the nodes while the tree is walked."""

    document: Document
    looks: Looks
    budget: Budget
    limits: Limits
    notes: list[Note]
    travels: Travels
    metres: float | None = None
    parent: list[int] = field(default_factory=list)
    local: list[F64] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    origin: dict[int, F64] = field(default_factory=dict)
    rows: dict[str, int] = field(default_factory=dict)
    controlled: list[tuple[int, Element]] = field(default_factory=list)
    mesh_of: list[int] = field(default_factory=list)
    light_of: list[int] = field(default_factory=list)
    camera_of: list[int] = field(default_factory=list)
    layer_of: list[int] = field(default_factory=list)
    extras: dict[int, Any] = field(default_factory=dict)
    ids: dict[int, str] = field(default_factory=dict)
    layers: list[str] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)
    lights: list[Light] = field(default_factory=list)
    cameras: list[Camera] = field(default_factory=list)
    _geometry: dict[str, Geometry | None] = field(default_factory=dict)
    _mesh: dict[tuple[Any, ...], int] = field(default_factory=dict)
    _by_content: dict[str, int] = field(default_factory=dict)
    _quick: dict[tuple[Any, ...], tuple[int, F64]] = field(default_factory=dict)
    _thing: dict[str, int] = field(default_factory=dict)
    _told: dict[str, int] = field(default_factory=dict)
    folded: dict[int, Folds] = field(default_factory=dict)
    """By mesh, of its polygons."""

    def note(self, kind: Any, code: str, where: str, text: str) -> None:
        tell(self.notes, self._told, Note(kind, code, where[:120], text))

    def close(self) -> None:
        """Tells how much was only counted on the way."""
        tell_rest(self.notes, self._told, self.document.name)

    def add(self, name: str, parent: int, local: F64, layer: int) -> int:
        if len(self.parent) >= self.limits.nodes:
            raise TooLarge(f"there are more than {self.limits.nodes} nodes", where=self.document.name)
        self.parent.append(parent)
        self.local.append(local)
        self.names.append(name)
        self.layer_of.append(layer)
        for column in (self.mesh_of, self.light_of, self.camera_of):
            column.append(-1)
        return len(self.parent) - 1

    def node(self, element: Element, parent: int, path: tuple[int, ...] = (), layer: int = -1) -> None:
        """One node element with everything below it; `path` holds the elements above, to notice cycles."""
        if id(element) in path:
            self.note("damaged", "import.cycle", label(element), "A node contains itself; it was left out there.")
            return
        if len(path) > DEEPEST:
            self.note(
                "damaged", "import.deep", label(element), f"The tree is deeper than {DEEPEST}; the rest was left out."
            )
            return
        own = (element.get("layer") or "").split()
        if own:
            if own[0] not in self.layers:
                self.layers.append(own[0])
            layer = self.layers.index(own[0])
        local, pivot = self.transform(element)
        here = self.add(label(element), parent, local, layer)
        if element.get("id"):
            self.ids[here] = element.get("id")
        if pivot is not None:
            self.extras[here] = {"pivot": pivot}
        for key in (element.get("sid"), element.get("id"), element.get("name")):
            if key:
                self.rows.setdefault(key, here)
        below = (*path, id(element))
        drawn = 0
        for child in element:
            if child.tag == "node":
                self.node(child, here, below, layer)
            elif child.tag == "instance_node":
                target = self.document.target(child.get("url"))
                if target is None:
                    self.note(
                        "behind", "import.reference", child.get("url") or "",
                        f"The node “{(child.get('url') or '')[:80]}” is not in the file; only what the file holds is read.",
                    )  # fmt: skip
                else:
                    self.node(target, here, below, layer)
            elif child.tag == "instance_controller":
                # drawn once the whole tree stands: its joints place it
                taken = drawn or self.light_of[here] >= 0 or self.camera_of[here] >= 0
                holder = self.add(f"{label(element)}_{drawn + 1}", here, np.eye(4), layer) if taken else here
                self.controlled.append((holder, child))
                drawn += 1
            elif child.tag == "instance_geometry":
                mesh, origin = self.instance(child)
                if mesh >= 0:
                    # a second geometry on one node gets a node of its own below it, as does one whose origin would
                    # move a light or camera
                    seen = origin.any() and (self.light_of[here] >= 0 or self.camera_of[here] >= 0)
                    alone = drawn == 0 and not seen
                    holder = here if alone else self.add(f"{label(element)}_{drawn + 1}", here, np.eye(4), layer)
                    self.mesh_of[holder] = mesh
                    if origin.any():
                        self.origin[holder] = origin
                    drawn += 1
            elif child.tag == "instance_light":
                self.viewer(child, here, self.light_of, self.light(child.get("url")), layer)
            elif child.tag == "instance_camera":
                self.viewer(child, here, self.camera_of, self.camera(child.get("url")), layer)

    def viewer(self, element: Element, here: int, column: list[int], index: int, layer: int) -> None:
        if index < 0:
            return
        taken = self.mesh_of[here] >= 0 or self.light_of[here] >= 0 or self.camera_of[here] >= 0
        holder = self.add(f"{self.names[here]}_view", here, np.eye(4), layer) if taken else here
        column[holder] = index

    def transform(self, element: Element) -> tuple[F64, list[float] | None]:
        """Product of a node's transform elements in their order, and a pivot that they name but do not become."""
        stack = [child for child in element if child.tag in TRANSFORMS]
        out: F64 | None = None
        pivot: list[float] | None = None
        for child in stack:
            try:
                values = numbers(child)
                one = matrix_of(child.tag, values)
            except ValueError:
                one = UNUSABLE
            if not np.isfinite(one).all():
                self.note(
                    "damaged",
                    "import.transform",
                    label(element),
                    f"A {child.tag} holds no usable numbers and was left out.",
                )
                continue
            # most are plain, and asked by numbers of Python: there are as many as nodes
            if child.tag == "matrix" and one[3].tolist() != LAST_ROW:
                if beyond_affine(one[None])[0]:
                    self.note("damaged", "import.transform", label(element), LEFT_OUT)
                one = affine(one[None])[0]
            sid = (child.get("sid") or "").lower()
            if child.tag == "translate" and sid in PIVOTS and np.abs(values[:3]).max() > 0:
                pivot = ((np.eye(4) if out is None else out) @ np.append(values[:3], 1.0))[:3].tolist()
            out = one if out is None else out @ one
        return np.eye(4) if out is None else out, pivot

    def instance(self, element: Element) -> tuple[int, F64]:
        """Mesh of an instance with its materials bound, -1 for none, and its origin (3,); instances with equal
        bindings share it."""
        url = element.get("url") or ""
        bindings = [
            (b.get("symbol"), b.get("target"), *(tuple(v.attrib.items()) for v in b))
            for b in element.iter("instance_material")
        ]
        quick = (element.tag, url, tuple(bindings))
        if quick not in self._quick:
            self._quick[quick] = self._instance(element, url)
        return self._quick[quick]

    def _instance(self, element: Element, url: str) -> tuple[int, F64]:
        geometry = self.geometry(url)
        if geometry is None:
            return -1, np.zeros(3)
        return self.dressed(element, url, geometry), geometry.origin

    def pose(self) -> None:
        """Meshes of all controllers, by the joints and weights as they stand in the file."""
        if not self.controlled:
            return
        world = make_nodes(self.parent, np.array(self.local).reshape(-1, 4, 4), self.names).world
        for holder, element in self.controlled:
            url = element.get("url") or ""
            controller = self.document.target(url)
            geometry = self.geometry(source_geometry(self.document, url))
            if controller is None or geometry is None:
                self.note("behind", "import.reference", url, f"The controller “{url[:80]}” is not in the file.")
                continue
            try:
                made = posed(controller, self.document, geometry, self.rows, world, holder, self.geometry, self.budget)
            except (Unreadable, ValueError) as error:
                why = error.what if isinstance(error, Unreadable) else "it holds a word where a number should be"
                self.note("damaged", "import.controller", url, f"Left in the shape it was bound in, because {why}.")
                made = Posed(bound(controller, geometry), False)
            pose = "the pose of its joints" if made.whole else "the shape it was bound in"
            self.travels.converted("skinned and morphed surfaces", 1, f"the mesh in {pose}")
            self.note("converted", "import.controller", url, f"A skin or morph became the mesh in {pose}.")
            self.mesh_of[holder] = self.dressed(element, f"{url} {holder}", made.geometry)
            if made.geometry.origin.any():
                self.origin[holder] = made.geometry.origin

    def dressed(self, element: Element, source: str, geometry: Geometry) -> int:
        """Mesh of a geometry under the materials that an instance binds, -1 for none."""
        slots: dict[str, int] = {}
        orders: list[tuple[int, ...]] = []
        for binding in element.iterfind("bind_material/technique_common/instance_material"):
            index = self.looks.material(binding.get("target") or "")
            slots[binding.get("symbol") or ""] = index
            orders.append(self.channels(binding, index, geometry))
        for symbol in geometry.symbol_of:
            if symbol and symbol not in slots:
                # many files bind by the material's own name and leave the binding out
                known = self.document.by_id.get(symbol)
                if known is not None and known.tag == "material":
                    slots[symbol] = self.looks.material(f"#{symbol}")
        wanted = tuple(dict.fromkeys(k for order in orders for k in order))
        order = wanted + tuple(k for k in sorted(geometry.uvs) if k not in wanted)
        key = (source, tuple(sorted(slots.items())), order)
        if key not in self._mesh:
            mesh, dropped = geometry.mesh(slots, order)
            if dropped:
                self.note(
                    "damaged", "import.face", geometry.name,
                    f"{plural(dropped, 'face')} of “{geometry.name[:60]}” {'was' if dropped == 1 else 'were'} left out: too few corners, indices that point at "
                    "nothing, or positions that are no numbers.",
                )  # fmt: skip
            if mesh is None:
                self._mesh[key] = -1
            else:
                index = self._by_content.setdefault(mesh.id, len(self.meshes))
                if index == len(self.meshes):
                    self.meshes.append(mesh)
                    self.folded[index] = folds_of(geometry.points, geometry.corner, geometry.counts)
                self._mesh[key] = index
        return self._mesh[key]

    def channels(self, bound: Element, material: int, geometry: Geometry) -> tuple[int, ...]:
        """Sets of the geometry in the order in which the material's pictures ask for them."""
        named = {
            b.get("semantic"): int(b.get("input_set") or 0)
            for b in bound.findall("bind_vertex_input")
            if b.get("input_semantic") in ("TEXCOORD", None) and (b.get("input_set") or "0").isdigit()
        }
        out = []
        free = [k for k in sorted(geometry.uvs) if k not in named.values()]
        for name in self.looks.texcoords.get(material, []):
            if name in named and named[name] in geometry.uvs:
                out.append(named[name])
            elif free:
                out.append(free.pop(0))
        return tuple(out)

    def geometry(self, url: str) -> Geometry | None:
        if url not in self._geometry:
            element = self.document.target(url)
            if element is None or element.tag != "geometry":
                self.note("behind", "import.reference", url, f"The geometry “{url[:80]}” is not in the file.")
                self._geometry[url] = None
            else:
                self._geometry[url] = read_geometry(
                    element, self.document, self.budget, self.notes, self.travels, self.metres
                )
        return self._geometry[url]

    def light(self, url: str | None) -> int:
        """Index of a light; the format has no physical intensity, which is told as a guess."""
        key = f"light {url}"
        if key not in self._thing:
            self._thing[key] = -1
            element = self.document.target(url)
            holder = element.find("technique_common") if element is not None else None
            kind = (
                next((c for c in holder if c.tag in ("directional", "point", "spot", "ambient")), None)
                if holder is not None
                else None
            )
            if kind is None:
                self.note("damaged", "import.light", url or "", "A light without a usable kind was left out.")
            elif kind.tag == "ambient":
                self.travels.behind("ambient lights", 1, "receivers light the surroundings by their sky")
            else:
                try:
                    rgb = [float(c) for c in np.nan_to_num(numbers(kind.find("color")))[:3]] or [1.0, 1.0, 1.0]
                except ValueError:
                    rgb = [1.0, 1.0, 1.0]
                top = max(1.0, *rgb)
                cone = math.radians(min(180.0, max(0.1, number(kind.find("falloff_angle"), 180.0)))) / 2
                cone = min(cone, math.pi / 2)
                sharp = not number(kind.find("falloff_exponent"), 0.0) > 0
                self._thing[key] = len(self.lights)
                self.lights.append(
                    Light(
                        kind.tag,
                        label(element),
                        tuple(linear([max(0.0, c) / top for c in [*rgb, 1.0, 1.0][:3]]).tolist()),
                        intensity=top,
                        inner_cone=cone * SHARP if sharp else 0.0,
                        outer_cone=cone,
                    )
                )
                self.note(
                    "guess",
                    "import.light-intensity",
                    label(element),
                    "COLLADA lights have no physical unit; the number was kept.",
                )
        return self._thing[key]

    def camera(self, url: str | None) -> int:
        key = f"camera {url}"
        if key not in self._thing:
            self._thing[key] = -1
            element = self.document.target(url)
            lens = element.find("optics/technique_common/*") if element is not None else None
            if lens is None or lens.tag not in ("perspective", "orthographic"):
                self.note("damaged", "import.camera", url or "", "A camera without usable optics was left out.")
                return -1
            aspect = number(lens.find("aspect_ratio"), 0.0)
            near, far = number(lens.find("znear"), 0.1), number(lens.find("zfar"), 0.0)
            near = near if near > 0 else 0.1
            if lens.tag == "perspective":
                x, y = number(lens.find("xfov"), 0.0), number(lens.find("yfov"), 0.0)
                if x and y and not aspect:
                    aspect = math.tan(math.radians(x) / 2) / math.tan(math.radians(y) / 2)
                if not y:
                    half = math.tan(math.radians(min(179.0, x or 45.0)) / 2)
                    y = math.degrees(2 * math.atan(half / (aspect or 1.0)))
                made = Camera(
                    "perspective", label(element), math.radians(min(179.0, y)), aspect or None,
                    znear=near, zfar=far if far > near else None,
                )  # fmt: skip
            else:
                xm, ym = number(lens.find("xmag"), 0.0), number(lens.find("ymag"), 0.0)
                xm = xm or ym * (aspect or 1.0) or 1.0
                ym = ym or xm / (aspect or 1.0)
                made = Camera(
                    "orthographic", label(element), xmag=xm, ymag=ym, znear=near, zfar=far if far > near else None
                )
            self._thing[key] = len(self.cameras)
            self.cameras.append(made)
        return self._thing[key]

    def nodes(self) -> Nodes:
        self.pose()
        count = len(self.parent)
        local = np.array(self.local).reshape(count, 4, 4)
        if self.origin:
            origins = np.zeros((count, 3))
            origins[list(self.origin)] = list(self.origin.values())
            local = placed_at(local, np.array(self.parent), origins)
        return make_nodes(
            self.parent,
            local,
            self.names,
            mesh=self.mesh_of,
            light=self.light_of,
            camera=self.camera_of,
            layer=self.layer_of,
            extras=self.extras,
            ids=self.ids,
        )


def matrix_of(kind: str, v: F64) -> F64:
    """(4, 4) of one transform element (chapter 5 of 1.4.1). Raises ValueError for a wrong number of values."""
    need = {"matrix": 16, "translate": 3, "rotate": 4, "scale": 3, "lookat": 9, "skew": 7}[kind]
    if len(v) != need:
        raise ValueError
    if kind == "matrix":
        return v.reshape(4, 4)
    out = np.eye(4)
    if kind == "translate":
        out[:3, 3] = v
    elif kind == "scale":
        out[:3, :3] = np.diag(v)
    elif kind == "rotate":
        out[:3, :3] = axis_turn(v[:3], math.radians(v[3]))
    elif kind == "lookat":
        eye, at, up = v[:3], v[3:6], v[6:]
        back = eye - at
        right = np.cross(up, back)
        if not np.linalg.norm(back) > 0 or not np.linalg.norm(right) > 0:
            raise ValueError
        back, right = back / np.linalg.norm(back), right / np.linalg.norm(right)
        out[:3, :3] = np.column_stack([right, np.cross(back, right), back])
        out[:3, 3] = eye
    else:
        # RenderMan's skew: vectors along the second axis lean towards it by the angle within their plane
        turn, along = v[1:4], v[4:7]
        if not np.linalg.norm(turn) > 0 or not np.linalg.norm(along) > 0:
            raise ValueError
        along = along / np.linalg.norm(along)
        across = turn - along * (turn @ along)
        if not np.linalg.norm(across) > 0:
            raise ValueError
        across = across / np.linalg.norm(across)
        lean, flat = float(turn @ along), float(turn @ across)
        angle = math.radians(v[0])
        a = lean * math.cos(angle) + flat * math.sin(angle)
        b = flat * math.cos(angle) - lean * math.sin(angle)
        if not abs(b) > 1e-12 or not abs(flat) > 1e-12:
            raise ValueError
        out[:3, :3] += (a / b - lean / flat) * np.outer(along, across)
    return out


def axis_turn(axis: F64, angle: float) -> F64:
    """(3, 3) rotation about an axis by Rodrigues' formula; the identity for an axis without length."""
    length = float(np.linalg.norm(axis))
    if not length > 0:
        return np.eye(3)
    x, y, z = axis / length
    k = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    out: F64 = np.eye(3) + math.sin(angle) * k + (1 - math.cos(angle)) * (k @ k)
    return out
