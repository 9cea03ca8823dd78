"""Route steps, one module per family; importing this package registers them all."""

import importlib
import pkgutil
from typing import TYPE_CHECKING

from tidy_caravan.core.steps.base import (
    Change,
    OneOfSteps,
    Step,
    StepContext,
    UnknownStep,
    Where,
    known_steps,
    parse_step,
)

for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")

if TYPE_CHECKING:
    AnyStep = Step
else:
    AnyStep = OneOfSteps

__all__ = [
    "AnyStep",
    "Change",
    "Step",
    "StepContext",
    "UnknownStep",
    "Where",
    "known_steps",
    "parse_step",
]
