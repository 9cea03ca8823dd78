"""Lightmap UV sets: unwrap, pack and verify."""
