"""Solids: reading, checking, faces and edges, tessellation, measuring. Part frame, mm."""
