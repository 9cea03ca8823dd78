"""Packed buffer views against the reference encoder and decoder, and what is no such stream."""

from __future__ import annotations

import base64
import json
import subprocess
import unittest
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import ROOT, Gltf
from tidy_caravan.core.formats.gltf.meshopt import decode


def packed(jobs: list[dict[str, Any]]) -> list[tuple[bytes, bytes]]:
    """What the reference makes of each job, packed and unpacked again (see meshopt.mjs)."""
    told = [{**job, "data": base64.b64encode(np.ascontiguousarray(job["data"]).tobytes()).decode()} for job in jobs]
    out = subprocess.run(["node", "meshopt.mjs"], cwd=ROOT / "web", input=json.dumps(told).encode(), capture_output=True, check=True)  # fmt: skip
    return [(base64.b64decode(o["packed"]), base64.b64decode(o["plain"])) for o in json.loads(out.stdout)]


def attributes(rng: np.random.Generator) -> list[dict[str, Any]]:
    """Rows of many widths and numbers: noise, slow slopes, one value throughout."""
    jobs = []
    for stride in (4, 8, 12, 16, 20, 32, 64, 256):
        for count in (1, 15, 16, 17, 255, 256, 257, 1000):
            noise = rng.integers(0, 256, (count, stride), dtype=np.uint8)
            slope = (np.arange(count)[:, None] * rng.integers(0, 5, stride) // 7 + rng.integers(0, 3, (count, stride))).astype(np.uint8)  # fmt: skip
            for rows in (noise, slope, np.zeros_like(noise), np.where(rng.random((count, stride)) < 0.1, noise, slope)):
                jobs.append({"mode": "ATTRIBUTES", "stride": stride, "count": count, "filter": "NONE", "data": rows})
    return jobs


def surfaces(rng: np.random.Generator) -> list[dict[str, Any]]:
    """Triangles in the order of meshes and in none, with vertices that are far apart."""
    jobs = []
    for mesh in (trimesh.creation.icosphere(3), trimesh.creation.torus(1, 0.3), trimesh.creation.box()):
        loose = np.arange(len(mesh.faces) * 3).reshape(-1, 3)
        again = np.concatenate([mesh.faces, [[0, 1, 2]], loose, [[0, 1, 2]]])
        orders = (
            mesh.faces,
            mesh.faces.max() - mesh.faces,
            loose.max() - loose,
            rng.permutation(mesh.faces),
            loose,
            again,
        )
        for faces in (*orders, rng.integers(0, 60_000, mesh.faces.shape)):
            for stride in (2, 4):
                rows = faces.ravel().astype(f"<u{stride}")
                jobs += [{"mode": m, "stride": stride, "count": len(rows), "filter": "NONE", "data": rows} for m in ("TRIANGLES", "INDICES")]  # fmt: skip
    return jobs


def filters(rng: np.random.Generator) -> list[dict[str, Any]]:
    unit = rng.normal(size=(300, 4))
    unit /= np.linalg.norm(unit, axis=1, keepdims=True)
    sides = np.concatenate([np.eye(4), -np.eye(4), unit]).astype(np.float32)
    normals = np.column_stack([sides[:, :3] / np.maximum(np.linalg.norm(sides[:, :3], axis=1, keepdims=True), 1e-9), np.ones(len(sides))])  # fmt: skip
    wide = rng.normal(size=(300, 3)) * 10.0 ** rng.integers(-6, 6, (300, 3))
    jobs: list[dict[str, Any]] = [
        {"filter": "OCTAHEDRAL", "stride": s, "bits": b, "data": normals.astype(np.float32)}
        for s, b in ((4, 8), (8, 16), (8, 12))
    ]
    jobs += [{"filter": "QUATERNION", "stride": 8, "bits": b, "data": sides} for b in (16, 10)]
    jobs += [{"filter": "EXPONENTIAL", "stride": 12, "bits": b, "data": wide.astype(np.float32)} for b in (24, 15)]
    return [{**job, "mode": "ATTRIBUTES", "count": len(job["data"])} for job in jobs]


class Packed(unittest.TestCase):
    streams: list[tuple[dict[str, Any], bytes]]

    @classmethod
    def setUpClass(cls) -> None:
        rng = np.random.default_rng(1)
        jobs = [*attributes(rng)[40:44], *surfaces(rng)[:4]]
        cls.streams = [(job, data) for job, (data, _) in zip(jobs, packed(jobs), strict=True)]

    def test_every_kind_of_view_is_as_the_reference_reads_it(self) -> None:
        rng = np.random.default_rng(0)
        jobs = [*attributes(rng), *surfaces(rng), *filters(rng)]
        for job, (data, plain) in zip(jobs, packed(jobs), strict=True):
            with self.subTest({k: v for k, v in job.items() if k != "data"}):
                found = decode(data, job["count"], job["stride"], job["mode"], job["filter"])
                wanted = np.frombuffer(plain, np.uint8).reshape(found.shape)
                if job["filter"] in ("OCTAHEDRAL", "QUATERNION"):  # halves may go either way in single precision
                    kind = "<i1" if job["stride"] == 4 else "<i2"
                    apart = found.view(kind).astype(int) - np.ascontiguousarray(wanted).view(kind)
                    self.assertLessEqual(np.abs(apart).max(), 1)
                    self.assertLess((apart != 0).mean(), 0.01)
                else:
                    self.assertTrue(np.array_equal(found, wanted))

    @settings(max_examples=150, deadline=None)
    @given(st.data())
    def test_bent_streams_are_refused_or_give_as_many_rows(self, data: Any) -> None:
        job, stream = data.draw(st.sampled_from(self.streams), label="stream")
        bent = bytearray(stream)
        for place in data.draw(st.lists(st.integers(0, len(bent) - 1), min_size=1, max_size=4)):
            bent[place] = data.draw(st.integers(0, 255))
        try:
            rows = decode(bytes(bent[: data.draw(st.integers(1, len(bent)))]), job["count"], job["stride"], job["mode"], "NONE")  # fmt: skip
        except (ValueError, IndexError):
            return
        self.assertEqual(rows.shape, (job["count"], job["stride"]))

    def test_a_file_of_packed_views_is_read_and_a_broken_one_costs_its_mesh(self) -> None:
        ball = trimesh.creation.icosphere(2)
        points, faces = ball.vertices.astype(np.float32), ball.faces.astype(np.uint16)
        jobs = [
            {"mode": "ATTRIBUTES", "stride": 12, "count": len(points), "filter": "NONE", "data": points},
            {"mode": "TRIANGLES", "stride": 2, "count": faces.size, "filter": "NONE", "data": faces},
        ]
        made = packed(jobs)
        for broken in (False, True):
            g = Gltf()
            mesh = g.mesh(points, faces)
            g.node(mesh=mesh, name="ball")
            for view, job, (data, _) in zip(g.json["bufferViews"], jobs, made, strict=True):
                g.blob += b"\0" * (-len(g.blob) % 4)
                entry = {"buffer": 0, "byteOffset": len(g.blob), "byteLength": len(data), "byteStride": job["stride"], "count": job["count"], "mode": job["mode"]}  # fmt: skip
                view |= {"buffer": 1, "byteOffset": 0, "byteLength": job["stride"] * job["count"], "extensions": {"EXT_meshopt_compression": entry}}  # fmt: skip
                g.blob += data[: 5 if broken else None] + (b"\x05" * (len(data) - 5) if broken else b"")
            g.json["extensionsUsed"] = g.json["extensionsRequired"] = ["EXT_meshopt_compression"]
            scene = g.scene()
            if broken:
                self.assertRegex(" ".join(n.text for n in scene.notes), "cannot be unpacked")
                self.assertEqual(scene.nodes.names, ("ball",))
            else:
                self.assertTrue(np.array_equal(scene.meshes[0].positions, points))
                self.assertEqual(sorted(map(sorted, scene.meshes[0].indices.tolist())), sorted(map(sorted, faces.tolist())))  # fmt: skip
