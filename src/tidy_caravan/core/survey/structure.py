"""Checks of tree, names and draw calls."""

from __future__ import annotations

import re
from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.figures import count
from tidy_caravan.core.geometry.congruent import look_alike, twice
from tidy_caravan.core.geometry.doors import Door, door_of, no_doors, shells_of, up_in
from tidy_caravan.core.geometry.lots import Lot
from tidy_caravan.core.geometry.pieces import by_shell
from tidy_caravan.core.geometry.stretched import moving
from tidy_caravan.core.scene import HIDDEN, Mesh, Scene
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.surroundings.world import not_empty
from tidy_caravan.core.survey.base import Finding, check, parts_with
from tidy_caravan.core.survey.context import Context, mesh_fact
from tidy_caravan.core.survey.places import MOST_LINES, MOST_PLACES, box_lines, place, within_budget
from tidy_caravan.core.words import figure, plural

SAME_PLACE = 1e-5
"""Deviation, as a part of their size, within which two parts stand in one place."""
MOST_PAIRS = 20_000


MOST_LETTERS = 6
"""Letters that are named, of those which names have and a destination does not take."""

LUMP = (30, 0.1)
"""Pieces from which on a mesh may be a lump, and how small most of them are against the whole."""


def loose_pieces(mesh: Mesh) -> list[float]:
    """How many pieces hang together by themselves, and the size of the middle one as a part of the whole's. O(F log F)."""
    if mesh.triangles < LUMP[0]:
        return [1.0, 1.0]
    label = by_shell(mesh)
    count = int(label.max()) + 1
    if count < LUMP[0]:
        return [float(count), 1.0]
    corners = mesh.positions.astype(np.float64)[mesh.indices]
    order = np.argsort(label, kind="stable")
    begin = np.searchsorted(label[order], np.arange(count))
    low = np.minimum.reduceat(corners.min(axis=1)[order], begin)
    high = np.maximum.reduceat(corners.max(axis=1)[order], begin)
    whole = float(np.linalg.norm(high.max(axis=0) - low.min(axis=0))) or 1.0
    return [float(count), float(np.median(np.linalg.norm(high - low, axis=1))) / whole]


def loose_pieces_of(lot: Lot) -> list[list[float] | None]:
    """The same of ordinary meshes of less than a lump's pieces."""
    few = lot.triangles < LUMP[0]
    found = np.where(few, 1, lot.plain_pieces).tolist()
    return [[float(n), 1.0] if 0 < n < LUMP[0] else None for n in found]


LOOSE = mesh_fact("loose pieces", loose_pieces, version=2, surface=True, many=loose_pieces_of)


@check("structure", "Lumps of many pieces")
def lumps(context: Context) -> Iterable[Finding]:
    """Meshes of many loose pieces spread over a large space, which one part draws: a whole hall exported as one thing."""
    scene = context.scene
    counts = scene.instance_counts
    marked = np.zeros(len(scene.meshes), np.bool_)
    pieces = 0
    for i, found in enumerate(context.each(LOOSE)):
        if found is not None and counts[i] == 1 and found[0] >= LUMP[0] and found[1] <= LUMP[1]:
            marked[i] = True
            pieces += int(found[0])
    if marked.any():
        parts = parts_with(scene, marked)
        yield Finding(
            code="structure.lump",
            severity="info",
            title="Lumps of many pieces",
            count=len(parts),
            value=float(pieces),
            unit="pieces",
            text=f"{plural(len(parts), 'part is a lump', 'parts are lumps')} of {plural(pieces, 'loose piece')}: none of them can be culled, lit or shared by "
            "itself. Split, they are parts, and copies among them can share their meshes. Foliage and gravel are meant to be one.",
            parts=parts,
            guess=True,
            mend={
                "kind": "split_parts",
                "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())},
            },
        )


def leaves_by_way(mesh: Mesh) -> list[float]:
    """How many leaves a mesh has in a frame, were x, -x, y, -y, z or -z up."""
    first = shells_of(mesh, np.eye(3)[0])
    if first is None:
        return [0.0] * 6
    found: list[Door | None] = []
    for axis in np.eye(3):
        shells = shells_of(mesh, axis, first.label)
        found += [door_of(mesh, way * axis, shells) if shells else None for way in (1, -1)]
    return [float(len(d.boxes)) if d and d.handle else 0.0 for d in found]


def leaves_of(lot: Lot) -> list[list[float] | None]:
    """The same of meshes that have too few triangles or pieces for a door."""
    return [[0.0] * 6 if none else None for none in no_doors(lot).tolist()]


DOORS = mesh_fact("leaves in their frame", leaves_by_way, version=4, surface=True, many=leaves_of)


@check("structure", "Leaf and frame in one")
def leaf_and_frame(context: Context) -> Iterable[Finding]:
    """Doors whose leaf is one mesh with its frame: thin tall slabs with a handle, in an opening that the rest
    leaves free."""
    scene, nodes = context.scene, context.scene.nodes
    up = axis_vector(scene.convention.up)
    known = np.array([f if f is not None else [0.0] * 6 for f in context.each(DOORS)] or np.zeros((0, 6)))
    parts = nodes.parts[known[nodes.mesh[nodes.parts]].any(axis=1)] if len(known) else nodes.parts[:0]
    places: dict[int, list[int]] = {}
    for i in parts.tolist():
        own = up_in(nodes.world[i], up)
        axis = int(np.argmax(np.abs(own)))
        if known[nodes.mesh[i], 2 * axis + (own[axis] < 0)]:
            places.setdefault(int(nodes.mesh[i]), []).append(i)
    told = []
    leaves = 0
    rows: list[int] = []
    for m, users in sorted(places.items(), key=lambda p: -len(p[1])):
        door = door_of(scene.meshes[m], up_in(nodes.world[users[0]], up))
        if door is None:
            continue
        rows += users
        leaves += len(door.boxes) * len(users)
        lines = np.concatenate([box_lines(b) for b in door.boxes]) @ door.turn
        outlines = [lines @ nodes.world[i][:3, :3].T + nodes.world[i][:3, 3] for i in users[: MOST_LINES // len(lines)]]
        one = place(users, np.concatenate(outlines), float(len(users)), "doors")
        hang = "" if all(door.sure) else "; no handle says on which side they hang"
        text = f"{plural(len(users), 'door')} like “{nodes.names[users[0]][-60:] or '?'}”, {plural(len(door.boxes), 'leaf', 'leaves')} each{hang}"
        told.append(one.model_copy(update={"text": text}))
    if not rows:
        return
    rows.sort()
    yield Finding(
        code="structure.leaf",
        severity="info",
        title="Leaf and frame in one",
        count=len(rows),
        value=float(leaves),
        unit="leaves",
        text=f"{plural(len(rows), 'part has', 'parts have')} {plural(leaves, 'leaf', 'leaves')} in one mesh with the frame around, so that "
        "nothing can turn. Taken apart, each leaf is a part with its pivot on the hinge. Judged by shape: look at each.",
        parts=rows,
        places=within_budget(told[:MOST_PLACES]),
        guess=True,
        mend={"kind": "part_leaves", "where": {"parts": scene.identities.given(nodes.source[rows].tolist())}},
    )


@check("tree", "Empty nodes")
def empty_nodes(context: Context) -> Iterable[Finding]:
    """Nodes without mesh, light, camera or data of their own and with nothing of that kind below them."""
    scene = context.scene
    empty = np.flatnonzero(~not_empty(scene))
    if len(empty):
        yield Finding(
            code="tree.empty",
            severity="info",
            title="Empty nodes",
            count=len(empty),
            text=f"{plural(len(empty), 'node draws nothing and leads', 'nodes draw nothing and lead')} to nothing.",
            parts=[int(i) for i in empty],
            mend={"kind": "drop_empties"},
        )


@check("tree", "Unused meshes and materials")
def unused(context: Context) -> Iterable[Finding]:
    """Meshes that no part draws and materials that no mesh has: nothing is lost with them."""
    scene = context.scene
    meshes = int((scene.instance_counts == 0).sum())
    if meshes:
        yield Finding(
            code="mesh.unused",
            severity="info",
            title="Unused meshes",
            count=meshes,
            text=f"{plural(meshes, 'mesh is', 'meshes are')} used by no part.",
        )
    used = {s for m in scene.meshes for s in m.slots}
    spare = [i for i in range(len(scene.materials)) if i not in used]
    if spare:
        yield Finding(
            code="material.unused",
            severity="info",
            title="Unused materials",
            count=len(spare),
            text=f"{plural(len(spare), 'material is', 'materials are')} used by no mesh.",
        )


@check("names", "Name clashes")
def name_clashes(context: Context) -> Iterable[Finding]:
    """Names that several nodes bear: receivers that address parts by name take one for the other."""
    scene = context.scene
    names = scene.nodes.names
    if not names:
        return
    lower = list(map(str.lower, names))
    last = dict(zip(lower, range(len(lower)), strict=True))
    if len(last) < len(lower):
        group = np.array(list(map(last.__getitem__, lower)), np.int64)
        rows = np.flatnonzero(np.bincount(group)[group] > 1)
        example = names[int(rows[0])][:60]
        parent = scene.nodes.parent[rows].astype(np.int64)
        _, which, many = np.unique(parent * len(names) + group[rows], return_inverse=True, return_counts=True)
        # as meshes that are all called “Geometry”, in groups with names of their own
        by_group = ((many[which.reshape(-1)] == 1) & (parent >= 0)).mean() > 0.5
        yield Finding(
            code="name.clash",
            severity="warning",
            title="Name clashes",
            count=len(rows),
            text=f"{figure(len(rows))} nodes share their name with another, such as “{example}”"
            f"{'; most of them hang in groups that tell them apart' if by_group else ''}.",
            parts=[int(i) for i in rows],
            mend={"kind": "tidy_names", **({"repeated": "group"} if by_group else {})},
        )


def named(letter: str) -> str:
    """A letter as it can be read in a sentence."""
    if letter == " ":
        return "blanks"
    return f"“{letter}”" if letter.isprintable() else f"U+{ord(letter):04X}"


@check("names", "Forbidden characters and length")
def name_characters(context: Context) -> Iterable[Finding]:
    """Names that the destination does not take: empty, longer than it allows, or with characters outside its pattern."""
    scene, destination = context.scene, context.destination
    # the pattern is a class of letters: what it makes of a name follows from the letters in it
    allowed, names, longest = re.compile(destination.name_pattern), scene.nodes.names, destination.name_length
    wrong = {letter for letter in set("".join(names)) if not allowed.fullmatch(letter)}
    lengths = np.fromiter(map(len, names), np.int64, len(names))
    empty, long = np.flatnonzero(lengths == 0).tolist(), np.flatnonzero(lengths > longest).tolist()
    odd = [i for i, n in enumerate(names) if not wrong.isdisjoint(n)] if wrong else []
    rows = sorted({*empty, *long, *odd})
    if rows:
        letters = sorted(wrong)
        some = ", ".join(map(named, letters[:MOST_LETTERS])) + (" and others" if len(letters) > MOST_LETTERS else "")
        why = [
            f"{figure(len(those))} {what}"
            for those, what in ((empty, "empty"), (long, f"longer than {longest} characters"), (odd, f"with {some}"))
            if those
        ]
        example = "".join(c if c.isprintable() else "�" for c in names[rows[0]][:60])
        yield Finding(
            code="name.forbidden",
            severity="warning",
            title="Names the destination refuses",
            count=len(rows),
            value=float(lengths.max() if long else len(rows)),
            limit=float(longest if long else 0),
            unit="characters" if long else "names",
            text=f"{plural(len(rows), 'name')} the destination cannot take, such as “{example}”: {'; '.join(why)}.",
            parts=rows,
            mend={"kind": "tidy_names"},
        )


@check("structure", "The same part twice in one place")
def twice_in_place(context: Context) -> Iterable[Finding]:
    """Parts with equal triangles and equal bounds in the world, corner on corner: they flicker, and cost double."""
    scene = context.scene
    parts = scene.nodes.parts
    if len(parts) < 2:
        return
    shown = np.flatnonzero((scene.nodes.flags[parts] & HIDDEN) == 0)
    triangles = scene.triangle_counts[scene.nodes.mesh[parts]]
    shown = shown[triangles[shown] > 0]
    # by mesh first, so that of many in one place none hides behind others with as many triangles
    boxes, mesh = scene.part_bounds[shown], scene.nodes.mesh[parts[shown]]
    found = [twice(boxes, keys, SAME_PLACE) for keys in (mesh, triangles[shown])]
    pairs = parts[shown[np.unique(np.concatenate(found), axis=0)]]
    a, b = pairs.T
    world = scene.nodes.world
    alike = (scene.nodes.mesh[a] == scene.nodes.mesh[b]) & (world[a] == world[b]).all(axis=(1, 2))
    # the same mesh under the same matrix needs no look at its corners
    asked = np.flatnonzero(~alike)[:MOST_PAIRS]
    alike[asked] = [corner_on_corner(scene, x, y) for x, y in pairs[asked].tolist()]
    if alike.any():
        rows = np.unique(b[alike]).tolist()
        drawn = scene.nodes.mesh[pairs[alike]].tolist()
        same = np.array([look_alike(scene.meshes[x], scene.meshes[y]) for x, y in drawn], np.bool_)
        same &= ~scene.nodes.under(moving(scene))[pairs[alike]].any(axis=1)  # such as come apart later
        spare = np.unique(b[alike][same])
        yield Finding(
            code="part.twice",
            severity="warning",
            title="Twice in one place",
            count=len(rows),
            value=float(len(rows)),
            limit=0.0,
            unit="parts",
            text=f"{plural(len(rows), 'part stands', 'parts stand')} exactly where an equal one stands, such as “{scene.nodes.paths[rows[0]][-80:]}”: "
            "their faces flicker and cost double.",
            parts=np.unique(pairs[alike]).tolist(),
            mend={
                "kind": "mend_overlaps",
                "how": "remove",
                "where": {"parts": scene.identities.given(scene.nodes.source[spare].tolist())},
            }
            if len(spare)
            else None,
        )


def corner_on_corner(scene: Scene, a: int, b: int) -> bool:
    """Whether every triangle corner of part b lies on one of part a, within a part of their size."""
    from scipy.spatial import cKDTree

    nodes = scene.nodes
    clouds = []
    for node in (a, b):
        mesh, world = scene.meshes[nodes.mesh[node]], nodes.world[node]
        clouds.append(mesh.positions[mesh.used].astype(np.float64) @ world[:3, :3].T + world[:3, 3])
    size = float(np.linalg.norm(np.ptp(clouds[0], axis=0)))
    for one, other in ((clouds[0], clouds[1]), (clouds[1], clouds[0])):
        far, _ = cKDTree(one).query(other, distance_upper_bound=max(SAME_PLACE * size, 1e-12) * 4)
        if not np.isfinite(far).all():
            return False
    return True


@check("speed", "Draw calls")
def draw_calls(context: Context) -> Iterable[Finding]:
    """What the scene costs to draw: by parts and the materials on them, and with instancing by meshes and their materials."""
    scene = context.scene
    figures = count(scene)
    yield Finding(
        code="speed.draw-calls",
        severity="info",
        title="Draw calls",
        count=figures.draw_calls,
        value=float(figures.draw_calls),
        unit="calls",
        text=f"{plural(figures.draw_calls, 'draw call')} when every part is drawn by itself, {plural(figures.draw_calls_instanced, 'call')} with instancing per mesh and material.",
    )


@check("limits", "Index limits")
def limits(context: Context) -> Iterable[Finding]:
    """Meshes with more vertices than the 16-bit indices of a destination reach."""
    scene, destination = context.scene, context.destination
    if destination.index_bits == 16:
        over = np.array([m.vertices > 65_535 for m in scene.meshes], np.bool_)
        if over.any():
            yield Finding(
                code="limit.vertices",
                severity="error",
                title="Too many vertices",
                count=int(over.sum()),
                value=float(max(m.vertices for m in scene.meshes)),
                limit=65_535.0,
                unit="vertices",
                text=f"{plural(int(over.sum()), 'mesh has', 'meshes have')} more vertices than 16-bit indices reach.",
                parts=parts_with(scene, over),
                mend={"kind": "split_parts", "by": "vertices", "vertices": 65_535},
            )
