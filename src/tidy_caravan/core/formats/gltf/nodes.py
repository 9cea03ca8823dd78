"""glTF nodes into columns: one comprehension per column, a slow and tolerant way only for damage."""

from __future__ import annotations

from dataclasses import replace
from itertools import chain
from typing import Any

import numpy as np

from tidy_caravan.core.errors import TooLarge
from tidy_caravan.core.formats.gltf.accessors import Accessors
from tidy_caravan.core.formats.shared.affine import LEFT_OUT, affine, beyond_affine
from tidy_caravan.core.formats.shared.bundle import Limits
from tidy_caravan.core.formats.shared.json_fields import (
    Damage,
    as_int,
    as_list,
    as_object,
    get_bool,
    get_int,
    get_list,
    get_object,
    get_text,
    get_vector,
)
from tidy_caravan.core.formats.shared.many import MANY, tell, tell_rest
from tidy_caravan.core.formats.shared.written import PAGE_KEY
from tidy_caravan.core.scene import HIDDEN, SCATTER, Nodes, Note, Root
from tidy_caravan.core.scene.arrays import F64, I32, I64
from tidy_caravan.core.scene.nodes import depths
from tidy_caravan.core.space.transforms import compose
from tidy_caravan.core.words import plural

BAD_TYPES = (TypeError, ValueError, AttributeError, KeyError, OverflowError, IndexError)


def read_nodes(
    raw: list[Any],
    mesh_of: list[int],
    lights: int,
    cameras: int,
    skins: int,
    roots: tuple[Root, ...],
    accessors: Accessors,
    limits: Limits,
    notes: list[Note],
) -> Nodes:
    """Columns for all nodes; scatters (EXT_mesh_gpu_instancing) become nodes that share the mesh."""
    try:
        if not set(map(type, raw)) <= {dict}:
            raise TypeError
        names = tuple([n.get("name", "") for n in raw])
        if not set(map(type, names)) <= {str}:
            raise TypeError
        local = fast_locals(raw)
        wide_mesh, wide_camera, wide_skin = (column([n.get(k, -1) for n in raw]) for k in ("mesh", "camera", "skin"))
        extended = [i for i, n in enumerate(raw) if "extensions" in n]
        extras = {i: n["extras"] for i, n in enumerate(raw) if "extras" in n}
        links = [n.get("children", ()) for n in raw]
        parent = fast_parents(links, len(raw))
    except BAD_TYPES:
        raw = [mended(n, f"nodes[{i}]", len(raw), notes) for i, n in enumerate(raw)]
        names = tuple(n["name"] for n in raw)
        local = np.array([n["local"] for n in raw]).reshape(-1, 4, 4)
        wide_mesh, wide_camera, wide_skin = (column([n[k] for n in raw]) for k in ("mesh", "camera", "skin"))
        extended = [i for i, n in enumerate(raw) if n["extensions"]]
        extras = {i: n["extras"] for i, n in enumerate(raw) if "extras" in n}
        parent = slow_parents([n["children"] for n in raw], notes)
    extras = without_places(extras, notes)
    local = finite_locals(local, notes)
    parent = without_cycles(parent, notes)
    light = np.full(len(raw), -1, np.int32)
    mesh = in_range(wide_mesh, len(mesh_of), "mesh", notes)
    table = np.array([*mesh_of, -1], np.int32)
    mesh = table[mesh]
    camera = in_range(wide_camera, cameras, "camera", notes)
    skin = in_range(wide_skin, skins, "skin", notes)
    scatters: list[tuple[int, F64]] = []
    off = np.zeros(len(raw), np.bool_)
    for i in extended:
        where = f"nodes[{i}].extensions"
        try:
            extensions = as_object(raw[i]["extensions"], where)
            if "KHR_lights_punctual" in extensions:
                light[i] = get_int(
                    get_object(extensions, "KHR_lights_punctual", where), "light", where, -1, 0, lights - 1
                )
            if "KHR_node_visibility" in extensions:
                state = get_object(extensions, "KHR_node_visibility", where)
                off[i] = not get_bool(state, "visible", where, True)
            if "EXT_mesh_gpu_instancing" in extensions:
                scatters.append(
                    (
                        i,
                        scatter(
                            get_object(extensions, "EXT_mesh_gpu_instancing", where), where, accessors, limits, notes
                        ),
                    )
                )
        except TooLarge:
            raise
        except Damage as damage:
            notes.append(Note("damaged", "import.damaged", where, f"Left out, because {damage.sentence()}.", (i,)))
    flags = np.zeros(len(raw), np.uint8)
    nodes = Nodes(
        parent,
        local,
        mesh,
        light,
        camera,
        skin,
        flags,
        np.full(len(raw), -1, np.int32),
        np.arange(len(raw), dtype=np.int64),
        names,
        extras,
    )
    if off.any():  # what hangs below goes with it
        nodes = replace(nodes, flags=np.where(nodes.under(off), HIDDEN, 0).astype(np.uint8))
    nodes = outside_scenes(nodes, roots, notes)
    return expand(nodes, scatters, notes) if scatters else nodes


def column(values: list[Any]) -> I64:
    """Whole numbers as they are; raises TypeError for anything else."""
    if not set(map(type, values)) <= {int}:
        raise TypeError
    return np.array(values, dtype=np.int64)


def fast_locals(raw: list[dict[str, Any]]) -> F64:
    """(N, 4, 4) of well-formed nodes; raises one of BAD_TYPES otherwise."""
    local = np.tile(np.eye(4), (len(raw), 1, 1))
    placed = [i for i, n in enumerate(raw) if "matrix" in n]
    if placed:
        values = numbers([raw[i]["matrix"] for i in placed], 16)
        local[placed] = values.reshape(-1, 4, 4).transpose(0, 2, 1)
    plain = [
        i
        for i, n in enumerate(raw)
        if "translation" in n and "rotation" not in n and "scale" not in n and "matrix" not in n
    ]
    if plain:
        local[plain, :3, 3] = numbers([raw[i]["translation"] for i in plain], 3)
    turned = [i for i, n in enumerate(raw) if ("rotation" in n or "scale" in n) and "matrix" not in n]
    if turned:
        origin, still, one = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0, 1.0), (1.0, 1.0, 1.0)
        local[turned] = compose(
            numbers([raw[i].get("translation", origin) for i in turned], 3),
            numbers([raw[i].get("rotation", still) for i in turned], 4),
            numbers([raw[i].get("scale", one) for i in turned], 3),
        )
    return local


def numbers(rows: list[Any], width: int) -> F64:
    """(len(rows), width) from lists of numbers of exactly that width."""
    if set(map(len, rows)) != {width}:
        raise ValueError
    return np.fromiter(chain.from_iterable(rows), np.float64, len(rows) * width).reshape(-1, width)


def fast_parents(links: list[Any], count: int) -> I32:
    """(N,) parents; raises ValueError when a child has two parents or does not exist."""
    sizes = np.fromiter(map(len, links), np.int64, count)
    flat = list(chain.from_iterable(links))
    children = column(flat)
    parent = np.full(count, -1, np.int32)
    if len(children):
        if children.min() < 0 or children.max() >= count:
            raise ValueError
        if np.bincount(children, minlength=count).max() > 1:
            raise ValueError
        parent[children] = np.repeat(np.arange(count), sizes)
    return parent


def slow_parents(links: list[list[Any]], notes: list[Note]) -> I32:
    parent = np.full(len(links), -1, np.int32)
    told = 0
    for i, children in enumerate(links):
        for child in children:
            problem = ""
            if not isinstance(child, int) or isinstance(child, bool) or not 0 <= child < len(links):
                problem = f"The child {str(child)[:40]} does not exist and was left out."
            elif child == i:
                problem = "The node is its own child; that link was left out."
            elif parent[child] >= 0:
                problem = f"Node {child} already hangs under node {parent[child]}; a node has one parent, the second link was left out."
            else:
                parent[child] = i
            if problem and (told := told + 1) <= MANY:
                notes.append(Note("damaged", "import.tree", f"nodes[{i}].children", problem, (i,)))
    if told > MANY:
        notes.append(Note("damaged", "import.tree", "nodes", f"{told - MANY} more links of the tree were left out."))
    return parent


def mended(entry: Any, where: str, count: int, notes: list[Note]) -> dict[str, Any]:
    """One node with every unusable field replaced by its default, and a note for each."""
    out: dict[str, Any] = {
        "name": "",
        "local": np.eye(4),
        "mesh": -1,
        "camera": -1,
        "skin": -1,
        "children": [],
        "extensions": {},
    }

    def attempt(key: str, make: Any) -> None:
        try:
            out[key] = make()
        except Damage as damage:
            notes.append(Note("damaged", "import.damaged", where, f"{key}: ignored, because {damage.sentence()}."))

    try:
        node = as_object(entry, where)
    except Damage as damage:
        notes.append(Note("damaged", "import.damaged", where, f"Left empty, because {damage.sentence()}."))
        return out
    attempt("name", lambda: get_text(node, "name", where))
    attempt("local", lambda: slow_local(node, where))
    for key in ("mesh", "camera", "skin"):
        attempt(key, lambda key=key: get_int(node, key, where, -1, 0))
    attempt("children", lambda: get_list(node, "children", where))
    attempt("extensions", lambda: get_object(node, "extensions", where))
    if "extras" in node:
        out["extras"] = node["extras"]
    return out


def slow_local(node: dict[str, Any], where: str) -> F64:
    if "matrix" in node:
        values: F64 = np.array(get_vector(node, "matrix", where, (0.0,) * 16))
        return values.reshape(4, 4).T
    placed: F64 = compose(
        np.array([get_vector(node, "translation", where, (0.0, 0.0, 0.0))]),
        np.array([get_vector(node, "rotation", where, (0.0, 0.0, 0.0, 1.0))]),
        np.array([get_vector(node, "scale", where, (1.0, 1.0, 1.0))]),
    )[0]
    return placed


def finite_locals(local: F64, notes: list[Note]) -> F64:
    """Matrices that are not finite are replaced by the identity; of those that are not affine the last row is left out."""
    good = np.isfinite(local).all(axis=(1, 2)) & (np.abs(local).max(axis=(1, 2), initial=0) < 1e12)
    bent = good & beyond_affine(local)
    for odd, text in (
        (~good, "The transform is not finite, or goes beyond 1e+12; the node stands at its parent's origin now."),
        (bent, LEFT_OUT),
    ):
        rows = np.flatnonzero(odd).tolist()
        notes += [Note("damaged", "import.transform", f"nodes[{i}]", text, (i,)) for i in rows[:MANY]]
        if len(rows) > MANY:
            notes.append(Note("damaged", "import.transform", "nodes", f"{len(rows) - MANY} more of the kind: {text}"))
    local[~good] = np.eye(4)
    return affine(local)


def without_cycles(parent: I32, notes: list[Note]) -> I32:
    """Every node that is its own ancestor becomes a root."""
    stuck = np.flatnonzero(depths(parent) < 0)
    if not len(stuck):
        return parent
    jump = parent.copy()
    reached = stuck
    for _ in range(len(parent).bit_length() + 1):
        jump_next = np.where(jump >= 0, jump[np.maximum(jump, 0)], -1)
        jump = jump_next.astype(np.int32)
    on_cycle = np.unique(jump[reached])
    parent = parent.copy()
    parent[on_cycle[on_cycle >= 0]] = -1
    shown = ", ".join(map(str, on_cycle[:5].tolist()))
    notes.append(
        Note(
            "damaged",
            "import.cycle",
            "nodes",
            f"{plural(len(on_cycle), 'node is its', 'nodes are their')} own {'ancestor' if len(on_cycle) == 1 else 'ancestors'} ({shown}) and now at the top.",
            tuple(on_cycle[:MANY].tolist()),
        )
    )
    return without_cycles(parent, notes) if (depths(parent) < 0).any() else parent


def in_range(values: I64, count: int, what: str, notes: list[Note]) -> I32:
    bad = np.flatnonzero((values < -1) | (values >= count))
    told: dict[str, int] = {}
    for i in bad.tolist():
        text = f"Refers to {what} {int(values[i])} of {count}; it has none now."
        tell(notes, told, Note("damaged", "import.damaged", f"nodes[{i}].{what}", text, (i,)))
    tell_rest(notes, told, "nodes")
    out = values.copy()
    out[bad] = -1
    return out.astype(np.int32)


def without_places(extras: dict[int, Any], notes: list[Note]) -> dict[int, Any]:
    """Data of nodes without where an earlier package had their lightmaps: those pages are laid anew, or are none."""
    held = [i for i, said in extras.items() if isinstance(said, dict) and PAGE_KEY in said]
    if not held:
        return extras
    text = f"Where {plural(len(held), 'part')} had {'its lightmap' if len(held) == 1 else 'their lightmaps'} on shared pages stays behind."
    notes.append(Note("behind", "import.lightmap-places", f"nodes[{held[0]}]", text))
    left = {i: {k: v for k, v in extras[i].items() if k != PAGE_KEY} for i in held}
    return {i: left.get(i, said) for i, said in extras.items() if i not in left or left[i]}


def scatter(entry: dict[str, Any], where: str, accessors: Accessors, limits: Limits, notes: list[Note]) -> F64:
    """(K, 4, 4) transforms of EXT_mesh_gpu_instancing."""
    attributes = get_object(entry, "attributes", where)
    found = {
        k: accessors.floats(attributes[k], where, w).astype(np.float64)
        for k, w in (("TRANSLATION", 3), ("ROTATION", 4), ("SCALE", 3))
        if k in attributes
    }
    count = {len(v) for v in found.values()}
    if len(count) != 1:
        raise Damage("the instance attributes are missing or differ in length", where=where)
    (k,) = count
    if k > limits.nodes:
        raise TooLarge(f"there are {k} instances, more than {limits.nodes}", where=where)
    others = sorted(set(attributes) - set(found))
    if others:
        notes.append(
            Note(
                "behind",
                "import.instance-attributes",
                where,
                f"The instance attributes {', '.join(others)[:100]} stay behind.",
            )
        )
    rotation = np.tile((0.0, 0.0, 0.0, 1.0), (k, 1))
    out = compose(
        found.get("TRANSLATION", np.zeros((k, 3))), found.get("ROTATION", rotation), found.get("SCALE", np.ones((k, 3)))
    )
    if not np.isfinite(out).all():
        raise Damage("the instance transforms are not all finite", where=where)
    return out


def expand(nodes: Nodes, scatters: list[tuple[int, F64]], notes: list[Note]) -> Nodes:
    """Scatter nodes keep their place in the tree; their instances become children that share the mesh."""
    total = sum(len(t) for _, t in scatters)
    owner = np.concatenate([np.full(len(t), i, np.int32) for i, t in scatters])
    names = [f"{nodes.names[i] or 'instance'}_{k}" for i, t in scatters for k in range(len(t))]
    none = np.full(total, -1, np.int32)
    mesh, flags = nodes.mesh.copy(), nodes.flags.copy()
    copies = mesh[owner]
    for i, t in scatters:
        mesh[i] = -1
        flags[i] |= SCATTER
        notes.append(
            Note(
                "converted",
                "import.scatter",
                f"nodes[{i}]",
                f"A scatter of {plural(len(t), 'copy', 'copies')} became {plural(len(t), 'instance')} of one mesh.",
                (i,),
            )
        )
    hidden = (flags[owner] & HIDDEN).astype(np.uint8)
    return Nodes(
        parent=np.concatenate([nodes.parent, owner]),
        local=np.concatenate([nodes.local, *(t for _, t in scatters)]),
        mesh=np.concatenate([mesh, copies]),
        light=np.concatenate([nodes.light, none]),
        camera=np.concatenate([nodes.camera, none]),
        skin=np.concatenate([nodes.skin, none]),
        flags=np.concatenate([flags, hidden]),
        layer=np.concatenate([nodes.layer, none]),
        source=np.arange(len(nodes) + total, dtype=np.int64),
        names=(*nodes.names, *names),
        extras=nodes.extras,
        rest=nodes.rest,
    )


def read_roots(document: dict[str, Any], count: int, notes: list[Note]) -> tuple[tuple[Root, ...], int]:
    """Scenes of the file and the index of the default one."""
    roots = []
    for i, entry in enumerate(as_list(document.get("scenes", []), "scenes")):
        where = f"scenes[{i}]"
        try:
            scene = as_object(entry, where)
            listed = []
            for value in get_list(scene, "nodes", where):
                try:
                    listed.append(as_int(value, f"{where}.nodes", 0, count - 1))
                except Damage as damage:
                    notes.append(
                        Note("damaged", "import.damaged", where, f"A root was left out, because {damage.sentence()}.")
                    )
            roots.append(Root(tuple(dict.fromkeys(listed)), get_text(scene, "name", where), scene.get("extras")))
        except Damage as damage:
            notes.append(Note("damaged", "import.damaged", where, f"Left out, because {damage.sentence()}."))
            roots.append(Root(()))
    try:
        default = get_int(document, "scene", "document", 0, 0, max(0, len(roots) - 1))
    except Damage as damage:
        notes.append(
            Note("damaged", "import.damaged", "scene", f"The first scene is shown, because {damage.sentence()}.")
        )
        default = 0
    return tuple(roots), default


def outside_scenes(nodes: Nodes, roots: tuple[Root, ...], notes: list[Note]) -> Nodes:
    """Nodes that no scene of the file contains are switched off, as the standard draws only scenes."""
    if not roots or not len(nodes):
        return nodes
    inside = np.zeros(len(nodes), np.bool_)
    inside[[n for r in roots for n in r.nodes]] = True
    outside = ~nodes.under(inside)
    if not outside.any():
        return nodes
    notes.append(
        Note(
            "behind",
            "import.outside-scenes",
            "scenes",
            f"{plural(int(outside.sum()), 'node belongs', 'nodes belong')} to no scene of the file and {'is' if outside.sum() == 1 else 'are'} switched off.",
            tuple(np.flatnonzero(outside)[:MANY].tolist()),
        )
    )
    flags = np.where(outside, nodes.flags | HIDDEN, nodes.flags).astype(np.uint8)
    return Nodes(
        nodes.parent,
        nodes.local,
        nodes.mesh,
        nodes.light,
        nodes.camera,
        nodes.skin,
        flags,
        nodes.layer,
        nodes.source,
        nodes.names,
        nodes.extras,
        nodes.rest,
    )
