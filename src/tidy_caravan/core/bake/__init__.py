"""The preview bake: light on every texel of the lightmaps, traced, noisy within seconds and better with every pass."""
