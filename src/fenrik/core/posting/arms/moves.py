"""What an arm is told in one step of a program."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from fenrik.core.frames import invert, transform
from fenrik.core.machines.machine import Machine
from fenrik.core.motion.moves import Motion

Floats = NDArray[np.float64]
POINTED = np.diag([1.0, -1.0, -1.0])
"""From the directions of a tool mount, whose Z points to the spindle, to those of a tool frame, whose Z
points out of it (ISO 9787)."""


@dataclass(frozen=True)
class ArmMoves:
    """Moves of one step. Where `by_joints` (n,) all joints go evenly to `joints` (n, k) degrees; else the tip
    goes straight to `tips` (n, 3), the tool mount turns evenly to `frames` (n, 3, 3), both in the setup
    frame, and the table evenly to `table` (n,) degrees. `kind` (n,) of Motion and `feed` (n,) mm/min of the
    tip belong to the way to each, after which the tool stands for `dwell` (n,) s."""

    tips: Floats
    frames: Floats
    table: Floats
    joints: Floats
    by_joints: NDArray[np.bool_]
    kind: NDArray[np.int8]
    feed: Floats
    dwell: Floats

    @staticmethod
    def joined(parts: Sequence[ArmMoves]) -> ArmMoves:
        """Moves one after the other."""
        return ArmMoves(*(np.concatenate([getattr(p, f.name) for p in parts]) for f in fields(ArmMoves)))

    def rows(self, chosen: NDArray[np.int64]) -> ArmMoves:
        """Some of the moves."""
        return ArmMoves(*(getattr(self, f.name)[chosen] for f in fields(ArmMoves)))

    def __len__(self) -> int:
        return len(self.tips)

    @property
    def rapid(self) -> NDArray[np.bool_]:
        """Moves (n,) as quick as the cell can."""
        return np.asarray(self.kind == Motion.RAPID)


def tool_frame(machine: Machine, length: float) -> Floats:
    """The tool frame (4, 4) of a tool `length` mm long in the mechanical interface of an arm: its origin at
    the tip, Z out of the spindle (ISO 9787)."""
    tip = transform(POINTED, np.array([0.0, 0.0, -length]))
    return np.asarray(invert(machine.interface) @ machine.chain.tool @ tip)


def turned_between(before: Floats, after: Floats, share: float) -> Floats:
    """Rotations (m, 3, 3) at a share of an even turn about one axis from `before` to `after` (m, 3, 3), the
    shortest way."""
    first = Rotation.from_matrix(before)
    turn = (first.inv() * Rotation.from_matrix(after)).as_rotvec()
    return np.asarray((first * Rotation.from_rotvec(share * turn)).as_matrix())


def turn_deg(before: Floats, after: Floats) -> Floats:
    """By how many degrees (m,) rotations (m, 3, 3) differ."""
    turn = Rotation.from_matrix(before).inv() * Rotation.from_matrix(after)
    return np.asarray(np.degrees(turn.magnitude()))
