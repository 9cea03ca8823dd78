"""HTTP routes, one module per resource."""
