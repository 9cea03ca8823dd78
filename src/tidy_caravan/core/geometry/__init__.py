"""Numerics shared by survey, steps and lightmaps."""
