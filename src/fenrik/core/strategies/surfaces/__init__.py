"""Strategies that follow surfaces to their size."""
