"""What destinations expect, and what a source most likely meant: units, axes, handedness."""
