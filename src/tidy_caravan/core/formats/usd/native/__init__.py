"""Runs in child processes only: it imports usd-core."""
