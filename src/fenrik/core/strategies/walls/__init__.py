"""Strategies that follow walls, their edges, slots, and lines."""
