"""The web application over the core: FastAPI, PostgreSQL, content-addressed store, job cluster."""
