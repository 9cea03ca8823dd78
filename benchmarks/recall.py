"""How many planted faults the survey finds, and how much of what it finds was planted.

Hundreds of parts of many shapes, sizes and places, each with a mesh of its own; about a fifth gets one fault, of one
kind each. Per kind: recall (of the planted parts, those named by its finding) and precision (of the parts named, those
planted), so that the clean ones count as much as the others.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks import recall_pieces
from benchmarks.recall_places import KINDS, built
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.survey import survey

PARTS = 900
LIMIT = 0.99
AMONG_OTHERS = 0.95
"""For what is judged by what stands around it."""


@dataclass
class Part:
    """points (V, 3), faces (F, 3) and vertex normals of a part, its matrix, and whether its surface is closed."""

    points: Any
    faces: Any
    normals: Any
    matrix: Any
    closed: bool


def shape(rng: np.random.Generator, kind: int) -> Any:
    import trimesh

    c = trimesh.creation
    made = [
        lambda: c.box(rng.uniform(0.2, 1.5, 3)),
        lambda: c.icosphere(int(rng.integers(1, 4)), rng.uniform(0.2, 0.8)),
        lambda: c.cylinder(rng.uniform(0.05, 0.6), rng.uniform(0.2, 1.6), sections=int(rng.integers(6, 40))),
        lambda: c.cone(rng.uniform(0.1, 0.7), rng.uniform(0.2, 1.4), sections=int(rng.integers(5, 30))),
        lambda: c.annulus(0.3, rng.uniform(0.4, 0.8), rng.uniform(0.1, 1), sections=int(rng.integers(8, 30))),
        lambda: c.torus(rng.uniform(0.4, 0.8), rng.uniform(0.05, 0.3), int(rng.integers(8, 24)), int(rng.integers(5, 12))),
        lambda: c.capsule(rng.uniform(0.3, 1), rng.uniform(0.1, 0.4), count=[int(rng.integers(6, 16))] * 2),
        lambda: c.icosphere(2, rng.uniform(0.3, 0.8)).slice_plane([0, 0, rng.uniform(-0.1, 0.1)], [0, 0, 1]),
    ][kind]()  # fmt: skip
    # bent, so that no two are alike and no side is quite flat
    made.vertices += 0.03 * np.sin(made.vertices @ rng.normal(size=(3, 3)) * 3) * made.extents.min()
    return made


def clean_part(rng: np.random.Generator, number: int) -> Part:
    import trimesh

    made = shape(rng, number % 8)
    points, faces, normals = made.vertices, made.faces, made.vertex_normals
    if rng.random() < 0.4:  # hard edges: every triangle with vertices of its own
        points, normals = made.triangles.reshape(-1, 3), np.repeat(made.face_normals, 3, axis=0)
        faces = np.arange(len(points)).reshape(-1, 3)
    matrix = trimesh.transformations.random_rotation_matrix(rng.random(3))
    matrix[:3, 3] = rng.uniform(-60, 60, 3)
    return Part(np.array(points), np.array(faces), np.array(normals), matrix, bool(made.is_watertight))


def turn_some(p: Part, rng: np.random.Generator) -> bool:
    corners = p.points[p.faces]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    order = rng.permutation(len(p.faces))
    most = max(1, int(np.searchsorted(np.cumsum(area[order]), 0.3 * area.sum())))
    rows = order[: int(rng.integers(1, most + 1))]
    if area[rows].sum() > 0.3 * area.sum():
        return False
    p.faces[rows] = p.faces[rows][:, ::-1]
    return True


def turn_all(p: Part, rng: np.random.Generator) -> bool:
    p.faces = p.faces[:, ::-1].copy()
    p.normals = -p.normals
    return p.closed


def repeat_some(p: Part, rng: np.random.Generator) -> bool:
    rows = rng.choice(len(p.faces), int(rng.integers(1, 1 + len(p.faces) // 4)), replace=False)
    again = np.roll(p.faces[rows], int(rng.integers(0, 3)), axis=1)
    if rng.random() < 0.5:  # copied with its vertices
        again = again + len(p.points)
        p.points, p.normals = np.concatenate([p.points] * 2), np.concatenate([p.normals] * 2)
    p.faces = np.concatenate([p.faces, again])[rng.permutation(len(p.faces) + len(rows))]
    return True


def flatten_some(p: Part, rng: np.random.Generator) -> bool:
    rows = rng.choice(len(p.faces), int(rng.integers(1, 4)), replace=False)
    a, b = p.faces[rows, 0], p.faces[rows, 1]
    if rng.random() < 0.5:
        extra = np.stack([a, b, a], axis=1)
    else:  # a third corner in the middle of the edge, as float32 holds it
        middle = (p.points[a].astype(np.float32) + p.points[b].astype(np.float32)) / np.float32(2)
        extra = np.stack([a, b, len(p.points) + np.arange(len(rows))], axis=1)
        p.points = np.concatenate([p.points, middle])
        p.normals = np.concatenate([p.normals, p.normals[a]])
    p.faces = np.concatenate([p.faces, extra])
    return True


def spoil_normals(p: Part, rng: np.random.Generator) -> bool:
    rows = rng.choice(len(p.normals), int(rng.integers(1, 1 + len(p.normals) // 3)), replace=False)
    p.normals[rows] *= rng.choice([0.0, 0.5, 3.0, np.nan])
    return True


def oppose_normals(p: Part, rng: np.random.Generator) -> bool:
    p.normals[p.faces[rng.integers(0, len(p.faces))]] *= -1
    return True


def mirror(p: Part, rng: np.random.Generator) -> bool:
    p.matrix = p.matrix @ np.diag([-1.0, 1, 1, 1])
    return True


def shear(p: Part, rng: np.random.Generator) -> bool:
    skew = np.eye(4)
    skew[0, 1] = rng.choice([-1, 1]) * rng.uniform(0.05, 0.8)
    p.matrix = p.matrix @ skew
    return True


def push_pivot(p: Part, rng: np.random.Generator) -> bool:
    away = rng.normal(size=3)
    shift = away / np.linalg.norm(away) * np.linalg.norm(np.ptp(p.points, axis=0)) * rng.uniform(2, 40)
    p.points = p.points + shift
    p.matrix = p.matrix.copy()
    p.matrix[:3, 3] -= p.matrix[:3, :3] @ shift
    return True


def hide_unit(p: Part, rng: np.random.Generator) -> bool:
    factor = float(rng.choice([0.001, 0.01, 0.0254, 100, 1000]))
    p.points = p.points / factor
    p.matrix = p.matrix @ np.diag([factor, factor, factor, 1.0])
    return True


def stretch(p: Part, rng: np.random.Generator) -> bool:
    """By the node alone; half of them hold as much as before."""
    a, b = rng.uniform(1.05, 3, 2)
    by = np.array([a, b, 1 / (a * b)]) if rng.random() < 0.5 else np.array([a, 1.0, b])
    p.points = p.points / by
    p.normals = p.normals * by / np.linalg.norm(p.normals * by, axis=1)[:, None]
    p.matrix = p.matrix @ np.diag([*by, 1.0])
    return True


def leave_vertices(p: Part, rng: np.random.Generator) -> bool:
    rows = rng.integers(0, len(p.points), int(rng.integers(1, 5)))
    p.points = np.concatenate([p.points, p.points[rows] * 1.01])
    p.normals = np.concatenate([p.normals, p.normals[rows]])
    return True


def fin(p: Part, rng: np.random.Generator) -> bool:
    a, b, _ = p.faces[int(rng.integers(0, len(p.faces)))]
    out = (p.points[a] + p.points[b]) / 2 + 0.2 * p.normals[a]
    p.faces = np.concatenate([p.faces, [[a, b, len(p.points)]]])
    p.points, p.normals = np.concatenate([p.points, [out]]), np.concatenate([p.normals, p.normals[[a]]])
    return p.closed  # on the edge of a sheet it is the second


def pull_apart(p: Part, rng: np.random.Generator) -> bool:
    """One corner of a triangle off the others at its place, into the triangle or off its plane."""
    size = float(np.linalg.norm(np.ptp(p.points, axis=0)))
    row = int(rng.integers(0, len(p.faces)))
    corner, one, other = (p.points[i] for i in np.roll(p.faces[row], int(rng.integers(0, 3))))
    shortest = float(min(np.linalg.norm(one - corner), np.linalg.norm(other - corner), np.linalg.norm(one - other)))
    most = min(0.0045, 0.9 * size / 50, shortest / 8)
    if not p.closed or most < 0.0004:
        return False
    inward = (one + other) / 2 - corner
    across = np.cross(one - corner, other - corner)
    angle = rng.uniform(0, np.pi)
    away = np.cos(angle) ** 2 * inward / np.linalg.norm(inward) + np.sin(angle) * across / np.linalg.norm(across)
    moved = corner + away / np.linalg.norm(away) * rng.uniform(0.0004, most)
    place = np.flatnonzero((p.points[p.faces[row]] == corner).all(axis=1))[0]
    p.faces[row, place] = len(p.points)
    p.points = np.concatenate([p.points, [moved]])
    p.normals = np.concatenate([p.normals, [across / np.linalg.norm(across)]])
    return True


PLANTS: dict[str, tuple[Callable[[Part, np.random.Generator], bool], tuple[str, ...]]] = {
    "winding": (turn_some, ("faces.disagree",)),
    "closed shells inside out": (turn_all, ("faces.inside-out",)),
    "repeated triangles": (repeat_some, ("geometry.repeated",)),
    "degenerate triangles": (flatten_some, ("geometry.degenerate",)),
    "broken normals": (spoil_normals, ("normals.broken",)),
    "opposed normals": (oppose_normals, ("normals.opposed",)),
    "mirrored parts": (mirror, ("transform.mirrored",)),
    "sheared parts": (shear, ("transform.sheared",)),
    "pivots far away": (push_pivot, ("pivot.far",)),
    "units in node scale": (hide_unit, ("scale.hidden-unit",)),
    "parts stretched by their node": (stretch, ("scale.left",)),
    "vertices without triangle": (leave_vertices, ("geometry.loose",)),
    "edges of three triangles": (fin, ("geometry.non-manifold",)),
    "vertices that do not meet": (pull_apart, ("gaps.leak",)),
}


def planted(seed: int, kind: str) -> tuple[Scene, set[int]]:
    """A scene and the parts with the fault."""
    rng = np.random.default_rng(seed)
    meshes, matrices, hit = [], [], set()
    for number in range(PARTS):
        part = clean_part(rng, number)
        if rng.random() < 0.2:
            spare = Part(part.points.copy(), part.faces.copy(), part.normals.copy(), part.matrix, part.closed)
            if PLANTS[kind][0](spare, rng):
                part = spare
                hit.add(number)
        meshes.append(
            Mesh(
                part.points.astype(np.float32), part.faces.astype(np.uint32), np.full(len(part.faces), -1, np.int32),
                part.normals.astype(np.float32),
            )
        )  # fmt: skip
        matrices.append(part.matrix)
    names = [f"part_{k}" for k in range(PARTS)]
    nodes = make_nodes(np.full(PARTS, -1), np.array(matrices), names, mesh=np.arange(PARTS))
    return Scene(GLTF, nodes, tuple(meshes)), hit


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    out = []
    for seed, kind in enumerate(PLANTS):
        scene, hit = planted(seed, kind)
        found = {p for f in survey(scene, BUILT_IN[0]) if f.code in PLANTS[kind][1] for p in f.parts}
        out += told(kind, PARTS, hit, found, LIMIT)
    for seed, (kind, (_, codes)) in enumerate(recall_pieces.KINDS.items()):
        scene, hit = recall_pieces.built(seed, kind)
        found = {p for f in survey(scene, BUILT_IN[0]) if f.code in codes for p in f.parts}
        out += told(kind, len(scene.nodes.parts), hit, found, LIMIT)
    for seed, (kind, (_, codes)) in enumerate(KINDS.items()):
        scene, hit = built(seed, kind)
        found = {p for f in survey(scene, BUILT_IN[0]) if f.code in codes for p in f.parts}
        out += told(kind, len(scene.nodes.parts), hit, found, AMONG_OTHERS)
    return out


def told(kind: str, parts: int, hit: set[int], found: set[int], limit: float) -> list[tuple[str, float, str, float]]:
    right = len(found & hit)
    print(f"     recall    {kind}: {len(hit)} planted among {parts}, {right} found, {len(found - hit)} more named")
    return [
        (f"{kind}, recall", right / len(hit), "≥", limit),
        (f"{kind}, precision", right / len(found) if found else 0.0, "≥", limit),
    ]
