"""All checks over two million unique triangles in 100,000 parts: seconds per check, and how they grow from a quarter of
a million on. Closed shells and winding beside the same questions asked through trimesh."""

from __future__ import annotations

import statistics
import time
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
import trimesh

from benchmarks.timing import in_turn
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.geometry.winding import sides_of
from tidy_caravan.core.loading import seldom
from tidy_caravan.core.scene import GLTF, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import known_checks
from tidy_caravan.core.survey.context import Context, known_facts
from tidy_caravan.core.work.heavy import Remembered, Workshop

PARTS = (12_500, 25_000, 50_000, 100_000)
AGAIN = 25_000
"""Parts that are surveyed a second time."""
ROUNDS = 3
"""Of second surveys, each after another change."""
ASIDE = 2_000
"""Meshes that trimesh is asked about; all of them would take it minutes."""


def scene(parts: int) -> Scene:
    """Posts of twenty triangles each, no two alike, on a grid; every third touches its neighbour."""
    rng = np.random.default_rng(parts)
    post = trimesh.creation.cylinder(0.2, 1.0, sections=5)
    points = post.vertices[None] * rng.uniform(0.5, 2.0, (parts, 1, 3))
    points = (points + rng.normal(scale=0.004, size=points.shape)).astype(np.float32)
    faces, normals = post.faces.astype(np.uint32), post.vertex_normals.astype(np.float32)
    slots = np.zeros(len(faces), np.int32)
    meshes = tuple(Mesh(p, faces, slots, normals, uvs=(p[:, :2],), name=f"post {i}") for i, p in enumerate(points))
    across = int(np.ceil(np.sqrt(parts)))
    local = np.tile(np.eye(4), (parts, 1, 1))
    k = np.arange(parts)
    local[:, 0, 3], local[:, 2, 3] = (k % across) * 0.9, (k // across) * 0.9
    nodes = make_nodes(np.full(parts, -1), local, [f"post_{i}" for i in range(parts)], mesh=k)
    whole = Scene(GLTF, nodes, meshes, (Material("m"),))
    return whole.but(identity=whole.identities)  # as the server keeps what it has read


def seconds(whole: Scene, workshop: Workshop | None = None) -> dict[str, float]:
    """By check, the facts that they share first."""
    context = Context(whole, BUILT_IN[0], workshop or Workshop())
    out = {}
    began = time.perf_counter()
    context.each(next(iter(known_facts().values())))
    out["facts about meshes"] = time.perf_counter() - began
    for name, entry in known_checks().items():
        began = time.perf_counter()
        list(entry.run(context))
        out[name] = time.perf_counter() - began
    return out


def again(parts: int) -> dict[str, float]:
    """A survey after a step that touched a tenth of the meshes, as a part of the first just before it: their normals, their
    surfaces, and their texture coordinates by a step of a route; the median of ROUNDS.

    As in a run, the other meshes are the same ones as before.
    """
    told: dict[str, list[float]] = {"normals": [], "surfaces": [], "texture coordinates": []}
    for turn in range(1, ROUNDS + 1):
        kept, whole = Workshop(results=Remembered()), scene(parts)
        first = sum(seconds(whole, kept).values())
        took = {what: sum(seconds(touched(whole, what, turn, kept), kept).values()) for what in told}
        print(
            f"     large     the first {first:.1f} s, after a step for the "
            + ", the ".join(f"{what} {second:.2f} s" for what, second in took.items()),
            flush=True,
        )
        for what, second in took.items():
            told[what].append(second / first)
    return {what: statistics.median(parts_of_first) for what, parts_of_first in told.items()}


def touched(whole: Scene, what: str, turn: int, workshop: Workshop) -> Scene:
    """The scene with a tenth of its meshes changed, each turn in another way."""
    tenth = len(whole.meshes) // 10
    if what == "texture coordinates":
        names = whole.identities.given(whole.nodes.source[whole.nodes.parts[:tenth]].tolist())
        step = parse_step({"kind": "texture_scale", "metresPerRepeat": 0.3 + turn / 10, "where": {"parts": names}})
        return step.apply(whole, StepContext(BUILT_IN[0], workshop=workshop))[0]

    def changed(mesh: Mesh) -> Mesh:
        if what == "surfaces":
            return replace(mesh, positions=mesh.positions * np.float32(1.001 + turn / 1000))
        return replace(mesh, normals=None if mesh.normals is None else np.roll(-mesh.normals, turn, axis=0))

    return whole.but(meshes=(*map(changed, whole.meshes[:tenth]), *whole.meshes[tenth:]))


def ours(meshes: Sequence[Mesh]) -> None:
    """Sheets that agree, shells, closed ones and their volume, of meshes that nothing is known of yet."""
    for mesh in meshes:
        one = Mesh(mesh.positions, mesh.indices, mesh.material)
        sides_of(one)
        shells_of(one)


def theirs(meshes: Sequence[Mesh]) -> None:
    """The same through trimesh."""
    for mesh in meshes:
        one = trimesh.Trimesh(mesh.positions, mesh.indices, process=True)
        _ = one.is_watertight, one.is_winding_consistent, one.volume, one.body_count


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    seldom()  # as in every worker
    totals: list[float] = []
    every: list[dict[str, float]] = []
    for parts in PARTS:
        whole = scene(parts)
        every.append(seconds(whole))
        totals.append(sum(every[-1].values()))
        print(
            f"     large     {parts * 20:,} triangles in {parts:,} parts: {totals[-1]:.1f} s".replace(",", " "),
            flush=True,
        )
    for name, took in sorted(every[-1].items(), key=lambda s: -s[1]):
        if took >= 0.1:
            print(f"     large     {name:26} {'  '.join(f'{e[name]:7.2f}' for e in every)} s")
    ball = trimesh.creation.icosphere(7)
    dense = Mesh(ball.vertices.astype(np.float32), ball.faces.astype(np.uint32), np.zeros(len(ball.faces), np.int32))
    beside = {}
    for name, meshes in (("small", scene(ASIDE).meshes), ("dense", (dense,))):
        turns = in_turn({"ours": partial(ours, meshes), "theirs": partial(theirs, meshes)}, rounds=5)
        beside[name] = turns["theirs"] / turns["ours"]
    doublings = [b / a for a, b in zip(totals[:-1], totals[1:], strict=True)]
    second = again(AGAIN)
    return [
        (f"survey after a step for the normals of a tenth / the first, {AGAIN:,} parts", second["normals"], "≤", 0.1),
        (f"survey after a step for the surfaces of a tenth / the first, {AGAIN:,} parts", second["surfaces"], "≤", 0.2),
        (
            f"survey after a step for the texture coordinates of a tenth / the first, {AGAIN:,} parts",
            second["texture coordinates"],
            "≤",
            0.1,
        ),
        ("largest growth of all checks where the scene doubles", max(doublings), "≤", 2.3),
        (f"trimesh / closed shells and winding, {ASIDE} small meshes", beside["small"], "≥", 3.0),
        ("trimesh / closed shells and winding, one mesh of 330,000 triangles", beside["dense"], "≥", 3.0),
    ]
