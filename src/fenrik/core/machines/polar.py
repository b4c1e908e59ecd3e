"""A lathe with a driven tool along its main spindle: a place of the face is reached by the distance X of the
tool from the spindle's axis and the angle C of the work, in place of X and Y.

Between two blocks all joints go evenly, so that the tip leaves the straight line; intervals are divided until
it stays within the tolerance. Nearer to the axis the work has to turn faster for the same feed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.frames import apply
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.table import in_parts

Floats = NDArray[np.float64]
ROUNDS, MOST_PLACES = 40, 400_000
AT_AXIS_MM = 1e-9
LOOKED_AT = (0.25, 0.5, 0.75)


@dataclass(frozen=True)
class Turned:
    """Places that a lathe is told: tips (m, 3) in the setup frame, the work's angles (m,) degrees, unwound,
    and the planned place (m,) that each leads to, those before it included."""

    tips: Floats
    angles: Floats
    owner: NDArray[np.int64]


def polar(on: OnMachine, tips: Floats) -> tuple[Floats, Floats]:
    """Distance from the spindle's axis (m,) mm and the angle of the work (m,) degrees, -180 to 180, with
    which tips (m, 3) of the setup frame lie before the tool."""
    x, y = _flat(on, tips)
    return np.hypot(x, y), -np.degrees(np.arctan2(y, x))


def _flat(on: OnMachine, tips: Floats) -> tuple[Floats, Floats]:
    """Places (m,) (m,) square to the spindle's axis with the work at zero: along X, and right-handed about
    the axis of C from there."""
    machine = on.machine
    chain = machine.chain
    c, x = machine.place("C"), machine.place("X")
    axis, along = -chain.axis[c], chain.axis[x]  # the work's own turn is the other way round in the chain
    places = apply(chain.work @ on.work_from_setup, tips) - chain.point[c]
    return places @ along, places @ np.cross(axis, along)


def unwound(on: OnMachine, tips: Floats, start: float) -> Floats:
    """Angles (m,) of the work for tips (m, 3), each over the shorter way from the one before, the first from
    `start` degrees; where a tip lies on the axis the work stays."""
    far, angle = polar(on, tips)
    out = np.empty(len(tips))
    here = start
    known = far > AT_AXIS_MM
    steps = np.concatenate([[start], angle])
    last = np.maximum.accumulate(np.where(np.concatenate([[True], known]), np.arange(len(steps)), 0))
    steps = steps[last]
    turn = np.diff(steps)
    out = here + np.cumsum(turn - 360.0 * np.round(turn / 360.0))
    return np.asarray(out)


def divided(on: OnMachine, tips: Floats, tolerance: Floats, start: float) -> Turned:
    """Places (n, 3) in the setup frame divided until the tip stays within `tolerance` (n,) mm of the straight
    way to each, the work from `start` degrees on. Raises ComputeError where that takes too many."""
    owner = np.arange(len(tips))
    for _ in range(ROUNDS):
        off = _departures(on, tips)
        counts = np.sqrt(off / tolerance[owner[1:]])
        parts = np.ceil(counts - 1e-9).clip(1, 8).astype(np.int64)
        if parts.max(initial=1) == 1:
            return Turned(tips, unwound(on, tips, start), owner)
        row, number = in_parts(parts)
        share = ((number + 1) / parts[row])[:, None]
        fresh = tips[row] + share * (tips[row + 1] - tips[row])
        fresh[share[:, 0] == 1.0] = tips[1:]
        tips = np.vstack([tips[:1], fresh])
        owner = np.concatenate([owner[:1], owner[1:][row]])
        if len(tips) > MOST_PLACES:
            break
    raise ComputeError(
        f"The tool passes so near the axis of C of '{on.machine.name}' that no number of blocks keeps the "
        "tolerance.",
        remedy="Keep the middle out, or give a coarser tolerance.",
    )


def _departures(on: OnMachine, tips: Floats) -> Floats:
    """How far (m - 1,) mm an even way of X and C leaves the straight line from tip to tip (m, 3)."""
    x, y = _flat(on, tips)
    far = np.hypot(x, y)
    angle = np.arctan2(y, x)
    turn = np.diff(angle)
    turn -= 2.0 * np.pi * np.round(turn / (2.0 * np.pi))
    turn[(far[:-1] <= AT_AXIS_MM) | (far[1:] <= AT_AXIS_MM)] = 0.0
    begin = np.where(far[:-1] <= AT_AXIS_MM, angle[1:], angle[:-1])
    out = np.zeros(len(tips) - 1)
    for share in LOOKED_AT:
        radius = far[:-1] + share * np.diff(far)
        here = begin + share * turn
        away_x = radius * np.cos(here) - (x[:-1] + share * np.diff(x))
        away_y = radius * np.sin(here) - (y[:-1] + share * np.diff(y))
        out = np.maximum(out, np.hypot(away_x, away_y))
    return out


def nearest_to_axis(on: OnMachine, tips: Floats) -> Floats:
    """How near (m - 1,) mm the straight ways between tips (m, 3) come to the spindle's axis."""
    x, y = _flat(on, tips)
    dx, dy = np.diff(x), np.diff(y)
    square = dx * dx + dy * dy
    share = -(x[:-1] * dx + y[:-1] * dy) / np.where(square > 0.0, square, 1.0)
    share = np.clip(np.where(square > 0.0, share, 0.0), 0.0, 1.0)
    return np.hypot(x[:-1] + share * dx, y[:-1] + share * dy)
