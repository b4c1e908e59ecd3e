"""Where lines along one direction cross a mesh."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features import _column_kernels as k
from fenrik.core.frames import rotation_up
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]


class Columns:
    """A mesh seen along a direction (3,): its third coordinate runs along it, the first two square to it."""

    def __init__(self, mesh: TriangleMesh, direction: Floats) -> None:
        self.turn = rotation_up((float(direction[0]), float(direction[1]), float(direction[2])))
        corners = (mesh.vertices @ self.turn.T)[mesh.triangles]
        a, b = corners[:, 1, :2] - corners[:, 0, :2], corners[:, 2, :2] - corners[:, 0, :2]
        area = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
        self.corners, self.area = corners[np.abs(area) > 1e-12], area[np.abs(area) > 1e-12]
        self.low, self.high = self.corners[:, :, :2].min(axis=1), self.corners[:, :, :2].max(axis=1)

    def seen(self, points: Floats) -> Floats:
        """Points (n, 3) of the part frame as this sees them."""
        return np.asarray(points @ self.turn.T)

    def crossings(self, centre: Floats, radii: list[float], count: int = 12) -> list[Floats]:
        """Heights at which lines cross the mesh, ascending, one array per line: `count` lines on each circle
        about centre (2,)."""
        # an odd angle, so that lines do not run along the seams of round faces
        angle = 0.1234 + 2 * np.pi * np.arange(count) / count
        circle = np.column_stack([np.cos(angle), np.sin(angle)])
        points = np.concatenate([centre + r * circle for r in radii])
        line, height = k.cross(self.corners, self.area, self.low, self.high, points)
        order = np.lexsort((height, line))
        first = np.searchsorted(line[order], np.arange(1, len(points)))
        return np.split(height[order], first)
