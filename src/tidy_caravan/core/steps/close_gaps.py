"""Step: vertices that all but meet another piece are moved onto it, so that no light leaks between them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.corners import join
from tidy_caravan.core.geometry.edge_splits import with_split_edges
from tidy_caravan.core.geometry.pose import at_rest, bent_at_rest
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, Bool
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    step,
    with_meshes,
)
from tidy_caravan.core.steps.density import LOOKS
from tidy_caravan.core.surroundings.gap_users import within_chosen
from tidy_caravan.core.surroundings.gaps import LEAST_MM, MOST_MM, Gaps, gaps
from tidy_caravan.core.words import plural

ROUNDS = 12
"""A corner may have a gap to several others; each round closes one of them."""
MOVES = 4
"""How often a vertex is moved at most."""


@step
class CloseGaps(Step):
    """Moves vertices onto the surface that they all but touch, or onto the vertex that they all but meet. Of two pieces the
    smaller one's vertices move, where it has some at the gap. Along a crack within a piece those of the side that has more
    of them move; where the other side then still has one with nothing to meet, the edge gets a vertex there. Parts that
    share a mesh go on sharing it where all of them are moved alike."""

    title = "Close gaps"
    summary = "Moves vertices that all but meet another part onto it, so that no light leaks between."

    phase = Phase.JOINTS
    once = False

    kind: Literal["close_gaps"] = "close_gaps"
    least_mm: float = parameter(LEAST_MM, "From", "Narrower gaps are left as they are", "mm", ge=0.001, le=10)
    most_mm: float = parameter(
        MOST_MM, "Up to", "Wider gaps are meant; for small pieces a fiftieth of their size", "mm", gt=0, le=50
    )

    def effects(self) -> tuple[Effect, ...]:
        why = "Vertices were moved onto what they all but met by a step."
        return (
            Effect(Aspect.POSITIONS, self.most_mm * MOVES, why),
            Effect(Aspect.TRIANGLES, why=why),
            *(Effect(a) for a in LOOKS),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene) & (scene.nodes.mesh >= 0)
        # what bones or shapes bend is met where it is drawn, and stays: its vertices are stored elsewhere
        bent = chosen & bent_at_rest(scene)
        chosen &= ~bent
        stay = np.zeros(0, np.int64)
        start, moved = scene, np.zeros(len(scene.nodes), np.bool_)
        vertices, more, widest = 0, 0, 0.0
        settled = Counter[tuple[int, int]]()
        for _ in range(ROUNDS):
            rest = at_rest(scene)
            found = gaps(rest, context.workshop, context.progress, self.least_mm, self.most_mm)
            if isinstance(found, str):
                return scene, [Change(text=f"no gap was closed: {found}", count=0, problem=True)]
            stay = np.unique(found.part[bent[found.part]])
            found = within_chosen(rest, found, chosen)
            rows = movers(found, chosen, settled)
            if not rows.any() and settled and len(found.part):  # as a second time would
                settled.clear()
                rows = movers(found, chosen, settled)
            found, rows = the_other_way(scene, found, rows, chosen, settled)
            if not rows.any():
                break
            settled.update(zip(found.part[rows].tolist(), found.vertex[rows].tolist(), strict=True))
            wants = rows & (found.onto[:, 0] >= 0)
            widest = max(widest, furthest(scene, found, rows))
            # splits come first, since they go by vertices; what they add stands behind all others
            scene, added = split(scene, found, wants, chosen)
            scene, count = snapped(scene, found, rows & ~wants, chosen, context.progress)
            vertices, more = vertices + count, more + added
            moved[found.part[rows]] = True
            if not added and not count:
                break
        parts = np.flatnonzero(moved)
        text = f"{plural(len(stay), 'part that bones or shapes bend stays', 'parts that bones or shapes bend stay')} apart from others or within"
        held = [Change(text=text, count=len(stay), parts=identities_of(scene, stay))] if len(stay) else []
        if not len(parts):
            return start, held
        text = f"{plural(vertices, 'vertex', 'vertices')} of {plural(len(parts), 'part')} moved onto what they all but met, by {widest:.2g} mm at most"
        if more:
            text += f"; {plural(more, 'vertex', 'vertices')} put in where one side of a crack had none to meet"
        return scene, [Change(text=text, count=vertices + more, parts=identities_of(scene, parts)), *held]


def movers(found: Gaps, chosen: Bool, settled: Mapping[tuple[int, int], int]) -> Bool:
    """(K,) the vertices to move: of both sides of a gap those of the smaller piece, or those that there are. settled: by part
    and vertex how often those were moved already: the other side comes to them, where it can."""
    usable = chosen[found.part]
    own, other = found.piece.T
    _, number = np.unique(np.sort(found.piece, axis=1), axis=0, return_inverse=True)
    number = number.reshape(-1)
    count = int(number.max(initial=-1)) + 1

    def of_pair(rows: Bool) -> Bool:
        """(K,) whether the pair of pieces has any of the rows."""
        out: Bool = np.bincount(number[rows], minlength=count)[number] > 0
        return out

    if settled:
        where = zip(found.part.tolist(), found.vertex.tolist(), strict=True)
        moves = np.array([settled.get(one, 0) for one in where], np.int64)
        free = usable & (moves == 0)
        usable &= free | (~of_pair(free) & (moves < MOVES))
    smaller = (found.size[:, 0] < found.size[:, 1]) | ((found.size[:, 0] == found.size[:, 1]) & (own > other))
    out: Bool = usable & (smaller | ~of_pair(usable & smaller))
    return out


def the_other_way(
    scene: Scene, found: Gaps, rows: Bool, chosen: Bool, settled: Mapping[tuple[int, int], int]
) -> tuple[Gaps, Bool]:
    """The same with rows put in place of those whose vertex was moved already: the vertex that it should meet comes to it,
    where there is one that was moved less often; else they would go to and fro between two that are not asked about each other."""
    keys = list(zip(found.part.tolist(), found.vertex.tolist(), strict=True))
    back: dict[int, int] = {}
    for k in np.flatnonzero(rows & chosen[found.other] & (found.part != found.other)).tolist():
        moves = settled.get(keys[k], 0)
        if not moves:
            continue
        whose = int(found.other[k])
        mesh, world = scene.meshes[scene.nodes.mesh[whose]], scene.nodes.world[whose]
        away = np.linalg.norm(mesh.positions @ world[:3, :3].T + world[:3, 3] - found.target[k], axis=1)
        nearest = int(away.argmin())
        close = away[nearest] * scene.convention.metres_per_unit < LEAST_MM / 1000
        if close and settled.get((whose, nearest), 0) < moves:
            back[k] = nearest
    if not back:
        return found, rows
    some = np.array(list(back), np.int64)
    part, target = found.part.copy(), found.target.copy()
    vertex, other = found.vertex.copy(), found.other.copy()
    for k, nearest in back.items():
        own = scene.nodes.world[part[k]]
        target[k] = own[:3, :3] @ scene.meshes[scene.nodes.mesh[part[k]]].positions[vertex[k]] + own[:3, 3]
        vertex[k] = nearest
    part[some], other[some] = found.other[some], found.part[some]
    return replace(found, part=part, other=other, vertex=vertex, target=target), rows


def furthest(scene: Scene, found: Gaps, rows: Bool) -> float:
    """How far the vertices to move are from their targets at the most, in millimetres."""
    out = 0.0
    for one in np.unique(found.part[rows]).tolist():
        mine = np.flatnonzero(rows & (found.part == one))
        world, mesh = scene.nodes.world[one], scene.meshes[scene.nodes.mesh[one]]
        place = mesh.positions[found.vertex[mine]].astype(np.float64) @ world[:3, :3].T + world[:3, 3]
        out = max(out, float(np.linalg.norm(found.target[mine] - place, axis=1).max()))
    return out * scene.convention.metres_per_unit * 1000


def split(scene: Scene, found: Gaps, rows: Bool, chosen: Bool) -> tuple[Scene, int]:
    """The scene with a vertex on each edge that wants one, and how many that were. What is apart within a mesh is so in all
    parts that use it."""
    column, meshes = scene.nodes.mesh.copy(), list(scene.meshes)
    count = 0
    for one in np.unique(found.part[rows]).tolist():
        mine = np.flatnonzero(rows & (found.part == one))
        kind = int(scene.nodes.mesh[one])
        mesh = scene.meshes[kind]
        # exactly where the vertex is that was to be met
        made, added = with_split_edges(mesh, found.onto[mine], mesh.positions[found.vertex[mine]].astype(np.float64))
        if added:
            column[chosen & (scene.nodes.mesh == kind)] = len(meshes)
            meshes.append(made)
            count += added
    return (with_meshes(scene, column, meshes) if count else scene), count


def snapped(scene: Scene, found: Gaps, rows: Bool, chosen: Bool, tell: Tell) -> tuple[Scene, int]:
    """The scene with these vertices (K,) on their targets, and how many vertices of meshes that were."""
    nodes = scene.nodes
    order = np.flatnonzero(rows)[
        np.argsort(-found.distance[rows], kind="stable")
    ]  # of several the nearest is written last
    inverse = affine_inverse(nodes.world[found.part[order]])
    target = np.einsum("kij,kj->ki", inverse[:, :3, :3], found.target[order]) + inverse[:, :3, 3]
    column, meshes = nodes.mesh.copy(), list(scene.meshes)
    made: dict[tuple[int, bytes], int] = {}
    count = 0
    inner = found.part[order] == found.other[order]
    shared: dict[int, tuple[F64, F64]] = {}
    for one in np.unique(found.part[order]).tolist():
        mine = found.part[order] == one
        kind = int(nodes.mesh[one])
        for within in (True, False):
            some = mine & (inner == within)
            if not some.any():
                continue
            vertex, place = found.vertex[order][some], target[some]
            if within:
                shared[kind] = vertex.astype(np.float64), place
            else:
                key, moved = displaced(scene, kind, vertex, place)
                if (kind, key) not in made:
                    made[kind, key] = len(meshes)
                    mesh = meshes[kind]
                    meshes.append(replace(mesh, positions=(mesh.positions + moved).astype(np.float32), recipe=None))
                    count += int((moved != 0).any(axis=1).sum())
                column[one] = made[kind, key]
    # what is apart within a mesh is so in all parts that use it
    for kind, (vertex, place) in shared.items():
        _, moved = displaced(scene, kind, vertex.astype(np.int64), place)
        count += int((moved != 0).any(axis=1).sum())
        for number in [kind, *(k for (m, _), k in made.items() if m == kind)]:
            users = np.flatnonzero(chosen & (column == number))
            if len(users):
                mesh = meshes[number]
                column[users] = len(meshes)
                meshes.append(replace(mesh, positions=(mesh.positions + moved).astype(np.float32), recipe=None))
    return with_meshes(scene, column, meshes, tell), count


def displaced(
    scene: Scene, kind: int, vertex: np.ndarray[tuple[int], np.dtype[np.int64]], place: F64
) -> tuple[bytes, F64]:
    """How far each vertex of a mesh (V, 3) is to be moved, all at one place alike; and what tells that from another."""
    mesh = scene.meshes[kind]
    _, spot = join(np.zeros(mesh.vertices, np.int64), [mesh.positions])
    move = np.zeros((int(spot.max()) + 1, 3))
    move[spot[vertex]] = place - mesh.positions[vertex].astype(np.float64)
    size = float(np.linalg.norm(mesh.bounds[1] - mesh.bounds[0]))
    out: F64 = move[spot]
    return np.rint(out / max(size * 1e-6, 1e-30)).astype(np.int64).tobytes(), out
