"""Tests: core, server, and the real interface in a browser."""
