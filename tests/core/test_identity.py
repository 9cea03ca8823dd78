"""Parts are followed from one version of the files to the next by what they are, not by their row."""

from __future__ import annotations

import time
import unittest
from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_collada import document, read
from tests.core.test_ifc import Model, at
from tests.planted import box
from tests.support import trimesh_scene
from tidy_caravan.core.formats import bundles_from_files
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.identity import follow, notes_of_gone, set_after, under_one_label, with_files
from tidy_caravan.core.scene import Material, Mesh, Scene, make_nodes
from tidy_caravan.core.scene.convention import GLTF
from tidy_caravan.core.selection import PartSet, Rule


def files(**data: bytes) -> Scene:
    return load_all(bundles_from_files({n.replace("_", "."): d for n, d in data.items()}))


def glb(seed: int, count: int = 6) -> bytes:
    return bytes(trimesh_scene(seed, count).export(file_type="glb"))


def row(names: list[str], xs: list[float], meshes: list[int]) -> Scene:
    local = np.tile(np.eye(4), (len(names), 1, 1))
    local[:, 0, 3] = xs
    shapes = (box((1, 1, 1)), box((1, 2, 1)))
    nodes = make_nodes(np.full(len(names), -1), local, names, mesh=np.array(meshes))
    return Scene(GLTF, nodes, shapes, (Material("m"),))


def named(scene: Scene, ids: Iterable[int]) -> list[str]:
    return scene.identities.given(ids)


def numbers(scene: Scene, names: Iterable[str]) -> list[int]:
    return scene.identities.rows(names).tolist()


class Follow(unittest.TestCase):
    def names(self, scene: Scene, identities: Iterable[str]) -> list[str]:
        return [scene.nodes.names[i] for i in numbers(scene, identities)]

    def now(self, old: Scene, new: Scene, ids: Iterable[int]) -> dict[int, int]:
        """By row before, row now."""
        found = follow(old, new, named(old, ids)).now
        return {old.identities.row[a]: new.identities.row[b] for a, b in found.items()}

    def gone(self, old: Scene, new: Scene, ids: Iterable[int]) -> list[int]:
        return numbers(old, follow(old, new, named(old, ids)).gone)

    def test_identities_are_all_different_and_say_what_they_mean(self) -> None:
        scene = row(["post", "post", "rail"], [0, 1, 2], [0, 0, 1])
        self.assertEqual(scene.identities.names, ("|post|1", "|post|2", "|rail|1"))
        two = files(quay_glb=glb(1), beach_glb=glb(1))
        self.assertEqual(len(set(two.identities.names)), len(two.nodes))
        alone = files(quay_glb=glb(1)).identities.names
        self.assertEqual(two.identities.names[-len(alone) :], alone, "alone or among others")
        self.assertTrue(all(n.startswith("quay.glb|") for n in alone))

    def test_names_that_cannot_be_stored_are_told_apart_still(self) -> None:
        names = ["a\nb", "a b", "a\0b", "a?b", "x|1", "x", "", "\ud800", "…"]
        scene = row(names, list(range(len(names))), [0] * len(names))
        found = scene.identities.names
        self.assertEqual(len(set(found)), len(names))
        for i, name in enumerate(found):
            name.encode()
            self.assertEqual(numbers(scene, [name]), [i])
            self.assertNotIn("\0", name)

    def test_a_file_that_comes_before_moves_nothing(self) -> None:
        old, new = files(quay_glb=glb(1)), files(beach_glb=glb(2), quay_glb=glb(1))
        parts = old.nodes.parts.tolist()
        followed = follow(old, new, named(old, parts))
        self.assertEqual(followed.gone, [])
        self.assertTrue(all(a == b for a, b in followed.now.items()), "the name is the same in both")
        rows = self.now(old, new, parts)
        self.assertNotEqual(list(rows.values()), parts)
        for i, j in rows.items():
            self.assertEqual(old.nodes.names[i], new.nodes.names[j])
            self.assertTrue(new.nodes.paths[j].startswith("quay.glb/"))

    def test_files_of_one_name_in_two_folders_are_two(self) -> None:
        scene = load_all(bundles_from_files({"a/hall.glb": glb(1), "b/hall.glb": glb(1)}))
        self.assertEqual({n.split("|")[0] for n in scene.identities.names if n[0] != "|"}, {"a/hall.glb", "b/hall.glb"})

    def test_a_file_of_the_same_name_in_another_folder_takes_nothing_from_it(self) -> None:
        """It comes and goes again; and a single file keeps its parts that had taken another's place under that one's label."""
        one, two = glb(3), glb(4)
        alone = load_all(bundles_from_files({"sub/hall.glb": one, "quay.glb": glb(1)}))
        both = load_all(bundles_from_files({"sub/hall.glb": one, "hall.glb": two, "quay.glb": glb(1)}))
        parts = [i for i in alone.nodes.parts.tolist() if alone.nodes.paths[i].startswith("sub/")]
        self.assertEqual(len(parts), 6)
        for old, new in ((alone, both), (both, alone)):
            self.assertEqual(follow(old, new, named(alone, parts)).now, {n: n for n in named(alone, parts)})
        gone = follow(both, load_all(bundles_from_files({"hall.glb": two})), named(alone, parts))
        self.assertEqual((gone.now, len(gone.gone)), ({}, 6), "they are not those of the other one")
        single, replaced = files(hall_glb=one), files(hall_2_glb=one)
        kept = under_one_label(single, replaced)
        joined = load_all(bundles_from_files({"hall.2.glb": one, "hall.glb": two}))
        found = self.now(kept, joined, kept.nodes.parts.tolist())
        self.assertEqual({joined.nodes.paths[j].split("/")[0] for j in found.values()}, {"hall.2.glb"})
        self.assertEqual(len(found), 6)

    def test_what_was_labelled_without_its_folder_once_is_found(self) -> None:
        one = load_all(bundles_from_files({"sub/hall.glb": glb(3), "quay.glb": glb(1)}))
        names = tuple("hall.glb" if n == "sub/hall.glb" else n for n in one.nodes.names)
        spans = [("hall.glb" if label == "sub/hall.glb" else label, b, n) for label, b, n in one.extras["files"]]
        old = with_files(one.but(nodes=replace(one.nodes, names=names)), spans)
        parts = one.nodes.parts.tolist()
        self.assertEqual(self.now(old, one, parts), {i: i for i in parts})

    def test_a_single_file_that_replaces_a_single_file_keeps_its_label(self) -> None:
        old, new = files(quay_glb=glb(1)), files(quay_2_glb=glb(1))
        after = under_one_label(old, new)
        self.assertEqual(after.identities.names, old.identities.names)
        self.assertNotEqual(new.identities.names, old.identities.names)

    def test_a_file_that_goes_takes_its_parts_along_by_name_and_brings_them_back(self) -> None:
        old, new = files(beach_glb=glb(2), quay_glb=glb(1)), files(quay_glb=glb(1))
        first = old.identities.names[int(old.nodes.parts[0])]
        followed = follow(old, new, named(old, old.nodes.parts.tolist()))
        self.assertEqual(len(followed.now), 6)
        self.assertIn(first, followed.gone)
        note = notes_of_gone(followed, {first: ["set “Railings”"]})[0]
        self.assertIn("set “Railings”", note.text)
        self.assertIn(old.nodes.names[int(old.nodes.parts[0])], note.text)
        one = PartSet(id="s", name="by hand", added=[first])
        self.assertEqual(set_after(one, followed).added, [first], "it may come back")
        self.assertFalse(set_after(one, followed).select(new).any())
        again = set_after(set_after(one, followed), follow(new, old, [first]))
        self.assertEqual(numbers(old, again.added), [int(old.nodes.parts[0])])

    def test_among_equals_the_one_that_stands_where_it_stood(self) -> None:
        old = row(["post"] * 4, [0, 2, 4, 6], [0, 0, 0, 0])
        new = row(["post"] * 3, [0, 4, 6], [0, 0, 0])
        self.assertEqual(self.now(old, new, range(4)), {0: 0, 2: 1, 3: 2})
        followed = follow(old, new, named(old, range(4)))
        self.assertEqual(numbers(old, followed.gone), [1])
        one = PartSet(id="s", name="by hand", added=named(old, [1, 2]))
        self.assertEqual(
            numbers(new, set_after(one, followed).added), [1], "another post is not taken for the lost one"
        )

    def test_equals_that_are_all_there_keep_their_order_wherever_they_moved(self) -> None:
        old, new = row(["post"] * 3, [0, 2, 4], [0] * 3), row(["post"] * 3, [0, 5, 9], [0] * 3)
        self.assertEqual(self.now(old, new, [2]), {2: 2})

    @settings(max_examples=150, deadline=None)
    @given(st.data())
    def test_whatever_else_goes_comes_or_changes_its_turn(self, draw: st.DataObject) -> None:
        """What stays as it was is found as itself, and nothing that went is taken for what was there before."""
        count = draw.draw(st.integers(2, 12))
        names = draw.draw(st.lists(st.sampled_from(["post", "rail"]), min_size=count + 4, max_size=count + 4))
        meshes = draw.draw(st.lists(st.integers(0, 1), min_size=count + 4, max_size=count + 4))
        stays = draw.draw(st.lists(st.booleans(), min_size=count, max_size=count))
        extra = draw.draw(st.integers(0, 4))
        left = draw.draw(st.permutations([*(i for i in range(count) if stays[i]), *range(count, count + extra)]))
        old = row(names[:count], [3.0 * i for i in range(count)], meshes[:count])
        new = row([names[i] for i in left], [3.0 * i for i in left], [meshes[i] for i in left])
        now = {i: left[j] for i, j in self.now(old, new, range(count)).items()}
        for i in range(count):
            if stays[i]:
                self.assertEqual(now[i], i)
            else:
                self.assertFalse(i in now and now[i] < count, (i, now))

    def test_what_moved_together_stays_together(self) -> None:
        """Ten equal posts, all moved by less than lies between them, in another order in the file."""
        turn = np.random.default_rng(3).permutation(10)
        old = row(["post"] * 10, [2.0 * k for k in range(10)], [0] * 10)
        new = row(["post"] * 10, [2.0 * k + 0.7 for k in turn], [0] * 10)
        self.assertEqual({i: int(turn[j]) for i, j in self.now(old, new, range(10)).items()}, {i: i for i in range(10)})

    def test_a_flattened_export_that_is_written_anew(self) -> None:
        """Everything called the same with its origin in one place, and the vertices in another order: by their middles."""
        rng = np.random.default_rng(8)

        def flattened(which: Iterable[int], turn: bool) -> Scene:
            meshes = []
            for k in which:
                one = box((1, 2, 1))
                shifted = one.positions + np.float32([3 * k, 0, 0])
                order = rng.permutation(len(shifted)) if turn else np.arange(len(shifted))
                meshes.append(Mesh(shifted[order], np.argsort(order)[one.indices].astype(np.uint32), one.material))
            count = len(meshes)
            nodes = make_nodes([-1] * count, np.tile(np.eye(4), (count, 1, 1)), ["Mesh"] * count, mesh=np.arange(count))
            return Scene(GLTF, nodes, tuple(meshes), (Material("m"),))

        old, new = flattened(range(6), False), flattened([5, 0, 1, 4, 3], True)
        self.assertEqual(self.now(old, new, range(6)), {0: 1, 1: 2, 3: 4, 4: 3, 5: 0})

    def test_a_renamed_part_is_found_by_mesh_and_place(self) -> None:
        old = row(["gate", "rail"], [0, 3], [0, 1])
        new = row(["swing door", "gate rail"], [0, 3], [0, 1])
        self.assertEqual(self.now(old, new, [0, 1]), {0: 0, 1: 1})
        moved = row(["swing door", "gate rail"], [9, 3], [0, 1])
        self.assertEqual(self.gone(old, moved, [0, 1]), [0])

    def test_another_part_that_takes_the_name_is_the_part(self) -> None:
        """The name is the first witness: a remodelled gate is still the gate."""
        old, new = row(["gate", "rail"], [0, 3], [0, 1]), row(["rail", "gate"], [3, 0], [1, 1])
        self.assertEqual(self.now(old, new, [0, 1]), {0: 1, 1: 0})

    def test_the_format_s_own_id_goes_before_names(self) -> None:
        model = Model()
        storey = model.storey("Ground", 0)
        walls = [model.element(f"wall {k}", storey, at(4 * k, 0, 0), model.block()) for k in range(3)]
        old = model.read()
        walls[1].Name = "party wall"
        new = model.read()
        number = old.nodes.names.index("wall 1")
        self.assertIn(walls[1].GlobalId, old.identities.names[number])
        followed = follow(old, new, named(old, [number]))
        self.assertEqual(self.names(new, followed.now.values()), ["party wall"])

    def test_ids_of_collada_hold_when_they_are_kept_and_are_not_believed_when_dealt_out_anew(self) -> None:
        def dae(parts: dict[str, tuple[str, float]]) -> Scene:
            nodes = "".join(
                f'<node id="{own}" name="{name}"><translate>{x} 0 0</translate><instance_geometry url="#g"/></node>'
                for own, (name, x) in parts.items()
            )
            return read(document(nodes))

        old = dae({"n1": ("gate", 0), "n2": ("rail", 5)})
        self.assertIn("n2", old.identities.names[old.nodes.names.index("rail")])
        renamed = dae({"n1": ("gate", 0), "n2": ("guard rail", 5)})
        shifted = dae({"n1": ("post", 9), "n2": ("gate", 0), "n3": ("rail", 5)})
        rail = named(old, [old.nodes.names.index("rail")])
        self.assertEqual(self.names(renamed, follow(old, renamed, rail).now.values()), ["guard rail"])
        self.assertEqual(self.names(shifted, follow(old, shifted, rail).now.values()), ["rail"])

    def test_ids_that_are_dealt_out_in_order_to_parts_of_few_names(self) -> None:
        """COLLADA of a program that numbers nodes: one goes, one comes, and all behind them have another's id."""

        def dae(places: list[float], names: list[str]) -> Scene:
            return read(
                document(
                    "".join(
                        f'<node id="n{k}" name="{name}"><translate>{x} 0 0</translate><instance_geometry url="#g"/></node>'
                        for k, (x, name) in enumerate(zip(places, names, strict=True))
                    )
                )
            )

        names = ["post", "post", "rail", "post", "rail", "post"]
        old = dae([0, 2, 4, 6, 8, 10], names)
        parts = old.nodes.parts.tolist()
        for gone in range(6):
            for comes in range(6):
                left = [k for k in range(6) if k != gone]
                places = [2.0 * k for k in left]
                places.insert(comes, 99.0)
                now = [names[k] for k in left]
                now.insert(comes, "gate")
                new = dae(places, now)
                rows = new.nodes.parts.tolist()
                wanted = {parts[k]: rows[places.index(2.0 * k)] for k in left}
                self.assertEqual(self.now(old, new, parts), wanted, (gone, comes))

    def test_names_that_are_numbered_in_order(self) -> None:
        """One goes and one comes, and all behind them have another's name; a new one of the old name may be the old one."""

        def numbered(places: list[float]) -> Scene:
            names, meshes = [f"Cube.{k:03}" for k in range(len(places))], [int(x / 2) % 2 for x in places]
            return row(names, places, meshes)

        old = numbered([2.0 * k for k in range(6)])
        for gone in range(6):
            for comes in range(6):
                left = [k for k in range(6) if k != gone]
                places = [2.0 * k for k in left]
                places.insert(comes, 99.0)
                now = self.now(old, numbered(places), range(6))
                self.assertEqual({k: now[k] for k in left}, {k: places.index(2.0 * k) for k in left}, (gone, comes))
                self.assertEqual(now.get(gone, comes), comes, (gone, comes))

    def test_sets_follow(self) -> None:
        old, new = files(quay_glb=glb(1)), files(beach_glb=glb(2), quay_glb=glb(1))
        a, b, c = named(old, old.nodes.parts[:3].tolist())
        one = PartSet(id="s", name="by hand", added=[a], removed=[b], rules=[Rule(parts=[c]), Rule(names=["box*"])])
        after = set_after(one, follow(old, new, [a, b, c]))
        self.assertEqual(
            self.names(new, (*after.added, *after.removed, *after.rules[0].parts)), self.names(old, (a, b, c))
        )
        self.assertEqual(after.rules[1], one.rules[1])

    def test_many_equals_take_no_time(self) -> None:
        count = 20_000
        many = row(["stone"] * count, np.arange(count).tolist(), [0] * count)
        fewer = replace(many, nodes=row(["stone"] * (count - 1), np.arange(1, count).tolist(), [0] * (count - 1)).nodes)
        followed = follow(many, fewer, named(many, range(0, count, 200)))
        self.assertEqual((len(followed.now), numbers(many, followed.gone)), (99, [0]))
        renamed = row([f"stone {k}" for k in range(count)], np.arange(count).tolist(), [0] * count)
        began = time.perf_counter()
        self.assertEqual(len(follow(many, renamed, many.identities.names).now), count)
        self.assertLess(time.perf_counter() - began, 10)


if __name__ == "__main__":
    unittest.main()
