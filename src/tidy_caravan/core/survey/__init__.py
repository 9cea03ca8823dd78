"""All checks over a scene; importing this package registers them."""

import importlib
import pkgutil

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey.base import Finding, Severity, known_checks

RANK: dict[Severity, int] = {"error": 0, "warning": 1, "info": 2}


def survey(scene: Scene, destination: Destination) -> list[Finding]:
    """Findings of all checks, worst first. Checks never change anything."""
    scene = at_rest(scene)
    found = [f for entry in known_checks().values() for f in entry.run(scene, destination)]
    return sorted(found, key=lambda f: (RANK[f.severity], -f.count, f.code))


for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")

__all__ = ["Finding", "known_checks", "survey"]
