"""Poses that a machine is told so that what it drives between them stays with the planned motion.

A control goes evenly from one position of the rotary joints to the next, and either keeps the tip on the
straight line meanwhile or lets the linear joints go evenly, too. The planned tip goes straight and the axis
turns evenly, so that both part between two poses, by a distance that falls with the square of the interval:
intervals are divided until it is within the tolerance.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.machines.inverse import rotaries
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.moves import turned_evenly
from fenrik.core.motion.table import in_parts

Floats = NDArray[np.float64]
MOST_POSES = 400_000
ROUNDS = 24
HALVINGS = 24
CHOICE_DEG, LEAST_DEG = 15.0, 0.002
"""How far a joint turns between two directions among which positions are chosen, unless these are as near to
each other."""
LOOKED_AT = (0.25, 0.5, 0.75)


@dataclass(frozen=True)
class Followed:
    """Poses for a machine: tips and axes (m, 3) in the setup frame, rotary `angles` (m, r) degrees, and the
    planned pose (m,) each belongs to, those before it included."""

    tips: Floats
    axes: Floats
    angles: Floats
    owner: NDArray[np.int64]


@dataclass(frozen=True)
class Driving:
    """How a control drives: the place `on` its machine, a tool's `length` mm, whether it keeps the tool's
    `point`, and how far up the tool, `reach` mm, it matters where it goes."""

    on: OnMachine
    length: float
    point: bool
    reach: float

    def driven(self, tips: Floats, angles: Floats, share: float) -> tuple[Floats, Floats]:
        """Tip and axis (m - 1, 3) that are driven at a share of the way between poses (m,)."""
        middle = angles[:-1] + share * (angles[1:] - angles[:-1])
        on = self.on
        if self.point:
            return tips[:-1] + share * (tips[1:] - tips[:-1]), self.leans(middle)
        joints = on.joints_at(tips, angles, self.length)
        return on.tips(joints[:-1] + share * (joints[1:] - joints[:-1]), self.length)

    def leans(self, angles: Floats) -> Floats:
        """The tool's axis (m, 3) at rotary angles (m, r)."""
        return self.on.tips(self.on.joints(np.zeros((len(angles), 3)), angles, 0.0), 0.0)[1]

    def departures(self, tips: Floats, axes: Floats, angles: Floats, cutting: NDArray[np.bool_]) -> Floats:
        """How far mm (m - 1,) the driven motion departs from the planned one between poses (m,): the tip, and
        where the tool is `cutting` (m,) all of its reach."""
        out = np.zeros(len(tips) - 1)
        for share in LOOKED_AT:
            tip, axis = self.driven(tips, angles, share)
            at = np.full(len(out), share)
            off = tip - (tips[:-1] + share * (tips[1:] - tips[:-1]))
            lean = axis - turned_evenly(axes[:-1], axes[1:], at)
            for reach in (0.0, self.reach):
                here = np.where(cutting[1:], reach, 0.0)[:, None]
                out = np.maximum(out, np.linalg.norm(off + here * lean, axis=1))
        return out


def followed(
    how: Driving, tips: Floats, axes: Floats, angles: Floats, tolerance: Floats, cutting: NDArray[np.bool_]
) -> Followed:
    """Poses (n, 3), in the setup frame, and rotary angles (n, r) divided until the control stays within
    `tolerance` (n,) mm of the planned motion on the way to each. Where the tool is not `cutting` (n,) its tip
    keeps to its way, and its axis goes as the rotary joints take it.

    Raises ComputeError where that takes more poses than can be.
    """
    owner = np.arange(len(tips))
    for _ in range(ROUNDS):
        off = how.departures(tips, axes, angles, cutting[owner])
        counts = np.ceil(np.sqrt(off / tolerance[owner[1:]]) - 1e-9).clip(1, 8).astype(np.int64)
        if counts.max(initial=1) == 1:
            return Followed(tips, axes, angles, owner)
        tips, axes, angles, owner = _divided(how, tips, axes, angles, (owner, cutting[owner]), counts)
        if len(tips) > MOST_POSES:
            break
    joints = ", ".join(j.letter or j.name for j in how.on.machine.rotary)
    raise ComputeError(
        f"The tool's axis passes so near the direction of a rotary joint ({joints}) of "
        f"'{how.on.machine.name}' that no number of poses keeps the tolerance.",
        remedy="Turn the part on the table, or give a coarser tolerance.",
    )


def for_choice(
    machine: Machine, axes: Floats, cutting: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], Floats]:
    """Directions (n, 3), in the work mount's frame, divided for the choice of rotary positions: where the
    tool is `cutting` (n,) on the way to one, so that no joint turns by more than some degrees from one to the
    next. The row (m,) on whose way each lies, and the share of it."""
    rows, share = np.arange(len(axes)), np.ones(len(axes))
    if len(axes) < 2 or not machine.rotary:
        return rows, share
    for _ in range(HALVINGS):
        dense = turned_evenly(axes[np.maximum(rows - 1, 0)], axes[rows], share)
        angles = rotaries(machine.chain, dense).angles[:, 0]
        turn = np.abs((np.diff(angles, axis=0) + 180.0) % 360.0 - 180.0).max(axis=1, initial=0.0)
        lean = np.degrees(np.linalg.norm(np.diff(dense, axis=0), axis=1))
        wide = cutting[rows[1:]] & (turn > CHOICE_DEG) & (lean > LEAST_DEG)
        if not wide.any():
            break
        at = np.flatnonzero(wide) + 1
        begin = np.where(rows[at - 1] == rows[at], share[at - 1], 0.0)
        rows = np.insert(rows, at, rows[at])
        share = np.insert(share, at, 0.5 * (begin + share[at]))
    return rows, share


def _divided(
    how: Driving,
    tips: Floats,
    axes: Floats,
    angles: Floats,
    rows: tuple[NDArray[np.int64], NDArray[np.bool_]],
    counts: NDArray[np.int64],
) -> tuple[Floats, Floats, Floats, NDArray[np.int64]]:
    """The poses with the intervals between them in so many parts (m - 1,); `rows` are the planned pose (m,)
    that each leads to, and whether the tool cuts on the way."""
    owner, cutting = rows
    row, number = in_parts(counts)
    share = (number + 1) / counts[row]
    new_tips = tips[row] + share[:, None] * (tips[row + 1] - tips[row])
    new_axes = turned_evenly(axes[row], axes[row + 1], share)
    guess = angles[row] + share[:, None] * (angles[row + 1] - angles[row])
    last = share == 1.0
    cuts = cutting[row + 1][:, None]
    nearest = nearest_angles(how.on.machine, how.on.axes_in_work(new_axes), guess)
    new_angles = np.where(cuts, nearest, guess)
    new_axes = np.where(cuts, new_axes, how.leans(guess))
    new_tips[last], new_axes[last], new_angles[last] = tips[1:], axes[1:], angles[1:]
    pairs = ((tips, new_tips), (axes, new_axes), (angles, new_angles))
    tips, axes, angles = (np.vstack([old[:1], new]) for old, new in pairs)
    return tips, axes, angles, np.concatenate([owner[:1], owner[row + 1]])


def nearest_angles(machine: Machine, axes: Floats, guess: Floats) -> Floats:
    """The rotary angles (m, r) degrees, of all in which the tool points along axes (m, 3) of the work mount's
    frame, that lie nearest to a guess (m, r)."""
    found = rotaries(machine.chain, axes)
    turns = found.angles - guess[:, None]
    angles = found.angles - 360.0 * np.round(turns / 360.0)
    free = found.free[..., None] & (np.arange(guess.shape[1]) == 0)
    angles = np.where(free, guess[:, None], angles)
    away = np.where(found.exists, np.abs(angles - guess[:, None]).max(axis=2, initial=0.0), np.inf)
    best = np.argmin(away, axis=1)
    return np.asarray(angles[np.arange(len(axes)), best])
