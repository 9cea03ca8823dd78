"""Tests of the interface."""
