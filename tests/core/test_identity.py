"""Parts are followed from one version of the files to the next by what they are, not by their row."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.core.test_ifc import Model, at
from tests.planted import box
from tests.support import trimesh_scene
from tidy_caravan.core.formats import bundles_from_files
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.identity import follow, names_of, notes_of_gone, set_after
from tidy_caravan.core.scene import Material, Scene, make_nodes
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


class Follow(unittest.TestCase):
    def names(self, scene: Scene, ids: list[int]) -> list[str]:
        return [scene.nodes.names[i] for i in ids]

    def test_a_file_that_comes_before_moves_nothing(self) -> None:
        old, new = files(quay_glb=glb(1)), files(beach_glb=glb(2), quay_glb=glb(1))
        parts = old.nodes.parts.tolist()
        followed = follow(old, new, parts)
        self.assertEqual(followed.gone, {})
        self.assertNotEqual(list(followed.now.values()), parts)
        for i, j in followed.now.items():
            self.assertEqual(old.nodes.names[i], new.nodes.names[j])
            self.assertTrue(new.nodes.paths[j].startswith("quay.glb/"))
        back = follow(new, old, followed.now.values())
        self.assertEqual(sorted(back.now.values()), parts)

    def test_files_of_one_name_in_two_folders_are_two(self) -> None:
        scene = load_all(bundles_from_files({"a/hall.glb": glb(1), "b/hall.glb": glb(1)}))
        inside = [n for n in names_of(scene) if "\0" in n]
        self.assertEqual(len(set(inside)), len(scene.nodes) - 2, "all but the nodes of the files themselves")
        self.assertEqual({n.split("\0")[0] for n in inside}, {"a/hall.glb", "b/hall.glb"})

    def test_a_file_that_goes_takes_its_parts_along_by_name(self) -> None:
        old, new = files(beach_glb=glb(2), quay_glb=glb(1)), files(quay_glb=glb(1))
        first = int(old.nodes.parts[0])
        followed = follow(old, new, old.nodes.parts.tolist())
        self.assertEqual(len(followed.now), 6)
        self.assertEqual(followed.gone[first], old.nodes.paths[first])
        note = notes_of_gone(followed, {first: ["set “Railings”"]})[0]
        self.assertIn("set “Railings”", note.text)
        self.assertIn(old.nodes.names[first], note.text)

    def test_among_equals_the_one_that_stands_where_it_stood(self) -> None:
        old = row(["post"] * 4, [0, 2, 4, 6], [0, 0, 0, 0])
        new = row(["post"] * 3, [0, 4, 6], [0, 0, 0])
        followed = follow(old, new, [0, 1, 2, 3])
        self.assertEqual(followed.now, {0: 0, 2: 1, 3: 2})
        self.assertEqual(list(followed.gone), [1])

    def test_equals_that_are_all_there_keep_their_order_wherever_they_moved(self) -> None:
        old, new = row(["post"] * 3, [0, 2, 4], [0] * 3), row(["post"] * 3, [0, 5, 9], [0] * 3)
        self.assertEqual(follow(old, new, [2]).now, {2: 2})

    def test_a_renamed_part_is_found_by_mesh_and_place(self) -> None:
        old = row(["gate", "rail"], [0, 3], [0, 1])
        new = row(["swing door", "gate rail"], [0, 3], [0, 1])
        self.assertEqual(follow(old, new, [0, 1]).now, {0: 0, 1: 1})
        moved = row(["swing door", "gate rail"], [9, 3], [0, 1])
        self.assertEqual(follow(old, moved, [0, 1]).gone, {0: "gate"})

    def test_another_part_that_takes_the_name_is_the_part(self) -> None:
        """The name is the first witness: a remodelled gate is still the gate."""
        old, new = row(["gate", "rail"], [0, 3], [0, 1]), row(["rail", "gate"], [3, 0], [1, 1])
        self.assertEqual(follow(old, new, [0, 1]).now, {0: 1, 1: 0})

    def test_the_format_s_own_id_goes_before_names(self) -> None:
        model = Model()
        storey = model.storey("Ground", 0)
        walls = [model.element(f"wall {k}", storey, at(4 * k, 0, 0), model.block()) for k in range(3)]
        old = model.read()
        walls[1].Name = "party wall"
        new = model.read()
        number = old.nodes.names.index("wall 1")
        followed = follow(old, new, [number])
        self.assertEqual(self.names(new, list(followed.now.values())), ["party wall"])

    def test_sets_follow(self) -> None:
        old, new = files(quay_glb=glb(1)), files(beach_glb=glb(2), quay_glb=glb(1))
        a, b, c = old.nodes.parts[:3].tolist()
        one = PartSet(id="s", name="by hand", added=[a], removed=[b], rules=[Rule(parts=[c]), Rule(names=["box*"])])
        after = set_after(one, follow(old, new, [a, b, c]))
        self.assertEqual(
            [new.nodes.names[i] for i in (*after.added, *after.removed, *after.rules[0].parts)],
            [old.nodes.names[i] for i in (a, b, c)],
        )
        self.assertEqual(after.rules[1], one.rules[1])
        nothing = set_after(one, follow(old, files(beach_glb=glb(3, 2)), [a, b, c]))
        self.assertEqual((nothing.added, nothing.removed, len(nothing.rules)), ([], [], 1))

    def test_many_equals_take_no_time(self) -> None:
        count = 20_000
        many = row(["stone"] * count, np.arange(count).tolist(), [0] * count)
        fewer = replace(many, nodes=row(["stone"] * (count - 1), np.arange(1, count).tolist(), [0] * (count - 1)).nodes)
        followed = follow(many, fewer, range(0, count, 200))
        self.assertEqual((len(followed.now), list(followed.gone)), (99, [0]))


if __name__ == "__main__":
    unittest.main()
