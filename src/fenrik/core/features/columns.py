"""Where lines along one direction cross a mesh."""

from __future__ import annotations

from copy import copy

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import rotation_up
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]


class Columns:
    """A mesh seen along a direction (3,): its third coordinate runs along it, the first two square to it."""

    def __init__(self, mesh: TriangleMesh, direction: Floats) -> None:
        self.turn = rotation_up((float(direction[0]), float(direction[1]), float(direction[2])))
        corners = (mesh.vertices @ self.turn.T)[mesh.triangles]
        area = _cross(corners[:, 1, :2] - corners[:, 0, :2], corners[:, 2, :2] - corners[:, 0, :2])
        self.corners, self.area = corners[np.abs(area) > 1e-12], area[np.abs(area) > 1e-12]
        self.low, self.high = self.corners[:, :, :2].min(axis=1), self.corners[:, :, :2].max(axis=1)

    def seen(self, points: Floats) -> Floats:
        """Points (n, 3) of the part frame as this sees them."""
        return np.asarray(points @ self.turn.T)

    def crossings(self, centre: Floats, radii: list[float], count: int = 12) -> list[Floats]:
        """Heights at which lines cross the mesh, ascending, one array per line: `count` lines on each circle about
        centre (2,)."""
        near = self.around(centre, max(radii))
        # an odd angle, so that lines do not run along the seams of round faces
        angle = 0.1234 + 2 * np.pi * np.arange(count) / count
        circle = np.column_stack([np.cos(angle), np.sin(angle)])
        points = np.concatenate([centre + r * circle for r in radii])
        # all lines and all triangles at once: (lines, triangles, 2)
        a, b, c = (near.corners[None, :, k, :2] - points[:, None] for k in range(3))
        wa, wb, wc = _cross(b, c) / near.area, _cross(c, a) / near.area, _cross(a, b) / near.area
        hit = (wa >= 0) & (wb >= 0) & (wc >= 0)
        z = wa * near.corners[:, 0, 2] + wb * near.corners[:, 1, 2] + wc * near.corners[:, 2, 2]
        return [np.sort(row[mine]) for row, mine in zip(z, hit, strict=True)]

    def around(self, centre: Floats, reach: float) -> Columns:
        """The part of the mesh that lines near a place (2,) can cross."""
        near = (
            (self.low[:, 0] <= centre[0] + reach)
            & (self.high[:, 0] >= centre[0] - reach)
            & (self.low[:, 1] <= centre[1] + reach)
            & (self.high[:, 1] >= centre[1] - reach)
        )
        out = copy(self)
        out.corners, out.area = self.corners[near], self.area[near]
        out.low, out.high = self.low[near], self.high[near]
        return out


def _cross(a: Floats, b: Floats) -> Floats:
    return np.asarray(a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0])
