"""Writes OBJ with MTL: every part placed in the world under its own name.

The format holds neither tree nor sharing nor pivots nor a second UV set; remarks say what was lost.
"""

from __future__ import annotations

import io

import numpy as np

from tidy_caravan.core.formats.shared.images import portable
from tidy_caravan.core.formats.shared.placed import check_room, digits, placed_parts
from tidy_caravan.core.formats.shared.written import Written, changed_names, texture_path, unique_names
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Material, Mesh, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.words import plural

NO_MATERIAL = "none"
"""Stands where triangles without a material follow others."""


def write_obj(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """`name`.obj, `name`.mtl and a folder of textures; positions with 9 significant digits, more far out."""
    check_room(scene, "OBJ", size_of)
    out = Written({}, node_index=list(range(len(scene.nodes))))
    scene = portable(scene, out.rewritten)
    pictures: dict[str, bytes] = {}
    material_names = unique_names([m.name or f"material_{i}" for i, m in enumerate(scene.materials)])
    part_names = unique_names([scene.nodes.names[i] or f"part_{i}" for i in scene.nodes.parts.tolist()])
    out.renamed = changed_names(scene, part_names)
    out.materials = {m.name: n for m, n in zip(scene.materials, material_names, strict=True) if m.name and m.name != n}
    text = io.StringIO()
    text.write(f"# Tidy Caravan\nmtllib {name}.mtl\n")
    base = np.ones(3, np.int64)
    bare, bare_faces, in_force = unique_names([*material_names, NO_MATERIAL])[-1], 0, False
    for part, placed in zip(part_names, placed_parts(scene, tell), strict=True):
        mesh = placed.mesh
        text.write(f"o {part}\n")
        if mesh.colors:
            tinted_rows(text, placed.positions, np.clip(mesh.colors[0][:, :3], 0.0, 1.0).astype(np.float64))
        else:
            rows(text, "v", placed.positions, digits(placed.positions))
        layouts = layouts_of(mesh, scene)
        kinds = list(dict.fromkeys(layouts.values()))
        for layout in kinds:
            rows(text, "vt", laid_out(mesh, layout))
        counts = [mesh.vertices, mesh.vertices * len(kinds), 0]
        if placed.normals is not None:
            rows(text, "vn", placed.normals)
            counts[2] = mesh.vertices
        for slot in mesh.slots:
            if slot >= 0:
                text.write(f"usemtl {material_names[slot]}\n")
                in_force = True
            elif in_force:  # a material stays in force until another is named
                text.write(f"usemtl {bare}\n")
                bare_faces += int((mesh.material == slot).sum())
            shift = kinds.index(layouts[slot]) * mesh.vertices if slot in layouts else 0
            write_faces(text, placed.faces[mesh.material == slot].astype(np.int64), base, counts, shift)
        base += counts
    for what in (
        "tree",
        "sharing of meshes",
        "pivots and rotations",
        "UV sets after the first",
        "lights, cameras, skins and clips",
    ):
        out.lost(f"OBJ cannot hold: {what}.")
    for what in lost_looks(scene):
        out.lost(what)
    out.files[f"{name}.obj"] = text.getvalue().encode()
    library = write_materials(scene, material_names, pictures)
    if bare_faces:
        library += f"newmtl {bare}\nKd 1 1 1\nd 1\nPr 1\nPm 0\n"
        out.rewritten(
            f"{plural(bare_faces, 'triangle')} without a material carry “{bare}”: OBJ cannot take one off again."
        )
    out.files[f"{name}.mtl"] = library.encode()
    out.files |= pictures
    return out


def size_of(mesh: Mesh) -> int:
    """Bytes that a mesh takes as text, about."""
    corner = 7 * (1 + bool(mesh.uvs) + (mesh.normals is not None))
    return mesh.vertices * (34 + 20 * bool(mesh.uvs) + 34 * (mesh.normals is not None)) + mesh.triangles * 3 * corner


def rows(text: io.StringIO, word: str, values: F64, precision: int = 9) -> None:
    form = f"{word} " + " ".join([f"%.{precision}g"] * values.shape[1]) + "\n"
    text.write((form * len(values)) % tuple((values + 0.0).ravel().tolist()))


Layout = tuple[int, tuple[float, float], float, tuple[float, float]]
"""UV set, offset, rotation and scale by which a material reads its pictures."""
PLAIN: Layout = (0, (0.0, 0.0), 0.0, (1.0, 1.0))


def layout_of(use: TextureUse | None) -> Layout:
    if use is None:
        return PLAIN
    channel = use.channel if use.transform_channel is None else use.transform_channel
    return channel, use.offset, use.rotation, use.scale


def main_use(m: Material) -> TextureUse | None:
    """The picture by which a material's one set of coordinates is chosen."""
    return m.base_color_texture or next(iter(m.uses()), None)


def layouts_of(mesh: Mesh, scene: Scene) -> dict[int, Layout]:
    """Per slot how its faces read pictures; slots of a mesh without UV sets have none."""
    if not mesh.uvs:
        return {}
    out = {}
    for slot in mesh.slots:
        layout = layout_of(main_use(scene.materials[slot])) if slot >= 0 else PLAIN
        out[slot] = layout if layout[0] < len(mesh.uvs) else PLAIN
    return out


def laid_out(mesh: Mesh, layout: Layout) -> F64:
    """(V, 2) coordinates with the picture's offset, turn and scale written in (KHR_texture_transform), v upwards."""
    channel, offset, angle, scale = layout
    uv = mesh.uvs[channel].astype(np.float64)
    if layout[1:] != PLAIN[1:]:
        u, v = uv[:, 0] * scale[0], uv[:, 1] * scale[1]
        cos, sin = np.cos(angle), np.sin(angle)
        uv = np.column_stack([cos * u + sin * v + offset[0], -sin * u + cos * v + offset[1]])
    return np.column_stack([uv[:, 0], 1.0 - uv[:, 1]])


def lost_looks(scene: Scene) -> list[str]:
    """Sentences about what of the materials the format has no place for."""
    found = {
        "images of one material that are read from different UV sets or at different scales": [
            m for m in scene.materials if len({layout_of(u) for u in m.uses()}) > 1
        ],
        "cut-off values of alpha cut-outs": [m for m in scene.materials if m.alpha_mode == "MASK"],
        "occlusion images": [m for m in scene.materials if m.occlusion_texture],
        "two-sided materials": [m for m in scene.materials if m.double_sided],
        "how images repeat": [
            t
            for t in scene.textures
            if t.sampler is not None and (t.sampler.wrap_s, t.sampler.wrap_t) != (10497, 10497)
        ],
        "opacity of vertex colours, and further sets of them": [
            m for m in scene.meshes if len(m.colors) > 1 or (m.colors and (m.colors[0][:, 3] < 1).any())
        ],
    }
    return [f"OBJ cannot hold: {what}." for what, there in found.items() if there]


def tinted_rows(text: io.StringIO, positions: F64, colors: F64) -> None:
    """Positions followed by red, green and blue: a usual addition to the format."""
    form = "v " + " ".join([f"%.{digits(positions)}g"] * 3 + ["%.6g"] * 3) + "\n"
    text.write((form * len(positions)) % tuple(np.column_stack([positions + 0.0, colors]).ravel().tolist()))


def write_faces(text: io.StringIO, faces: AnyArray, base: AnyArray, counts: list[int], shift: int = 0) -> None:
    """shift: rows of coordinates to pass over, where the slots of a mesh read them differently."""
    has_uv, has_normal = counts[1] > 0, counts[2] > 0
    columns = [faces + base[0]]
    corner = "%d"
    if has_uv:
        columns.append(faces + base[1] + shift)
        corner += "/%d"
    if has_normal:
        columns.append(faces + base[2])
        corner += "/%d" if has_uv else "//%d"
    table = np.stack(columns, axis=2).reshape(len(faces), -1)
    form = f"f {corner} {corner} {corner}\n"
    text.write((form * len(faces)) % tuple(table.ravel().tolist()))


def write_materials(scene: Scene, names: list[str], pictures: dict[str, bytes]) -> str:
    out = io.StringIO()
    paths: dict[int, str] = {}

    def path(use: TextureUse | None) -> str | None:
        image = scene.textures[use.texture].image if use else -1
        if image < 0 or scene.images[image].data is None:
            return None
        if image not in paths:
            picture = scene.images[image]
            paths[image] = texture_path(picture.name or picture.uri, image, picture.mime, pictures)
            pictures[paths[image]] = picture.data or b""
        return paths[image]

    def one(name: str, m: Material) -> None:
        r, g, b, a = m.base_color
        a = 1.0 if m.alpha_mode == "OPAQUE" else a
        out.write(f"newmtl {name}\nKd {r:.9g} {g:.9g} {b:.9g}\nd {a:.9g}\nPr {m.roughness:.9g}\nPm {m.metallic:.9g}\n")
        if m.emissive != (0.0, 0.0, 0.0):
            out.write("Ke {:.9g} {:.9g} {:.9g}\n".format(*(c * m.emissive_strength for c in m.emissive)))
        if m.unlit:
            out.write("illum 0\n")
        strength = m.normal_texture.strength if m.normal_texture else 1.0
        clear = m.base_color_texture if m.alpha_mode != "OPAQUE" else None
        for key, use in (
            ("map_Kd", m.base_color_texture),
            ("map_d -imfchan m", clear),
            ("map_Pr -imfchan g", m.metallic_roughness_texture),
            ("map_Pm -imfchan b", m.metallic_roughness_texture),
            ("norm" if strength == 1 else f"norm -bm {strength:.9g}", m.normal_texture),
            ("map_Ke", m.emissive_texture),
        ):
            found = path(use)
            if found:
                out.write(f"{key} {found}\n")

    for name, material in zip(names, scene.materials, strict=True):
        one(name, material)
    return out.getvalue()
