"""Lightmap sets of 500 varied meshes: each verified, how full the maps are beside both libraries' own layouts, time and its growth."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.lightmap.unwrap import LIBRARIES, UNWRAP, methods, time_limit, unwrap
from tidy_caravan.core.lightmap.verify import measure
from tidy_caravan.core.scene.arrays import F32, U32
from tidy_caravan.core.work.heavy import Done, Piece, Workshop

RESOLUTION, PADDING = 256, 2
COUNT = 500
LAST = {"huge": (50_000.0, 30), "million": (200.0, 709)}
"""Of the last meshes the width in metres and the points along a side."""
ASIDE = 100
"""Meshes that are asked for one by one, and of both libraries."""
GROWTH = (20_480, 81_920, 327_680)


def meshes(count: int) -> list[tuple[str, F32, U32]]:
    """Walls with openings, stairs, tubes, balls, soup, sheets with branches, many shells, needles, specks and halls; and
    for the last ones land of fifty kilometres, and of a million triangles."""
    rng = np.random.default_rng(11)
    out = []
    for k in range(count - len(LAST)):
        kind = ("wall", "stair", "tube", "ball", "furniture", "shells", "branch", "needle", "speck", "terrain")[k % 10]
        out.append((kind, *made(kind, rng)))
    return out + [(kind, *land(*size)) for kind, size in LAST.items()]


def land(width: float, points: int) -> tuple[F32, U32]:
    """Hills on a square of so many metres, of so many points along a side."""
    x, y = np.meshgrid(np.linspace(0, width, points), np.linspace(0, width, points))
    z = width / 40 * np.sin(7 * x / width) * np.cos(5 * y / width)
    grid = np.arange(points * points).reshape(points, points)
    a, b, c, d = grid[:-1, :-1].ravel(), grid[:-1, 1:].ravel(), grid[1:, 1:].ravel(), grid[1:, :-1].ravel()
    faces = np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])
    return np.column_stack([x.ravel(), y.ravel(), z.ravel()]).astype(np.float32), faces.astype(np.uint32)


def made(kind: str, rng: np.random.Generator) -> tuple[F32, U32]:
    box = trimesh.creation.box
    if kind == "wall":
        import shapely

        w, h = rng.uniform(2, 12), rng.uniform(2.4, 4)
        outline: Any = shapely.box(0, 0, w, h)
        for x in np.arange(0.4, w - 1.3, 1.8):
            outline = outline.difference(shapely.box(x, rng.uniform(0, 1), x + 1, h - 0.4))
        shape = trimesh.creation.extrude_polygon(outline, rng.uniform(0.1, 0.4))
        shape = flat(shape)
    elif kind == "stair":
        shape = trimesh.util.concatenate(
            [box((1.2, 0.3, 0.17), transform=moved(0, 0.3 * i, 0.17 * i)) for i in range(int(rng.integers(3, 20)))]
        )
    elif kind == "tube":
        shape = trimesh.creation.annulus(
            rng.uniform(0.2, 0.5), rng.uniform(0.6, 1), rng.uniform(0.5, 4), sections=int(rng.integers(8, 40))
        )
    elif kind == "ball":
        shape = trimesh.creation.icosphere(int(rng.integers(1, 4)))
        shape.vertices *= rng.uniform(0.5, 2, 3)
    elif kind == "furniture":
        shape = trimesh.util.concatenate(
            [
                box(rng.uniform(0.05, 2, 3), transform=moved(*rng.uniform(-1, 1, 3)))
                for _ in range(int(rng.integers(2, 12)))
            ]
        )
    elif kind == "shells":
        shape = trimesh.util.concatenate(
            [
                box(rng.uniform(0.1, 0.4, 3), transform=moved(*rng.uniform(-8, 8, 3)))
                for _ in range(int(rng.integers(60, 200)))
            ]
        )
    elif kind == "branch":  # three sheets that meet in one edge
        points = np.array([[0, 0, 0], [0, 0, 1], *([np.cos(a), np.sin(a), z] for a in (0, 2, 4) for z in (0, 1))])
        faces = [f for k in range(3) for f in ([0, 2 + 2 * k, 3 + 2 * k], [0, 3 + 2 * k, 1])]
        shape = trimesh.Trimesh(points, faces, process=False)
    elif kind == "needle":
        shape = box((rng.uniform(10, 40), rng.uniform(0.05, 0.3), rng.uniform(0.05, 0.3)))
    elif kind == "speck":
        shape = box(rng.uniform(1e-4, 1e-3, 3))
    else:
        return land(rng.uniform(20, 120), int(rng.integers(10, 40)))
    return shape.vertices.astype(np.float32), shape.faces.astype(np.uint32)


def flat(shape: Any) -> Any:
    """Every flat side with corners of its own, as builders of walls give them."""
    return trimesh.Trimesh(
        shape.triangles.reshape(-1, 3), np.arange(3 * len(shape.faces)).reshape(-1, 3), process=False
    )


def moved(x: float, y: float, z: float) -> Any:
    return trimesh.transformations.translation_matrix((x, y, z))


def own_layout(name: str, positions: F32, faces: U32) -> float | None:
    """Fill of a library's own layout where it keeps the padding and overlaps nothing."""
    low = positions.min(axis=0)
    scaled = ((positions - low) / float((positions - low).max())).astype(np.float32)
    try:
        source, indices, uv, pages = LIBRARIES[name](scaled, faces, RESOLUTION, 1)
    except RuntimeError:
        return None
    solid = np.linalg.norm(face_vectors(scaled, faces), axis=1) / 2
    report = measure(uv, indices, RESOLUTION, solid, scaled[source], PADDING + 1)
    if pages > 1 or not report.clean or report.collapsed or report.gap_texels < PADDING - 1e-3:
        return None

    return report.fill


def timed(call: Callable[[], object]) -> float:
    """Seconds that a call takes."""
    began = time.perf_counter()
    call()
    return time.perf_counter() - began


def sets_of(
    workshop: Workshop, every: Sequence[tuple[str, F32, U32]], rows: Iterable[int], found: dict[int, Done]
) -> None:
    """Lightmap sets of some of the meshes into `found`: what one way fails at is tried by the next."""
    waiting = list(rows)
    for attempt in range(3):
        pieces = [
            Piece(
                str(k), {"positions": every[k][1], "indices": every[k][2]},
                {"resolution": RESOLUTION, "padding": PADDING, "method": methods(len(every[k][2]))[attempt], "most": 8192},
                time_limit(len(every[k][2])), len(every[k][2]),
            )
            for k in waiting
        ]  # fmt: skip
        outcomes = zip(waiting, workshop.do(UNWRAP, pieces, lambda done, total: None), strict=True)
        found |= {k: outcome for k, outcome in outcomes if isinstance(outcome, Done)}
        waiting = [k for k in waiting if k not in found]
        if not waiting:
            break


def measure_sets(folder: Path) -> list[tuple[str, float, str, float]]:
    every = meshes(COUNT)
    workshop, found = Workshop(), dict[int, Done]()
    mine = [timed(partial(sets_of, workshop, every, [k], found)) for k in range(ASIDE)]
    took = sum(mine) + timed(partial(sets_of, workshop, every, range(ASIDE, COUNT), found))
    bad, stretch, cut = 0, [], []
    fill: dict[str, list[float]] = {}
    for k, done in found.items():
        kind, positions, _ = every[k]
        uv, indices = done.arrays["uv"], done.arrays["indices"]
        width, height = done.figures["resolution"], done.figures["height"]
        report = measure(uv, indices, width, None, positions[done.arrays["source"]], PADDING + 1, height)
        bad += not report.clean or report.gap_texels < PADDING - 1e-3 or report.mirrored > 0
        fill.setdefault(kind, []).append(report.fill)
        stretch.append(report.stretch)
        cut.append(done.figures["cut"])
    hard = [f for kind in ("wall", "stair", "furniture", "speck", "needle") for f in fill[kind]]
    print(
        f"     unwrap    {COUNT} meshes in {took:.0f} s; fill "
        + ", ".join(f"{kind} {np.mean(f):.2f} (least {np.min(f):.2f})" for kind, f in fill.items())
        + f"; stretch {np.mean(stretch):.2f} on average, {np.max(stretch):.2f} at worst; {np.mean(cut):.1%} of smooth edges cut",
        flush=True,
    )
    own_fill = [found[k].figures["fill"] for k in range(ASIDE) if k in found and every[k][0] != "speck"]
    print(
        f"     unwrap    of {ASIDE} ours fill {np.mean(own_fill):.2f}, {np.mean(mine):.3f} s each, {np.max(mine):.2f} s at worst",
        flush=True,
    )
    best = 0.0
    for name in LIBRARIES:
        theirs: list[float | None] = []
        took_them = [
            timed(lambda p=p, f=f, n=name, t=theirs: t.append(own_layout(n, p, f)))  # type: ignore[misc]
            for kind, p, f in every[:ASIDE]
            if kind != "speck"
        ]
        kept = [f for f in theirs if f is not None]
        best = max(best, float(np.mean(kept)) if kept else 0.0)
        print(
            f"     unwrap    {name} by itself fill {np.mean(kept) if kept else 0:.2f}, least {min(kept, default=0):.2f}, "
            f"{len(theirs) - len(kept)} of {len(theirs)} unusable; {np.mean(took_them):.3f} s each, {np.max(took_them):.2f} s at worst, unverified",
            flush=True,
        )
    seconds = []
    for level in (5, 6, 7):
        ball = trimesh.creation.icosphere(level)
        began = time.perf_counter()
        unwrap(ball.vertices.astype(np.float32), ball.faces.astype(np.uint32), 1024, PADDING, "uvunwrap")
        seconds.append(time.perf_counter() - began)
    print(f"     unwrap    balls of {GROWTH} triangles: {', '.join(f'{s:.1f} s' for s in seconds)}", flush=True)
    return [
        ("meshes without a set", float(COUNT - len(found)), "≤", 0),
        ("sets with overlaps, too little padding or mirrored islands", float(bad), "≤", 0),
        ("mean fill of hard-edged ones", float(np.mean(hard)), "≥", 0.8),
        ("mean fill of all", float(np.mean([f for fs in fill.values() for f in fs])), "≥", 0.7),
        ("fill by the better library's own layout, of the same meshes", float(np.mean(own_fill)) / best, "≥", 1.0),
        ("time for four times the triangles", max(b / a for a, b in zip(seconds, seconds[1:], strict=False)), "≤", 5.0),
    ]
