"""Heavy work on the cluster, and what it tells while it runs."""
