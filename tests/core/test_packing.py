"""Islands on maps: places against trying each, cells against polygons, layouts against distances between polygons."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import shapely
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import read
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.lightmap.bitmaps import blocks_of, cells_of, empty_map, find_places, first_of, take, words_of
from tidy_caravan.core.lightmap.layouts import Island, turned
from tidy_caravan.core.lightmap.packing import packed
from tidy_caravan.core.lightmap.rectangles import free_within
from tidy_caravan.core.lightmap.unwrap import unwrap
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.demo.three_trades import three_trades_files


def ring(polygon: Any) -> Any:
    """(L, 2, 2) lines of all borders of a polygon."""
    out = []
    for part in (polygon.exterior, *polygon.interiors):
        points = np.asarray(part.coords)
        out.append(np.stack([points[:-1], points[1:]], axis=1))
    return np.concatenate(out)


def island(polygon: Any) -> Island:
    low = np.array(polygon.bounds[:2])
    return Island(ring(polygon) - low, np.array(polygon.bounds[2:]) - low, polygon.area)


def shapes(seed: int, count: int) -> list[Any]:
    """Rectangles, stars, rings and L-shapes."""
    rng = np.random.default_rng(seed)
    out = []
    for k in range(count):
        w, h = rng.uniform(0.3, 2, 2)
        if k % 4 == 0:
            out.append(shapely.box(0, 0, w, h))
        elif k % 4 == 1:
            angles = np.sort(rng.uniform(0, 2 * np.pi, 12))
            radius = rng.uniform(0.4, 1, 12)
            out.append(shapely.Polygon(np.column_stack([radius * np.cos(angles), radius * np.sin(angles)])).buffer(0))
        elif k % 4 == 2:
            out.append(shapely.Point(0, 0).buffer(w).difference(shapely.Point(0, 0).buffer(0.7 * w)))
        else:
            out.append(shapely.box(0, 0, w, h).difference(shapely.box(0.4 * w, 0.4 * h, 2 * w, 2 * h)))
    return [s for s in out if s.geom_type == "Polygon" and s.area > 0.01]


class Maps(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10_000), st.integers(1, 3))
    def test_places_are_those_found_by_trying_each(self, seed: int, gap: int) -> None:
        rng = np.random.default_rng(seed)
        width, height = int(rng.choice([17, 64, 130])), 13
        words, known, taken = words_of(width), np.zeros(1, np.int64), np.zeros((height, width), bool)
        bits, near, work = empty_map(width, height)
        for _ in range(3):
            mask = rng.random((rng.integers(1, 5), rng.choice([1, 3, 5, 70]))) < 0.6
            mask[0, 0] = True
            high, wide = mask.shape
            blocks = blocks_of(mask)
            again = np.zeros_like(mask)
            for x, y, w, h in blocks:
                self.assertFalse(again[y : y + h, x : x + w].any())
                again[y : y + h, x : x + w] = True
            np.testing.assert_array_equal(again, mask)
            around = np.pad(taken, gap)
            close = np.zeros_like(taken)
            for dy in range(2 * gap + 1):
                for dx in range(2 * gap + 1):
                    close |= around[dy : dy + height, dx : dx + width]
            wanted = {
                (x, y)
                for y in range(height - high + 1)
                for x in range(width - wide + 1)
                if not (close[y : y + high, x : x + wide] & mask).any()
            }
            if wide > width:  # that is never asked
                continue
            find_places(bits, words, gap, near, known, work, blocks, wide, high, width)
            cells = np.unpackbits(work[0].reshape(height, words).view(np.uint8), axis=1, bitorder="little")
            found = {(x, y) for y, x in np.argwhere(cells).tolist()}
            self.assertEqual(found, wanted)
            x, y = first_of(work[0], words)
            self.assertEqual((y, x), min(((b, a) for a, b in found), default=(-1, -1)))
            if not found:
                return
            take(bits, words, blocks, x, y)
            known[0] = 0
            taken[y : y + high, x : x + wide] |= mask

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10_000), st.floats(2, 20))
    def test_cells_are_those_that_a_polygon_touches(self, seed: int, scale: float) -> None:
        for shape in shapes(seed, 4):
            one = island(shape)
            wide, high = (int(np.ceil(v * scale + 0.02)) for v in one.size)
            slack = (np.array([wide, high]) - one.size * scale) / 2
            low = np.array(shape.bounds[:2])
            moved = shapely.transform(shape, lambda p, low=low, slack=slack: (p - low) * scale + slack)
            x, y = np.meshgrid(np.arange(wide), np.arange(high))
            share = shapely.area(shapely.intersection(shapely.box(x, y, x + 1, y + 1), moved))
            found = cells_of(one.border * scale + slack, wide, high)
            self.assertTrue(found[share > 1e-6].all())
            self.assertLessEqual(shapely.distance(shapely.box(x, y, x + 1, y + 1), moved)[found].max(), 1e-9)


class Layouts(unittest.TestCase):
    @settings(max_examples=12, deadline=None)
    @given(st.integers(0, 10_000), st.integers(1, 30), st.sampled_from([(64, 2), (256, 2), (256, 5), (1024, 4)]))
    def test_islands_keep_their_distance_and_their_density(self, seed: int, count: int, size: tuple[int, int]) -> None:
        resolution, padding = size
        polygons = shapes(seed, count)
        islands = [island(p) for p in polygons]
        layout = packed(islands, resolution, padding)
        if layout is None:
            return
        placed = []
        for k, (p, one) in enumerate(zip(polygons, islands, strict=True)):
            points = shapely.get_coordinates(p) - p.bounds[:2]
            own = turned(points, int(layout.turn[k]), one.size) * layout.scale + layout.corner[k]
            placed.append(shapely.set_coordinates(shapely.from_wkb(shapely.to_wkb(p)), own))
        frame = shapely.box(0, 0, layout.width, layout.height)
        edge = min(frame.exterior.distance(p) for p in placed)
        self.assertTrue(all(frame.contains(p) for p in placed))
        self.assertGreaterEqual(edge, padding / 2 - 1e-6)
        tree = shapely.STRtree(placed)
        one, other = tree.query(placed, "dwithin", padding - 1e-6)
        self.assertTrue((one == other).all())
        area = sum(p.area for p in placed)
        self.assertAlmostEqual(area / (layout.width * layout.height), layout.fill, places=6)
        self.assertLessEqual(layout.scale.max() / layout.scale.min(), 4.0)

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10_000), st.integers(1, 40), st.sampled_from([2, 5]), st.booleans())
    def test_no_block_of_texels_has_two_islands_in_it(self, seed: int, count: int, padding: int, square: bool) -> None:
        rng = np.random.default_rng(seed)
        made = [shapely.box(0, 0, *rng.uniform(0.2, 2, 2)) for _ in range(count)]
        made[0] = shapely.box(0, 0, 4, 3).difference(shapely.box(1, 1, 3, 2)).difference(shapely.box(3.2, -1, 3.6, 1))
        islands = [island(p) for p in made]
        layout = packed(islands, 256, padding, square, 4)
        assert layout is not None
        owner: dict[tuple[int, int], int] = {}
        for k, (shape, one) in enumerate(zip(made, islands, strict=True)):
            points = turned(shapely.get_coordinates(shape), int(layout.turn[k]), one.size) * layout.scale
            placed = shapely.set_coordinates(shapely.from_wkb(shapely.to_wkb(shape)), points + layout.corner[k])
            self.assertTrue(shapely.box(0, 0, layout.width, layout.height).buffer(-padding / 2 + 1e-6).contains(placed))
            left, low, right, top = (v / 4 for v in placed.bounds)
            for x in range(int(left), int(np.ceil(right))):
                for y in range(int(low), int(np.ceil(top))):
                    if shapely.box(4 * x, 4 * y, 4 * x + 4, 4 * y + 4).intersection(placed).area > 1e-9:
                        self.assertEqual(owner.setdefault((x, y), k), k)

    def test_what_is_free_within_an_island_is_all_that_is_free_there(self) -> None:
        wall = shapely.box(0, 0, 6, 3)
        holes = [(0.5, 0, 1.5, 2.1), (2, 1, 3.25, 2.5), (4, 1, 5.5, 2.5)]
        for hole in holes:
            wall = wall.difference(shapely.box(*hole))
        found = {
            tuple(np.round([x, y, x + w, y + h], 9)) for x, y, w, h in free_within(ring(wall), np.array([6.0, 3.0]))
        }
        self.assertEqual(found, {tuple(float(v) for v in hole) for hole in holes})
        round_hole = shapely.box(0, 0, 4, 4).difference(shapely.Point(2, 2).buffer(1.5))
        free = free_within(ring(round_hole), np.array([4.0, 4.0]))
        boxes = [shapely.box(x, y, x + w, y + h) for x, y, w, h in free]
        self.assertLess(max(b.intersection(round_hole).area for b in boxes), 1e-9)
        self.assertGreater(max(b.area for b in boxes), 0.9 * 4.5)  # the square in the circle

    def test_small_islands_lie_in_the_openings_of_large_ones(self) -> None:
        frame = shapely.box(0, 0, 4, 4).difference(shapely.box(0.3, 0.3, 3.7, 3.7))
        layout = packed([island(frame), *[island(shapely.box(0, 0, 1, 1)) for _ in range(9)]], 256, 2)
        assert layout is not None
        self.assertGreater(float(layout.scale.min()), 0.97 * 254 / 4)  # as large as if the frame were alone
        self.assertTrue((layout.corner[1:].min(axis=1) > 0.3 * layout.scale.min()).all())

    def test_equal_squares_fill_a_map(self) -> None:
        for count, least in ((1, 0.98), (4, 0.96), (9, 0.94), (25, 0.9)):
            layout = packed([island(shapely.box(0, 0, 1, 1)) for _ in range(count)], 256, 2)
            assert layout is not None
            self.assertGreater(layout.fill, least)
            self.assertEqual((layout.width, layout.height), (256, 256))

    def test_a_long_thing_gets_a_low_map_and_a_square_one_where_it_has_to(self) -> None:
        boards = [island(shapely.box(0, 0, 40, 1)) for _ in range(4)]
        low = packed(boards, 256, 2)
        assert low is not None
        self.assertLess(low.height, 128)
        self.assertGreater(low.fill, 0.6)
        square = packed(boards, 256, 2, square=True)
        assert square is not None
        self.assertEqual(square.height, 256)

    def test_the_parts_of_a_hall_fill_four_fifths_of_their_maps(self) -> None:
        scene = read({"hall.ifc": three_trades_files()["hall.ifc"]}, "hall.ifc")
        out, _ = LightmapUvs(resolution=256, padding_texels=2).apply(scene, StepContext(BUILT_IN[1]))
        fills = []
        for i in np.unique(out.nodes.mesh[out.nodes.parts]).tolist():
            mesh = out.meshes[i]
            corners = mesh.uvs[1].astype(float)[mesh.indices]
            a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
            fills.append(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2)
        self.assertGreater(np.mean(fills), 0.8)

    def test_the_sides_of_a_rail_are_one_island_and_those_of_a_crate_are_not(self) -> None:
        for size, islands, named in (((20, 0.1, 0.12), 3, True), ((1, 0.9, 0.8), 6, False)):
            shape = trimesh.creation.box(size)
            made = unwrap(shape.vertices.astype(np.float32), shape.faces.astype(np.uint32), 256, 2, "xatlas")
            self.assertEqual((made.report.islands, "strips" in made.method), (islands, named), made.method)
            self.assertTrue(made.report.clean)
            self.assertGreater(made.report.fill, 0.8)
            self.assertLess(made.report.stretch, 4.01)
            # every triangle has its share of the map, and no two lie on each other
            drawn = shapely.polygons(np.concatenate([made.uv[made.indices], made.uv[made.indices][:, :1]], axis=1))
            solid = np.linalg.norm(np.cross(*(shape.vertices[made.source][made.indices][:, k] - shape.vertices[made.source][made.indices][:, 0] for k in (1, 2))), axis=1)  # fmt: skip
            share = shapely.area(drawn) / solid
            self.assertLess(share.max() / share.min(), 1.01)
            self.assertAlmostEqual(shapely.union_all(drawn).area, shapely.area(drawn).sum(), places=5)

    def test_a_clean_first_set_serves_and_a_tiled_one_does_not(self) -> None:
        grid = trimesh.creation.icosphere(1)
        positions, faces = grid.vertices.astype(np.float32), grid.faces.astype(np.uint32)
        made = unwrap(positions, faces, 256, 4, "xatlas")
        own, source = made.uv * 7 + 3, made.source  # anywhere, at any scale
        again = unwrap(positions[source], made.indices, 256, 4, "uvunwrap", first=own)
        self.assertIn(again.method, ("first set, laid out anew", "uvunwrap, laid out anew"))
        self.assertGreaterEqual(again.report.fill, made.report.fill - 0.05)
        tiled = np.modf(own * 3)[0].astype(np.float32)
        self.assertNotIn("first", unwrap(positions[source], made.indices, 256, 4, "uvunwrap", first=tiled).method)


if __name__ == "__main__":
    unittest.main()
