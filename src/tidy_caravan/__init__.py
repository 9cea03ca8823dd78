"""Tidy Caravan: whole scenes carried into real-time engines, and proven on arrival."""

__version__ = "0.1.0"
