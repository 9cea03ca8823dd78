"""Code around native format libraries; it runs in child processes only (geometry/isolation.py)."""
