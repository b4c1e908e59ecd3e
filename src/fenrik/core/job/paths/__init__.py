"""Toolpaths of operations, each kept under its inputs' hash, and the planning stock before each."""
