"""All checks over a scene; importing this package registers them."""

from __future__ import annotations

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey import reading, structure, surfaces, units
from tidy_caravan.core.survey.base import Finding, Severity, known_checks

RANK: dict[Severity, int] = {"error": 0, "warning": 1, "info": 2}


def survey(scene: Scene, destination: Destination) -> list[Finding]:
    """Findings of all checks, worst first. Checks never change anything."""
    found = [f for entry in known_checks().values() for f in entry.run(scene, destination)]
    return sorted(found, key=lambda f: (RANK[f.severity], -f.count, f.code))


__all__ = ["Finding", "known_checks", "reading", "structure", "surfaces", "survey", "units"]
