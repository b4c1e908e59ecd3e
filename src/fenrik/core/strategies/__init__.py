"""Strategies: one file each, found by the registry. A frozen input in, a toolpath out."""
