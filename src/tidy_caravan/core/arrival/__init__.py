"""Stand-in receivers and the comparison of what arrived with what left."""
