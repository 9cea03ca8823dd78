"""Instances that got lost on the way: meshes that are one shape in several places, and how each is laid on the other."""
