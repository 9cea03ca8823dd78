"""Mutated files of every format: whatever the damage, reading ends in a scene or in one sentence, and it ends."""

from __future__ import annotations

import io
import random
import time
import zipfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np

from tests.core.test_ifc import Model, at
from tests.support import read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.formats import Limits, bundles_from_files, write
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.survey import survey

LONGEST = 120.0
"""Seconds that one small file may take."""
WORDS = [
    b"0",
    b"-1",
    b"1e999",
    b"nan",
    b"4294967295",
    b"99999999999999999999",
    b"",
    b'"',
    b"\0",
    b"\xff\xfe",
    b"../",
    b"<",
    b"}",
    b"#",
]


@lru_cache(maxsize=1)
def samples() -> dict[str, dict[str, bytes]]:
    """Small sound files, one set per format."""
    scene = read(trimesh_scene(3, 6).export(file_type="glb"))
    out: dict[str, dict[str, bytes]] = {}
    for kind in ("glb", "gltf", "obj", "ply", "stl", "dae", "usda", "usdc", "usdz"):
        out[kind] = dict(write(scene, kind, "sound").files)
    model = Model()
    storey = model.storey("Ground", 0)
    for k in range(3):
        model.element(f"wall {k}", storey, at(2 * k, 0, 0), model.block())
    out["ifc"] = {"sound.ifc": model.bytes()}
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in out["obj"].items():
            archive.writestr(name, data)
    out["zip"] = {"sound.zip": packed.getvalue()}
    return out


def mutated(data: bytes, rng: random.Random) -> bytes:
    """One to a dozen changes: bits, bytes, words, runs taken out or repeated, an early end."""
    out = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 4, 12))):
        if not out:
            break
        at_ = rng.randrange(len(out))
        match rng.randrange(7):
            case 0:
                out[at_] ^= 1 << rng.randrange(8)
            case 1:
                out[at_] = rng.randrange(256)
            case 2:
                del out[at_ : at_ + rng.choice((1, 4, 64, 1024))]
            case 3:
                out[at_:at_] = out[at_ : at_ + rng.choice((1, 8, 256))]
            case 4:
                word = rng.choice(WORDS)
                out[at_ : at_ + len(word)] = word
            case 5:
                # a number of the text becomes another one
                digits = [k for k in range(at_, min(at_ + 200, len(out))) if 48 <= out[k] <= 57]
                if digits:
                    out[digits[0] : digits[0] + 1] = rng.choice(WORDS)
            case _:
                if rng.random() < 0.3:
                    del out[at_:]
    return bytes(out)


@dataclass
class Outcome:
    """faults: what no user may see. slowest: seconds of the slowest file."""

    read: Counter[str] = field(default_factory=Counter)
    refused: Counter[str] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)
    hung: list[str] = field(default_factory=list)
    slowest: float = 0.0

    @property
    def files(self) -> int:
        return sum(self.read.values()) + sum(self.refused.values()) + len(self.faults)


def mutations(count: int, seed: int, kinds: tuple[str, ...] = ()) -> Iterator[tuple[str, int, dict[str, bytes]]]:
    """(format, number, files) in turn over all formats."""
    chosen = {k: v for k, v in samples().items() if not kinds or k in kinds}
    for k in range(count):
        kind = list(chosen)[k % len(chosen)]
        rng = random.Random(seed * 1_000_003 + k)
        files = dict(chosen[kind])
        victim = rng.choice([n for n in files if not n.endswith(".png")])
        files[victim] = mutated(files[victim], rng)
        yield kind, k, files


def try_files(count: int, seed: int = 1, kinds: tuple[str, ...] = (), tell: Any = None) -> Outcome:
    """Reads and surveys that many mutated files."""
    out = Outcome()
    limits = Limits(upload_bytes=64 << 20)
    for kind, number, files in mutations(count, seed, kinds):
        began = time.monotonic()
        try:
            with np.errstate(all="ignore"):
                survey(load_all(bundles_from_files(files, limits)), BUILT_IN[0])
            out.read[kind] += 1
        except CaravanError as error:
            out.refused[kind] += 1
            if not error.what or "Traceback" in error.sentence():
                out.faults.append(f"{kind} {number}: says nothing")
        except Exception as error:
            out.faults.append(f"{kind} {number}: {type(error).__name__}: {error}"[:300])
        took = time.monotonic() - began
        out.slowest = max(out.slowest, took)
        if took > LONGEST:
            out.hung.append(f"{kind} {number}: {took:.0f} s")
        if tell and number % 50 == 49:
            tell(f"{number + 1} files, {len(out.faults)} faults")
    return out
