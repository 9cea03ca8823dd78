"""What the shell's commands do and print, one module for those that belong together; each is brought in when it is asked for."""

import argparse
import importlib
from collections.abc import Callable

MODULES = {
    "survey": "survey",
    "shapes": "survey",
    "propose": "carry",
    "carry": "carry",
    "arrive": "carry",
    "price": "prices",
    "light": "light",
    "bake": "light",
    "destinations": "destinations",
    "yardstick": "destinations",
}
"""By command, where its `run_…` is."""


def command_named(name: str) -> Callable[[argparse.Namespace], int]:
    """What runs a command with what was read from its line, and gives the exit code; it raises CaravanError."""
    found: Callable[[argparse.Namespace], int] = getattr(
        importlib.import_module(f"{__name__}.{MODULES[name]}"), f"run_{name}"
    )
    return found
