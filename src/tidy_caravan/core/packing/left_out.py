"""What a format has no place for, named with how much of it there is: nothing is lost without a word.

What a writer tells by itself (tree, pivots, clips, what a model of surfaces lacks) is not repeated here.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from tidy_caravan.core.formats.abilities import NAMES, Ability
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.words import plural

OF_SKINS = ("JOINTS_", "WEIGHTS_")
"""Attributes that belong to skins, which are told as such."""
USUAL_FILTERS = (None, 9729), (None, 9987)
"""What receivers do with an image from near and from afar where nothing is said (glTF 2.0, 5.26)."""


def left_out(scene: Scene, ability: Ability) -> list[str]:
    """What of the scene its format cannot hold, as phrases; O(nodes that have data + meshes + materials)."""
    return [*of_nodes(scene, ability), *of_things(scene, ability), *of_lights(scene, ability)]


def of_nodes(scene: Scene, ability: Ability) -> Iterator[str]:
    nodes = scene.nodes
    if nodes.extras and not ability.data:
        yield f"data of {plural(len(nodes.extras), 'node')} (what is said of parts stands in the manifest)"
    if not ability.layers and (count := int((nodes.layer >= 0).sum())):
        layers = len(np.unique(nodes.layer[nodes.layer >= 0]))
        yield f"the {plural(layers, 'layer')} of {plural(count, 'node')} (that of each part stands in the manifest)"
    drawn = np.array([m.triangles > 0 for m in scene.meshes], np.bool_)
    if empty := int((~drawn[nodes.mesh[nodes.parts]]).sum()) if len(drawn) else 0:
        yield f"{plural(empty, 'part')} without triangles: what arrives are nodes that draw nothing"
    hidden = int(((nodes.flags & HIDDEN) > 0).sum())
    if hidden and not ability.visible:
        yield f"what is switched off: {plural(hidden, 'node')} and all below show"
    if len(scene.roots) > 1 and not ability.scenes:
        yield f"which nodes each of {len(scene.roots)} scenes shows"
    elif any(r.name for r in scene.roots) and not ability.scenes:
        yield "the name of the scene"


def of_things(scene: Scene, ability: Ability) -> Iterator[str]:
    """Names, data and attributes of what nodes carry, and of the file."""
    textures = [*scene.images, *scene.textures, *(t.sampler for t in scene.textures if t.sampler)]
    if NAMES not in ability.labels and (own := names_of_their_own(scene)):
        yield f"{plural(own, 'name')} of meshes, lights and cameras that are not those of their nodes"
    things: dict[str, list[Any]] = {
        "meshes": list(scene.meshes),
        "materials": list(scene.materials),
        "images": [*textures, *(u for m in scene.materials for u in m.uses())],
        "lights": list(scene.lights),
        "cameras": list(scene.cameras),
        "scenes": list(scene.roots),
    }
    for what, every in things.items():
        if what not in ability.labels and (count := sum(one.extras not in (None, {}) for one in every)):
            yield f"data of {what} ({count})"
    asset = scene.extras.get("asset") or {}
    if "the file" not in ability.labels and (scene.extras.get("extras") or asset.get("extras")):
        yield "data of the file as a whole"
    if "copyright" not in ability.labels and asset.get("copyright"):
        yield "the copyright of the file"
    if ability.flat and (count := sum(m.tangents is not None for m in scene.meshes)):
        yield f"the tangents of {plural(count, 'mesh', 'meshes')}"
    attributes = {name for m in scene.meshes for name in m.attributes if not name.startswith(OF_SKINS)}
    if attributes and not ability.attributes:
        yield f"further values of vertices ({', '.join(sorted(attributes)[:5])})"
    odd = [t for t in scene.textures if t.sampler and not (t.sampler.mag in USUAL_FILTERS[0] and t.sampler.min in USUAL_FILTERS[1])]  # fmt: skip
    if odd and ability.look != "none" and not ability.filters:
        yield f"the filters of {plural(len(odd), 'image')}"


def names_of_their_own(scene: Scene) -> int:
    """Names of what nodes carry that are not those of the nodes."""
    nodes, out = scene.nodes, set()
    called = np.array(nodes.names, object)
    for carried, things in ((nodes.mesh, scene.meshes), (nodes.light, scene.lights), (nodes.camera, scene.cameras)):
        rows = np.flatnonzero(carried >= 0)
        own = np.array([thing.name for thing in things], object)[carried[rows]]
        out.update(own[(own != called[rows]) & (own != "")].tolist())
    return len(out)


def of_lights(scene: Scene, ability: Ability) -> Iterator[str]:
    if not ability.lights:
        return  # told as a whole
    if "range" not in ability.lights and (count := sum(x.range is not None for x in scene.lights)):
        yield f"the range of {plural(count, 'light')}"
    spots = [x for x in scene.lights if x.kind == "spot" and not x.surface and x.inner_cone > 0]
    if "inner cone" not in ability.lights and spots:
        yield f"the inner cone of {plural(len(spots), 'spot')}"


def two_sided_as_a_whole(scene: Scene) -> int:
    """Meshes of one- and two-sided materials, of which a format that has it of meshes shows all faces from both sides."""
    both = [m.double_sided for m in scene.materials]
    return sum(
        len({both[s] for s in m.slots if s >= 0} | ({False} if -1 in m.slots else set())) > 1 for m in scene.meshes
    )
