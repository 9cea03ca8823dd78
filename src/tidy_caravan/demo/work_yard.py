"""The fitters' yard behind the landing: one thing for every fault that the survey knows of, each in a place of its own.

What is wrong with a thing stands in `PLANTED`, by the finding that has to name it; the rest of the yard is sound. The
route that the survey proposes for it mends all but what a person has to see to.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache, partial
from typing import Any

import numpy as np
from PIL import Image as Picture

from tidy_caravan.core.formats import write
from tidy_caravan.core.scene import GLTF, Image, Material, Mesh, Scene, Texture, TextureUse, make_nodes
from tidy_caravan.demo.ferry_landing import Builder
from tidy_caravan.demo.shapes import Shape, beam, box, lathe, quads

WOOD, IRON, CLOTH, SIGN, BRICK, UNUSED, SHINGLE, RELIEF = range(8)
NAME = "fitters-yard"
RACK = ("rack_post", "rack_shelf", "rack_back")
PLANTED: dict[str, tuple[str, ...]] = {
    "faces.disagree": ("crate_with_a_face_turned",),
    "faces.inside-out": ("bollard_inside_out",),
    "faces.one-sided": ("twisted_strap",),
    "faces.seen-from-behind": ("poster_hung_backwards",),
    "faces.seen-from-both": (
        "bunting",
        "bracket_with_a_fin",
        "table_top_of_many_triangles",
        "tarpaulin",
        "belt_folded_onto_itself",
    ),
    "geometry.repeated": ("pallet_made_twice",),
    "geometry.degenerate": ("plank_with_slivers",),
    "geometry.non-manifold": ("bracket_with_a_fin",),
    "geometry.loose": ("trestle_with_loose_vertices",),
    "geometry.unjoined": ("trolley_unjoined", "bucket_without_normals"),
    "flicker.between": ("notice", "notice_board", "winch", "winch_again"),
    "flicker.within": ("hatch_on_itself",),
    "flicker.folded": ("belt_folded_onto_itself",),
    "gaps.leak": ("shelter_wall_west", "shelter_wall_east", "kerb_short", "kerb_after_it", "coal_box_cracked"),
    "normals.missing": ("bucket_without_normals",),
    "normals.broken": ("bucket_with_broken_normals",),
    "normals.opposed": ("bucket_with_opposed_normals",),
    "origin.apart": ("marker_left_out_at_sea",),
    "tangents.broken": ("relief_with_broken_tangents",),
    "tangents.opposed": ("relief_with_opposed_tangents",),
    "transform.mirrored": ("anchor_mirrored",),
    "transform.sheared": ("ladder_sheared",),
    "transform.flattened": ("shadow_scaled_flat",),
    "scale.hidden-unit": ("cable_drum_in_millimetres",),
    "scale.left": ("barrel_stretched", "brick_pier_large", "kerb_drawn_larger", "ladder_sheared", *RACK),
    "scale.shapes": RACK,
    "pivot.far": ("float_far_from_its_pivot", *(f"cone_{k}" for k in range(1, 8))),
    "pivot.together": ("cone_0",),
    "pivot.hinge": ("locker_leaf",),
    "part.twice": ("winch", "winch_again"),
    "grid.size": ("kerb_short",),
    "grid.scale": ("kerb_drawn_larger",),
    "grid.pivot": ("kerb_off_its_pivot",),
    "grid.seam": ("kerb_short", "kerb_after_it"),
    "uv.first-missing": ("sign_post",),
    "uv.first-flat": ("sign_smeared",),
    "uv.scale": ("wall_panel_with_small_bricks", "brick_pier_large"),
    "uv.instance-scale": ("brick_pier", "brick_pier_large"),
    "uv.content": ("tide_timetable_mirrored",),
    "uv.content-shape": ("departures_display_twice_as_wide",),
    "sharing.loose-copies": ("hook_1", "hook_2"),
    "structure.lump": ("crates_in_one_lump",),
    "density.fine": ("table_top_of_many_triangles",),
    "density.coarse": ("tarpaulin", "sample_of_shingle"),
    "name.clash": ("toolbox",),
    "name.forbidden": ("rope & tackle",),
    "tree.empty": ("empty_group",),
}
"""By the code of a finding, the parts that it has to name."""


def materials() -> tuple[Material, ...]:
    bricks = Material("bricks", (1.0, 1.0, 1.0, 1.0), 0.0, 0.9, base_color_texture=TextureUse(0))
    return (
        Material("tarred wood", (0.3, 0.2, 0.12, 1.0), 0.0, 0.8),
        Material("iron", (0.35, 0.36, 0.38, 1.0), 0.9, 0.5),
        Material("sailcloth", (0.85, 0.82, 0.72, 1.0), 0.0, 0.9),
        Material("enamel", (0.9, 0.9, 0.95, 1.0), 0.0, 0.2, base_color_texture=TextureUse(0)),
        bricks,
        Material("nobody uses this", (1.0, 0.0, 1.0, 1.0)),
        Material("shingle", (0.6, 0.57, 0.5, 1.0), 0.0, 0.9, extras={"displacement": "shingle_height.png"}),
        replace(bricks, name="bricks in relief", normal_texture=TextureUse(1)),
    )


def bricks() -> bytes:
    """Courses of bricks as PNG, 128 × 128."""
    rows, columns = np.mgrid[0:128, 0:128]
    joint = (rows % 16 < 2) | ((columns + 16 * (rows // 16 % 2)) % 32 < 2)
    picture = np.where(joint[..., None], (200, 195, 185), (150, 70, 55)).astype(np.uint8)
    out = io.BytesIO()
    Picture.fromarray(picture).save(out, "PNG")
    return out.getvalue()


def sheet(width: float, height: float, slot: int) -> Shape:
    """Upright, its front to the south."""
    x = width / 2
    return quads(np.array([[-x, 0, 0], [x, 0, 0], [x, 0, height], [-x, 0, height]]), [[0, 1, 2, 3]], slot)


def turned(shape: Shape, *rows: int) -> Shape:
    points = shape.points.copy()
    points[list(rows)] = points[list(rows)][:, ::-1]
    return Shape(points, shape.slot)


def strap() -> Shape:
    """A band that comes back to itself with its sides exchanged."""
    turn = np.linspace(0, 2 * np.pi, 41)
    out = []
    for side in (-0.12, 0.12):
        radius = 0.3 + side * np.cos(turn / 2)
        out.append(np.column_stack([radius * np.cos(turn), radius * np.sin(turn), 0.5 + side * np.sin(turn / 2)]))
    low, high = out
    triangles = [[low[:-1], low[1:], high[1:]], [low[:-1], high[1:], high[:-1]]]
    points = np.concatenate([np.stack(t, axis=1) for t in triangles])
    return Shape(points, np.full(len(points), CLOTH))


def plate(size: float, parts: int, slot: int) -> Shape:
    """A table top whose upper side is divided much more than it needs."""
    step = np.linspace(-size / 2, size / 2, parts + 1)
    x, y = np.meshgrid(step, step, indexing="ij")
    grid = np.stack([x, y, np.full_like(x, 0.9)], axis=2)
    a, b, c, d = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    points = np.concatenate([np.stack(t, axis=2).reshape(-1, 3, 3) for t in ((a, b, c), (a, c, d))])
    return Shape(points, np.full(len(points), slot))


class Yard:
    """Things in rows, three metres apart. special: by name of a mesh, what is done to it when it is whole."""

    def __init__(self) -> None:
        self.b = Builder(scale=1.0)
        self.top = self.b.node("fitters_yard")
        self.count = 0
        self.special: dict[str, Callable[[Mesh], Mesh]] = {}

    def place(self) -> tuple[float, float, float]:
        """The next free one."""
        self.count += 1
        return 3.0 * (self.count % 8), -3.0 * (self.count // 8), 0.0

    def put(self, name: str, shape: Shape, at: tuple[float, float, float] | None = None, **how: Any) -> int:
        """A part with a mesh of its own; its node. how: of the node, and `mesh` of the mesh."""
        mesh = self.b.mesh(shape, name, **how.pop("mesh", {}))
        return self.b.node(name, how.pop("parent", self.top), mesh, self.place() if at is None else at, **how)

    def sharing(self, name: str, node: int, at: tuple[float, float, float] | None = None, **how: Any) -> int:
        """A part that draws the mesh of another."""
        return self.b.node(name, self.top, self.b.mesh_of[node], self.place() if at is None else at, **how)


def faces(y: Yard) -> None:
    y.put("crate_with_a_face_turned", turned(box(0.8, 0.8, 0.8, WOOD), 4))
    bollard = lathe([(0.3, 0), (0.25, 0.2), (0.2, 0.6), (0.3, 0.8)], 16, IRON)
    y.put("bollard_inside_out", turned(bollard, *range(len(bollard.slot))))
    y.put("twisted_strap", strap())
    x, north, _ = y.place()
    y.put("hoarding", box(0.85, 0.1, 1.2, WOOD), (x, north, 0))
    y.put("poster_hung_backwards", sheet(0.6, 0.5, CLOTH), (x, north - 0.08, 0.5), turn=180)
    x, north, _ = y.place()
    y.put("bunting", sheet(1.5, 0.4, CLOTH), (x, north, 1.6))


def triangles(y: Yard) -> None:
    crate = box(0.85, 0.8, 0.15, WOOD)
    y.put("pallet_made_twice", crate)
    y.special["pallet_made_twice"] = lambda m: more(m, m.indices[:2][:, [1, 2, 0]])
    y.put("plank_with_slivers", box(2.0, 0.2, 0.05, WOOD))
    y.special["plank_with_slivers"] = lambda m: more(m, [[m.indices[0, 0], m.indices[0, 0], m.indices[0, 1]]] * 3)
    fin = quads(
        np.array([[-0.2, -0.2, 0.4], [0.2, -0.2, 0.4], [0.2, -0.5, 0.7], [-0.2, -0.5, 0.7]]), [[0, 1, 2, 3]], IRON
    )
    y.put("bracket_with_a_fin", box(0.4, 0.4, 0.4, IRON) + fin)
    y.put("trestle_with_loose_vertices", box(1.2, 0.4, 0.8, WOOD))
    y.special["trestle_with_loose_vertices"] = with_loose
    y.put("trolley_unjoined", box(1.0, 0.6, 0.5, IRON))
    y.special["trolley_unjoined"] = apart
    x, north, _ = y.place()
    y.put("notice_board", box(0.85, 0.1, 0.8, WOOD), (x, north, 0.6))
    y.put("notice", sheet(0.5, 0.6, CLOTH), (x, north - 0.05, 0.7))
    lid = quads(
        np.array([[-0.4, -0.4, 0.3], [0.4, -0.4, 0.3], [0.4, 0.4, 0.3], [-0.4, 0.4, 0.3]]), [[0, 1, 2, 3]], IRON
    )
    y.put("hatch_on_itself", box(0.8, 0.8, 0.3, WOOD) + Shape(lid.points * (0.5, 0.5, 1.0), lid.slot))
    x, north, _ = y.place()
    y.put("shelter_wall_west", box(0.8, 0.1, 2.0, BRICK), (x - 0.401, north, 0))
    y.put("shelter_wall_east", box(0.8, 0.1, 2.0, BRICK), (x + 0.4, north, 0))
    y.put("coal_box_cracked", box(0.8, 0.6, 0.5, IRON))
    y.special["coal_box_cracked"] = cracked


def belt() -> Shape:
    """A strap that goes round a corner three times, and its end over its beginning."""
    flat = [
        (0, 0), (0.7, 0), (1, 0), (1, 0.3), (0.7, 0.3), (0, 0.3), (1, 0.7), (0.7, 0.7), (1, 1), (0.7, 1),
        (0.25, 0.7), (0.25, 1), (0.05, 0.7), (0.05, 1), (0.05, 0.3), (0.25, 0.3), (0.05, 0.1), (0.25, 0.1),
    ]  # fmt: skip
    ways = [
        [0, 1, 4, 5], [1, 2, 3, 4], [4, 3, 6, 7], [7, 6, 8, 9], [10, 7, 9, 11], [12, 10, 11, 13], [14, 15, 10, 12],
        [16, 17, 15, 14],
    ]  # fmt: skip
    return quads(np.array([(x - 0.5, 0, z) for x, z in flat]) * 0.93, ways, CLOTH)


def normals(y: Yard) -> None:
    for name, size in (("without", 1.0), ("with_broken", 1.1), ("with_opposed", 1.2)):
        bucket = lathe([(0.15 * size, 0), (0.2 * size, 0.3)], 16, IRON)
        y.put(f"bucket_{name}_normals", bucket, mesh={"normals": name != "without"})


def places(y: Yard) -> None:
    anchor = box(0.6, 0.2, 0.5, IRON)
    slanted = anchor.points * np.where(anchor.points[..., :1] > 0, (1.0, 1.0, 1.6), 1.0)
    y.put("anchor_mirrored", Shape(slanted, anchor.slot), scale=(-1, 1, 1))
    stretched = y.b.node("stretched_group", y.top, -1, y.place(), scale=(1.0, 1.0, 2.0))
    y.put("ladder_sheared", box(0.5, 0.08, 1.1, WOOD), (0, 0, 0), parent=stretched, turn=35)
    y.put("shadow_scaled_flat", box(1.0, 0.9, 0.2, CLOTH), scale=(1, 0, 1))
    drum = lathe([(0.4, 0), (0.4, 0.08), (0.2, 0.1), (0.2, 0.5), (0.4, 0.52), (0.4, 0.6)], 16, WOOD)
    y.put("cable_drum_in_millimetres", drum, scale=(0.001,) * 3)
    y.special["cable_drum_in_millimetres"] = lambda m: replace(m, positions=m.positions * np.float32(1000))
    y.put("barrel_stretched", lathe([(0.25, 0), (0.32, 0.4), (0.25, 0.8)], 14, WOOD), scale=(1.0, 1.3, 1.0))
    y.put("float_far_from_its_pivot", lathe([(0.1, 0), (0.25, 0.25), (0.1, 0.5)], 10, CLOTH).at(-9, 4, 0), (33, 5, 0))
    y.put("locker_leaf", box(0.7, 0.04, 1.8, IRON))
    for k in range(8):
        cone = lathe([(0.2 + 0.01 * k, 0), (0.03, 0.5 + 0.02 * k)], 10, CLOTH)
        y.put(f"cone_{k}", cone.at(*((0.0, 0.0, 0.0) if k == 0 else (1.5 * k, 0.0, 0.0))), (2, 6, 0))
    post = y.put("rack_post", box(1.0, 1.0, 1.0, WOOD), scale=(0.1, 1.8, 0.12))
    y.sharing("rack_shelf", post, scale=(1.6, 0.04, 0.5))
    y.sharing("rack_back", post, scale=(1.6, 1.8, 0.03))
    x, north, _ = y.place()
    winch = y.put("winch", box(0.9, 0.5, 0.6, IRON), (x, north, 0))
    y.sharing("winch_again", winch, (x, north, 0))
    y.put("marker_left_out_at_sea", lathe([(0.4, 0), (0.45, 0.3), (0.1, 1.1)], 12, IRON), (5200, -4900, 0))


def modules(y: Yard) -> None:
    """A kerb of pieces two metres long and one high, no two alike; one is four millimetres short. The last stands once more, a
    centimetre longer by its node."""
    names = [f"kerb_{k}" for k in range(12)]
    names[3:6] = ["kerb_short", "kerb_after_it", "kerb_off_its_pivot"]
    for k, name in enumerate(names):
        length = 1.996 if name == "kerb_short" else 2.0
        off = 0.012 if name == "kerb_off_its_pivot" else 0.0
        last = y.put(name, box(length, 0.1 + 0.01 * k, 1.0, WOOD).at(length / 2 - off), (2.0 * k + off, 10, 0))
    y.sharing("kerb_drawn_larger", last, (26, 10, 0), scale=(1.005,) * 3)
    y.put("kerb_strip", box(0.06, 0.02, 1.0, IRON))


def coordinates(y: Yard) -> None:
    y.put("sign_post", box(0.5, 0.1, 0.8, WOOD), mesh={"uv": False})
    y.put("sign_smeared", box(0.6, 0.1, 0.6, SIGN))
    y.special["sign_smeared"] = lambda m: replace(m, uvs=(np.full_like(m.uvs[0], 0.25),))
    for k in range(8):
        y.put(f"wall_panel_{k}", box(0.8, 0.2 + 0.05 * k, 2.1, BRICK))
    for name, width in (
        ("relief", 0.63),
        ("relief_with_broken_tangents", 0.67),
        ("relief_with_opposed_tangents", 0.71),
    ):
        y.put(name, box(width, 0.23, 1.17, RELIEF))
    y.put("wall_panel_with_small_bricks", box(0.7, 0.22, 2.0, BRICK))
    y.special["wall_panel_with_small_bricks"] = lambda m: replace(m, uvs=(m.uvs[0] * 3,))
    for name, width, way in (("tide_timetable_mirrored", 0.5, -1), ("departures_display_twice_as_wide", 1.0, 1)):
        x, north, _ = y.place()
        y.put(f"{name.partition('_')[0]}_wall", box(1.2, 0.1, 1.2, WOOD), (x, north, 0))
        y.put(name, sheet(width, 0.5, SIGN), (x, north - 0.08, 0.5))
        y.special[name] = partial(once, way=way)
    pier = y.put("brick_pier", box(0.5, 0.55, 2.0, BRICK))
    y.sharing("brick_pier_large", pier, scale=(2.2,) * 3)


def once(mesh: Mesh, way: int) -> Mesh:
    """The sheet with its image on it once, as it should lie or mirrored."""
    x, y = mesh.positions[:, 0], mesh.positions[:, 1]
    u = 0.5 + way * (x - (x.min() + x.max()) / 2) / np.ptp(x)
    return replace(mesh, uvs=(np.stack([u, 1 - (y - y.min()) / np.ptp(y)], axis=1).astype(np.float32),))


def pieces(y: Yard) -> None:
    hook = beam((0, 0, 0), (0, 0, 0.5), 0.05, IRON) + beam((0, 0, 0.5), (0.2, 0.1, 0.6), 0.04, IRON)
    y.put("hook_1", hook, mesh={"smooth": True})
    y.b.node("hook_2", y.top, y.b.add_shape(hook, "hook_2", (0, 0, 0), 77), y.place())
    lump = box(0.3, 0.3, 0.3, WOOD)
    for k in range(1, 36):
        lump += box(0.3, 0.3, 0.3, WOOD).at(1.2 * (k % 6), 1.2 * (k // 6))
    y.put("crates_in_one_lump", lump, (9, -26, 0))
    y.put("table_top_of_many_triangles", plate(0.85, 40, WOOD))
    y.put("tarpaulin", sheet(0.8, 1.5, CLOTH))
    y.put("belt_folded_onto_itself", belt())
    y.put("sample_of_shingle", box(0.9, 0.6, 0.1, SHINGLE))
    y.put("toolbox", box(0.6, 0.3, 0.25, IRON))
    y.put("toolbox", box(0.6, 0.3, 0.3, IRON))
    y.put("rope & tackle", lathe([(0.2, 0), (0.2, 0.15)], 12, CLOTH))
    y.b.mesh(box(0.1, 0.1, 0.1, IRON), "mesh_that_nothing_draws")
    y.b.node("empty_group", y.top, -1, y.place())


def more(mesh: Mesh, faces_: Any) -> Mesh:
    extra = np.asarray(faces_, np.uint32)
    slots = np.concatenate([mesh.material, mesh.material[: len(extra)]])
    return replace(mesh, indices=np.concatenate([mesh.indices, extra]), material=slots)


def with_loose(mesh: Mesh) -> Mesh:
    def longer(rows: Any) -> Any:
        return np.concatenate([rows, rows[:5]])

    assert mesh.normals is not None
    return replace(
        mesh,
        positions=longer(mesh.positions),
        normals=longer(mesh.normals),
        uvs=tuple(longer(u) for u in mesh.uvs),
    )


def relief() -> bytes:
    """The normals of such courses as PNG, 128 × 128: joints lie deeper, and their upper edges look down."""
    rows = np.mgrid[0:128, 0:128][0] % 16
    tilt = np.where(rows == 2, 0.5, np.where(rows == 15, -0.5, 0.0))
    normal = np.stack([np.zeros_like(tilt), tilt, np.sqrt(1 - tilt**2)], axis=-1)
    out = io.BytesIO()
    Picture.fromarray(np.round(normal * 127.5 + 127.5).astype(np.uint8)).save(out, "PNG")
    return out.getvalue()


def cracked(mesh: Mesh) -> Mesh:
    """A corner of one side a millimetre and a half before the others."""
    assert mesh.normals is not None
    positions = mesh.positions.copy()
    positions[0] += mesh.normals[0] * np.float32(0.0015)
    return replace(mesh, positions=positions)


def apart(mesh: Mesh) -> Mesh:
    """Every corner of every triangle a vertex of its own."""
    corners = mesh.indices.reshape(-1)
    assert mesh.normals is not None
    return replace(
        mesh,
        positions=mesh.positions[corners],
        normals=mesh.normals[corners],
        uvs=tuple(u[corners] for u in mesh.uvs),
        indices=np.arange(len(corners), dtype=np.uint32).reshape(-1, 3),
    )


@lru_cache(maxsize=1)
def yard() -> Scene:
    y = Yard()
    for add in (faces, triangles, normals, places, modules, coordinates, pieces):
        add(y)
    b = y.b
    nodes = make_nodes(b.parents, b.matrices(), b.names, mesh=np.array(b.mesh_of))
    meshes = tuple(y.special[m.name](m) if m.name in y.special else m for m in b.meshes)
    images = (Image("bricks.png", "image/png", bricks()), Image("bricks_normal.png", "image/png", relief()))
    textures = (Texture(0, name="bricks"), Texture(1, name="bricks in relief"))
    return Scene(GLTF, nodes, meshes, materials(), textures, images)


def yard_files() -> dict[str, bytes]:
    """The yard as .gltf with its files, as a careless writer leaves it: our own would put broken normals right."""
    import orjson

    files: dict[str, bytes] = dict(write(yard(), "gltf", NAME).files)
    document = orjson.loads(files[f"{NAME}.gltf"])
    binary = next(name for name in files if name.endswith(".bin"))
    data = bytearray(files[binary])
    for name, kind, width, factor in (
        ("bucket_with_broken_normals", "NORMAL", 3, 0.0),
        ("bucket_with_opposed_normals", "NORMAL", 3, -1.0),
        ("relief_with_broken_tangents", "TANGENT", 4, 0.0),
        ("relief_with_opposed_tangents", "TANGENT", 4, (1.0, 1.0, 1.0, -1.0)),
    ):
        mesh = next(m for m in document["meshes"] if m["name"] == name)
        accessor = document["accessors"][mesh["primitives"][0]["attributes"][kind]]
        begin = document["bufferViews"][accessor["bufferView"]].get("byteOffset", 0) + accessor.get("byteOffset", 0)
        rows = np.frombuffer(data, np.float32, accessor["count"] * width, begin).reshape(-1, width).copy()
        some = slice(0, 1) if "broken" in name else slice(None)
        rows[some] *= factor
        data[begin : begin + rows.nbytes] = rows.tobytes()
    return {**files, binary: bytes(data)}
