"""Packages whose documents are bent in one place, at random: whatever it is, it is told or refused in our words."""

from __future__ import annotations

import copy
import random
import shutil
import struct
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lxml import etree
from pxr import Sdf, Tf

from tests.harden.arrivals import UNITS, sources
from tests.loose import said_of
from tests.planted import GltfFile
from tidy_caravan.core.carry import carry
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.packing.pack import save

FORMATS = ("gltf", "glb", "dae", "usda", "usdc", "obj", "stl")
EACH = 10
"""Places that are bent in copies of one package."""


@dataclass
class Outcome:
    """quiet: bent where it makes no difference, such as the name of an author. faults: errors that are not ours."""

    tried: int = 0
    told: int = 0
    quiet: list[str] = field(default_factory=list)
    faults: list[str] = field(default_factory=list)


def try_bent(count: int, seed: int = 1, tell: Callable[[str], None] = lambda text: None) -> Outcome:
    out = Outcome()
    rng = random.Random(seed)
    known = list(sources())
    while out.tried < count:
        name, make = rng.choice(known)
        fmt, to = rng.choice(FORMATS), rng.choice(BUILT_IN)
        scene = make()
        with tempfile.TemporaryDirectory() as whole:
            clean = Path(whole) / "clean"
            package, result, *_ = carry(scene, "scene", "0" * 64, to, UNITS, fmt)  # type: ignore[arg-type]
            save(package.files, clean)
            for k in range(min(EACH, count - out.tried)):
                folder = Path(whole) / str(k)
                shutil.copytree(clean, folder)
                where = f"{name}, {fmt}: {bend(folder, rng)}"
                out.tried += 1
                try:
                    said = said_of(folder, scene, result)
                except Exception as error:  # anything but our own words is a fault
                    out.faults.append(f"{where}: {type(error).__name__} {error}")
                    tell(out.faults[-1])
                    continue
                out.told += bool(said)
                if not said:
                    out.quiet.append(where)
        tell(f"{out.tried} of {count} bent, {out.told} told, {len(out.faults)} faults")
    return out


def leaves(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], str]]:
    """Every place in a JSON document with each way in which it can be bent."""
    if isinstance(value, dict):
        for key, below in value.items():
            yield (*path, key), "gone"
            yield from leaves(below, (*path, key))
    elif isinstance(value, list):
        for k, below in enumerate(value):
            if isinstance(below, dict | list):
                yield (*path, k), "gone"
            yield from leaves(below, (*path, k))
    else:
        yield path, "other"
        yield path, "nothing"


def bent(document: Any, path: tuple[Any, ...], how: str, rng: random.Random) -> Any:
    """A copy with one place bent."""
    out = copy.deepcopy(document)
    at = out
    for key in path[:-1]:
        at = at[key]
    was = at[path[-1]]
    if how == "gone":
        del at[path[-1]]
    elif how == "nothing":
        at[path[-1]] = None
    elif isinstance(was, bool):
        at[path[-1]] = not was
    elif isinstance(was, int):
        at[path[-1]] = rng.choice([was + 1, 0, -1, 10**6])
    elif isinstance(was, float):
        at[path[-1]] = rng.choice([was * 1.3 + 0.1, -was, 1e30, struct.unpack("<f", b"\0\0\x80\x3f")[0]])
    else:
        at[path[-1]] = f"{was}x"
    return out


def bend(folder: Path, rng: random.Random) -> str:
    """Bends the document of a package in one place, whatever its format; which and how."""
    endings = {".gltf": bend_json, ".glb": bend_json, ".dae": bend_xml, ".usda": bend_layer, ".usdc": bend_layer}
    file = next(p for p in sorted(folder.iterdir()) if p.suffix in (*endings, ".obj", ".stl"))
    try:
        return endings.get(file.suffix, bend_lines)(file, rng)
    except (KeyError, TypeError, IndexError, Tf.ErrorException):
        return "left as it was"  # what there is of it cannot be written


def bend_json(path: Path, rng: random.Random) -> str:
    file = GltfFile(path.parent)
    where, how = rng.choice(list(leaves(file.json)))
    file.json = bent(file.json, where, how, rng)
    file.save()
    return f"{how} {'/'.join(map(str, where))}"


def other(text: str, rng: random.Random) -> str:
    """Another number for a number, another word for a word."""
    try:
        return rng.choice([f"{float(text) * 1.3 + 0.1:g}", "0", "-1", "1e30", "nan"])
    except ValueError:
        return f"{text}x"


def bend_xml(path: Path, rng: random.Random) -> str:
    tree = etree.parse(str(path))
    element = rng.choice([e for e in tree.getroot().iter() if e.getparent() is not None])
    ways = ["gone", *(["attribute"] if element.attrib else []), *(["text"] if (element.text or "").split() else [])]
    how = rng.choice(ways)
    if how == "gone":
        element.getparent().remove(element)
    elif how == "attribute":
        key = rng.choice(sorted(element.attrib))
        element.set(key, other(element.get(key), rng))
    else:
        words = element.text.split()
        k = rng.randrange(len(words))
        words[k] = other(words[k], rng)
        element.text = " ".join(words)
    tree.write(str(path))
    return f"{how} {etree.QName(element).localname}"


def bend_lines(path: Path, rng: random.Random) -> str:
    lines = path.read_text().split("\n")
    k = rng.randrange(len(lines))
    words = lines[k].split(" ")
    if rng.random() < 0.3:
        was = lines.pop(k)
    else:
        was = lines[k]
        at = rng.randrange(len(words))
        words[at] = other(words[at], rng)
        lines[k] = " ".join(words)
    path.write_text("\n".join(lines))
    return f"{was[:40]} {k}"


def bend_layer(path: Path, rng: random.Random) -> str:
    layer = Sdf.Layer.FindOrOpen(str(path))
    there: list[Any] = []
    layer.Traverse("/", there.append)
    specs = [s for p in there if p != Sdf.Path("/") and (s := layer.GetObjectAtPath(p)) is not None]
    spec = rng.choice(specs)
    said = str(spec.path)
    keys = list(spec.ListInfoKeys())
    if rng.random() < 0.3 or not keys:
        edit = Sdf.BatchNamespaceEdit()
        edit.Add(spec.path, Sdf.Path.emptyPath)
        layer.Apply(edit)
    else:
        key = rng.choice(keys)
        value = spec.GetInfo(key)
        said += f" {key}"
        if isinstance(value, bool):
            spec.SetInfo(key, not value)
        elif isinstance(value, int | float):
            spec.SetInfo(key, type(value)(value * 2 + 1))
        elif isinstance(value, str):
            spec.SetInfo(key, f"{value}x")
        else:
            spec.ClearInfo(key)
    layer.Save()
    return said
