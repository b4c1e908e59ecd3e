"""Machines: limits, motion as a controller executes it, times."""
