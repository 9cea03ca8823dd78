"""Heavy work: native code kept apart in child processes, and work per mesh that spreads."""
