"""Tests of the server."""
