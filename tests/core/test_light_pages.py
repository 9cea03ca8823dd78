"""Lightmaps on shared pages: nothing lies on another, places are right in the manifest and beside copies in a list."""

from __future__ import annotations

import tempfile
import time
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pygltflib
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from pxr import Usd, UsdGeom, Vt

from tests.core.test_light_budget import hall
from tests.core.test_lists import target
from tests.core.test_sides import as_mesh, at
from tests.support import sent
from tidy_caravan.core.bake.look import look_at
from tidy_caravan.core.bake.pages import by_themselves, filled, for_view, laid_out
from tidy_caravan.core.bake.report import BakeAsk
from tidy_caravan.core.carry import prove
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.lightmap.pages import laid_on_pages
from tidy_caravan.core.packing.pack import Package, save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import GLTF, Material, Scene, make_nodes
from tidy_caravan.core.space.convert import keep_nodes
from tidy_caravan.core.steps.base import StepContext
from tidy_caravan.core.steps.light_budget import LightBudget
from tidy_caravan.core.steps.light_pages import LightPages
from tidy_caravan.core.work.heavy import Workshop

COUNT = 40


def street() -> Scene:
    """Forty posts of one mesh below a node, and a slab of another layer, with lightmap sets."""
    post, slab = as_mesh(trimesh.creation.box((0.2, 1, 0.2)), 0), as_mesh(trimesh.creation.box((40, 0.2, 4)), 0)
    uv = np.random.default_rng(1).uniform(0.1, 0.9, (post.vertices, 2)).astype(np.float32)
    flat = np.random.default_rng(2).uniform(0.1, 0.9, (slab.vertices, 2)).astype(np.float32)
    meshes = (replace(post, uvs=(uv, uv)), replace(slab, uvs=(flat, flat)))
    local = np.concatenate([np.eye(4)[None], [at(k, 0.5, 0) for k in range(COUNT)], at(0, -0.1, 0)[None]])
    nodes = make_nodes(
        [-1, *[0] * COUNT, -1], local, ["row", *(f"post_{k}" for k in range(COUNT)), "slab"],
        mesh=[-1, *[0] * COUNT, 1], layer=[0, *[0] * COUNT, 1],
        lightmap=np.array([(0, 0), *[(32, 16)] * COUNT, (256, 128)], np.int32),
    )  # fmt: skip
    return Scene(GLTF, nodes, meshes, (Material("m"),), layers=("Posts", "Ground"))


def packed(fmt: str, least: int = 8) -> tuple[Package, Scene, Scene]:
    """The package, with lists of so many copies or more; the source and what was packed."""
    steps = [{"kind": "match_units_axes", "bakeScale": False}, {"kind": "light_pages", "side": 128, "by": "all"}]
    route = Route.model_validate({"steps": steps})
    scene = street()
    small = replace(scene.nodes, lightmap=np.minimum(scene.nodes.lightmap, 64))
    source = scene.but(nodes=small)
    package, result = sent(source, "s", "0" * 64, target(least), route, fmt)  # type: ignore[arg-type]
    return package, source, result


def delivered(fmt: str) -> Package:
    return packed(fmt)[0]


def on_page(part: Any) -> tuple[float, ...]:
    place = part["lightmapPage"]
    return place["page"], *np.float32([*place["scale"], *place["offset"]]).tolist()


class Pages(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(st.integers(1, 64), st.integers(1, 64), st.integers(0, 2)), min_size=1, max_size=120))
    def test_nothing_lies_on_another_nor_beside_a_page(self, maps: list[tuple[int, int, int]]) -> None:
        size, group = np.array([m[:2] for m in maps]), np.array([m[2] for m in maps])
        found = laid_on_pages(size, group, 64)
        canvas = [np.zeros(tuple(s[::-1]), np.int64) for s in found.size.tolist()]
        for (w, h), page, (x, y) in zip(size.tolist(), found.page.tolist(), found.corner.tolist(), strict=True):
            self.assertTrue(x >= 0 and y >= 0 and x + w <= canvas[page].shape[1] and y + h <= canvas[page].shape[0])
            canvas[page][y : y + h, x : x + w] += 1
        self.assertTrue(all(c.max() == 1 and max(c.shape) <= 64 for c in canvas))
        for page in range(len(canvas)):
            self.assertEqual(len(set(group[found.page == page].tolist())), 1)

    def test_powers_of_two_leave_no_gaps_and_many_take_no_time(self) -> None:
        rng = np.random.default_rng(5)
        size = 2 ** rng.integers(4, 9, (100_000, 2))
        began = time.process_time()
        found = laid_on_pages(size, np.zeros(len(size), np.int64), 4096)
        self.assertLess(time.process_time() - began, 1.0)
        self.assertGreater(size.prod(axis=1).sum() / found.size.prod(axis=1).sum(), 0.97)

    def test_a_map_larger_than_a_page_is_refused(self) -> None:
        with self.assertRaises(ValueError):
            laid_on_pages(np.array([[128, 16]]), np.zeros(1, np.int64), 64)


class Step(unittest.TestCase):
    def test_layers_have_pages_of_their_own_and_a_second_time_changes_nothing(self) -> None:
        scene = street()
        once, changes = LightPages(side=256).apply(scene, StepContext())
        page = once.nodes.page
        self.assertEqual((len(set(page[1:-1, 0].tolist())), page[-1, 0] == page[1, 0]), (1, False))
        self.assertEqual(page[0].tolist(), [0] * 5)
        self.assertIn("41 lightmaps on 2 pages", changes[0].text)
        again, _ = LightPages(side=256).apply(once, StepContext())
        np.testing.assert_array_equal(again.nodes.page, page)
        self.assertIs(once.meshes, scene.meshes)
        together, _ = LightPages(side=512, by="all").apply(scene, StepContext())
        self.assertEqual(set(together.nodes.page[1:, 0].tolist()), {0})

    def test_too_large_a_map_stays_by_itself_and_is_told(self) -> None:
        made, changes = LightPages(side=128).apply(street(), StepContext())
        self.assertEqual(made.nodes.page[-1].tolist(), [0] * 5)
        self.assertTrue(any(c.problem and "1 map is larger than a page of 128" in c.text for c in changes))
        bare = street()
        none = bare.but(nodes=replace(bare.nodes, lightmap=np.zeros_like(bare.nodes.lightmap)))
        self.assertTrue(LightPages().apply(none, StepContext())[1][0].problem)

    def test_another_size_takes_a_part_off_its_page(self) -> None:
        once, _ = LightPages().apply(LightBudget(texel_m=0.1).apply(hall(), StepContext())[0], StepContext())
        self.assertEqual(int((once.nodes.page[:, 3] > 0).sum()), 26)
        same, _ = LightBudget(texel_m=0.1).apply(once, StepContext())
        np.testing.assert_array_equal(same.nodes.page, once.nodes.page)
        finer, _ = LightBudget(texel_m=0.03).apply(once, StepContext())
        changed = (finer.nodes.lightmap != once.nodes.lightmap).any(axis=1)
        self.assertTrue(changed.any())
        self.assertFalse(finer.nodes.page[changed].any())
        np.testing.assert_array_equal(finer.nodes.page[~changed], once.nodes.page[~changed])


class Delivered(unittest.TestCase):
    def test_the_manifest_says_where_each_map_lies(self) -> None:
        package = delivered("glb")
        told = package.manifest.model_dump(by_alias=True)["parts"]
        own = [p for p in told if p["lightmap"]]
        self.assertEqual(len(own), COUNT + 1)
        taken: set[tuple[int, float, float]] = set()
        for part in own:
            place = part["lightmapPage"]
            self.assertAlmostEqual(place["scale"][0] * place["width"], part["lightmap"][0])
            self.assertAlmostEqual(place["scale"][1] * place["height"], part["lightmap"][1])
            taken.add((place["page"], *place["offset"]))
        self.assertEqual(len(taken), COUNT + 1)

    def test_copies_in_a_list_have_their_places_beside_their_transforms(self) -> None:
        package = delivered("glb")
        manifest = package.manifest.model_dump(by_alias=True)
        wanted = {
            (round(p["transform"][12], 3), *on_page(p))
            for p in manifest["parts"] if p["name"].startswith("post")
        }  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            (path := Path(folder) / "s.glb").write_bytes(package.files[package.manifest.main_file])
            document = pygltflib.GLTF2().load(str(path))
        blob = document.binary_blob()
        node = next(n for n in document.nodes if (n.extensions or {}).get("EXT_mesh_gpu_instancing"))
        columns = {}
        for name, index in node.extensions["EXT_mesh_gpu_instancing"]["attributes"].items():
            accessor = document.accessors[index]
            begin = (document.bufferViews[accessor.bufferView].byteOffset or 0) + (accessor.byteOffset or 0)
            width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[accessor.type]
            columns[name] = np.frombuffer(blob, np.float32, accessor.count * width, begin).reshape(-1, width)
        found = {
            (round(float(t[0]), 3), int(n[0]), *p.tolist())
            for t, n, p in zip(
                columns["TRANSLATION"], columns["_LIGHTMAP_PAGE"], columns["_LIGHTMAP_SCALE_OFFSET"], strict=True
            )
        }
        self.assertEqual(found, wanted)

    def test_in_openusd_as_well_with_coordinates_that_go_upwards(self) -> None:
        package = delivered("usdc")
        manifest = package.manifest.model_dump(by_alias=True)
        with tempfile.TemporaryDirectory() as folder:
            (path := Path(folder) / "s.usdc").write_bytes(package.files[package.manifest.main_file])
            stage = Usd.Stage.Open(str(path))
            prim = next(p for p in stage.Traverse() if p.IsA(UsdGeom.PointInstancer))
            places = np.array(UsdGeom.PrimvarsAPI(prim).GetPrimvar("lightmapScaleOffset").Get(), np.float64)
            number = np.array(UsdGeom.PrimvarsAPI(prim).GetPrimvar("lightmapPage").Get())
            x = np.array(UsdGeom.PointInstancer(prim).GetPositionsAttr().Get())[:, 0]
        by_x = {
            round(p["transform"][12], 3): p["lightmapPage"] for p in manifest["parts"] if p["name"].startswith("post")
        }
        self.assertEqual(len(x), COUNT)
        self.assertEqual(len(set(number.tolist())), 2)
        for at_, place, page in zip(x.tolist(), places, number.tolist(), strict=True):
            told = by_x[round(at_, 3)]
            self.assertEqual(told["page"], page)
            # a corner of the own map, downwards, and the same one upwards
            down = np.array([0.3, 0.2]) * told["scale"] + told["offset"]
            up = np.array([0.3, 1 - 0.2]) * place[:2] + place[2:]
            np.testing.assert_allclose([up[0], 1 - up[1]], down, atol=1e-6)

    def test_a_part_by_itself_says_where_its_map_lies(self) -> None:
        """Scale and offset as the manifest has them: among the data of a node, or as primvars of a prim."""
        for fmt in ("gltf", "usda"):
            package, *_ = packed(fmt, least=1000)
            told = package.manifest.model_dump(by_alias=True)["parts"]
            wanted = {p["name"]: on_page(p) for p in told if p["lightmapPage"]}
            found: dict[str, tuple[float, ...]] = {}
            with tempfile.TemporaryDirectory() as folder:
                save(package.files, Path(folder) / "p")
                path = Path(folder) / "p" / package.manifest.main_file
                if fmt == "gltf":
                    for node in pygltflib.GLTF2().load(str(path)).nodes:
                        if place := (node.extras or {}).get("lightmapPlace"):
                            found[node.name] = place["page"], *place["scaleOffset"]
                else:
                    stage = Usd.Stage.Open(str(path))
                    for prim in stage.Traverse():
                        api = UsdGeom.PrimvarsAPI(prim)
                        if (given := api.GetPrimvar("lightmapScaleOffset")).HasValue():
                            x, y, u, v = given.Get()[0]
                            found[prim.GetName()] = api.GetPrimvar("lightmapPage").Get()[0], x, y, u, 1 - y - v
            self.assertEqual(len(wanted), COUNT + 1)
            self.assertEqual(found, wanted, fmt)

    def test_places_of_an_earlier_package_are_told_to_stay_behind(self) -> None:
        """They would be wrong on the pages of the next one."""
        for fmt, least in (("glb", 8), ("glb", 1000), ("usda", 8), ("usda", 1000)):
            with self.subTest(fmt, least=least):
                package, *_ = packed(fmt, least)
                name = package.manifest.main_file
                again = load(bundle_from_files({name: package.files[name]}))
                self.assertNotIn("lightmapPlace", str(again.nodes.extras))
                told = " ".join(n.text for n in again.notes) + " ".join(
                    t.kind for t in again.travel if t.verdict == "behind"
                )
                self.assertRegex(
                    told, "lightmaps? on shared pages stays behind" if fmt == "glb" else "“lightmapPage” said of groups"
                )

    def test_places_that_were_changed_on_the_way_are_told_and_untouched_ones_are_not(self) -> None:
        for fmt in ("glb", "gltf", "usdc", "usda"):
            for least in (8, 1000):
                package, source, result = packed(fmt, least)
                for change, words in (
                    (None, ""),
                    (moved_on, "is said to lie at scale and offset"),
                    (left_out, "where its lightmap lies on its page did not arrive"),
                ):
                    with self.subTest(fmt, least=least, change=change), tempfile.TemporaryDirectory() as folder:
                        save(package.files, Path(folder) / "p")
                        touched = change(Path(folder) / "p" / package.manifest.main_file) if change else 0
                        report, _ = prove(Path(folder) / "p", source, result)
                        told = [str(r.told) for r in report.rows if r.faults]
                        self.assertEqual((report.ok, len(told)), (not change, touched), told[:3])
                        self.assertTrue(all(words in t for t in told), told[:3])


def moved_on(path: Path) -> int:
    """Every place of single parts an eighth of a page to the right, those of lists too; how many parts that were."""
    return rewritten(path, lambda numbers: numbers + np.array([0, 0, 0.125, 0]))


def left_out(path: Path) -> int:
    return rewritten(path, lambda numbers: None)


def rewritten(path: Path, change: Any) -> int:
    """Places of the package through the change, which may give none, written by independent libraries."""
    count = 0
    if path.suffix in (".glb", ".gltf"):
        document = pygltflib.GLTF2().load(str(path))
        blob = bytearray(document.binary_blob() or b"") or bytearray(
            (path.parent / document.buffers[0].uri).read_bytes()
        )
        for node in document.nodes:
            if place := (node.extras or {}).get("lightmapPlace"):
                new = change(np.array(place["scaleOffset"]))
                if new is None:
                    del node.extras["lightmapPlace"]
                else:
                    place["scaleOffset"] = new.tolist()
                count += 1
            given = ((node.extensions or {}).get("EXT_mesh_gpu_instancing") or {}).get("attributes", {})
            if "_LIGHTMAP_SCALE_OFFSET" in given:
                accessor = document.accessors[given["_LIGHTMAP_SCALE_OFFSET"]]
                begin = (document.bufferViews[accessor.bufferView].byteOffset or 0) + (accessor.byteOffset or 0)
                view = np.frombuffer(blob, np.float32, accessor.count * 4, begin).reshape(-1, 4)
                new = change(view.astype(float))
                if new is None:
                    del given["_LIGHTMAP_SCALE_OFFSET"]
                else:
                    view[:] = new
                count += accessor.count
        if path.suffix == ".glb":
            document.set_binary_blob(bytes(blob))
            document.save_binary(str(path))
        else:
            (path.parent / document.buffers[0].uri).write_bytes(blob)
            document.save_json(str(path))
        return count
    stage = Usd.Stage.Open(str(path))
    for prim in stage.Traverse():
        column = UsdGeom.PrimvarsAPI(prim).GetPrimvar("lightmapScaleOffset")
        if column.HasValue():
            given = np.array(column.Get(), np.float64)
            new = change(given)
            if new is None:
                UsdGeom.PrimvarsAPI(prim).RemovePrimvar("lightmapScaleOffset")
            else:
                column.Set(Vt.Vec4fArray.FromNumpy(new.astype(np.float32)))
            count += len(given)
    stage.Save()
    return count


class Baked(unittest.TestCase):
    """A bake lies on the pages that the manifest tells of, or on as many of its own as it takes."""

    def test_it_lies_where_the_route_put_the_maps(self) -> None:
        scene, _ = LightPages(side=128, by="layer").apply(street(), StepContext())
        nodes = scene.nodes
        scene = scene.but(nodes=replace(nodes, page=nodes.page + np.array([5, 0, 0, 0, 0], np.int32)))
        scene = keep_nodes(scene, nodes.layer == 0)  # the slab is larger than a page
        for divide, fits in ((1, True), (2, True), (32, False)):
            look = look_at(scene, 1, BakeAsk(samples=1, divide=divide, bounces=0), Workshop())
            pages = look.report.pages
            self.assertEqual({p.number is not None for p in pages}, {fits}, divide)
            self.assertEqual(set(look.files()), {f"{p.name}.{end}" for p in pages for end in ("exr", "png")})
            if not fits:
                continue
            self.assertEqual([p.name for p in pages], [f"light_{p.number}" for p in pages])
            self.assertGreater(len(pages), 1)
            rest = {p.number: page.light.copy() for p, page in zip(pages, look.pages, strict=True)}
            for k, sheet in enumerate(look.baked.sheets):
                number, x, y, width, height = scene.nodes.page[sheet.node].tolist()
                own = rest[number]
                self.assertEqual(own.shape[:2], (height // divide, width // divide))
                x, y = x // divide, y // divide
                region = own[y : y + sheet.height, x : x + sheet.width]
                image, there = look.baked.image(k, BakeAsk().mix())
                hidden = np.zeros(there.size, np.bool_)
                hidden[sheet.index[look.baked.buried(k)]] = True
                np.testing.assert_array_equal(region, filled(image, there, hidden.reshape(there.shape)))
                region[:] = 0
            self.assertFalse(any(page.any() for page in rest.values()))

    def test_what_one_page_does_not_hold_lies_on_several(self) -> None:
        rng = np.random.default_rng(3)
        size = 2 ** rng.integers(6, 12, (60, 2))
        nodes = make_nodes([-1] * 60, np.tile(np.eye(4), (60, 1, 1)), [""] * 60, lightmap=size.astype(np.int32))
        layout = laid_out(nodes, np.arange(60), size, 1)
        self.assertGreater(len(layout.side), 1)
        self.assertEqual([layout.name(k) for k in range(2)], ["light_0", "light_1"])
        taken = [np.zeros((h, w), np.int8) for w, h in layout.side.tolist()]
        for page, (x, y), (w, h) in zip(layout.page, layout.corner, layout.size, strict=True):
            taken[page][y : y + h, x : x + w] += 1
        self.assertEqual(max(int(t.max()) for t in taken), 1)
        self.assertEqual(sum(int(t.sum()) for t in taken), int(size.prod(axis=1).sum()))
        with self.assertRaisesRegex(ValueError, "more than 67 million texels"):
            laid_out(nodes, np.arange(60), np.full((60, 2), 2048), 1)
        with self.assertRaisesRegex(ValueError, "larger than a page"):
            laid_out(nodes, np.arange(1), np.array([[8192, 64]]), 1)

    def test_a_view_finds_each_map_on_the_pages_that_it_loads(self) -> None:
        size = np.array([[4096, 4096], [4096, 2048], [512, 512], [1024, 2048]])
        layout = by_themselves(size)
        pictures = [np.zeros((h, w, 3), np.uint8) for w, h in layout.side.tolist()]
        for k, (page, (x, y), (w, h)) in enumerate(zip(layout.page, layout.corner, size, strict=True)):
            pictures[page][y : y + h, x : x + w] = 50 * (k + 1)
        stack, places = for_view(layout, pictures)
        self.assertLessEqual(stack[..., 0].size, 4096**2)
        for k, (sx, sy, ox, oy, page) in enumerate(places):
            for u, v in ((0.01, 0.01), (0.99, 0.02), (0.5, 0.98)):
                row, column = int((v * sy + oy) * stack.shape[1]), int((u * sx + ox) * stack.shape[2])
                self.assertEqual(stack[int(page), row, column].tolist(), [50 * (k + 1)] * 3)


if __name__ == "__main__":
    unittest.main()
