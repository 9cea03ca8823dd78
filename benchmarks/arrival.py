"""Proving the arrival of 100,000 parts, and of 20,000 of which no two are alike, against what its receiver needs to read the
package."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from benchmarks.large import scene
from benchmarks.reading import large_file
from benchmarks.timing import in_turn
from tidy_caravan.core.carry import package_of, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.formats.registry import receive
from tidy_caravan.core.loading import seldom
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import Scene

ROUTE = Route.model_validate({"steps": [{"kind": "match_units_axes"}]})


DIFFERENT = 20_000
"""Parts with a mesh of their own each, as a source has them that lost its instances."""


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    seldom()  # as in every worker
    whole = proven(folder / "alike", load(bundle_from_files({"x.glb": large_file()})))
    apart = proven(folder / "different", scene(DIFFERENT))
    return [
        ("proving 100,000 parts / reading their package", whole, "≤", 3.0),
        (f"proving {DIFFERENT:,} parts of as many meshes / reading their package", apart, "≤", 3.0),
    ]


def proven(folder: Path, source: Scene) -> float:
    """Time of the proof by that of its receiver alone."""
    to = BUILT_IN[2]
    folder.mkdir()
    result, records = run(source, ROUTE, to)
    package = package_of(result, source, "x", "0" * 64, to, ROUTE, "glb", records, [])
    save(package.files, folder)
    assert prove(folder, source, result)[0].ok

    def proof() -> object:
        # as a worker does it: scenes that were just loaded, nothing computed for them yet
        return prove(folder, replace(source), replace(result))

    took = in_turn({"receive": lambda: receive(folder / "scene.glb", to, "glb"), "prove": proof}, rounds=3)
    print(f"     arrival   read in {took['receive']:.1f} s, proven in {took['prove']:.1f} s", flush=True)
    return took["prove"] / took["receive"]
