"""Places with faults that only show among other things: sides that are seen from behind, overlaps, gaps.

Plots on a common ground, each with some parts of random sizes; in about a fifth of them one part has the fault, and
about as many hold what only looks like it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from tidy_caravan.core.scene import GLTF, Material, Mesh, Scene, make_nodes

PLOTS = 300
APART = 40.0
FLAT = (-np.pi / 2, [1.0, 0, 0])


class Site:
    """Parts under construction. hit: those with the fault."""

    def __init__(self) -> None:
        self.meshes: list[Mesh] = []
        self.matrices: list[Any] = []
        self.hit: set[int] = set()

    def put(self, made: Any, matrix: Any, fault: bool = False, two_sided: bool = False) -> None:
        faces = made.faces.astype(np.uint32)
        slots = np.full(len(faces), 1 if two_sided else 0, np.int32)
        if fault:
            self.hit.add(len(self.meshes))
        self.meshes.append(Mesh(made.vertices.astype(np.float32), faces, slots))
        self.matrices.append(matrix)

    def scene(self) -> Scene:
        count = len(self.meshes)
        names = [f"part_{k}" for k in range(count)]
        nodes = make_nodes(np.full(count, -1), np.array(self.matrices), names, mesh=np.arange(count))
        return Scene(GLTF, nodes, tuple(self.meshes), materials=(Material(), Material(double_sided=True)))


def at(x: float, y: float, z: float, turn: Any = None) -> Any:
    import trimesh

    out = np.eye(4) if turn is None else trimesh.transformations.rotation_matrix(*turn)
    out[:3, 3] = x, y, z
    return out


def sheet(width: float, height: float, cells: int = 1) -> Any:
    import trimesh

    x, y = np.linspace(-width / 2, width / 2, cells + 1), np.linspace(-height / 2, height / 2, cells + 1)
    points = np.stack([*np.meshgrid(x, y), np.zeros((cells + 1, cells + 1))], axis=-1).reshape(-1, 3)
    k = np.arange((cells + 1) ** 2).reshape(cells + 1, cells + 1)
    a, b, c, d = k[:-1, :-1], k[:-1, 1:], k[1:, 1:], k[1:, :-1]
    faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    return trimesh.Trimesh(points, faces, process=False)


def without(extents: Any, side: Any) -> Any:
    import trimesh

    made = trimesh.creation.box(extents)
    made.update_faces(made.face_normals @ np.array(side) < 0.9)
    return made


def over(made: Any) -> Any:
    out = made.copy()
    out.faces = out.faces[:, ::-1]
    return out


def turned_round(matrix: Any, angle: float, x: float, z: float) -> Any:
    """The matrix turned about the upright and set on its plot."""
    return at(x, 0, z, (angle, [0, 1, 0])) @ matrix


def ground(site: Site) -> float:
    side = APART * np.ceil(np.sqrt(PLOTS))
    site.put(sheet(2 * side, 2 * side, 24), at(side / 2, 0, side / 2, FLAT))
    return float(np.ceil(np.sqrt(PLOTS)))


def sides(site: Site, rng: np.random.Generator, place: Callable[[Any], Any], fault: bool) -> None:
    """Rooms with things in them, buildings, sheets on walls, furniture with open backs and undersides, wide ceilings,
    linings of tunnels."""
    import trimesh

    box, kind = trimesh.creation.box, int(rng.integers(0, 9))
    w, h, d = rng.uniform(3, 9), rng.uniform(2.4, 4), rng.uniform(3, 9)
    if kind == 0:
        room = over(without([w, h, d], rng.choice([[0, 1, 0], [1, 0, 0], [0, 0, -1]])))
        site.put(over(room) if fault else room, place(at(0, h / 2 + 0.01, 0)), fault)
        for _ in range(int(rng.integers(1, 5))):
            size = rng.uniform(0.4, 1.2, 3)
            x, z = rng.uniform(-0.3, 0.3, 2) * (w, d)
            site.put(box(size), place(at(x, size[1] / 2 + 0.02, z)))
    elif kind == 1:
        shell = without([w, 2 * h, d], [0, -1, 0])
        site.put(over(shell) if fault else shell, place(at(0, h + 0.01, 0)), fault)
    elif kind == 2:
        site.put(box([w, h, 0.3]), place(at(0, h / 2 + 0.01, 0)))
        poster = sheet(rng.uniform(0.3, 2), rng.uniform(0.3, 1.5), int(rng.integers(1, 5)))
        site.put(over(poster) if fault else poster, place(at(0, 1.4, 0.15 + rng.uniform(0.002, 0.01))), fault)
    elif kind == 3:
        size = rng.uniform([0.4, 0.7, 0.3], [1.5, 2.2, 0.8])
        cabinet = without(size, [0, -1, 0])
        site.put(over(cabinet) if fault else cabinet, place(at(0, size[1] / 2 + 0.002, 0)), fault)
    elif kind == 4:
        size = rng.uniform([1, 0.3, 0.5], [4, 1.2, 1.8])
        seat = without(size, [0, -1, 0])
        site.put(over(seat) if fault else seat, place(at(0, size[1] / 2 + rng.uniform(0.05, 0.3), 0)), fault)
    elif kind == 5:
        w, h, d = 2 * w, rng.uniform(2.3, 4), 2 * d
        site.put(box([w, 0.3, d]), place(at(0, h + rng.uniform(0.17, 0.5), 0)))
        ceiling = over(sheet(w, d, int(rng.integers(1, 5))))
        site.put(over(ceiling) if fault else ceiling, place(at(0, h, 0, FLAT)), fault)
    elif kind == 6:
        radius, length = rng.uniform(2, 4), rng.uniform(8, 20)
        lining = over(trimesh.creation.cylinder(radius, length, sections=int(rng.integers(12, 40))))
        lining.update_faces((np.abs(lining.face_normals[:, 2]) < 0.9) & (lining.triangles_center[:, 1] > 0))
        site.put(trimesh.creation.annulus(radius + 0.05, radius + 0.5, length), place(at(0, 0.01, 0)))
        site.put(over(lining) if fault else lining, place(at(0, 0.01, 0)), fault)
    elif kind == 7:
        # walls, floor and ceiling are sheets of their own, and one of them is turned
        half, odd = np.pi / 2, int(rng.integers(0, 6))
        for k, (span, matrix) in enumerate((
            ((w, d), at(0, 0.02, 0, FLAT)), ((w, d), at(0, h, 0, (half, [1.0, 0, 0]))), ((w, h), at(0, h / 2, -d / 2)),
            ((w, h), at(0, h / 2, d / 2, (np.pi, [0, 1, 0]))), ((d, h), at(-w / 2, h / 2, 0, (half, [0, 1, 0]))),
            ((d, h), at(w / 2, h / 2, 0, (-half, [0, 1, 0]))),
        )):  # fmt: skip
            side = sheet(*span, int(rng.integers(1, 4)))
            site.put(over(side) if fault and k == odd else side, place(matrix), fault and k == odd)
    else:
        size = rng.uniform([0.4, 0.7, 0.3], [1.5, 2.2, 0.8])
        site.put(box([w, h, 0.3]), place(at(0, h / 2 + 0.01, 0)))
        locker = without(size, [0, 0, -1])
        site.put(over(locker) if fault else locker, place(at(0, size[1] / 2 + 0.01, 0.15 + 0.003 + size[2] / 2)), fault)


def thin(site: Site, rng: np.random.Generator, place: Callable[[Any], Any], fault: bool) -> None:
    """Sheets in the open; clean are those of a two-sided material, or that lie on something."""
    made = sheet(rng.uniform(0.3, 3), rng.uniform(0.3, 2), int(rng.integers(1, 6)))
    tilt = (rng.uniform(-0.6, 0.6), [1.0, 0, 0])
    if fault or rng.random() < 0.5:
        site.put(made, place(at(0, rng.uniform(1.6, 3), 0, tilt)), fault, two_sided=not fault)
    else:
        site.put(made, place(at(0, 0.02, 0, FLAT)))


def overlaps(site: Site, rng: np.random.Generator, place: Callable[[Any], Any], fault: bool) -> None:
    """A block with a label, a block let into a slab, blocks side by side; planted within a millimetre of a plane."""
    import trimesh

    box, kind = trimesh.creation.box, int(rng.integers(0, 3))
    w, h, d = rng.uniform(0.5, 3, 3)
    if kind == 0:
        site.put(box([w, h, d]), place(at(0, h / 2 + 0.05, 0)), fault)
        off = rng.uniform(0, 0.0008) if fault else rng.choice([rng.uniform(0.0015, 0.01), -0.05])
        label = sheet(0.6 * w, 0.5 * h, int(rng.integers(1, 4)))
        x, y = rng.uniform(-0.5, 0.5, 2) * (w, h)
        site.put(label, place(at(x, h / 2 + 0.05 + y, d / 2 + off)), fault)
    elif kind == 1:
        site.put(box([4, 0.2, 4]), place(at(0, 0.2, 0)), fault)
        deep = 0.0 if fault else rng.choice([0.03, -0.03])
        site.put(box([w, 0.15, d]), place(at(0, 0.3 - 0.075 + deep, 0)), fault)
    else:
        # side by side they touch and look at each other; one into the other with flush fronts they flicker
        site.put(box([w, h, d]), place(at(0, h / 2 + 0.05, 0)), fault)
        into = 0.2 * w if fault else 0.0
        deeper = 0.0 if fault else rng.uniform(0.05, 0.3)
        site.put(box([w, h + deeper, d]), place(at(w - into, h / 2 + 0.05, deeper)), fault)


def gaps(site: Site, rng: np.random.Generator, place: Callable[[Any], Any], fault: bool) -> None:
    """Walls on slabs, panels side by side, beams on posts; clean ones touch, stand well clear or go in. Ground that slopes in
    two sheets that lie apart, panels of which one vertex does not meet the other's, and walls under a roof of one sheet that
    looks either way; clean ones meet."""
    import trimesh

    box, kind = trimesh.creation.box, int(rng.integers(0, 6))
    w, h = rng.uniform(0.6, 3, 2)
    off = (
        rng.uniform(0.00015, 0.0048)
        if fault
        else rng.choice([0.0, rng.uniform(0.006, 0.05), -rng.uniform(0.001, 0.05)])
    )
    if kind == 0:
        site.put(box([5, 0.2, 5]), place(at(0, 0.3, 0)), fault)
        site.put(box([w, h, 0.3]), place(at(0, 0.4 + h / 2 + off, 0, (rng.uniform(0, 6), [0, 1, 0]))), fault)
    elif kind == 1:
        site.put(box([w, h, 0.2]), place(at(0, h / 2 + 0.3, 0)), fault)
        site.put(box([w, 0.9 * h, 0.18]), place(at(w + off, h / 2 + 0.3, 0)), fault)
    elif kind == 2:
        post = trimesh.creation.cylinder(0.2, h, sections=int(rng.integers(6, 40)))
        site.put(post, place(at(0, 0.3 + h / 2, 0, FLAT)), fault)
        site.put(box([2, 0.3, 0.6]), place(at(0, 0.3 + h + 0.15 + off, 0)), fault)
    elif kind == 3:
        cells, (a, b) = int(rng.integers(4, 12)), rng.uniform(0.2, 1, 2)
        away = np.abs(rng.normal(size=3)) + [0.2, 0, 0]
        away *= off / np.linalg.norm(away) if fault else 0
        for left in (-5.0, 0.0):
            ground = sheet(5, 6, cells)
            ground.vertices += [left + 2.5, 0, 0]
            x, y, _ = ground.vertices.T
            ground.vertices = np.column_stack([x, y, 0.3 * np.sin(a * x) * np.cos(b * y) + 0.1 * x]) + away * (
                left == 0
            )
            site.put(ground, place(at(0, 1.5, 0, FLAT)), fault)
    elif kind == 4:
        roof = sheet(2 * w, 2 * w)
        site.put(box([w, h, 0.2]), place(at(0, h / 2 + 0.3, 0)), fault)
        turn = rng.choice([-1, 1]) * np.pi / 2
        site.put(roof, place(at(0.1, h + 0.3 + off, 0.1, (turn, [1, 0, 0]))), fault)
    else:
        left, right = (box([w, h, 0.2]).apply_translation([side * w / 2, 0, 0]) for side in (-1, 1))
        points, move = right.vertices.copy(), np.abs(rng.normal(size=3)) + [0.5, 0, 0]
        inner = np.flatnonzero(points[:, 0] < w / 2)[int(rng.integers(0, 4))]
        points[inner] += move * np.sign(points[inner] + [1, 0, 0]) / np.linalg.norm(move) * (off if fault else 0)
        site.put(left, place(at(0, h / 2 + 0.3, 0)), fault)
        site.put(trimesh.Trimesh(points, right.faces, process=False), place(at(0, h / 2 + 0.3, 0)), fault)


KINDS: dict[str, tuple[Callable[..., None], tuple[str, ...]]] = {
    "open sides: rooms, buildings, sheets on walls, furniture": (
        sides,
        ("faces.seen-from-behind", "faces.side-unclear"),
    ),
    "thin sheets seen from both sides": (thin, ("faces.seen-from-both",)),
    "overlaps between parts": (overlaps, ("flicker.between",)),
    "gaps between parts": (gaps, ("gaps.leak",)),
}


def built(seed: int, kind: str) -> tuple[Scene, set[int]]:
    """A site and its parts with the fault."""
    rng = np.random.default_rng(seed)
    site = Site()
    across = ground(site)
    for plot in range(PLOTS):
        x, z = APART * (plot % across), APART * (plot // across)
        angle = rng.uniform(0, 2 * np.pi)
        KINDS[kind][0](site, rng, lambda m, a=angle, x=x, z=z: turned_round(m, a, x, z), bool(rng.random() < 0.25))
    return site.scene(), site.hit
