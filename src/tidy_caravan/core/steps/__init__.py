"""Route steps, one module per family; importing this package registers them."""

from tidy_caravan.core.steps import match_units, mend_geometry, names_and_tree, texture_coordinates
from tidy_caravan.core.steps.base import Change, MeshCache, Step, StepContext, Where, known_steps, parse_step

__all__ = [
    "Change",
    "MeshCache",
    "Step",
    "StepContext",
    "Where",
    "known_steps",
    "match_units",
    "mend_geometry",
    "names_and_tree",
    "parse_step",
    "texture_coordinates",
]
