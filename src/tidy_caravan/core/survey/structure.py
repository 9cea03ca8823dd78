"""Checks of tree, names, sharing and draw calls."""

from __future__ import annotations

import re
from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.figures import count
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.survey.base import Finding, check, parts_with
from tidy_caravan.core.words import plural


@check("tree", "Empty nodes")
def empty_nodes(scene: Scene, destination: Destination) -> Iterable[Finding]:
    """Nodes without mesh, light or camera and with nothing of that kind below them."""
    nodes = scene.nodes
    useful = (nodes.mesh >= 0) | (nodes.light >= 0) | (nodes.camera >= 0)
    useful[[j for s in scene.skins for j in s.joints]] = True
    useful[[c.node for clip in scene.clips for c in clip.channels]] = True
    leads = useful.copy()
    rows = np.flatnonzero(useful)
    while len(rows):
        rows = np.unique(nodes.parent[rows])
        rows = rows[rows >= 0]
        rows = rows[~leads[rows]]
        leads[rows] = True
    empty = np.flatnonzero(~leads)
    if len(empty):
        yield Finding(
            code="tree.empty",
            severity="info",
            title="Empty nodes",
            count=len(empty),
            text=f"{plural(len(empty), 'node draws', 'nodes draw')} nothing and lead to nothing.",
            parts=[int(i) for i in empty],
            mend={"kind": "drop_empties"},
        )


@check("tree", "Unused meshes and materials")
def unused(scene: Scene, destination: Destination) -> Iterable[Finding]:
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
def name_clashes(scene: Scene, destination: Destination) -> Iterable[Finding]:
    """Names that several nodes bear: receivers that address parts by name take one for the other."""
    names = scene.nodes.names
    if not names:
        return
    first: dict[str, int] = {}
    group = np.fromiter((first.setdefault(n.lower(), len(first)) for n in names), np.int64, len(names))
    double = np.bincount(group)[group] > 1
    if double.any():
        rows = np.flatnonzero(double)
        example = names[int(rows[0])][:60]
        yield Finding(
            code="name.clash",
            severity="warning",
            title="Name clashes",
            count=len(rows),
            text=f"{len(rows)} nodes share their name with another, such as “{example}”.",
            parts=[int(i) for i in rows],
            mend={"kind": "tidy_names"},
        )


@check("names", "Forbidden characters and length")
def name_characters(scene: Scene, destination: Destination) -> Iterable[Finding]:
    whole = re.compile(f"(?:{destination.name_pattern})+")
    names = scene.nodes.names
    verdict = {n: whole.fullmatch(n) is not None and len(n) <= destination.name_length for n in set(names)}
    rows = [i for i, n in enumerate(names) if not verdict[n]]
    if rows:
        example = "".join(c if c.isprintable() else "�" for c in names[rows[0]][:60])
        yield Finding(
            code="name.forbidden",
            severity="warning",
            title="Names the destination refuses",
            count=len(rows),
            value=float(max(len(names[i]) for i in rows)),
            limit=float(destination.name_length),
            unit="characters",
            text=f"{plural(len(rows), 'name')} the destination cannot take, being empty, too long or with characters "
            f"outside {destination.name_pattern}, such as “{example}”.",
            parts=rows,
            mend={"kind": "tidy_names"},
        )


def handedness(mesh: Mesh, area: F64) -> int:
    """+1 or -1 for a mesh that is not its own mirror image, 0 for one that is.

    The sign of the determinant of three vector moments of different order: turns keep it, mirrors flip it.
    Two meshes that differ in it can be shared only where negative scale is allowed.
    """
    centres = mesh.positions.astype(np.float64)[mesh.indices].mean(axis=1)
    arms = centres - (centres * area[:, None]).sum(axis=0) / max(area.sum(), 1e-300)
    reach = np.linalg.norm(arms, axis=1)
    size = max(float(reach.max()), 1e-300)
    moments = np.array([(arms * (area * (reach / size) ** k)[:, None]).sum(axis=0) for k in (1, 3, 5)])
    lengths = np.linalg.norm(moments, axis=1)
    volume = float(np.linalg.det(moments))
    return 0 if abs(volume) <= 1e-4 * float(lengths.prod()) else int(np.sign(volume))


@check("sharing", "Unique meshes against instances")
def sharing(scene: Scene, destination: Destination) -> Iterable[Finding]:
    """Loose copies by invariants: triangle count, area and edge lengths that agree, meshes that do not."""
    used = np.flatnonzero(scene.instance_counts > 0)
    parts = len(scene.nodes.parts)
    groups: dict[tuple[float, ...], list[int]] = {}
    for i in used.tolist():
        mesh = scene.meshes[i]
        if mesh.triangles:
            area = np.linalg.norm(face_vectors(mesh.positions, mesh.indices), axis=1)
            # twice the area, and its second moment; rigid motions and mirrors keep both
            hand = 0 if destination.negative_scale else handedness(mesh, area)
            key = (mesh.triangles, float(f"{area.sum():.4g}"), float(f"{(area**2).sum():.3g}"), hand)
            groups.setdefault(key, []).append(i)
    loose = [g for g in groups.values() if len(g) > 1]
    if loose:
        members = np.array([i for g in loose for i in g])
        rows = scene.nodes.parts[np.isin(scene.nodes.mesh[scene.nodes.parts], members)]
        could = len(members) - len(loose)
        yield Finding(
            code="sharing.loose-copies",
            severity="warning",
            title="Loose copies",
            count=len(members),
            guess=True,
            value=float(len(members)),
            limit=float(len(loose)),
            unit="meshes",
            text=f"{len(members)} meshes look like copies of {len(loose)} (same triangles, area and moments); sharing them would save {could} meshes.",
            parts=[int(i) for i in rows],
        )
    if parts > 20 and len(used) > 0.8 * parts:
        yield Finding(
            code="sharing.none",
            severity="warning",
            title="Nothing is shared",
            count=len(used),
            value=float(len(used)),
            limit=float(parts),
            unit="meshes",
            text=f"{len(used)} unique meshes for {parts} parts: repeated pieces have probably lost their sharing on the way here.",
        )


@check("speed", "Draw calls")
def draw_calls(scene: Scene, destination: Destination) -> Iterable[Finding]:
    figures = count(scene)
    yield Finding(
        code="speed.draw-calls",
        severity="info",
        title="Draw calls",
        count=figures.draw_calls,
        value=float(figures.draw_calls),
        limit=float(figures.draw_calls_instanced),
        unit="calls",
        text=f"{plural(figures.draw_calls, 'draw call')} when every part is drawn by itself, {plural(figures.draw_calls_instanced, 'call')} with instancing per mesh and material.",
    )


@check("limits", "Index and texture limits")
def limits(scene: Scene, destination: Destination) -> Iterable[Finding]:
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
            )
