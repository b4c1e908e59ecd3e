"""Threads in the proof: the model shows a bore or a boss, the program cuts a groove into it, as deep as the
thread says."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion.notes import Note, ThreadCut

Floats = NDArray[np.float64]
BEYOND = 0.5
"""Share of a thread's depth by which a groove may be too deep and still be told as that thread's."""


@dataclass(frozen=True)
class ThreadZone:
    """Where a thread's groove may be, setup frame mm: about the axis at x, y between heights low and high and
    radii inner and outer; `internal` ones are cut outward from a bore."""

    x: float
    y: float
    low: float
    high: float
    inner: float
    outer: float
    internal: bool

    def corrected(self, points: Floats, distance: Floats) -> Floats:
        """Signed deviations (n,) of points (n, 3): what is cut into the design (negative) within the zone is
        on size, and what is cut beyond it is counted from its border."""
        away = np.hypot(points[:, 0] - self.x, points[:, 1] - self.y)
        slack = BEYOND * (self.outer - self.inner)
        mine = (distance < 0) & (points[:, 2] >= self.low) & (points[:, 2] <= self.high)
        mine &= (away >= self.inner - slack) & (away <= self.outer + slack)
        beyond = away - self.outer if self.internal else self.inner - away
        return np.where(mine, np.maximum(distance, -np.maximum(0.0, beyond)), distance)


def zones_of(notes: Iterable[Note]) -> list[ThreadZone]:
    """The zones that strategies noted."""
    return [
        ThreadZone(*n.axis, n.low, n.high, n.inner, n.outer, n.internal)
        for n in notes
        if isinstance(n, ThreadCut)
    ]
