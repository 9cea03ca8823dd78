"""Packages whose documents are bent in one place, at random: whatever it is, it is told or refused in our words."""

from __future__ import annotations

import random
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from tests.harden.arrivals import UNITS, sources
from tests.loose import bend, said_of
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
