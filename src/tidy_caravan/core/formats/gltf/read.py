"""Reads glTF 2.0, as .glb or .gltf with companions (Khronos specification 2.0.1).

A broken piece costs that piece and leaves a note; only a broken frame (header, JSON) is an error.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from tidy_caravan.core.errors import TooLarge, UnusableInput
from tidy_caravan.core.formats.gltf import look as gltf_look
from tidy_caravan.core.formats.gltf import things as gltf_things
from tidy_caravan.core.formats.gltf.accessors import Accessors
from tidy_caravan.core.formats.gltf.document import open_document
from tidy_caravan.core.formats.gltf.meshes import read_mesh
from tidy_caravan.core.formats.gltf.nodes import read_nodes, read_roots
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.json_fields import Damage, as_list, as_object, get_object
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.scene import GLTF, Mesh, Note, Scene

SUPPORTED = {
    "KHR_lights_punctual",
    "KHR_texture_transform",
    "KHR_materials_unlit",
    "KHR_materials_emissive_strength",
    "KHR_node_visibility",
    "EXT_mesh_gpu_instancing",
    "KHR_mesh_quantization",
    "EXT_texture_webp",
    "KHR_draco_mesh_compression",
    "EXT_meshopt_compression",
}
PARTLY = {"KHR_texture_basisu"}
"""What only costs pictures, even where the file calls it required; each picture without another form is told."""
EXTENDED = ("materials", "nodes", "meshes", "textures", "images", "cameras", "scenes", "animations", "skins")
T = TypeVar("T")


def read(bundle: Bundle) -> Scene:
    """The whole file, all its scenes. Raises UnusableInput."""
    notes: list[Note] = []
    document, chunk = open_document(bundle, notes)
    check_extensions(document, bundle.main, notes)
    accessors = Accessors(document, bundle, chunk)

    def every(
        key: str,
        make: Callable[[dict[str, Any], str], T],
        placeholder: Callable[[], T],
        code: str = "import.damaged",
        parent: dict[str, Any] | None = None,
    ) -> tuple[T, ...]:
        """One result per entry; an unusable entry becomes a placeholder and a note."""
        out = []
        entries = (parent or document).get(key, [])
        if not isinstance(entries, list):
            notes.append(Note("damaged", code, key, f"“{key}” is not a list and was left out."))
            entries = []
        for i, entry in enumerate(entries):
            where = f"{key}[{i}]"
            try:
                out.append(make(as_object(entry, where), where))
            except TooLarge:
                raise
            except Damage as damage:
                notes.append(Note("damaged", code, where, f"Left out, because {damage.sentence()}."))
                out.append(placeholder())
        return tuple(out)

    fallbacks = gltf_look.fallback_images(document)
    images = every(
        "images",
        lambda e, w: gltf_look.read_image(e, w, accessors, bundle, notes, w in fallbacks),
        gltf_look.no_image,
    )
    samplers = every("samplers", gltf_look.read_sampler, gltf_look.no_sampler)
    textures = every("textures", lambda e, w: gltf_look.read_texture(e, w, len(images), samplers), gltf_look.no_texture)
    materials = every(
        "materials", lambda e, w: gltf_look.read_material(e, w, len(textures), notes), gltf_look.no_material
    )
    cameras = every("cameras", gltf_things.read_camera, gltf_things.no_camera)
    light_table: dict[str, Any] = {}
    try:
        light_table = get_object(get_object(document, "extensions", "document"), "KHR_lights_punctual", "extensions")
    except Damage as damage:
        notes.append(Note("damaged", "import.damaged", "extensions", f"Left out, because {damage.sentence()}."))
    lights = every("lights", gltf_things.read_light, gltf_things.no_light, parent=light_table or {"lights": []})
    try:
        meshes = every("meshes", lambda e, w: read_mesh(e, w, accessors, len(materials), notes), lambda: None)
    finally:
        accessors.close()
    unique, mesh_of = share(meshes)
    raw_nodes = document.get("nodes", [])
    if not isinstance(raw_nodes, list):
        raise UnusableInput("“nodes” is not a list; export the file again", where=bundle.main)
    if len(raw_nodes) > bundle.limits.nodes:
        raise TooLarge(f"there are {len(raw_nodes)} nodes, more than {bundle.limits.nodes}", where=bundle.main)
    try:
        roots, default = read_roots(document, len(raw_nodes), notes)
    except Damage as damage:
        raise UnusableInput(damage.sentence(), where=bundle.main) from damage
    skin_count = len(as_list(document.get("skins", []), "skins")) if isinstance(document.get("skins", []), list) else 0
    nodes = read_nodes(
        raw_nodes, mesh_of, len(lights), len(cameras), skin_count, roots, accessors, bundle.limits, notes
    )
    unique, nodes = gltf_things.with_own_weights(unique, nodes, raw_nodes, notes)
    skins = every("skins", lambda e, w: gltf_things.read_skin(e, w, accessors, len(raw_nodes)), gltf_things.no_skin)
    clips = every(
        "animations", lambda e, w: gltf_things.read_clip(e, w, accessors, len(raw_nodes), notes), gltf_things.no_clip
    )
    clips = gltf_things.that_can_move(clips, nodes, notes)
    nodes = gltf_things.keep_rest_pose(nodes, raw_nodes, clips)
    images, textures = gltf_look.without_fallbacks(images, textures, fallbacks)
    extras = {k: document[k] for k in ("extras",) if k in document}
    asset = document.get("asset")
    if isinstance(asset, dict):
        extras["asset"] = {k: v for k, v in asset.items() if k in ("copyright", "extras")}
    travels = Travels()
    travels.from_notes(notes)
    travels.behind("data of what things are made of", data_within(document), "only things themselves keep theirs")
    scene = Scene(
        convention=GLTF,
        nodes=nodes,
        meshes=unique,
        materials=materials,
        textures=textures,
        images=images,
        lights=lights,
        cameras=cameras,
        skins=skins,
        clips=clips,
        roots=roots,
        default_root=default,
        notes=tuple(notes),
        extras=extras,
        format="gltf",
    )
    return travels.onto(scene)


def check_extensions(document: dict[str, Any], name: str, notes: list[Note]) -> None:
    """Raises UnusableInput for required extensions nobody knows; optional ones become notes."""

    def listed(key: str) -> list[str]:
        value = document.get(key, [])
        if not isinstance(value, list) or not all(isinstance(v, str) for v in value):
            notes.append(Note("damaged", "import.damaged", key, f"“{key}” is not a list of names and was ignored."))
            return []
        return value

    required = [e for e in listed("extensionsRequired") if e not in SUPPORTED | PARTLY]
    if required:
        names = ", ".join(sorted(set(required)))[:200]
        raise UnusableInput(f"the file requires {names}, which cannot be read here; export it without", where=name)
    declared = set(listed("extensionsUsed"))
    for extension in sorted((declared | set(extensions_met(document))) - SUPPORTED - PARTLY):
        notes.append(
            Note(
                "behind",
                "import.extension",
                extension[:200],
                f"The optional extension {extension[:200]} is not known here; its data stays behind."
                + ("" if extension in declared else " The file does not declare it."),
            )
        )


def extensions_met(document: dict[str, Any]) -> Iterator[str]:
    """Names of extensions of the document, of its things and of primitives, whether or not they are declared."""
    for holder in (document, *entries(document, EXTENDED), *within(document, ("meshes", "primitives"))):
        held = holder.get("extensions")
        if held and isinstance(held, dict):
            yield from held


def data_within(document: dict[str, Any]) -> int:
    """How many objects have data that no thing here can hold: primitives, channels, buffers and their like."""
    punctual = extension(document, "KHR_lights_punctual")
    placed = sum(
        extension(n, "KHR_lights_punctual").get("extras") not in (None, {}) for n in entries(document, ("nodes",))
    )
    holders = [
        *entries(document, ("accessors", "bufferViews", "buffers")),
        *within(document, ("meshes", "primitives")), *within(document, ("animations", "channels")),
        *within(document, ("animations", "samplers")),
        *(c.get(str(c.get("type"))) for c in entries(document, ("cameras",))),
        *(m.get("pbrMetallicRoughness") for m in entries(document, ("materials",))),
        *(light.get("spot") for light in entries(punctual, ("lights",))),
    ]  # fmt: skip
    return placed + sum(isinstance(h, dict) and h.get("extras") not in (None, {}) for h in holders)


def extension(holder: dict[str, Any], name: str) -> dict[str, Any]:
    """What an object says by an extension; nothing where it does not."""
    held = holder.get("extensions")
    found = held.get(name) if isinstance(held, dict) else None
    return found if isinstance(found, dict) else {}


def entries(document: dict[str, Any], tables: tuple[str, ...]) -> Iterator[dict[str, Any]]:
    for table in tables:
        rows = document.get(table)
        if isinstance(rows, list):
            yield from (row for row in rows if isinstance(row, dict))


def within(document: dict[str, Any], path: tuple[str, str]) -> Iterator[dict[str, Any]]:
    """Objects in a list of each entry of a table."""
    table, key = path
    for entry in entries(document, (table,)):
        yield from entries(entry, (key,))


def share(meshes: tuple[Mesh | None, ...]) -> tuple[tuple[Mesh, ...], list[int]]:
    """Unique meshes by content, and for every file mesh its index among them (-1 for none)."""
    index: dict[str, int] = {}
    unique: list[Mesh] = []
    where = []
    for mesh in meshes:
        if mesh is None:
            where.append(-1)
            continue
        if mesh.id not in index:
            index[mesh.id] = len(unique)
            unique.append(mesh)
        where.append(index[mesh.id])
    return tuple(unique), where
