"""How long motion takes on a machine with limited speed and acceleration.

Every straight piece is driven with a trapezoid of speed: the corner between two pieces is passed at
the speed at which the centripetal acceleration on an arc that rounds the corner by the machine's
`junction_mm` stays within its acceleration; a backward and a forward pass bound the speeds by what
can be braked and reached (the usual look-ahead of controllers). A single move gives the closed form
t = d/v + v/a for d >= v²/a, else 2 sqrt(d/a).

Where rotary joints turn, the way is that in the space of all joints, a degree weighed against a mm by the
joints' speeds: one measure all along, so that speeds can be carried from piece to piece.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from fenrik.core.machines.machine import LINEAR, Machine
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.program_motion import ProgramMotion

Floats = NDArray[np.float64]


@njit(cache=True, nogil=True)
def trapezoid_times(length, direction, speed, accel, junction):  # type: ignore[no-untyped-def]
    """Times (n,) s of pieces with `length` (n,) mm, unit `direction` (n, k), top `speed` (n,) mm/s and
    `accel` (n,) mm/s² along the path; it starts and ends at rest."""
    n = len(length)
    corner = np.zeros(n + 1)
    for i in range(1, n):
        cosine = 0.0
        for j in range(direction.shape[1]):
            cosine += direction[i - 1, j] * direction[i, j]
        limit = min(speed[i - 1], speed[i])
        if cosine < 0.999999:
            half_sine = np.sqrt(max(0.0, 0.5 * (1.0 + cosine)))  # sine of half the inner angle
            a = min(accel[i - 1], accel[i])
            radius = junction * half_sine / max(1e-9, 1.0 - half_sine)
            limit = min(limit, np.sqrt(a * radius))
        corner[i] = limit
    for i in range(n - 1, -1, -1):
        corner[i] = min(corner[i], np.sqrt(corner[i + 1] ** 2 + 2.0 * accel[i] * length[i]))
    out = np.empty(n)
    for i in range(n):
        corner[i + 1] = min(corner[i + 1], np.sqrt(corner[i] ** 2 + 2.0 * accel[i] * length[i]))
        v0, v1, a, d = corner[i], corner[i + 1], accel[i], length[i]
        peak = min(speed[i], np.sqrt(0.5 * (v0 * v0 + v1 * v1) + a * d))
        ramps = (2.0 * peak * peak - v0 * v0 - v1 * v1) / (2.0 * a)
        out[i] = (2.0 * peak - v0 - v1) / a + max(0.0, d - ramps) / peak if peak > 0.0 else 0.0
    return out


def move_times(
    motion: ProgramMotion,
    machine: Machine,
    on: OnMachine | None = None,
    lengths: dict[int, float] | None = None,
) -> Floats:
    """Time (n,) s of every move of a program on a machine, dwells included, without tool changes.

    On a machine with rotary joints the setup's place `on` it and the `lengths` mm of the tools by number are
    needed, since joints move as they follow from both.
    """
    if len(motion) == 0:
        return np.zeros(0)
    if motion.turning is None:
        pieces, owner = motion.straightened(0.02)
        seconds = np.full(len(owner), np.nan)
        places = [machine.place(letter) for letter in LINEAR]
        moved = pieces[:, 3:] - pieces[:, :3]
        speed, accel = machine.speed[places], machine.acceleration[places]
    else:
        assert on is not None
        start, end, owner, seconds = on.driven(motion, lengths or {}, 0.02)
        moved, speed, accel = end - start, machine.speed, machine.acceleration
    scaled = moved if motion.turning is None else moved * _scale(machine)
    way = np.linalg.norm(scaled, axis=1)
    good = way > 1e-9
    moved, way, owner, seconds = moved[good], way[good], owner[good], seconds[good]
    direction = scaled[good] / way[:, None]
    share = np.abs(moved) / way[:, None]
    with np.errstate(divide="ignore"):
        rapid = (speed / 60.0 / share).min(axis=1)
        accel = (accel / share).min(axis=1)
    asked = np.where(seconds > 0.0, way / np.where(seconds > 0.0, seconds, 1.0), motion.feed[owner] / 60.0)
    feed = np.where(seconds > 0.0, asked, np.minimum(asked, machine.feed_max_mm_min / 60.0))
    driven = np.where(motion.rapid[owner], rapid, np.minimum(rapid, np.maximum(feed, 1e-3)))
    times = trapezoid_times(way, direction, driven, accel, machine.junction_mm)
    out = np.zeros(len(motion))
    np.add.at(out, owner, times)
    return np.asarray(out + motion.dwell)


def _scale(machine: Machine) -> Floats:
    """What a degree of each joint counts (n,) beside a mm of the linear ones, for one measure of the way all
    along: as far as a linear joint goes while the rotary one turns by it, both at their best. Of an arm a
    degree of each."""
    rotary = machine.chain.rotary
    if rotary.all():
        return np.ones(len(rotary))
    return np.where(rotary, machine.speed[~rotary].min() / machine.speed, 1.0)
