"""Fenrik turns solid models into proved milling programs."""

__version__ = "0.1.0"
