"""Runs in child processes only: it imports ifcopenshell."""
