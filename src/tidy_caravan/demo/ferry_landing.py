"""Builds the demo source: deterministic, and with the faults that real sources have.

Faults on purpose: centimetres in a format that says metres; the bollards a hundredth of their size under
a node scale of 100; mirrored door leaves; pilings as loose copies with their pivot on the world origin;
bollards without UV set; stones without normals; triangles without area in the truss; names with blanks and
twice the same; a group of empties; a picture that is not there; the ferry's deck turned over.
"""

from __future__ import annotations

import io
import math
from dataclasses import dataclass, field, replace
from functools import lru_cache

import numpy as np
from PIL import Image as Picture
from PIL import ImageDraw

from tidy_caravan.core.formats import write
from tidy_caravan.core.scene import (
    GLTF,
    Camera,
    Image,
    Light,
    Material,
    Mesh,
    Scene,
    Texture,
    TextureUse,
    make_nodes,
)
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.space.transforms import compose
from tidy_caravan.demo.shapes import Shape, beam, box, hull, lathe, stone

CM = 100.0
STEEL, GLASS, TIMBER, CONCRETE, PAINT, RUBBER, BOARD, STONE, WATERLINE, LAMP = range(10)


def materials() -> tuple[Material, ...]:
    def plain(name: str, r: float, g: float, b: float, metallic: float = 0.0, roughness: float = 0.6) -> Material:
        return Material(name, (r, g, b, 1.0), metallic, roughness)

    glass = replace(
        plain("glass", 0.55, 0.72, 0.75, 0.0, 0.05), base_color=(0.55, 0.72, 0.75, 0.35), alpha_mode="BLEND"
    )
    board = replace(plain("timetable", 1.0, 1.0, 1.0), base_color_texture=TextureUse(0))
    timber = replace(plain("larch boards", 0.62, 0.45, 0.28), normal_texture=TextureUse(1))
    return (
        plain("galvanised steel", 0.55, 0.57, 0.6, 0.9, 0.45),
        glass,
        timber,
        plain("concrete", 0.62, 0.61, 0.58, 0.0, 0.9),
        plain("ferry blue paint", 0.08, 0.25, 0.36, 0.0, 0.4),
        plain("rubber", 0.05, 0.05, 0.05, 0.0, 0.95),
        board,
        plain("shingle", 0.5, 0.47, 0.42, 0.0, 0.85),
        plain("waterline red", 0.45, 0.1, 0.08),
        Material("lamp glow", (1.0, 0.95, 0.85, 1.0), 0.0, 0.5, emissive=(1.0, 0.9, 0.7), emissive_strength=4.0),
    )


def timetable_picture() -> bytes:
    """A departures board as PNG, 512 × 256."""
    picture = Picture.new("RGB", (512, 256), (18, 32, 40))
    draw = ImageDraw.Draw(picture)
    draw.rectangle((0, 0, 511, 40), fill=(235, 180, 52))
    for row in range(8):
        y = 52 + row * 25
        for x, width in ((16, 60), (96, 190), (310, 40), (380, 110)):
            length = width - (row * 37 + x) % 30
            draw.rectangle((x, y, x + length, y + 12), fill=(230, 235, 230))
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


@dataclass
class Builder:
    """Collects nodes; positions are given in metres, Z up, and stored in `scale` units, Y up."""

    scale: float = CM
    parents: list[int] = field(default_factory=list)
    places: list[tuple[float, ...]] = field(default_factory=list)
    """Translation (3), quaternion (4) and scale (3) of each."""
    names: list[str] = field(default_factory=list)
    mesh_of: list[int] = field(default_factory=list)
    light_of: list[int] = field(default_factory=list)
    camera_of: list[int] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)

    def mesh(
        self,
        shape: Shape,
        name: str,
        *,
        smooth: bool = False,
        uv: bool = True,
        normals: bool = True,
        scale: float | None = None,
    ) -> int:
        self.meshes.append(
            shape.mesh(name, smooth=smooth, uv=uv, normals=normals, scale=self.scale if scale is None else scale)
        )
        return len(self.meshes) - 1

    def add_shape(self, shape: Shape, name: str, at: tuple[float, float, float], turn: float) -> int:
        """A smooth mesh of its own with its place baked into the vertices; its UVs are those of the shape at rest."""
        rest = shape.mesh(name, smooth=True, scale=self.scale)
        c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
        rotation = np.array([[c, 0.0, s], [0.0, 1.0, 0.0], [-s, 0.0, c]])  # about Y, which is up
        x, y, z = (v * self.scale for v in at)
        assert rest.normals is not None
        self.meshes.append(
            replace(
                rest,
                positions=(rest.positions @ rotation.T + (x, z, -y)).astype(np.float32),
                normals=(rest.normals @ rotation.T).astype(np.float32),
            )
        )
        return len(self.meshes) - 1

    def node(
        self,
        name: str,
        parent: int = -1,
        mesh: int = -1,
        at: tuple[float, float, float] = (0, 0, 0),
        turn: float = 0.0,
        scale: tuple[float, float, float] = (1, 1, 1),
        light: int = -1,
        camera: int = -1,
        tilt: float = 0.0,
    ) -> int:
        """A node at metres (x, y, z up), turned about the vertical by degrees, tilted about its own X."""
        x, y, z = (v * self.scale for v in at)
        half, lean = math.radians(turn) / 2, math.radians(tilt) / 2
        turned = (
            math.cos(half) * math.sin(lean),
            math.sin(half) * math.cos(lean),
            -math.sin(half) * math.sin(lean),
            math.cos(half) * math.cos(lean),
        )
        self.parents.append(parent)
        self.places.append((x, z, -y, *turned, *scale))
        self.names.append(name)
        self.mesh_of.append(mesh)
        self.light_of.append(light)
        self.camera_of.append(camera)
        return len(self.names) - 1

    def matrices(self) -> F64:
        """(N, 4, 4) of all nodes, in their parents."""
        places = np.array(self.places, np.float64)
        return compose(places[:, :3], places[:, 3:7], places[:, 7:])


@dataclass(frozen=True)
class Kit:
    """Mesh numbers of everything that is repeated."""

    bay: int
    truss: int
    roof: int
    bench: int
    gate: int
    frame: int
    leaf: int
    post: int
    lamp: int
    stones: tuple[int, ...]


def kit(b: Builder) -> Kit:
    bay = (
        box(3.0, 0.12, 0.3, CONCRETE)
        + box(0.1, 0.12, 3.9, STEEL).at(-1.45, 0, 0.3)
        + box(0.1, 0.12, 3.9, STEEL).at(1.45, 0, 0.3)
    )
    bay += (
        box(2.8, 0.03, 3.8, GLASS).at(0, 0, 0.3)
        + box(2.8, 0.12, 0.1, STEEL).at(0, 0, 4.1)
        + box(0.06, 0.1, 3.8, STEEL).at(0, 0, 0.3)
    )
    truss = (
        beam((-7, 0, 0), (7, 0, 0), 0.18) + beam((-7, 0, 0.1), (0, 0, 1.6), 0.16) + beam((7, 0, 0.1), (0, 0, 1.6), 0.16)
    )
    for x in (-4.5, -2.2, 2.2, 4.5):
        truss += beam((x, 0, 0), (x * 0.75, 0, 1.6 * (1 - abs(x * 0.75) / 7)), 0.1)
    flat = truss.points[:3].copy()
    flat[:, 2] = flat[:, 1]
    truss = Shape(np.concatenate([truss.points, flat]), np.concatenate([truss.slot, truss.slot[:3]]))
    bench = box(1.8, 0.45, 0.05, TIMBER).at(0, 0, 0.41) + box(1.8, 0.05, 0.4, TIMBER).at(0, 0.2, 0.46)
    for x in (-0.75, 0.75):
        bench += box(0.06, 0.4, 0.41, STEEL).at(x, 0, 0)
    gate = (
        box(0.25, 1.2, 1.02, PAINT)
        + box(0.6, 0.02, 0.5, GLASS).at(0.42, 0.1, 0.4)
        + box(0.2, 0.3, 0.06, RUBBER).at(0, -0.3, 1.02)
    )
    frame = (
        box(0.08, 0.14, 2.2, STEEL).at(-0.98)
        + box(0.08, 0.14, 2.2, STEEL).at(0.98)
        + box(2.04, 0.14, 0.08, STEEL).at(0, 0, 2.2)
    )
    leaf = (
        box(0.92, 0.05, 2.12, PAINT).at(0.47)
        + box(0.5, 0.052, 1.2, GLASS).at(0.47, 0, 0.8)
        + beam((0.86, -0.08, 1.0), (0.86, -0.08, 1.25), 0.03, STEEL)
    )
    post = lathe([(0.16, 0), (0.16, 0.3), (0.07, 0.35), (0.055, 4.4), (0.05, 4.5)], 12, STEEL)
    post += beam((0, 0, 4.4), (0.8, 0, 4.55), 0.06, STEEL) + box(0.5, 0.2, 0.07, LAMP).at(0.8, 0, 4.48)
    lamp = box(1.2, 0.14, 0.08, LAMP) + beam((0, 0, 0.08), (0, 0, 0.9), 0.02, STEEL)
    stones = tuple(
        b.mesh(stone(k, 0.18 + 0.04 * k).painted(STONE), f"stone {k}", smooth=True, normals=False) for k in range(5)
    )
    return Kit(
        b.mesh(bay, "glazing bay"),
        b.mesh(truss, "roof truss"),
        b.mesh(box(14.4, 3.1, 0.12, STEEL), "roof panel"),
        b.mesh(bench, "bench"),
        b.mesh(gate, "ticket gate"),
        b.mesh(frame, "door frame"),
        b.mesh(leaf, "door leaf"),
        b.mesh(post, "lamp post", smooth=True),
        b.mesh(lamp, "ceiling lamp"),
        stones,
    )


def hall(b: Builder, k: Kit, top: int) -> None:
    group = b.node("waiting hall", top)
    b.node("hall floor", group, b.mesh(box(14.4, 30.4, 0.25, CONCRETE), "hall floor"), (0, 15, -0.25))
    facade = b.node("glazing", group)
    for i in range(10):
        for side, x in (("west", -7.0), ("east", 7.0)):
            b.node(f"glazing_{side}_{i + 1:02}", facade, k.bay, (x, 1.5 + 3 * i, 0), 90 if side == "west" else -90)
    for i in range(4):
        b.node("glazing north", facade, k.bay, (-4.5 + 3 * i, 30, 0), 180)
    roof = b.node("roof", group)
    for i in range(11):
        b.node(f"truss_{i + 1:02}", roof, k.truss, (0, 3 * i, 4.2))
        if i < 10:
            b.node(f"roof_panel_{i + 1:02}", roof, k.roof, (0, 1.5 + 3 * i, 5.9))
    lamps = b.node("ceiling lamps", group)
    for i in range(10):
        for x in (-3.0, 3.0):
            b.node(f"ceiling_lamp_{2 * i + (x > 0) + 1:02}", lamps, k.lamp, (x, 1.5 + 3 * i, 3.3))
    seats = b.node("benches", group)
    for row in range(6):
        for place in range(5):
            b.node(f"bench_{row + 1}_{place + 1}", seats, k.bench, (-4.4 + 2.2 * place, 8 + 2.4 * row, 0))
    gates = b.node("ticket gates", group)
    for i in range(6):
        b.node(f"ticket_gate_{i + 1}", gates, k.gate, (-3 + 1.2 * i, 4.5, 0))
    doors = b.node("swing doors", group)
    for i in range(4):
        x = -5.25 + 3.5 * i
        b.node(f"door_frame_{i + 1}", doors, k.frame, (x, 0, 0))
        b.node(f"door_leaf_{i + 1}_left", doors, k.leaf, (x - 0.94, 0, 0.01), 12.0 * i)
        b.node(f"door_leaf_{i + 1}_right", doors, k.leaf, (x + 0.94, 0, 0.01), -12.0 * i, (-1, 1, 1))
    wall = b.node("timetable wall", group, b.mesh(box(6.2, 0.2, 3.4, CONCRETE), "timetable wall"), (0, 29.4, 0))
    # office doors as one mesh with their frames, as they come from a model that nothing moves in
    office = (
        box(0.08, 0.12, 2.2, STEEL).at(-0.49)
        + box(0.08, 0.12, 2.2, STEEL).at(0.49)
        + box(1.06, 0.12, 0.08, STEEL).at(0, 0, 2.2)
        + box(0.89, 0.05, 2.18, PAINT).at(0, 0, 0.005)
        + beam((0.36, -0.08, 1.0), (0.36, -0.08, 1.2), 0.03, STEEL)
    )
    office_door = b.mesh(office, "office door")
    for side, x in (("west", -4.6), ("east", 4.6)):
        b.node(f"office_door_{side}", group, office_door, (x, 29.3, 0), 20 if side == "west" else -20)
    screen = Shape(
        np.array([[[-2.4, 0, 0], [2.4, 0, 0], [2.4, 0, 2.4]], [[-2.4, 0, 0], [2.4, 0, 2.4], [-2.4, 0, 2.4]]]),
        np.full(2, BOARD),
    )
    mesh = screen.mesh("timetable screen", scale=b.scale)
    span = mesh.positions / np.float32(b.scale)
    # planted: the board was mirrored with the wall that it was modelled on, and reads backwards
    uv = np.stack([(2.4 - span[:, 0]) / 4.8, 1 - span[:, 1] / 2.4], axis=1).astype(np.float32)
    b.meshes.append(replace(mesh, uvs=(uv,)))
    b.node("timetable_screen", wall, len(b.meshes) - 1, (0, -0.12, 0.7))


def quay(b: Builder, k: Kit, top: int) -> None:
    group = b.node("quay", top)
    b.node("quay deck", group, b.mesh(box(44, 12, 0.6, CONCRETE), "quay deck"), (4, -8.2, -0.65))
    b.node("kerb", group, b.mesh(box(44, 0.3, 0.2, TIMBER), "kerb"), (4, -14.0, -0.05))
    bollard = lathe(
        [(0.2, 0), (0.2, 0.06), (0.13, 0.1), (0.13, 0.38), (0.19, 0.42), (0.19, 0.5), (0.05, 0.53)], 20, PAINT
    )
    small = b.mesh(bollard, "bollard", smooth=True, uv=False, scale=1.0)
    bollards = b.node("bollards", group, scale=(b.scale, b.scale, b.scale))
    for i in range(16):
        b.node(f"bollard_{i + 1:02}", bollards, small, ((-16 + 2.6 * i) / b.scale, -13.4 / b.scale, -0.05 / b.scale))
    posts = b.node("lamp posts", group)
    for i in range(12):
        post = b.node(f"lamp_post_{i + 1:02}", posts, k.post, (-16 + 3.6 * i, -11.5, -0.05), 90)
        if i % 3 == 0:
            b.node(f"lamp_light_{i + 1:02}", post, at=(0.8, 0, 4.4), light=0, tilt=-90)
    # kiosks of loose pieces, in no order of their own: one group in three places
    counter = b.mesh(box(1.6, 1.2, 1.05, TIMBER), "kiosk counter")
    pole, canopy = b.mesh(box(0.07, 0.07, 1.3, STEEL), "kiosk pole"), b.mesh(box(2.1, 1.7, 0.08, PAINT), "kiosk canopy")
    kiosks = b.node("kiosks", group)
    for number, (x, y, turn) in enumerate(((-11.0, -6.0, 0.0), (1.5, -7.0, 90.0), (13.0, -6.5, 30.0)), 1):
        c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
        pieces = [("counter", counter, 0.0, 0.0, 0.0), ("canopy", canopy, 0.0, 0.0, 2.35)]
        pieces += [(f"pole_{n + 1}", pole, 0.7 * (-1) ** n, 0.5 * (-1) ** (n // 2), 1.05) for n in range(4)]
        for name, mesh, dx, dy, z in pieces:
            b.node(f"kiosk_{number}_{name}", kiosks, mesh, (x + c * dx - s * dy, y + s * dx + c * dy, z - 0.05), turn)
    piles = b.node("pilings", group)
    pile = lathe([(0.17, -3.5), (0.18, -3.0), (0.18, 0.4), (0.12, 0.5)], 14, TIMBER)
    for i in range(16):
        # each its own mesh with the place baked in: loose copies, all pivots on the world origin
        own = b.add_shape(pile, f"piling_{i + 1:02}", (-17 + 2.8 * i, -14.6, -0.6), 7.0 * i)
        b.node(f"piling_{i + 1:02}", piles, own)
    empties = b.node("old export markers", group)
    for i in range(8):
        b.node(f"marker {i % 4}", empties, at=(i, -9, 0))


def beach(b: Builder, k: Kit, top: int, count: int = 140) -> None:
    group = b.node("shingle beach", top)
    rng = np.random.default_rng(7)
    b.node("beach ground", group, b.mesh(box(24, 12, 0.3, STONE), "beach ground"), (-32, -9, -0.9))
    for i in range(count):
        size = float(rng.uniform(0.8, 1.3))
        x, y = rng.uniform(-43, -21), rng.uniform(-14.5, -3.5)
        b.node(
            f"stone_{i + 1:03}", group, k.stones[i % 5], (x, y, -0.55), float(rng.uniform(0, 360)), (size, size, size)
        )


def ferry(b: Builder, top: int, along: int = 120, around: int = 48) -> None:
    group = b.node("ferry", top, at=(-12, -21, -1.6), turn=0)
    b.node("ferry hull", group, b.mesh(hull(34, 8.5, 3.4, along, around).painted(WATERLINE), "ferry hull", smooth=True))
    b.node(
        "ferry deckhouse",
        group,
        b.mesh(box(14, 6, 2.6, PAINT) + box(6, 5, 2.2, PAINT).at(2, 0, 2.6), "ferry deckhouse"),
        (12, 0, 3.4),
    )
    b.node(
        "ferry funnel",
        group,
        b.mesh(lathe([(0.8, 0), (0.7, 2.6), (0.6, 2.6)], 24, WATERLINE), "ferry funnel", smooth=True),
        (9, 0, 8.2),
    )


LEAK_M = 0.005
"""Between the two sheets of the net store's roof, on purpose: the one place where daylight gets into a dark room."""


def net_store(b: Builder, top: int, slit: float) -> None:
    """slit: width of the gap along the ridge of the roof, in metres."""
    group = b.node("net store", top, at=(9.5, -8.5, -0.05))
    long, short = (
        b.mesh(box(2.6, 0.12, 2.2, TIMBER), "net store side"),
        b.mesh(box(1.96, 0.12, 2.2, TIMBER), "net store end"),
    )
    board = b.mesh(box(2.9, 1.25, 0.003, STEEL), "net store sheet")
    for name, mesh, x, y, turn in (
        ("south", long, 0.0, -1.04, 0), ("north", long, 0.0, 1.04, 0),
        ("west", short, -1.23, 0.0, 90), ("east", short, 1.23, 0.0, 90),
    ):  # fmt: skip
        b.node(f"net_store_{name}", group, mesh, (x, y, 0), turn)
    b.node("net_store_floor", group, b.mesh(box(2.3, 1.94, 0.04, CONCRETE), "net store floor"))
    for name, side in (("south", -1), ("north", 1)):
        b.node(f"net_store_roof_{name}", group, board, (0, side * (0.625 + slit / 2), 2.2))


@lru_cache(maxsize=2)
def landing(slit: float = LEAK_M) -> Scene:
    """The demo source as a scene: a few hundred parts from a few dozen meshes. slit: see `net_store`."""
    b = Builder()
    top = b.node("Pellwick Ferry Landing")
    k = kit(b)
    hall(b, k, top)
    quay(b, k, top)
    beach(b, k, top)
    ferry(b, top)
    net_store(b, top, slit)
    b.node("view from the quay", top, at=(-26, -34, 9), turn=-35, camera=0, tilt=-8)
    b.node("sun", top, at=(0, 0, 40), light=1, tilt=-50, turn=30)
    return assemble(b)


def large(parts: int = 20_000) -> Scene:
    """Many landings in a row: a haul of `parts` parts in metres, for the feel of scale."""
    b = Builder(scale=1.0)
    top = b.node("Pellwick Ferry Landing, all stages")
    k = kit(b)
    made = 0
    stage = 0
    while made < parts:
        group = b.node(f"stage_{stage + 1:03}", top, at=(50.0 * (stage % 5), -28.0 * (stage // 5), 0))
        rng = np.random.default_rng(stage)
        for i in range(min(500, parts - made)):
            x, y = 1.6 * (i % 25), 1.1 * (i // 25)
            if i % 25 in (0, 24):
                b.node(f"s{stage}_bay_{i}", group, k.bay, (x, y, 0), 90)
            elif i // 25 == 0:
                b.node(f"s{stage}_gate_{i}", group, k.gate, (x, y, 0))
            elif i // 25 < 12 and i % 2:
                b.node(f"s{stage}_bench_{i}", group, k.bench, (x, y, 0))
            else:
                size = float(rng.uniform(0.8, 1.3))
                b.node(
                    f"s{stage}_stone_{i}",
                    group,
                    k.stones[i % 5],
                    (x, y, 0),
                    float(rng.uniform(0, 360)),
                    (size, size, size),
                )
            made += 1
        stage += 1
    return assemble(b)


def assemble(b: Builder) -> Scene:
    nodes = make_nodes(
        b.parents,
        b.matrices(),
        b.names,
        mesh=np.array(b.mesh_of),
        light=np.array(b.light_of),
        camera=np.array(b.camera_of),
    )
    images = (
        Image("departures", "image/png", timetable_picture()),
        Image("larch_normal.png", "image/png", None, "textures/larch_normal.png"),
    )
    return Scene(
        GLTF,
        nodes,
        tuple(b.meshes),
        materials(),
        (Texture(0, name="departures"), Texture(1, name="larch normal")),
        images,
        lights=(
            Light("spot", "quay lamp", (1.0, 0.9, 0.75), 900.0, 12.0 * b.scale, 0.3, 0.9),
            Light("directional", "sun", (1.0, 0.97, 0.9), 30_000.0),
        ),
        cameras=(Camera("perspective", "quay", yfov=0.8, znear=0.1 * b.scale, zfar=400.0 * b.scale),),
    )


def landing_files() -> dict[str, bytes]:
    """The demo source as .gltf with its files; one picture is missing on purpose."""
    files = dict(write(landing(), "gltf", "pellwick-ferry-landing").files)
    name = "pellwick-ferry-landing.gltf"
    return {name: with_missing_picture(files[name]), **{k: v for k, v in files.items() if k != name}}


def with_missing_picture(text: bytes) -> bytes:
    """The timber's normal map as the source still names it, though nobody sent the file."""
    import orjson

    document = orjson.loads(text)
    document["images"].append({"uri": "textures/larch_normal.png", "name": "larch_normal"})
    document["textures"].append({"source": len(document["images"]) - 1, "name": "larch normal"})
    for material in document["materials"]:
        if material.get("name") == "larch boards":
            material["normalTexture"] = {"index": len(document["textures"]) - 1}
    return orjson.dumps(document, option=orjson.OPT_INDENT_2)


def large_files() -> dict[str, bytes]:
    return dict(write(large(), "glb", "pellwick-all-stages").files)
