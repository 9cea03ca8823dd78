"""Benchmarks as ratios against a library or a floor, measured in one run."""
