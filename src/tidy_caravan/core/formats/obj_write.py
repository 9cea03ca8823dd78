"""Writes OBJ with MTL: every part placed in the world under its own name.

The format holds neither tree nor sharing nor pivots nor a second UV set; remarks say what was lost.
"""

from __future__ import annotations

import io

import numpy as np

from tidy_caravan.core.formats.gltf_write import Written, picture_path
from tidy_caravan.core.formats.placed import placed_parts
from tidy_caravan.core.formats.registry import writer
from tidy_caravan.core.scene import Material, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F64, AnyArray


@writer("obj", "OBJ with MTL; no tree, no sharing, one UV set", flat=True, uv_sets=1)
def write_obj(scene: Scene, name: str, instancing: bool = False) -> Written:
    """`name`.obj, `name`.mtl and a folder of textures; positions with 9 significant digits."""
    out = Written({}, node_index=list(range(len(scene.nodes))))
    pictures: dict[str, bytes] = {}
    material_names = unique_names([m.name or f"material_{i}" for i, m in enumerate(scene.materials)])
    part_names = unique_names([scene.nodes.names[i] or f"part_{i}" for i in scene.nodes.parts.tolist()])
    text = io.StringIO()
    text.write(f"# Tidy Caravan\nmtllib {name}.mtl\n")
    base = np.ones(3, np.int64)
    for part, placed in zip(part_names, placed_parts(scene), strict=True):
        mesh = placed.mesh
        text.write(f"o {part}\n")
        rows(text, "v", placed.positions)
        counts = [mesh.vertices, 0, 0]
        if mesh.uvs:
            uv = mesh.uvs[0].astype(np.float64)
            rows(text, "vt", np.column_stack([uv[:, 0], 1.0 - uv[:, 1]]))
            counts[1] = mesh.vertices
        if placed.normals is not None:
            rows(text, "vn", placed.normals)
            counts[2] = mesh.vertices
        for slot in mesh.slots:
            if slot >= 0:
                text.write(f"usemtl {material_names[slot]}\n")
            write_faces(text, placed.faces[mesh.material == slot].astype(np.int64), base, counts)
        base += counts
    for remark in (
        "tree",
        "sharing of meshes",
        "pivots and rotations",
        "UV sets after the first",
        "lights, cameras, skins and clips",
    ):
        out.remarks.append(f"OBJ cannot hold: {remark}.")
    out.files[f"{name}.obj"] = text.getvalue().encode()
    out.files[f"{name}.mtl"] = write_materials(scene, material_names, pictures).encode()
    out.files |= pictures
    return out


def rows(text: io.StringIO, word: str, values: F64) -> None:
    form = f"{word} " + " ".join(["%.9g"] * values.shape[1]) + "\n"
    text.write((form * len(values)) % tuple((values + 0.0).ravel().tolist()))


def write_faces(text: io.StringIO, faces: AnyArray, base: AnyArray, counts: list[int]) -> None:
    has_uv, has_normal = counts[1] > 0, counts[2] > 0
    columns = [faces + base[0]]
    corner = "%d"
    if has_uv:
        columns.append(faces + base[1])
        corner += "/%d"
    if has_normal:
        columns.append(faces + base[2])
        corner += "/%d" if has_uv else "//%d"
    table = np.stack(columns, axis=2).reshape(len(faces), -1)
    form = f"f {corner} {corner} {corner}\n"
    text.write((form * len(faces)) % tuple(table.ravel().tolist()))


def unique_names(names: list[str]) -> list[str]:
    """Names without blanks or control characters, made unique by a number."""
    out: list[str] = []
    taken: set[str] = set()
    count: dict[str, int] = {}
    for name in names:
        clean = "".join("_" if c.isspace() or not c.isprintable() or c in "#\\" else c for c in name) or "_"
        result = clean
        while result in taken:
            count[clean] = count.get(clean, 0) + 1
            result = f"{clean}_{count[clean]}"
        taken.add(result)
        out.append(result)
    return out


def write_materials(scene: Scene, names: list[str], pictures: dict[str, bytes]) -> str:
    out = io.StringIO()
    paths: dict[int, str] = {}

    def path(use: TextureUse | None) -> str | None:
        image = scene.textures[use.texture].image if use else -1
        if image < 0 or scene.images[image].data is None:
            return None
        if image not in paths:
            picture = scene.images[image]
            paths[image] = picture_path(picture.name or picture.uri, image, picture.mime, pictures)
            pictures[paths[image]] = picture.data or b""
        return paths[image]

    def one(name: str, m: Material) -> None:
        r, g, b, a = m.base_color
        out.write(f"newmtl {name}\nKd {r:.9g} {g:.9g} {b:.9g}\nd {a:.9g}\nPr {m.roughness:.9g}\nPm {m.metallic:.9g}\n")
        if m.emissive != (0.0, 0.0, 0.0):
            out.write("Ke {:.9g} {:.9g} {:.9g}\n".format(*m.emissive))
        for key, use in (("map_Kd", m.base_color_texture), ("norm", m.normal_texture), ("map_Ke", m.emissive_texture)):
            found = path(use)
            if found:
                out.write(f"{key} {found}\n")

    for name, material in zip(names, scene.materials, strict=True):
        one(name, material)
    return out.getvalue()
