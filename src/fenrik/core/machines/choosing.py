"""Which of the possible positions of the rotary joints a program takes: the quickest way through all of its
directions.

Dynamic programming over solution and winding (Bellman 1957): a state is one position of the rotary joints
within their limits, the cost between two is the time of the slower joint. A joint without limits takes the
nearest winding. Where the tool lies along the first rotary axis, that joint stays where it is.
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
MEET_DEG = 0.004
"""Both solutions whose last joint differs by less are one."""
HALF_TURN_DEG = 181.0
NEVER = 1e6
"""A price, in minutes, for what a tool that cuts cannot do without leaving its way."""


@dataclass(frozen=True)
class Limits:
    """Bounds low and high (r,) degrees (infinite where there are none) and speeds (r,) degrees/min of the
    rotary joints."""

    low: Floats
    high: Floats
    speed: Floats


@dataclass(frozen=True)
class Rewind:
    """A rotary joint (its place among them) that goes the long way round to position `at` of a program, from
    `begin` to `end` degrees, since `nearer`, the same position over the short way, lies beyond its range."""

    at: int
    joint: int
    begin: float
    end: float
    nearer: float


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
def _way(before, b, values, i, k, endless, speed):  # type: ignore[no-untyped-def]
    """The time of the way from position b of `before` (n, r) to position i, k of `values` (m, n, r), and
    whether a joint turns more than half a turn."""
    time, far = 0.0, False
    for j in range(len(speed)):
        step = values[i, k, j] - before[b, j]
        if endless[j]:
            step -= 360.0 * np.round(step / 360.0)
        time = max(time, abs(step) / speed[j])
        far = far or abs(step) > HALF_TURN_DEG
    return time, far


@njit(cache=True, nogil=True)
def quickest(angles, exists, free, limits, start, weight):  # type: ignore[no-untyped-def]
    """Positions (m, r) of the rotary joints for solutions `angles` (m, s, r) degrees, and whether there is
    one (m,).

    `limits` are low, high and speed; `start` (r,) is where they stand before the first; the time of the way
    to each weighs `weight` (m,). Where that is more than one the tool cuts: there the joints stay with one
    solution but where both meet, and turn by less than half a turn from row to row. A direction that cannot
    be reached leaves them where they are.
    """
    low, high, speed = limits
    m, solutions, r = angles.shape
    endless = (low == -np.inf) & (high == np.inf)
    most = solutions
    for j in range(r):
        if not endless[j]:
            most *= int((high[j] - low[j]) // 360.0) + 2
    most = min(MOST_STATES, 2 * most)
    values = np.empty((m, most, r))
    label, own = np.full(most, -1), np.full(most, -1)  # which solution a state is, -1 either
    met = True
    back = np.empty((m, most), dtype=np.int64)
    reached = np.zeros(m, dtype=np.bool_)
    before, cost = np.empty((most, r)), np.zeros(most)
    known = 1
    before[0] = start
    turned = np.zeros((r, 32))
    many = np.zeros(r, dtype=np.int64)
    best = np.empty(most)
    for i in range(m):
        used = 0
        best[:] = np.inf
        cutting = weight[i] > 1.0
        meets = solutions > 1 and abs(angles[i, 0, r - 1] - angles[i, 1, r - 1]) < MEET_DEG
        for s in range(solutions):
            if not exists[i, s]:
                continue
            if s > 0 and free[i, s] and free[i, 0] and abs(angles[i, s, r - 1] - angles[i, 0, r - 1]) < 1e-9:
                continue  # both solutions are one there
            total = 1
            for j in range(r):
                if j == 0 and free[i, s]:
                    many[j] = known  # the joint stays: one state for every state before
                else:
                    many[j] = _windings(angles[i, s, j], low[j], high[j], turned[j])
                total *= many[j]
            for number in range(total):
                if used == most:
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
                own[used] = -1 if free[i, s] else s
                first, last = (0, known) if only < 0 else (only, only + 1)
                for b in range(first, last):
                    if cost[b] >= best[used]:
                        continue  # no way takes less than no time
                    other = label[b] >= 0 and own[used] >= 0 and label[b] != own[used]
                    time, far = _way(before, b, values, i, used, endless, speed)
                    if cutting and (far or (other and not (meets or met))):
                        time += NEVER
                    time *= weight[i]
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
            used = known
            for k in range(known):
                values[i, k] = before[k]
                back[i, k] = k
                best[k] = cost[k]
        known, met = used, meets
        for k in range(used):
            label[k] = own[k] if reached[i] else label[k]
            for j in range(r):
                before[k, j] = values[i, k, j]
            cost[k] = best[k]
    out = np.zeros((m, r))
    state = int(np.argmin(cost[:known]))
    for i in range(m - 1, -1, -1):
        out[i] = values[i, state]
        state = back[i, state]
    return out, reached


def chosen(
    solutions: Rotaries, limits: Limits, start: Floats, weight: Floats | None = None
) -> tuple[Floats, NDArray[np.bool_]]:
    """Positions (m, r) degrees of the rotary joints for the solutions of m directions in the order of the
    program, from `start` (r,) on, and whether each direction can be reached (m,). The way to a direction
    counts `weight` (m,) times: more where the tool cuts, so that joints turn back where it does not."""
    positions, reached = quickest(
        np.ascontiguousarray(solutions.angles),
        solutions.exists,
        solutions.free,
        (limits.low, limits.high, limits.speed),
        np.asarray(start, dtype=np.float64),
        np.ones(len(solutions.angles)) if weight is None else np.asarray(weight, dtype=np.float64),
    )
    return positions, reached


def rewinds(positions: Floats, limits: Limits) -> list[Rewind]:
    """Where in positions (m, r) degrees, in the order of the program, a joint has to turn back."""
    begin, end = positions[:-1], positions[1:]
    nearer = end - 360.0 * np.round((end - begin) / 360.0)
    beyond = (nearer < limits.low - SLACK_DEG) | (nearer > limits.high + SLACK_DEG)
    where = np.argwhere((nearer != end) & beyond).tolist()
    return [Rewind(i + 1, j, float(begin[i, j]), float(end[i, j]), float(nearer[i, j])) for i, j in where]
