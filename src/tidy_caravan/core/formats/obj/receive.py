"""Stand-in receiver of OBJ through trimesh."""

from __future__ import annotations

import dataclasses
import io
import re
from pathlib import Path

import numpy as np
from trimesh.exchange.obj import load_obj

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.received import DOUBTS, OPACITY_IMAGE, Gallery, received_scene
from tidy_caravan.core.formats.shared.receiving import beside
from tidy_caravan.core.pace import Tell, nobody, paced
from tidy_caravan.core.scene import Material, Mesh, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray

NUMBER = re.compile(r"[^/ ]+")


def receive_obj(file: Path, destination: Destination, fmt: FormatName, tell: Tell = nobody) -> Scene:
    """OBJ through trimesh, one object at a time so that its vertices stay apart from the others'."""
    text = file.read_text(encoding="utf-8")
    names: list[str] = []
    meshes: list[Mesh] = []
    materials: dict[str, int] = {}
    seen = np.zeros(3, np.int64)
    used = ""  # a material stays in force until the next one, from object to object
    for block in paced(text.split("\no ")[1:], tell):
        name, _, body = block.partition("\n")
        sorts: dict[str, list[str]] = {}
        slots: list[int] = []
        for line in body.splitlines():
            word, _, rest = line.partition(" ")
            if word == "usemtl":
                used = rest
            else:
                sorts.setdefault(word, []).append(rest)
                if word == "f":
                    slots.append(materials.setdefault(used, len(materials)) if used else -1)
        here = seen.copy()
        seen += [len(sorts.get(word, ())) for word in ("v", "vt", "vn")]
        if not slots:
            continue
        table = corners_of(sorts["f"])
        own = table[:, 0] - here[0]
        plain = "\n".join(["v " + x for x in sorts.get("v", ())]) + "\nf %d %d %d" * len(slots) % tuple(own.tolist())
        # the library's reader itself: what makes a mesh of its answer takes four times as long for a small part
        loaded = load_obj(io.StringIO(plain), maintain_order=True)["geometry"]["geometry"]
        # corner by corner: trimesh does not take the normals of faces without coordinates
        corner = np.asarray(loaded["faces"], np.int64).ravel()
        upwards = taken(rows_of(sorts.get("vt", []))[:, :2], table[:, 1], int(here[1]))
        uvs = () if upwards is None else (np.column_stack([upwards[:, 0], 1.0 - upwards[:, 1]]).astype(np.float32),)
        normals = taken(rows_of(sorts.get("vn", []))[:, :3], table[:, 2], int(here[2]))
        # red, green and blue behind a position: a usual addition that the library leaves aside
        tints = rows_of(sorts.get("v", []))[:, 3:6]
        colors = taken(tints, table[:, 0], int(here[0])) if tints.shape[1] == 3 else None
        meshes.append(
            Mesh(
                np.asarray(loaded["vertices"], np.float64)[corner],  # type: ignore[arg-type]
                np.arange(len(corner), dtype=np.uint32).reshape(-1, 3),
                np.array(slots, np.int32),
                None if normals is None else normals.astype(np.float32),
                uvs=uvs,
                colors=() if colors is None else (colors.astype(np.float32),),
                name=name,
            )
        )
        names.append(name)
    gallery = Gallery()
    library = [line[7:].strip() for line in text.splitlines() if line.startswith("mtllib ")]
    doubts: list[str] = []
    known = looks_of(file, library, gallery, doubts)
    scene = received_scene(destination, fmt, names, meshes, [known.get(n, Material(n)) for n in materials], gallery)
    return scene.but(extras={DOUBTS: doubts})


def corners_of(faces: list[str]) -> I64:
    """(3F, 3) numbers of point, coordinates and normal at the corners of triangles, 0 where there is none.

    Raises UnusableInput for what is no triangle or no number.
    """
    text = " ".join(faces)
    corners = text.split()
    table = np.zeros((len(corners), 3), np.int64)
    if len(corners) != 3 * len(faces):
        raise UnusableInput("the package holds a face that is not a triangle", where=faces[0][:120])
    try:
        kind = NUMBER.sub("", corners[0])
        if len(kind) <= 2 and NUMBER.sub("", text).split(" ") == [kind] * len(corners):
            numbers = np.array(text.replace("//", "/0/").replace("/", " ").split(), np.int64)
            table[:, : len(kind) + 1] = numbers.reshape(len(corners), -1)
        else:  # faces of several kinds beside each other
            for row, corner in zip(table, corners, strict=True):
                given = [int(v) if v else 0 for v in corner.split("/")]
                row[: len(given)] = given
    except ValueError as error:
        raise UnusableInput("the package holds a corner that is not a number", where=faces[0][:120]) from error
    return table


def rows_of(lines: list[str]) -> F64:
    """(N, K) numbers of lines, (N, 0) where they do not hold the same number of them."""
    words = " ".join(lines).split()
    each = len(words) // max(1, len(lines))
    if each * len(lines) != len(words) or any(line.count(" ") != each - 1 for line in lines):
        return np.zeros((len(lines), 0))
    return np.array(words, np.float64).reshape(len(lines), each)


def taken(values: F64, numbers: AnyArray, before: int) -> F64 | None:
    """(C, K) values by corner, or None when no corner names one."""
    if not values.size or not (numbers > 0).all():
        return None
    out: F64 = values[numbers - before - 1]
    return out


def looks_of(file: Path, libraries: list[str], gallery: Gallery, doubts: list[str]) -> dict[str, Material]:
    """Materials by name, from the libraries that an OBJ names."""
    out: dict[str, Material] = {}
    for library in libraries:
        try:
            text = beside(file, library).decode("utf-8")
        except OSError as error:
            raise UnusableInput("the material library is not there", where=library[:120]) from error
        for block in ("\n" + text).split("\nnewmtl ")[1:]:
            name, _, body = block.partition("\n")
            out[name] = look_of(
                name, [line.split() for line in body.splitlines() if line.strip()], file, gallery, doubts
            )
    return out


def image_of(gallery: Gallery, use: TextureUse) -> bytes | None:
    return gallery.images[gallery.textures[use.texture].image].data


def look_of(name: str, lines: list[list[str]], file: Path, gallery: Gallery, doubts: list[str]) -> Material:
    words = {line[0]: line[1:] for line in lines}
    pictures: dict[tuple[str, str], TextureUse] = {}
    bump = 1.0
    for line in lines:
        if not (line[0].startswith("map_") or line[0] == "norm"):
            continue
        rest, flavour = line[1:], ""
        while rest and rest[0].startswith("-"):
            if rest[0] == "-bm":
                bump = float(rest[1])
            else:
                flavour = rest[1]
            rest = rest[2:]
        try:
            data = beside(file, " ".join(rest))
        except OSError:
            data = None
        pictures[line[0], flavour] = TextureUse(gallery.add(data))

    def numbers(key: str, default: tuple[float, ...]) -> tuple[float, ...]:
        return tuple(float(x) for x in words[key]) if key in words else default

    red, green, blue = numbers("Kd", (0.8, 0.8, 0.8))
    glow = numbers("Ke", (0.0, 0.0, 0.0))
    opacity = numbers("d", (1.0,))[0]
    normal = pictures.get(("norm", ""))
    base, clear = pictures.get(("map_Kd", "")), pictures.get(("map_d", "m"))
    if clear is not None and (base is None or image_of(gallery, base) != image_of(gallery, clear)):
        doubts.append(f"the opacity of material “{name}” is read from another image than its colour")
    return Material(
        name,
        (red, green, blue, opacity),
        numbers("Pm", (0.0,))[0],
        numbers("Pr", (0.5,))[0],
        (glow[0], glow[1], glow[2]),
        base_color_texture=base,
        metallic_roughness_texture=pictures.get(("map_Pr", "g")) or pictures.get(("map_Pm", "b")),
        normal_texture=None if normal is None else dataclasses.replace(normal, strength=bump),
        emissive_texture=pictures.get(("map_Ke", "")),
        alpha_mode="BLEND",
        extras={OPACITY_IMAGE: ("map_d", "m") in pictures},
        unlit=words.get("illum", ["2"])[0] == "0",
    )
