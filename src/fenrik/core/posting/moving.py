"""An operation on which the tool's axis moves, as its machine is told: poses, joints, coordinates."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.moves import Moves

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class MovingPoses:
    """Poses of a step in its setup's frame: `tips` mm and `axes` (n, 3), the rotary `angles` (n, r) degrees
    as they are written, `kind` (n,) of Motion and the tip's `feed` (n,) mm/min on the way to each. `point`
    says that the control keeps the tool's point, `inverse` that the feed is written as one over minutes."""

    tips: Floats
    axes: Floats
    angles: Floats
    kind: NDArray[np.int8]
    feed: Floats
    point: bool
    inverse: bool

    @property
    def poses(self) -> Floats:
        """Tips and axes (n, 6)."""
        return np.hstack([self.tips, self.axes])

    def words(self, on: OnMachine, length: float) -> Floats:
        """Coordinates (n, 3) of the work offset at every pose."""
        return on.words(on.joints_at(self.tips, self.angles, length), length)

    def moves(self, on: OnMachine, length: float, came: Floats) -> Moves:
        """The way to the first pose, from above it with Z at its upper end, and the moves from pose to pose,
        in the coordinates that are written: the tip's places, or those of the work offset. `came` (3,) is
        where the tool was, in those of the work offset."""
        words = self.words(on, length)
        written = self.tips if self.point else words
        over = np.array([[*words[0, :2], on.home(length)]])
        above = apply(on.frame(self.angles[0], length).setup_from_rows, over) if self.point else over
        came = np.array([[*came[:2], over[0, 2]]])
        way = Moves.straight(np.vstack([over, written]))
        rest = slice(2, None)  # the way to the first pose is at rapid
        way.kind[rest], way.feed[rest] = self.kind[1:], self.feed[1:]
        side = (np.arange(len(way)) > 0).astype(np.int32)
        return replace(way, side=side, begin=np.vstack([came, above, written[:-1]]))


def block_feed(feed: float, tip_way: float, written_way: float, inverse: bool) -> float:
    """The feed of a block in which the tip goes `tip_way` mm at `feed` mm/min: a minute along the
    `written_way` mm, or one over minutes."""
    return feed / tip_way if inverse else feed * written_way / tip_way
