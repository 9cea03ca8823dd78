"""Axes, units, matrices and colours: what converts a scene from one convention to another."""
