"""Compares what a receiver read with the source, part by part, in metres, Y up, right-handed."""

from __future__ import annotations

import dataclasses
import hashlib
from collections import defaultdict
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import orjson
from scipy.spatial import cKDTree

from tidy_caravan.core.arrival.receivers import receive
from tidy_caravan.core.arrival.report import ArrivalReport, PartRow, Tolerances, Worst
from tidy_caravan.core.conventions.axes import linear_map
from tidy_caravan.core.conventions.convert import cofactors
from tidy_caravan.core.conventions.transforms import affine_inverse, angle_deg, polar
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.geometry.faults import degenerate
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.scene import GLTF, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray

LEAST_POSITION_MM = 0.1
SIZE_FLOOR_M = 1e-5
"""Extents below this are no sizes to compare: flat sheets have none across."""
ROWS = 200_000


@dataclass(frozen=True)
class Placed:
    """Parts of a scene in the common space. worlds (N, 4, 4), boxes (P, 2, 3) by part row."""

    scene: Scene
    linear: F64
    worlds: F64
    boxes: F64
    row_of: I64

    @classmethod
    def of(cls, scene: Scene) -> Placed:
        linear = linear_map(scene.convention, GLTF)
        inverse = np.linalg.inv(linear)
        worlds = scene.nodes.world.copy()
        worlds[:, :3, :3] = linear @ worlds[:, :3, :3] @ inverse
        worlds[:, :3, 3] = worlds[:, :3, 3] @ linear.T
        corners = scene.part_bounds @ linear.T
        boxes = np.stack([corners.min(axis=1), corners.max(axis=1)], axis=1)
        row_of = np.full(len(scene.nodes), -1, np.int64)
        row_of[scene.nodes.parts] = np.arange(len(scene.nodes.parts))
        return cls(scene, linear, worlds, boxes, row_of)


def read_manifest(folder: Path) -> Manifest:
    """Raises UnusableInput when there is none or it is not usable."""
    path = folder / "manifest.json"
    try:
        data = path.read_bytes()
    except OSError as error:
        raise UnusableInput("there is no manifest.json; name the folder of a package", where=str(folder)) from error
    try:
        return Manifest.model_validate(orjson.loads(data))
    except ValueError as error:
        first = str(error).splitlines()[0]
        raise UnusableInput(f"the manifest cannot be used ({first}); pack again", where=str(path)) from error


def arrive(folder: Path, source: Scene) -> tuple[ArrivalReport, Scene]:
    """Reads the package in `folder` as its destination would and compares it with the source scene.

    The source must be in the convention it was carried in. Raises UnusableInput.
    """
    manifest = read_manifest(folder)
    main = folder / manifest.main_file
    if Path(manifest.main_file).name != manifest.main_file or not main.is_file():
        raise UnusableInput(f"the package has no {manifest.main_file}", where=str(folder))
    arrived = receive(main, manifest.destination, manifest.format)
    return compare(source, arrived, manifest, changed_files(folder, manifest)), arrived


def changed_files(folder: Path, manifest: Manifest) -> list[str]:
    out = []
    for file in manifest.files:
        path = (folder / file.path).resolve()
        if not path.is_relative_to(folder.resolve()) or not path.is_file():
            out.append(f"{file.path} is missing")
        elif hashlib.sha256(path.read_bytes()).hexdigest() != file.sha256:
            out.append(f"{file.path} is not the file that was packed")
    return out


def compare(source: Scene, arrived: Scene, manifest: Manifest, problems: list[str] | None = None) -> ArrivalReport:
    """The full comparison. Parts are matched by tree path, and by node number where a path is not unique."""
    steps = {s.get("kind") for s in manifest.route if s.get("enabled", True)}
    problems = list(problems or [])
    flat = manifest.flat
    here, there = Placed.of(source), Placed.of(arrived)
    pairs, lost, extra = match(manifest, arrived, flat)
    known = pairs[:, 0] >= 0
    if (pairs[known, 0] >= len(source.nodes)).any() or (source.nodes.mesh[pairs[known, 0]] < 0).any():
        raise UnusableInput("the package was made from another source than the one given", where=manifest.source_name)
    present = set(pairs[known, 0].tolist())
    listed = {p.source_id for p in manifest.parts}
    gone = set(manifest.dropped)
    for node in source.nodes.parts.tolist():
        if node not in present and node not in listed and node not in gone:
            lost.append(source.nodes.paths[node])
    pairs = pairs[known]
    size = float((here.boxes[:, 1].max(axis=0) - here.boxes[:, 0].min(axis=0)).max()) if len(here.boxes) else 0.0
    limits = Tolerances(position_mm=max(LEAST_POSITION_MM, size * 1000 * 2.0**-21))
    rows, sharing = measure(here, there, pairs, manifest, limits, steps, flat)
    rows.sort(key=lambda r: (-r.badness, r.path))
    faulty = sum(1 for r in rows if r.faults)
    declared = []
    if "place_pivots" in steps:
        declared.append(
            "Pivots were moved by a step; the distance to the old ones is shown and not held against the package."
        )
    if "drop_degenerates" in steps:
        declared.append("Triangles without area were dropped by a step.")
    if "mend_normals" in steps:
        declared.append("Missing and broken normals were replaced by a step; good ones are compared.")
    if manifest.dropped:
        declared.append(f"{len(manifest.dropped)} nodes were dropped by a step.")
    problems += sharing
    worst = Worst(
        position_mm=max((r.position_mm for r in rows), default=0.0),
        size_ratio=max((r.size_ratio for r in rows), default=1.0),
        rotation_deg=max((r.rotation_deg for r in rows), default=0.0),
        normal_deg=max((r.normal_deg for r in rows), default=0.0),
        pivot_mm=max((r.pivot_mm for r in rows), default=0.0),
        surface_mm=max((r.surface_mm for r in rows), default=0.0),
    )
    return ArrivalReport(
        ok=not lost and not extra and not faulty and not problems,
        compared=len(rows),
        worst=worst,
        tolerances=limits,
        lost=sorted(lost),
        extra=extra,
        faulty=faulty,
        sharing_source=int((source.instance_counts > 0).sum()),
        sharing_arrived=int((arrived.instance_counts > 0).sum()),
        problems=problems,
        format_losses=[r for r in manifest.remarks if "cannot hold" in r],
        declared=declared,
        rows=rows[:ROWS],
    )


def match(manifest: Manifest, arrived: Scene, flat: bool) -> tuple[I64, list[str], list[str]]:
    """(K, 2) source id and arrived node; paths of parts that are not there; paths nobody sent."""
    nodes = arrived.nodes
    by_path: dict[str, list[int]] = defaultdict(list)
    for node in nodes.parts.tolist():
        by_path[nodes.paths[node]].append(node)
    listed = {p.path for p in manifest.parts}
    taken: set[int] = set()
    found: list[tuple[int, int]] = []
    lost: list[str] = []
    for k, part in enumerate(manifest.parts):
        candidates = by_path.get(part.path, [])
        node = -1
        if flat:
            node = int(nodes.parts[k]) if k < len(nodes.parts) else -1
        elif len(candidates) == 1:
            node = candidates[0]
        elif part.node in candidates or (
            not candidates
            and 0 <= part.node < len(nodes)
            and nodes.mesh[part.node] >= 0
            and nodes.paths[part.node] not in listed
        ):
            node = part.node
        if node < 0 or node in taken:
            lost.append(part.source_path or part.path)
            continue
        taken.add(node)
        found.append((part.source_id, node))
    extra = [nodes.paths[i] for i in nodes.parts.tolist() if i not in taken]
    return np.array(found, np.int64).reshape(-1, 2), lost, extra


def measure(
    here: Placed, there: Placed, pairs: I64, manifest: Manifest, limits: Tolerances, steps: set[object], flat: bool
) -> tuple[list[PartRow], list[str]]:
    """Rows for all pairs, and sentences about sharing. Vectorized over parts; per mesh pair for surfaces."""
    if not len(pairs):
        return [], []
    a, b = pairs[:, 0], pairs[:, 1]
    source, arrived = here.scene, there.scene
    box_a, box_b = here.boxes[here.row_of[a]], there.boxes[there.row_of[b]]
    position = np.linalg.norm(box_a.mean(axis=1) - box_b.mean(axis=1), axis=1) * 1000
    extent_a, extent_b = box_a[:, 1] - box_a[:, 0] + SIZE_FLOOR_M, box_b[:, 1] - box_b[:, 0] + SIZE_FLOOR_M
    ratio = np.maximum(extent_a / extent_b, extent_b / extent_a).max(axis=1)
    world_a, world_b = here.worlds[a], there.worlds[b]
    pivot = np.linalg.norm(world_a[:, :3, 3] - world_b[:, :3, 3], axis=1) * 1000
    rotation = angle_deg(polar(world_a[:, :3, :3])[0], polar(world_b[:, :3, :3])[0])
    solid = np.abs(np.linalg.det(world_a[:, :3, :3])) > 1e-30
    rotation = np.where(solid, rotation, 0.0)
    if flat:
        pivot, rotation = np.zeros_like(pivot), np.zeros_like(rotation)
    surface, normal = surfaces(here, there, pairs, steps)
    mesh_a, mesh_b = source.nodes.mesh[a], arrived.nodes.mesh[b]
    dropping = "drop_degenerates" in steps
    expected = np.array(
        [m.triangles - (int(degenerate(m).sum()) if dropping and not degenerate(m).all() else 0) for m in source.meshes]
    )
    got = np.array([m.triangles for m in arrived.meshes])
    wanted_paths = expected_paths(source, manifest)
    new_name = manifest.renamed_materials
    names = [new_name.get(m.name, m.name) for m in source.materials]
    slots_a = [tuple(names[s] if s >= 0 else "" for s in m.slots) for m in source.meshes]
    slots_b = [tuple(arrived.materials[s].name if s >= 0 else "" for s in m.slots) for m in arrived.meshes]
    sent_uv = {p.source_id: p.uv_sets for p in manifest.parts}
    checks = [
        (position, limits.position_mm, "position"),
        (ratio - 1, limits.size_ratio - 1, "size"),
        (rotation, limits.rotation_deg, "rotation"),
        (surface, limits.position_mm, "surface"),
        (normal, limits.normal_deg, "normals"),
    ]
    if "place_pivots" not in steps and not flat:
        checks.append((pivot, limits.position_mm, "pivot"))
    badness = np.max([np.nan_to_num(v / limit, nan=1e9) for v, limit, _ in checks], axis=0)
    over = [(np.nan_to_num(v, nan=1e9) > limit).tolist() for v, limit, _ in checks]
    rows = []
    for k, (i, j) in enumerate(zip(a.tolist(), b.tolist(), strict=True)):
        faults = [name for flags, (_, _, name) in zip(over, checks, strict=True) if flags[k]]
        ma, mb = int(mesh_a[k]), int(mesh_b[k])
        if expected[ma] != got[mb]:
            faults.append("triangle count")
        if not flat and slots_a[ma] != slots_b[mb]:
            faults.append("material slots")
        if not flat and arrived.nodes.paths[j] != wanted_paths[i]:
            faults.append("tree path")
        uv = len(arrived.meshes[mb].uvs)
        sent = sent_uv.get(i, 0)
        least = sent if flat else max(len(source.meshes[ma].uvs), sent)
        if uv < least:
            faults.append("UV sets")
        rows.append(
            PartRow(
                source_id=i,
                node=j,
                path=source.nodes.paths[i],
                position_mm=float(position[k]),
                size_ratio=float(ratio[k]),
                rotation_deg=float(rotation[k]),
                normal_deg=float(normal[k]),
                pivot_mm=float(pivot[k]),
                surface_mm=float(surface[k]),
                triangles_source=source.meshes[ma].triangles,
                triangles_arrived=int(got[mb]),
                faults=faults,
                badness=max(float(badness[k]), 1e6 if faults else 0.0)
                if any(f in faults for f in ("triangle count", "material slots", "tree path", "UV sets"))
                else float(badness[k]),
            )
        )
    return rows, [] if flat else sharing_problems(pairs, arrived, manifest)


def expected_paths(source: Scene, manifest: Manifest) -> dict[int, str]:
    """Tree path that each source part should have on the other side, after declared renames and drops."""
    names = list(source.nodes.names)
    for key, name in manifest.renamed.items():
        if key.isdigit() and int(key) < len(names):
            names[int(key)] = name
    gone = np.zeros(len(names), np.bool_)
    gone[[i for i in manifest.dropped if i < len(names)]] = True
    parent = source.nodes.parent.copy()
    while len(over := np.flatnonzero((parent >= 0) & gone[parent])):
        parent[over] = source.nodes.parent[parent[over]]
    renamed = dataclasses.replace(source.nodes, names=tuple(names), parent=parent)
    paths = renamed.paths
    return {int(i): paths[int(i)] for i in source.nodes.parts}


def sharing_problems(pairs: I64, arrived: Scene, manifest: Manifest) -> list[str]:
    """Parts that were sent on one mesh must arrive on one mesh, and on no other's."""
    sent = {p.source_id: p.mesh for p in manifest.parts}
    arrived_of: dict[str, set[int]] = defaultdict(set)
    sent_of: dict[int, set[str]] = defaultdict(set)
    for i, j in pairs.tolist():
        if i in sent:
            mesh = int(arrived.nodes.mesh[j])
            arrived_of[sent[i]].add(mesh)
            sent_of[mesh].add(sent[i])
    split = sum(1 for v in arrived_of.values() if len(v) > 1)
    out = []
    if split:
        out.append(f"{split} shared meshes arrived as several.")
    if any(len(v) > 1 for v in sent_of.values()):
        out.append("Different meshes arrived as one.")
    return out


def surfaces(here: Placed, there: Placed, pairs: I64, steps: set[object]) -> tuple[F64, F64]:
    """(K,) largest corner distance in mm and largest normal angle in degrees per pair.

    One exact comparison per pair of meshes; other parts on the same pair add how much their relative
    transform differs from that one, over the size of the mesh.
    """
    a, b = pairs[:, 0], pairs[:, 1]
    source, arrived = here.scene, there.scene
    relative = affine_inverse(there.worlds[b]) @ here.worlds[a]
    stretch = np.linalg.norm(there.worlds[b][:, :3, :3], axis=(1, 2))
    surface, normal = np.zeros(len(pairs)), np.zeros(len(pairs))
    key = source.nodes.mesh[a].astype(np.int64) * (len(arrived.meshes) + 1) + arrived.nodes.mesh[b]
    order = np.argsort(key, kind="stable")
    _, begin = np.unique(key[order], return_index=True)
    for members in np.split(order, begin[1:]):
        # compared exactly is the part that stands as most do, so that one moved part does not blame the others
        middle = np.median(relative[members], axis=0)
        first = int(members[np.argmin(np.abs(relative[members] - middle).sum(axis=(1, 2)))])
        mesh_a, mesh_b = source.meshes[source.nodes.mesh[a[first]]], arrived.meshes[arrived.nodes.mesh[b[first]]]
        distance, angle, radius = one_surface(
            mesh_a, mesh_b, here.linear, there.linear, relative[first], "drop_degenerates" in steps
        )
        drift = np.abs(relative[members] - relative[first])
        moved = drift[:, :3, :3].max(axis=(1, 2)) * 3 * radius + drift[:, :3, 3].max(axis=1)
        surface[members] = (distance + moved) * stretch[members] / np.sqrt(3) * 1000
        normal[members] = angle + np.degrees(np.minimum(drift[:, :3, :3].max(axis=(1, 2)) * 3, 2.0))
    return surface, normal


def one_surface(
    a: Mesh, b: Mesh, linear_a: F64, linear_b: F64, relative: F64, drop: bool
) -> tuple[float, float, float]:
    """Largest corner distance (metres in the arrived mesh's space), normal angle (degrees), radius of a."""
    faces_a = ordered(a, drop)
    faces_b = ordered(b, False)
    if len(faces_a) == 0 or len(faces_b) == 0:
        return (0.0 if len(faces_a) == len(faces_b) else np.inf), 0.0, 0.0
    local_a = a.positions.astype(np.float64) @ linear_a.T
    radius = float(np.abs(local_a[faces_a.ravel()]).max())
    points_a = local_a @ relative[:3, :3].T + relative[:3, 3]
    points_b = b.positions.astype(np.float64) @ linear_b.T
    turned = np.linalg.det(linear_a) * np.linalg.det(linear_b) * np.linalg.det(relative[:3, :3]) < 0
    corners_a = faces_a[:, [0, 2, 1]] if turned else faces_a
    normals_a = None if a.normals is None else directions(a, linear_a, relative)
    normals_b = (
        None
        if b.normals is None
        else unit(b.normals.astype(np.float64) @ cofactors(linear_b).T * np.sign(np.linalg.det(linear_b)))
    )
    size = max(radius, 1e-12)
    if len(corners_a) == len(faces_b):
        distance = float(np.linalg.norm(points_a[corners_a] - points_b[faces_b], axis=2).max())
        if distance < 1e-4 * size + 1e-9:
            if normals_a is None or normals_b is None:
                return distance, 0.0, radius
            return distance, worst_angle(normals_a[corners_a.ravel()], normals_b[faces_b.ravel()]), radius
    return any_order(points_a, corners_a, points_b, faces_b, normals_a, normals_b, radius)


def any_order(
    points_a: F64,
    faces_a: AnyArray,
    points_b: F64,
    faces_b: AnyArray,
    normals_a: F64 | None,
    normals_b: F64 | None,
    radius: float,
) -> tuple[float, float, float]:
    """The same for triangles in another order: nearest corners, with face centres so that holes show."""
    centres_a, centres_b = points_a[faces_a].mean(axis=1), points_b[faces_b].mean(axis=1)
    there = np.asarray(cKDTree(centres_a).query(centres_b)[0])
    back = np.asarray(cKDTree(centres_b).query(centres_a)[0])
    corners_a, corners_b = faces_a.ravel(), faces_b.ravel()
    found = cKDTree(points_a[corners_a]).query(points_b[corners_b], k=min(12, len(corners_a)))
    distance, nearest = (np.asarray(f).reshape(len(corners_b), -1) for f in found)
    worst = float(max(there.max(), back.max(), distance[:, 0].max()))
    if normals_a is None or normals_b is None:
        return worst, 0.0, radius
    dots = np.einsum("nkj,nj->nk", normals_a[corners_a][nearest], normals_b[corners_b])
    same = distance <= distance[:, :1] + 1e-5 * max(radius, 1e-9)
    best = np.where(same, dots, -1.0).max(axis=1)
    return worst, float(np.degrees(np.arccos(np.clip(best.min(), -1, 1)))), radius


def ordered(mesh: Mesh, drop: bool) -> AnyArray:
    """(F, 3) triangles grouped by sub-mesh in order of first use, as files with sub-meshes hold them."""
    faces, material = mesh.indices, mesh.material
    if drop:
        bad = degenerate(mesh)
        if not bad.all():
            faces, material = faces[~bad], material[~bad]
    if len(mesh.slots) <= 1:
        return faces
    rank = {slot: k for k, slot in enumerate(dict.fromkeys(material.tolist()))}
    return faces[np.argsort([rank[m] for m in material.tolist()], kind="stable")]


def directions(mesh: Mesh, linear: F64, relative: F64) -> F64:
    """(V, 3) unit normals of a source mesh in the arrived mesh's space; NaN where they are not usable."""
    assert mesh.normals is not None
    normals = mesh.normals.astype(np.float64)
    broken = ~(np.abs(np.linalg.norm(normals, axis=1) - 1) < 0.01)
    whole = relative[:3, :3] @ linear
    out = unit(normals @ cofactors(whole).T * np.sign(np.linalg.det(whole)))
    out[broken] = np.nan
    return out


def unit(vectors: F64) -> F64:
    length = np.linalg.norm(vectors, axis=1, keepdims=True)
    out: F64 = vectors / np.where(length > 0, length, 1.0)
    return out


def worst_angle(a: F64, b: F64) -> float:
    """Largest angle in degrees between rows; rows with NaN are skipped. Exact for tiny angles."""
    good = np.isfinite(a).all(axis=1) & np.isfinite(b).all(axis=1)
    if not good.any():
        return 0.0
    cross = np.linalg.norm(np.cross(a[good], b[good]), axis=1)
    dot = np.einsum("ij,ij->i", a[good], b[good])
    return float(np.degrees(np.arctan2(cross, dot)).max())
