"""Parcels, names, manifest."""
