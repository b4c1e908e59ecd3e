"""Which of the possible positions of the rotary joints a program takes: the quickest way through all of its directions.

Dynamic programming over solution and winding (Bellman 1957): a state is one position of the rotary joints within their
limits, the cost between two is the time of the slower joint. A joint without limits takes the nearest winding. Where the
tool lies along the first rotary axis, that joint stays where it is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from fenrik.core.machines.inverse import Rotaries

Floats = NDArray[np.float64]
MOST_STATES = 64
SLACK_DEG = 1e-9


@dataclass(frozen=True)
class Limits:
    """Bounds low and high (r,) degrees (infinite where there are none) and speeds (r,) degrees/min of the rotary joints."""

    low: Floats
    high: Floats
    speed: Floats


@njit(cache=True, nogil=True)
def _windings(angle, low, high, out):  # type: ignore[no-untyped-def]
    """Fills `out` with the values of an angle within limits; one value where there are none. How many."""
    if low == -np.inf and high == np.inf:
        out[0] = angle
        return 1
    count = 0
    value = angle + 360.0 * np.ceil((low - SLACK_DEG - angle) / 360.0)
    while value <= high + SLACK_DEG and count < len(out):
        out[count] = min(max(value, low), high)
        value += 360.0
        count += 1
    return count


@njit(cache=True, nogil=True)
def quickest(angles, exists, free, low, high, speed, start):  # type: ignore[no-untyped-def]
    """Positions (m, r) of the rotary joints for solutions `angles` (m, s, r) degrees, and whether there is one (m,).

    `start` (r,) is where they stand before the first. A direction that cannot be reached leaves them where they are.
    """
    m, solutions, r = angles.shape
    values = np.zeros((m, MOST_STATES, r))
    back = np.zeros((m, MOST_STATES), dtype=np.int64)
    counts = np.zeros(m, dtype=np.int64)
    reached = np.zeros(m, dtype=np.bool_)
    before, cost = start.copy().reshape(1, r), np.zeros(1)
    turned = np.zeros((r, 16))
    many = np.zeros(r, dtype=np.int64)
    endless = (low == -np.inf) & (high == np.inf)
    for i in range(m):
        used = 0
        best = np.full(MOST_STATES, np.inf)
        for s in range(solutions):
            if not exists[i, s]:
                continue
            total = 1
            for j in range(r):
                if j == 0 and free[i, s]:
                    many[j] = len(before)  # the joint stays: one state for every state before
                else:
                    many[j] = _windings(angles[i, s, j], low[j], high[j], turned[j])
                total *= many[j]
            for number in range(total):
                if used == MOST_STATES:
                    break
                rest, only = number, -1
                for j in range(r):
                    place = rest % many[j]
                    rest //= many[j]
                    if j == 0 and free[i, s]:
                        only = place
                        values[i, used, j] = before[place, j]
                    else:
                        values[i, used, j] = turned[j, place]
                first, last = (0, len(before)) if only < 0 else (only, only + 1)
                for b in range(first, last):
                    time = 0.0
                    for j in range(r):
                        step = values[i, used, j] - before[b, j]
                        if endless[j]:
                            step -= 360.0 * np.round(step / 360.0)
                        time = max(time, abs(step) / speed[j])
                    if cost[b] + time < best[used] - 1e-12:
                        best[used], back[i, used] = cost[b] + time, b
                if best[used] < np.inf:
                    for j in range(r):
                        if endless[j]:
                            step = values[i, used, j] - before[back[i, used], j]
                            values[i, used, j] -= 360.0 * np.round(step / 360.0)
                    used += 1
        reached[i] = used > 0
        if used == 0:
            used = len(before)
            values[i, :used] = before
            back[i, :used] = np.arange(used)
            best[:used] = cost
        counts[i] = used
        before, cost = values[i, :used].copy(), best[:used].copy()
    out = np.zeros((m, r))
    state = int(np.argmin(cost)) if m else 0
    for i in range(m - 1, -1, -1):
        out[i] = values[i, state]
        state = back[i, state]
    return out, reached


def chosen(solutions: Rotaries, limits: Limits, start: Floats) -> tuple[Floats, NDArray[np.bool_]]:
    """Positions (m, r) degrees of the rotary joints for the solutions of m directions in the order of the program, from
    `start` (r,) on, and whether each direction can be reached (m,)."""
    positions, reached = quickest(
        np.ascontiguousarray(solutions.angles), solutions.exists, solutions.free,
        limits.low, limits.high, limits.speed, np.asarray(start, dtype=np.float64),
    )  # fmt: skip
    return positions, reached
