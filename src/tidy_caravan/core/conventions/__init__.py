"""Units, axes, handedness and destinations."""
