"""Two faults on one mesh: neither hides the other from the survey, and the proposed route mends both."""

from __future__ import annotations

import itertools
import unittest
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from benchmarks.recall import PLANTS, clean_part

from tests.core.test_survey import findings
from tests.planted import kiosk
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.proposal import propose
from tidy_caravan.core.route import Route, as_json, run
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes

TO = BUILT_IN[0]
BESIDE = {"speed.draw-calls", "material.unused", "sharing.none"}


def more(mesh: Mesh, positions: Any, faces: Any, like: Any) -> Mesh:
    """With further vertices that have all else from others, and further triangles."""

    def longer(rows: Any) -> Any:
        return None if rows is None else np.concatenate([rows, rows[like]])

    return replace(
        mesh,
        positions=np.concatenate([mesh.positions, np.asarray(positions, np.float32).reshape(-1, 3)]),
        normals=longer(mesh.normals),
        uvs=tuple(longer(u) for u in mesh.uvs),
        indices=np.concatenate([mesh.indices, np.asarray(faces, np.uint32).reshape(-1, 3)]),
        material=np.concatenate([mesh.material, np.zeros(np.size(faces) // 3, np.int32)]),
    )


def turned(mesh: Mesh) -> Mesh:
    faces = mesh.indices.copy()
    faces[7] = faces[7, ::-1]
    return replace(mesh, indices=faces)


def inside_out(mesh: Mesh) -> Mesh:
    assert mesh.normals is not None
    return replace(mesh, indices=np.ascontiguousarray(mesh.indices[:, ::-1]), normals=-mesh.normals)


def bridged(mesh: Mesh) -> Mesh:
    """A triangle without area along an edge, by way of its middle."""
    a, b, _ = mesh.indices[3].tolist()
    middle = (mesh.positions[a].astype(np.float64) + mesh.positions[b]) / 2
    return more(mesh, middle, [a, mesh.vertices, b], [a])


def finned(mesh: Mesh) -> Mesh:
    a, b, _ = mesh.indices[5].tolist()
    middle = (mesh.positions[a].astype(np.float64) + mesh.positions[b]) / 2
    tip = middle + (middle - mesh.positions.mean(axis=0)) * 0.7
    return more(mesh, tip, [a, b, mesh.vertices], [a])


def overlaid(mesh: Mesh) -> Mesh:
    corners = mesh.positions[mesh.indices[9]].astype(np.float64)
    inner = corners.mean(axis=0) + (corners - corners.mean(axis=0)) / 2
    return more(mesh, inner, np.arange(3) + mesh.vertices, mesh.indices[9])


def with_normals(mesh: Mesh, some: slice, factor: float) -> Mesh:
    assert mesh.normals is not None
    normals = mesh.normals.copy()
    normals[some] *= np.float32(factor)
    return replace(mesh, normals=normals)


FAULTS: dict[str, tuple[Callable[[Mesh], Mesh], str]] = {
    "turned": (turned, "faces.disagree"),
    "inside out": (inside_out, "faces.inside-out"),
    "repeated": (lambda m: more(m, [], np.roll(m.indices[2], 1), []), "geometry.repeated"),
    "bridged": (bridged, "geometry.degenerate"),
    "finned": (finned, "geometry.non-manifold"),
    "loose": (lambda m: more(m, m.positions[:3], [], [0, 1, 2]), "geometry.loose"),
    "overlaid": (overlaid, "flicker.within"),
    "no normal": (lambda m: with_normals(m, slice(0, 1), 0.0), "normals.broken"),
    "opposed": (lambda m: with_normals(m, slice(None), -1.0), "normals.opposed"),
    "flat coordinates": (lambda m: replace(m, uvs=(np.full_like(m.uvs[0], 0.5),)), "uv.first-flat"),
}


def drum() -> Mesh:
    made = trimesh.creation.cylinder(0.4, 1.2, sections=12)
    points = np.asarray(made.vertices, np.float32)
    return Mesh(
        points, np.asarray(made.faces, np.uint32), np.zeros(len(made.faces), np.int32),
        np.asarray(made.vertex_normals, np.float32), uvs=(points[:, :2] * 1.7 + points[:, 2:] * np.array([0.37, -0.71], np.float32),), name="drum",
    )  # fmt: skip


def scene_of(mesh: Mesh) -> Scene:
    beside = kiosk()
    nodes = make_nodes([-1], np.eye(4)[None], ["drum"], mesh=[0])
    return Scene(GLTF, nodes, (mesh,), beside.materials, beside.textures, beside.images)


class Together(unittest.TestCase):
    def test_each_is_named_beside_any_other(self) -> None:
        self.assertFalse({code for _, code in FAULTS.values()} & set(findings(scene_of(drum()), TO)))
        for (a, (plant, one)), (b, (plant_too, other)) in itertools.permutations(FAULTS.items(), 2):
            if {a, b} == {"inside out", "opposed"}:
                continue  # normals against inward faces look outward: one fault, and it is named below
            with self.subTest(first=a, then=b):
                self.assertLessEqual({one, other}, set(findings(scene_of(plant_too(plant(drum()))), TO)))
        self.assertIn("faces.inside-out", findings(scene_of(inside_out(with_normals(drum(), slice(None), -1.0))), TO))

    def test_the_proposed_route_mends_both(self) -> None:
        for a, b in itertools.combinations(FAULTS, 2):
            if not {a, b} & {"inside out", "finned"}:  # those that others hid until the next survey
                continue
            with self.subTest(first=a, then=b):
                scene = scene_of(FAULTS[b][0](FAULTS[a][0](drum())))
                steps = [as_json(p.step) for p in propose(findings(scene, TO).values(), TO)]
                done, _ = run(scene, Route(steps=steps), TO)
                self.assertEqual(set(findings(done, TO)) - BESIDE, set())

    def test_a_face_that_has_its_other_side_hides_none_of_them(self) -> None:
        """What is sure is told and mended in one go; an open drum that looks inwards is told by what can be seen of it."""
        for name, (plant, code) in FAULTS.items():
            with self.subTest(fault=name):
                whole = drum()
                scene = scene_of(plant(more(whole, [], whole.indices[4, ::-1], [])))
                told = findings(scene, TO)
                self.assertIn("faces.seen-from-behind" if name == "inside out" else code, told)
                steps = [as_json(p.step) for p in propose(told.values(), TO) if not p.guess]
                done, _ = run(scene, Route(steps=steps), TO)
                left = {f.code for f in findings(done, TO).values() if f.mend and not f.guess}
                self.assertEqual(left - BESIDE, set())


OWN = {
    "winding": {"faces.disagree", "normals.opposed", "flicker.folded"},
    "closed shells inside out": {"faces.inside-out"},
    "repeated triangles": {"geometry.repeated", "geometry.loose", "geometry.unjoined"},
    "degenerate triangles": {"geometry.degenerate"},
    "broken normals": {"normals.broken", "geometry.unjoined"},
    "opposed normals": {"normals.opposed"},
    "mirrored parts": {"transform.mirrored"},
    "sheared parts": {"transform.sheared"},
    "pivots far away": {"pivot.far"},
}
"""What is told of each fault and of what is planted with it: vertices stand twice where only their normals differed."""


class Alone(unittest.TestCase):
    """A fault is told as what it is: beside the clean twin no other finding names a part more."""

    def site(self, kind: str, count: int) -> Scene:
        """Closed parts, each by itself the same every time; every second one has the fault, where one is named."""
        meshes, matrices = [], []
        for number in range(count):
            part = clean_part(np.random.default_rng(number), number % 7)
            self.assertTrue(part.closed)
            if number % 2 and kind:
                PLANTS[kind][0](part, np.random.default_rng([number, 1]))
            points, faces = part.points.astype(np.float32), part.faces.astype(np.uint32)
            meshes.append(Mesh(points, faces, np.full(len(faces), -1, np.int32), part.normals.astype(np.float32)))
            part.matrix[:3, 3] = 20 * number, 0, 0
            matrices.append(part.matrix)
        names = [f"part_{k}" for k in range(count)]
        nodes = make_nodes(np.full(count, -1), np.array(matrices), names, mesh=np.arange(count))
        return Scene(GLTF, nodes, tuple(meshes))

    def test_no_other_finding_names_a_part_more(self) -> None:
        clean = {code: set(f.parts) for code, f in findings(self.site("", 64), TO).items()}
        self.assertEqual(set(clean) & set().union(*OWN.values()), {"geometry.unjoined"})
        for kind, own in OWN.items():
            told = {code: set(f.parts) for code, f in findings(self.site(kind, 64), TO).items()}
            more = {code: parts - clean.get(code, set()) for code, parts in told.items()}
            with self.subTest(kind=kind):
                self.assertLessEqual({code for code, parts in more.items() if parts}, own)
                self.assertTrue(any(more.get(code) for code in PLANTS[kind][1]))


if __name__ == "__main__":
    unittest.main()
