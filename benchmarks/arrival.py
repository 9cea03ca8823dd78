"""Proving the arrival of 100,000 parts, against what its receiver needs to read the package."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from benchmarks.reading import large_file
from benchmarks.timing import in_turn
from tidy_caravan.core.carry import package_of, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.formats.registry import receive
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run

ROUTE = Route.model_validate({"steps": [{"kind": "match_units_axes"}]})


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    source, to = load(bundle_from_files({"x.glb": large_file()})), BUILT_IN[2]
    result, records = run(source, ROUTE, to)
    package = package_of(result, source, "x", "0" * 64, to, ROUTE, "glb", records, [])
    save(package.files, folder)
    assert prove(folder, source, result)[0].ok

    def proof() -> object:
        # as a worker does it: scenes that were just loaded, nothing computed for them yet
        return prove(folder, replace(source), replace(result))

    took = in_turn({"receive": lambda: receive(folder / "scene.glb", to, "glb"), "prove": proof}, rounds=3)
    return [("proving 100,000 parts / reading their package", took["prove"] / took["receive"], "≤", 3.0)]
