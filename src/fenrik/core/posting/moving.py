"""An operation on which the tool's axis moves, as its machine is told: poses, joints, coordinates."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.moves import Motion, Moves

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

    def coordinates(self, on: OnMachine, length: float) -> Floats:
        """What is written (n, 3): the tip's place, or that of the linear joints from the work offset."""
        return self.tips if self.point else self.words(on, length)

    def words(self, on: OnMachine, length: float) -> Floats:
        """Coordinates (n, 3) of the work offset at every pose."""
        work = self.tips @ on.work_from_setup[:3, :3].T + on.work_from_setup[:3, 3]
        return on.words(on.machine.joint_values(work, self.angles, length), length)

    def moves(self, on: OnMachine, length: float, came: Floats) -> Moves:
        """The way to the first pose, from above it with Z at its upper end, and the moves from pose to pose,
        in the coordinates that are written; `came` (3,) is where the tool was, in those of the work
        offset."""
        words = self.words(on, length)[0]
        over = np.array([words[0], words[1], on.home(length)])
        frame = on.frame(self.angles[0], length)
        above = frame.setup_from_rows[:3, :3] @ over + frame.setup_from_rows[:3, 3] if self.point else over
        written = self.coordinates(on, length)
        tip = np.vstack([over, written])
        begin = np.vstack([[came[0], came[1], over[2]], above, written[:-1]])
        none = np.zeros(len(tip), dtype=np.int8)
        kind = np.concatenate([[Motion.RAPID, Motion.RAPID], self.kind[1:]]).astype(np.int8)
        feed = np.concatenate([[0.0, 0.0], self.feed[1:]])
        side = np.ones(len(tip), dtype=np.int32)
        side[0] = 0
        centre = np.full((len(tip), 2), np.nan)
        return Moves(tip, kind, none, none, centre, feed, side=side, begin=begin)


def block_feed(feed: float, tip_way: float, written_way: float, inverse: bool) -> float:
    """The feed of a block in which the tip goes `tip_way` mm at `feed` mm/min: a minute along the
    `written_way` mm, or one over minutes."""
    return feed / tip_way if inverse else feed * written_way / tip_way
