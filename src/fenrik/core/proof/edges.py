"""Broken edges in the proof: the model shows a sharp edge, the program cuts a chamfer of so much into it."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

from fenrik.core.motion.notes import EdgeBroken, Note

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class EdgeZone:
    """A chamfer along lines in plan view under the height `top`, setup frame mm: `width` seen from above,
    `height` from the side."""

    lines: BaseGeometry
    top: float
    width: float
    height: float

    def corrected(self, points: Floats, distance: Floats) -> Floats:
        """Signed deviations (n,) of points (n, 3): what is cut into the design (negative) down to the
        chamfer's plane is on size, what is cut deeper is counted from that plane."""
        depth = self.top - points[:, 2]
        near = np.flatnonzero((distance < 0) & (depth >= -1e-3) & (depth <= 1.5 * self.height))
        if not len(near):
            return distance
        inset = np.asarray(shapely.distance(self.lines, shapely.points(points[near, :2])))
        mine = inset <= 1.5 * self.width
        near, inset = near[mine], inset[mine]
        beyond = (inset / self.width + depth[near] / self.height - 1.0) * (
            self.width * self.height / math.hypot(self.width, self.height)
        )
        out = distance.copy()
        out[near] = np.maximum(distance[near], -np.maximum(0.0, beyond))
        return out


def zones_of(notes: Iterable[Note]) -> list[EdgeZone]:
    """The zones that strategies noted."""
    return [
        EdgeZone(shapely.union_all([shapely.linestrings(c) for c in n.lines]), n.top, n.width, n.height)
        for n in notes
        if isinstance(n, EdgeBroken)
    ]
