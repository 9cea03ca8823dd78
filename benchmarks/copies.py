"""Copies of 300 prototypes whose placements were baked into their vertices, found again: recall, precision, deviation,
growth, and the time beside one pass of hashing all vertices and one nearest-neighbour check per copy."""

from __future__ import annotations

import hashlib
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from benchmarks.recall import shape
from tidy_caravan.core.copies.compounds import compounds_in
from tidy_caravan.core.copies.search import Shared, copies_in, movable, share
from tidy_caravan.core.loading import seldom
from tidy_caravan.core.scene import GLTF, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.work.heavy import Workshop

PROTOTYPES = 300
COUNTS = (5_000, 50_000, 200_000)
TOLERANCE_MM = 0.5
TWINS = 0.04
"""Part of the copies that are none: a vertex a millimetre off, a window moved, other coordinates."""
ROW = 40
"""Parts of a row of two things in turn."""
LOOKED_AT = 4_000
"""Parts whose vertices are compared one by one."""


@dataclass
class Truth:
    """kind: (N,) prototype of each part, or a number of its own for what is no copy."""

    scene: Scene
    kind: Any
    prototypes: list[Any]


def prototypes(rng: np.random.Generator) -> list[Any]:
    """Shapes no two of which are one under any scales: prisms, which are like themselves in many ways, and bent things."""
    out = [trimesh.creation.cylinder(rng.uniform(0.2, 0.6), rng.uniform(0.5, 2), sections=n) for n in range(5, 35)]
    while len(out) < PROTOTYPES:
        one = shape(rng, int(rng.integers(0, 8)))
        if len(one.vertices) <= 160:
            out.append(one)
    return out


def flattened(count: int, seed: int = 7) -> Truth:
    """A scene in which every part has a mesh of its own, with the placement in its vertices and none on its node."""
    rng = np.random.default_rng(seed)
    every = prototypes(rng)
    kind = rng.integers(0, PROTOTYPES, count)
    kind[:PROTOTYPES] = np.arange(PROTOTYPES)
    turns = Rotation.random(count, random_state=seed).as_matrix()
    way = rng.integers(0, 4, count)
    scale = np.ones((count, 3))
    scale[way == 1] = rng.uniform(0.5, 2.0, (int((way == 1).sum()), 1))
    scale[way == 2] = rng.uniform(0.5, 2.0, (int((way == 2).sum()), 3))
    mirrored = rng.random(count) < 0.25
    scale[mirrored, 0] *= -1
    places = rng.uniform(-60, 60, (count, 3))
    shuffled, twin = rng.random(count) < 1 / 3, rng.random(count) < TWINS
    twin[:PROTOTYPES] = False
    meshes = []
    coordinates = [rng.uniform(0, 1, (len(p.vertices), 2)) for p in every]
    for i in range(count):
        p = every[kind[i]]
        points, faces, uv, normals = p.vertices, p.faces, coordinates[kind[i]], p.vertex_normals
        linear = turns[i] * scale[i]
        if mirrored[i]:
            faces = faces[:, ::-1]
        turned = points @ linear.T + places[i]
        bent = normals @ (turns[i] / scale[i]).T
        bent /= np.linalg.norm(bent, axis=1)[:, None]
        if twin[i]:
            kind[i] = PROTOTYPES + i
            if i % 3 == 0:
                turned = turned.copy()
                # of few vertices a placement with scales takes up a part of what one is off
                turned[rng.integers(len(turned))] += [0.001 if len(turned) > 24 else 0.004, 0, 0]
            elif i % 3 == 1:
                turned = turned.copy()
                turned[: max(2, len(turned) // 8)] += (0.0011 if len(turned) > 24 else 0.004) * turns[i][0]
            else:
                uv = uv + rng.uniform(0.001, 0.1, 2)
        if shuffled[i]:
            order = rng.permutation(len(points))
            turned, uv, bent = turned[order], uv[order], bent[order]
            faces = np.argsort(order)[faces][rng.permutation(len(faces))]
            first = rng.integers(0, 3, len(faces))
            faces = faces[np.arange(len(faces))[:, None], (first[:, None] + np.arange(3)) % 3]
        meshes.append(
            Mesh(
                turned.astype(np.float32), faces.astype(np.uint32), np.zeros(len(faces), np.int32),
                bent.astype(np.float32), uvs=(uv.astype(np.float32),),
            )
        )  # fmt: skip
    nodes = make_nodes(np.full(count, -1), np.tile(np.eye(4), (count, 1, 1)), [f"part_{i}" for i in range(count)], mesh=np.arange(count))  # fmt: skip
    return Truth(Scene(GLTF, nodes, tuple(meshes), (Material("m"),)), kind, every)


@dataclass
class Judged:
    recall: float
    precision: float
    families: int
    """That hold copies; near twins may be copies of each other."""
    deviation_mm: float


def judged(truth: Truth, done: Shared) -> Judged:
    """recall: of the copies, those that share the mesh that most of their kind share. precision: of the parts that share,
    those that are of the kind that most of those sharing with them are of."""
    copies = truth.kind < PROTOTYPES
    family = np.where(done.parts, done.family, -1)
    table = np.zeros((PROTOTYPES, family.max() + 2), np.int64)
    np.add.at(table, (truth.kind[copies], family[copies] + 1), 1)
    found = table[:, 1:].max(axis=1)
    sharing = np.bincount(family[family >= 0], minlength=table.shape[1] - 1)
    right = table[:, 1:].max(axis=0)
    return Judged(
        float(found.sum() / table.sum()),
        float(right.sum() / max(1, sharing.sum())),
        int((right > 0).sum()),
        deviation(truth.scene, done.scene),
    )


def deviation(before: Scene, after: Scene) -> float:
    """Millimetres by which a vertex of some thousand parts is away from any that the part had before, or the other way."""
    worst = 0.0
    rows = np.linspace(0, len(before.nodes) - 1, min(LOOKED_AT, len(before.nodes))).astype(np.int64)
    for i in rows.tolist():
        clouds = []
        for scene in (before, after):
            world = scene.nodes.world[i]
            points = scene.meshes[scene.nodes.mesh[i]].positions.astype(np.float64)
            clouds.append(points @ world[:3, :3].T + world[:3, 3])
        for a, b in (clouds, clouds[::-1]):
            worst = max(worst, float(np.max(cKDTree(a).query(b)[0])))
    return worst * 1000


def floor(truth: Truth) -> float:
    """Seconds of one pass of hashing all vertices and one nearest-neighbour check per copy."""
    began = time.perf_counter()
    trees = [cKDTree(p.vertices) for p in truth.prototypes]
    for i, mesh in enumerate(truth.scene.meshes):
        hashlib.blake2b(mesh.positions.data, digest_size=16).digest()
        trees[i % PROTOTYPES].query(mesh.positions)
    return time.perf_counter() - began


def rows_of_two(count: int) -> float:
    """Seconds that groups take to be looked for where a desk and a chair stand in turn, in rows."""
    place = np.arange(count)
    local = np.tile(np.eye(4), (count, 1, 1))
    local[:, 0, 3] = place % ROW // 2 * 2.0 + place % 2 * 0.7
    local[:, 2, 3] = place // ROW * 1.6
    meshes = []
    for size in ((1.4, 0.7, 0.7), (0.5, 0.9, 0.5)):
        box = trimesh.creation.box(size)
        box.vertices[0] *= 0.8
        meshes.append(Mesh(box.vertices.astype(np.float32), box.faces.astype(np.uint32), np.zeros(12, np.int32)))
    names = [f"part_{i}" for i in range(count)]
    scene = Scene(GLTF, make_nodes(np.full(count, -1), local, names, mesh=place % 2), tuple(meshes), (Material("m"),))
    began = time.perf_counter()
    found = compounds_in(scene, place, TOLERANCE_MM / 1000, lambda done, total: None, {})
    took = time.perf_counter() - began
    covered = sum(c.members.size for c in found)
    print(f"     copies    {count:,} parts in rows: {took:.1f} s, {covered:,} in groups".replace(",", " "), flush=True)
    return took


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    seldom()  # as in every worker
    took, ratios = [], []
    worst = Judged(1.0, 1.0, PROTOTYPES, 0.0)
    for count in COUNTS:
        truth = flattened(count)
        least = floor(truth)
        chosen = movable(truth.scene)
        began = time.perf_counter()
        found = copies_in(truth.scene, Workshop(), lambda done, total: None, chosen, TOLERANCE_MM, "per_axis", True)
        done = share(truth.scene, found, chosen)
        took.append(time.perf_counter() - began)
        ratios.append(took[-1] / least)
        result = judged(truth, done)
        print(
            f"     copies    {count:,} parts: {took[-1]:.1f} s, floor {least:.1f} s, {result}".replace(",", " "),
            flush=True,
        )
        worst = Judged(
            min(worst.recall, result.recall), min(worst.precision, result.precision),
            result.families if result.families != PROTOTYPES else worst.families,
            max(worst.deviation_mm, result.deviation_mm),
        )  # fmt: skip
    growth = max(
        (b / a) ** (np.log(10) / np.log(n / m)) for a, b, m, n in zip(took, took[1:], COUNTS, COUNTS[1:], strict=False)
    )
    return [
        (f"recall among {COUNTS[-1]:,} parts", worst.recall, "≥", 0.99),
        ("precision", worst.precision, "≥", 0.99),
        ("families, of 300 prototypes", float(worst.families), "≤", float(PROTOTYPES)),
        ("the same", float(worst.families), "≥", float(PROTOTYPES)),
        ("largest deviation of a vertex, mm", worst.deviation_mm, "≤", TOLERANCE_MM),
        ("time for ten times as many parts", float(growth), "≤", 13.0),
        ("time for ten times as many parts in rows of two", rows_of_two(20_000) / rows_of_two(2_000), "≤", 13.0),
        ("time / one hashing and one nearest-neighbour check of all", max(ratios), "≤", 25.0),
    ]
