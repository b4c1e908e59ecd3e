"""Engraved lines in the proof: the model shows the face, the program cuts a groove into it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

from fenrik.core.motion.notes import Engraved, Note

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class EngravingZone:
    """A groove along lines in plan view, mm: `depth` at the line, and beside it what the tool's underside,
    its `heights` (k,) over its tip at `radii` (k,), leaves of that."""

    lines: BaseGeometry
    depth: float
    radii: Floats
    heights: Floats

    def corrected(self, points: Floats, distance: Floats) -> Floats:
        """Signed deviations (n,) of points (n, 3): what is cut into the design (negative) no deeper than the
        groove is on size, what is cut deeper is counted from the groove."""
        near = np.flatnonzero((distance < 0) & (distance > -2.0 * self.depth))
        if not len(near):
            return distance
        shapely.prepare(self.lines)
        places = np.asarray(shapely.points(points[near, :2]))
        widest = float(np.interp(self.depth, self.heights, self.radii))
        within = shapely.dwithin(self.lines, places, widest + 0.05)
        near, places = near[within], places[within]
        beside = np.asarray(shapely.distance(self.lines, places))
        deep = np.maximum(0.0, self.depth - np.interp(beside, self.radii, self.heights))
        out = distance.copy()
        out[near] = np.minimum(0.0, distance[near] + deep)
        return out


def zones_of(notes: Iterable[Note]) -> list[EngravingZone]:
    """The zones that strategies noted."""
    return [
        EngravingZone(
            shapely.union_all([shapely.linestrings(c) for c in n.lines]),
            n.depth,
            np.array(n.radii),
            np.array(n.heights),
        )
        for n in notes
        if isinstance(n, Engraved)
    ]
