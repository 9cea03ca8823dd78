"""What is wrong beside the parts themselves: materials, lights, cameras, clips, declared units, sharing."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

import numpy as np

from tidy_caravan.core.arrival.contact import Contact
from tidy_caravan.core.arrival.data import equal_data, listed, of_object
from tidy_caravan.core.arrival.judge import LEAST_POSITION_MM, STEPS, nearest_above
from tidy_caravan.core.arrival.looks import EXPECTED, Pictures, differences, look_of
from tidy_caravan.core.arrival.placed import Placed, hidden, keys
from tidy_caravan.core.arrival.things import compare_clips, compare_things
from tidy_caravan.core.aspects import Aspect, Declared
from tidy_caravan.core.formats.abilities import EVERYTHING, Ability
from tidy_caravan.core.formats.shared.written import TARGET_NAMES
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.scene import Root, Scene
from tidy_caravan.core.scene.arrays import I64
from tidy_caravan.core.space.srgb import coded
from tidy_caravan.core.words import plural

NO_MATERIAL = "none"
"""Begins the name under which OBJ keeps what has no material."""


def by_route(sentences: list[str]) -> list[str]:
    """The same, said to be the doing of the route and not of the writer."""
    return [f"{s.removesuffix('.')} (by the route)" for s in sentences]


def material_problems(
    found: Contact, here: Placed, there: Placed, a: I64, ability: Ability, new_names: dict[str, str]
) -> list[str]:
    """Triangles that carry another material, and materials that look different; one sentence for each kind."""
    expect = EXPECTED.get(ability.look)
    if expect is None:
        return []
    source, arrived = here.scene, there.scene
    pictures = Pictures()
    names_a = [m.name for m in source.materials]
    used: dict[tuple[int, int], tuple[int, list[str]]] = {}
    for members, d in found.meshes:
        where = source.nodes.paths[int(a[members[0]])]
        for pair, count in d.slots.items():
            before = used.get(pair, (0, []))
            used[pair] = (before[0] + count * len(members), [*before[1], where][:3])
    out = []
    partners: dict[int, set[int]] = defaultdict(set)
    for i, j in used:
        partners[i].add(j)
    for (i, j), (count, places) in sorted(used.items()):
        here_name = names_a[i] if i >= 0 else ""
        there_name = arrived.materials[j].name if j >= 0 else ""
        first = f"{plural(count, 'triangle')} of “{places[0]}”" + (" and others" if len(places) > 1 else "")
        if i < 0 or j < 0:
            if (i < 0) != (j < 0) and not (i < 0 and ability.laid_out and there_name.startswith(NO_MATERIAL)):
                out.append(f"{first} carry {told_name(there_name, j)} instead of {told_name(here_name, i)}")
            continue
        sure = bool(here_name) and names_a.count(here_name) == 1
        here_name = new_names.get(here_name, here_name)
        elsewhere = len(partners[i]) > 1 or any(m.name == here_name for m in arrived.materials)
        if sure and there_name != here_name and elsewhere:
            out.append(f"{first} carry “{there_name}” instead of “{here_name}”")
            continue
        expected = expect(look_of(source, source.materials[i]), source.materials[i])
        wrong = differences(expected, look_of(arrived, arrived.materials[j]), pictures)
        said = (of_object(side.materials[k].extras) for side, k in ((source, i), (arrived, j)))
        if ability.said and not equal_data(*said):
            wrong.append("its data differ")
        if sure and there_name != here_name:
            wrong.insert(0, f"it is called “{there_name}”")
        out += [f"material “{here_name or i}”: {phrase}" for phrase in wrong]
    return listed(out)


def told_name(name: str, number: int) -> str:
    return f"“{name or number}”" if number >= 0 else "no material"


def beside_parts(
    here: Placed, mid: Placed, there: Placed, source: Scene, result: Scene, arrived: Scene,
    declared: Declared, ability: Ability,
) -> list[str]:  # fmt: skip
    """Lights, cameras and clips: delivered as packed, packed as they were in the source."""
    limit = LEAST_POSITION_MM
    if len(mid.worlds):
        limit = max(limit, float(np.abs(mid.worlds[:, :3, 3]).max()) * 1000 * STEPS)
    out = []
    stayed = np.zeros(len(here.scene.nodes), np.bool_)
    stayed[mid.scene.nodes.source[mid.scene.nodes.source >= 0]] = True
    every = np.arange(len(here.scene.nodes))
    may = declared.for_parts(result.touched, every)
    # a node that stays behind takes its light along
    gone = may.free(Aspect.PARTS) & (~stayed | hidden(here.scene.nodes))
    own = mid.scene.nodes.source
    # what a step took off a part and hung below it is that part's
    origin = np.where(own >= 0, own, nearest_above(mid.scene.nodes, own))
    for what, aspect, holds, whole in (
        ("light", Aspect.LIGHTS, ability.lights, EVERYTHING.lights),
        ("camera", Aspect.CAMERAS, ability.cameras, EVERYTHING.cameras),
    ):
        if holds:
            out += compare_things(
                mid,
                there,
                what,
                holds,
                limit,
                coded if ability.encoded_lights else None,
                named=ability.said,
                framed=True,
            )
        free = may.free(aspect)
        changed = np.where(origin >= 0, free[np.maximum(origin, 0)], free.any())
        out += by_route(compare_things(here, mid, what, whole, limit, None, gone | free, changed))
    if ability.clips:
        out += compare_clips(result, arrived, keys(result.nodes), keys(arrived.nodes), limit, ability.said)
    if not declared.free(Aspect.CLIPS):
        before, after = keys(source.nodes), list(keys(result.nodes))
        for i, origin in enumerate(result.nodes.source.tolist()):  # a step may have renamed them
            after[i] = before[origin] if origin >= 0 else after[i]
        out += by_route(compare_clips(source, result, before, after, limit))
    return listed(out)


def beside_names(extras: Any) -> dict[str, Any]:
    """What is said of a mesh, without the names of its morph targets, which are compared with these."""
    return {k: v for k, v in of_object(extras).items() if k != TARGET_NAMES}


def mesh_problems(result: Scene, arrived: Scene, middle: I64, end: I64, ability: Ability) -> list[str]:
    """Meshes that are called otherwise, or of which something else is said: many receivers name what they keep by them."""
    if not ability.said or not len(middle):
        return []
    both = np.unique(np.column_stack([result.nodes.mesh[middle], arrived.nodes.mesh[end]]), axis=0)
    out = []
    for i, j in both.tolist():
        a, b = result.meshes[i], arrived.meshes[j]
        if a.name != b.name:
            out.append(f"mesh “{a.name or i}” is called “{b.name}”")
        elif not equal_data(beside_names(a.extras), beside_names(b.extras)):
            out.append(f"mesh “{a.name or i}”: its data differ")
    return listed(out)


def root_problems(result: Scene, arrived: Scene, ability: Ability) -> list[str]:
    """Scenes of the file that are called otherwise, of which something else is said, or that nobody sent."""
    if not ability.said:
        return []
    sent = result.roots or (Root(()),)
    out = [f"the scene “{a.name or i}” did not arrive" for i, a in enumerate(sent) if i >= len(arrived.roots)]
    for i, b in enumerate(arrived.roots):
        if i >= len(sent):
            out.append(f"a scene “{b.name or i}” arrived that nobody sent")
        elif sent[i].name != b.name:
            out.append(f"the scene “{sent[i].name or i}” is called “{b.name}”")
        elif not equal_data(beside_names(sent[i].extras), beside_names(b.extras)):
            out.append(f"the scene “{b.name or i}”: its data differ")
    return listed(out)


def declared_problems(arrived: Scene, manifest: Manifest, ability: Ability) -> list[str]:
    """Unit and up axis that stand in the file against those it was written in."""
    said = arrived.extras.get("declared")
    if not ability.declares or not isinstance(said, dict):
        return []
    out = []
    wanted = manifest.file_convention
    if abs(said["metresPerUnit"] / wanted.metres_per_unit - 1) > 1e-6:
        out.append(
            f"the file says {said['metresPerUnit']:g} m per unit, and was written in {wanted.metres_per_unit:g} m"
        )
    up = wanted.up if wanted.up in ("X", "Y", "Z") else "Y"
    up = "Y" if up == "X" and manifest.format.startswith("usd") else up
    if said["up"] != up:
        out.append(f"the file says {said['up']} is up, and was written with {up} up")
    return out


def sharing_problems(result: Scene, arrived: Scene, middle: I64, end: I64, ability: Ability) -> list[str]:
    """Parts that were sent on one mesh must arrive on one mesh, and on no other's."""
    if not ability.sharing or not len(middle):
        return []
    both = np.unique(np.column_stack([result.nodes.mesh[middle], arrived.nodes.mesh[end]]), axis=0)
    out = []
    split = int((np.unique(both[:, 0], return_counts=True)[1] > 1).sum())
    if split:
        out.append(f"{split} shared meshes arrived as several.")
    for joined in np.unique(both[:, 1])[np.unique(both[:, 1], return_counts=True)[1] > 1].tolist():
        if len({result.meshes[i].id for i in both[both[:, 1] == joined, 0].tolist()}) > 1:
            out.append("Different meshes arrived as one.")
            break
    return out
