"""What the process has loaded that worker processes are forked from: they would load it for three seconds each."""

from __future__ import annotations

from tidy_caravan.core.loading import loading

with loading():
    import distributed
    import scipy.sparse.csgraph
    import scipy.spatial
    import shapely

    import tidy_caravan.server.jobs.tasks

__all__ = ["distributed", "scipy", "shapely", "tidy_caravan"]
