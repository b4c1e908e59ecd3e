"""What turns with the work: a body about the axis of the rotary joint that carries all of it, over which the
way from side to side may go."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.setups.between import BetweenSides
from fenrik.core.setups.setup import Clamped

Floats = NDArray[np.float64]
STEP_DEG = 5.0
"""Steps by which the inner joint is turned to see how far out things get."""


@dataclass(frozen=True)
class SafeBody:
    """A cylinder about all that turns with the work, in the setup's frame with the rotary joints at zero:
    `low` and `high` (3,) on its axis, its `radius`, and the height `top` over it and its room, at which the
    tip goes from side to side, mm."""

    low: Floats
    high: Floats
    radius: float
    top: float


def safe_body(between: BetweenSides, clamped: Clamped, on: OnMachine, where: str) -> SafeBody:
    """The body about all that turns on a machine whose rotary joints carry the work.

    Raises DocumentError where the tool turns as well, where nothing does, and for a radius that is less than
    what turns.
    """
    machine = on.machine
    count, chain = len(machine.rotary), machine.chain
    turning = np.flatnonzero(chain.rotary).tolist()
    carried = [i for i in turning if i < machine.carrying_work]
    if not count or len(carried) < count:
        why = "the tool turns as well" if count else "nothing turns"
        raise DocumentError(
            f"On '{machine.name}' {why}: there is no body to go over from side to side.",
            remedy="Let the way from side to side go at the machine's upper end.",
            where=where,
        )
    base = on.setup_from_work @ chain.base_from_work
    point, axis = (apply(base, chain.point[carried[-1]][None])[0], base[:3, :3] @ chain.axis[carried[-1]])
    points, slack = _points(clamped, on), 0.0
    if len(carried) == 2:
        inner = apply(base, chain.point[carried[0]][None])[0], base[:3, :3] @ chain.axis[carried[0]]
        # what goes round gets this much farther between two steps than at the nearer one
        slack = (1.0 - float(np.cos(np.radians(0.5 * STEP_DEG)))) * _farthest(points, *inner)
        points = np.vstack(
            [_turned(points, *inner, angle) for angle in np.radians(np.arange(0.0, 360.0, STEP_DEG))]
        )
    along = (points - point) @ axis
    out = _farthest(points, point, axis) + slack
    if between.radius is not None and between.radius < out:
        raise DocumentError(
            f"The safe body's radius of {between.radius:g} mm is less than what turns with the work: stock, "
            f"fixture and table get {out:.1f} mm out.",
            remedy=f"Give {np.ceil(out):.0f} mm or more, or leave it open.",
            where=f"{where}.radius",
        )
    radius = between.radius or out
    low, high = point + (along.min() - slack) * axis, point + (along.max() + slack) * axis
    over = radius * float(np.sqrt(max(0.0, 1.0 - axis[2] ** 2)))
    return SafeBody(low, high, radius, max(low[2], high[2]) + over + between.room)


def _points(clamped: Clamped, on: OnMachine) -> Floats:
    """Corners of what turns (n, 3), setup frame: stock, fixture, and the rim of the table's top."""
    low, high = clamped.stock_low, clamped.stock_high
    corners = [[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])]
    turn = np.radians(np.arange(0.0, 360.0, STEP_DEG))
    half = 0.5 * max(on.machine.table)
    rim = np.column_stack([half * np.cos(turn), half * np.sin(turn), np.zeros(len(turn))])
    out = [np.array(corners), apply(on.setup_from_work, rim)]
    if clamped.fixture is not None:
        out.append(clamped.fixture.vertices)
    return np.vstack(out)


def _farthest(points: Floats, about: Floats, axis: Floats) -> float:
    """The greatest distance of points (n, 3) from a line."""
    return float(np.linalg.norm(np.cross(points - about, axis), axis=1).max())


def _turned(points: Floats, about: Floats, axis: Floats, angle: float) -> Floats:
    """Points (n, 3) turned about a line (Rodrigues)."""
    p = points - about
    c, s = np.cos(angle), np.sin(angle)
    return np.asarray(about + c * p + s * np.cross(axis, p) + (1 - c) * (p @ axis)[:, None] * axis)
