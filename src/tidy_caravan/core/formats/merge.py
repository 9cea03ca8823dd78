"""Several scenes into one: each file under a node of its own, tables end to end, everything in one convention."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.registry import load
from tidy_caravan.core.formats.shared.bundle import OF_WHAT_WAS_SENT, Bundle
from tidy_caravan.core.formats.shared.site import placements
from tidy_caravan.core.identity import with_files
from tidy_caravan.core.scene import Channel, Clip, Material, Mesh, Nodes, Note, Scene, Skin, Texture, TextureUse, Travel
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.scene.identity import LEAD
from tidy_caravan.core.scene.look import ROLES
from tidy_caravan.core.space.convert import convert
from tidy_caravan.core.space.files import Stated, with_stated
from tidy_caravan.core.space.site import recentred


def load_all(bundles: Sequence[Bundle], progress: Callable[[str], None] = lambda name: None, lead: str = "") -> Scene:
    """The scene of all bundles. A file that cannot be read becomes a note when others can. Raises UnusableInput.

    lead: the label of the file whose unit and axes the scene had before and has again, when it is among several: what was
    decided about its unit would mean another size in another one's.
    """
    if len(bundles) == 1:
        scene = load(bundles[0])
        return recentred(with_files(scene, [(bundles[0].main, 0, len(scene.nodes))]))
    scenes: list[Scene] = []
    names: list[str] = []
    failed: list[Note] = []
    behind: list[Travel] = []
    error: UnusableInput | None = None
    for bundle in bundles:
        progress(bundle.main)
        try:
            scenes.append(load(bundle))
            # its folder goes along: what a file's parts are called by is not to change when another of its name comes or goes
            names.append(bundle.main)
        except UnusableInput as problem:
            error = problem
            failed += [
                Note("damaged", "import.file", bundle.main[:120], f"This file was left out: {problem.what}."),
                *bundle.notes,
            ]
            behind += bundle.behind
    if not scenes:
        assert error is not None
        raise error
    out = merged(scenes, names, lead)
    return recentred(out.but(notes=(*failed, *out.notes), travel=(*out.travel, *behind)))


def merged(scenes: Sequence[Scene], names: Sequence[str], lead: str = "") -> Scene:
    """One scene in the convention of the one called `lead`, or else the first; its parts keep their places in metres."""
    first_name = lead if lead in names else names[0]
    target = scenes[list(names).index(first_name)].convention
    places, told_by, site_notes = placements(list(scenes), list(names), target)
    one = [convert(s, target) for s in scenes]
    counts = np.cumsum([0, *(len(s.nodes) + 1 for s in one)]).tolist()

    def starts(table: str) -> list[int]:
        out: list[int] = np.cumsum([0, *(len(getattr(s, table)) for s in one)]).tolist()
        return out

    meshes, materials, textures = starts("meshes"), starts("materials"), starts("textures")
    images, lights, cameras, skins = starts("images"), starts("lights"), starts("cameras"), starts("skins")
    layers = list(dict.fromkeys(layer for s in one for layer in s.layers))
    place = {layer: i for i, layer in enumerate(layers)}

    def column(name: str, offsets: list[int]) -> AnyArray:
        pieces: list[AnyArray] = []
        for s, base in zip(one, offsets, strict=False):
            own = getattr(s.nodes, name)
            pieces += [np.array([-1]), np.where(own >= 0, own + base, -1)]
        return np.concatenate(pieces).astype(np.int32)

    parent: list[AnyArray] = []
    layer: list[AnyArray] = []
    labels: list[str] = []
    extras: dict[int, Any] = {}
    rest: dict[int, Any] = {}
    ids: dict[int, str] = {}
    for s, base, name in zip(one, counts, names, strict=False):
        first = base + 1
        parent += [np.array([-1]), np.where(s.nodes.parent >= 0, s.nodes.parent + first, base)]
        table = np.array([*(place[x] for x in s.layers), -1], np.int64)
        layer += [np.array([-1]), table[s.nodes.layer]]
        labels += [name, *s.nodes.names]
        extras |= {i + first: e for i, e in s.nodes.extras.items()}
        rest |= {i + first: r for i, r in s.nodes.rest.items()}
        ids |= {i + first: own for i, own in s.nodes.ids.items()}
    total = counts[-1]
    nodes = Nodes(
        np.concatenate(parent).astype(np.int32),
        np.concatenate([m for s, p in zip(one, places, strict=True) for m in (p[None], s.nodes.local)]),
        column("mesh", meshes),
        column("light", lights),
        column("camera", cameras),
        column("skin", skins),
        np.concatenate([f for s in one for f in (np.zeros(1, np.uint8), s.nodes.flags)]),
        np.concatenate(layer).astype(np.int32),
        np.arange(total, dtype=np.int64),
        tuple(labels),
        extras,
        rest,
        ids=ids,
    )

    def mesh(m: Mesh, base: int) -> Mesh:
        recipe = m.recipe
        if recipe is not None and "material" in recipe.values and recipe.values["material"] >= 0:
            recipe = replace(recipe, values={**recipe.values, "material": recipe.values["material"] + base})
        if recipe is not None and "material" in recipe.arrays:
            slots = recipe.arrays["material"]
            recipe = replace(recipe, arrays={**recipe.arrays, "material": np.where(slots >= 0, slots + base, -1)})
        return replace(m, material=np.where(m.material >= 0, m.material + base, -1).astype(np.int32), recipe=recipe)

    def material(m: Material, base: int) -> Material:
        uses: dict[str, TextureUse | None] = {r: getattr(m, r) for r in ROLES}
        return replace(m, **{r: replace(u, texture=u.texture + base) for r, u in uses.items() if u is not None})  # type: ignore[arg-type]

    def texture(t: Texture, base: int) -> Texture:
        return replace(t, image=t.image + base if t.image >= 0 else -1)

    def clip(c: Clip, base: int) -> Clip:
        moved: tuple[Channel, ...] = tuple(replace(h, node=h.node + base) for h in c.channels)
        return replace(c, channels=moved)

    def skin(s: Skin, base: int) -> Skin:
        return replace(
            s, joints=tuple(j + base for j in s.joints), skeleton=s.skeleton + base if s.skeleton >= 0 else -1
        )

    kinds = {s.format for s in one}
    spans = [(name, base + 1, len(s.nodes)) for s, base, name in zip(one, counts, names, strict=False)]
    whole = Scene(
        target,
        nodes,
        tuple(mesh(m, b) for s, b in zip(one, materials, strict=False) for m in s.meshes),
        tuple(material(m, b) for s, b in zip(one, textures, strict=False) for m in s.materials),
        tuple(texture(t, b) for s, b in zip(one, images, strict=False) for t in s.textures),
        tuple(i for s in one for i in s.images),
        tuple(x for s in one for x in s.lights),
        tuple(x for s in one for x in s.cameras),
        tuple(skin(k, b + 1) for s, b in zip(one, counts, strict=False) for k in s.skins),
        tuple(clip(c, b + 1) for s, b in zip(one, counts, strict=False) for c in s.clips),
        tuple(layers),
        notes=(
            *site_notes,
            *(
                n
                if n.code in OF_WHAT_WAS_SENT
                else replace(n, where=f"{name}: {n.where}"[:240], nodes=tuple(i + base + 1 for i in n.nodes))
                for s, base, name in zip(one, counts, names, strict=False)
                for n in s.notes
            ),
        ),
        travel=summed(one),
        extras=scenes[told_by].extras if told_by >= 0 else next((s.extras for s in one if s.extras), {}),
        format=kinds.pop() if len(kinds) == 1 else "several",
    )
    told = with_files(whole.but(extras={**whole.extras, LEAD: first_name}), spans)
    return with_stated(told, {name: Stated.of(s) for name, s in zip(names, scenes, strict=True)})


def summed(scenes: Sequence[Scene]) -> tuple[Travel, ...]:
    """The travel lists of several scenes with equal lines added up."""
    out: dict[tuple[str, ...], Travel] = {}
    for t in (t for s in scenes for t in s.travel):
        key = (t.kind, t.verdict, t.into, t.tolerance, t.why)
        out[key] = replace(t, count=t.count + out[key].count) if key in out else t
    rank = {"travels": 0, "converted": 1, "behind": 2}
    return tuple(sorted(out.values(), key=lambda t: rank[t.verdict]))
