"""Route steps, one module per family; importing this package registers them all."""

import importlib
import pkgutil

from tidy_caravan.core.steps.base import Change, Step, StepContext, Where, known_steps, parse_step

for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")

__all__ = [
    "Change",
    "Step",
    "StepContext",
    "Where",
    "known_steps",
    "parse_step",
]
