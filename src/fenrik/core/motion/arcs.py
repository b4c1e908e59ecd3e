"""Arcs and lines fitted to a polyline in a plane within a tolerance.

An arc between two given points has one free value, its height over their chord (sagitta). Every point between
allows a range of it, about its own height by tolerance / (4 t (1 - t)) at the share t of the chord; the
middle of what all allow is taken and then tested exactly on the whole polyline: points, and where chords come
nearest to the centre.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

Floats = NDArray[np.float64]
MAX_RADIUS = 2000.0
PATIENCE = 3
"""Ends tried beyond the first at which nothing fits."""


@njit(cache=True, nogil=True)
def _fit(points, tolerance, max_radius):  # type: ignore[no-untyped-def]
    """Greedy: the longest run from each point that one arc or line holds. Returns rows (end index, turn, cx,
    cy)."""
    n = len(points)
    out = np.empty((n, 4))
    used = 0
    i = np.int64(0)  # of a type: a plain number has what it is handed to compiled once more
    while i < n - 1:
        best_end, best_turn, best_x, best_y = i + 1, 0, 0.0, 0.0
        j, failed = i + 2, 0
        while j < n and failed <= PATIENCE:
            ok, turn, cx, cy = _one_move(points, i, j, tolerance, max_radius)
            if ok:
                best_end, best_turn, best_x, best_y = j, turn, cx, cy
                failed = 0
            elif j > i + 2:
                failed += 1
            j += 1
        out[used, 0], out[used, 1], out[used, 2], out[used, 3] = best_end, best_turn, best_x, best_y
        used += 1
        i = best_end
    return out[:used]


@njit(cache=True, nogil=True)
def _one_move(points, i, j, tolerance, max_radius):  # type: ignore[no-untyped-def]
    """Whether one move holds points i..j: a line where they lie on one, an arc where there are two between at
    least.

    Returns (held, turn, centre x, centre y).
    """
    ax, ay = points[i, 0], points[i, 1]
    dx, dy = points[j, 0] - ax, points[j, 1] - ay
    chord = math.hypot(dx, dy)
    if chord < 1e-9:
        return False, 0, 0.0, 0.0
    ux, uy = dx / chord, dy / chord
    low, high = -1e30, 1e30
    straight = True
    before = 0.0
    for k in range(i + 1, j):
        px, py = points[k, 0] - ax, points[k, 1] - ay
        u, v = ux * px + uy * py, ux * py - uy * px
        if abs(v) > tolerance or u < before or u > chord:
            straight = False
        before = u
        # height over the chord of the arc through this point: tangents of half angles add up
        w = chord - u
        half = math.atan2(v, u) + math.atan2(v, w)
        if abs(half) > 1.56:  # more than half a turn
            return False, 0, 0.0, 0.0
        height = 0.5 * chord * math.tan(0.5 * half)
        t = min(max(u / chord, 1e-3), 1.0 - 1e-3)
        room = tolerance / (4.0 * t * (1.0 - t))
        low, high = max(low, height - room), min(high, height + room)
    if straight:
        return True, 0, 0.0, 0.0
    height = 0.5 * (low + high)
    if low > high or j < i + 3 or abs(height) < 1e-6:
        return False, 0, 0.0, 0.0
    radius = (0.25 * chord * chord + height * height) / (2.0 * abs(height))
    if radius > max_radius:
        return False, 0, 0.0, 0.0
    # the bulge lies to the left of the chord for a height over 0: that arc turns clockwise
    turn = -1 if height > 0 else 1
    away = radius - abs(height)
    cx = ax + 0.5 * dx - turn * away * uy
    cy = ay + 0.5 * dy + turn * away * ux
    return _held(points, i, j, cx, cy, radius, turn, tolerance), turn, cx, cy


@njit(cache=True, nogil=True)
def _held(points, i, j, cx, cy, radius, turn, tolerance):  # type: ignore[no-untyped-def]
    """Whether the polyline i..j lies within the tolerance of the arc, its points one behind the other, over
    at most half a turn."""
    total = 0.0
    for k in range(i, j):
        px, py = points[k, 0] - cx, points[k, 1] - cy
        qx, qy = points[k + 1, 0] - cx, points[k + 1, 1] - cy
        step = math.atan2(px * qy - py * qx, px * qx + py * qy) * turn
        if step <= 0.0:
            return False
        total += step
        if abs(math.hypot(qx, qy) - radius) > tolerance:
            return False
        ex, ey = qx - px, qy - py
        along = -(px * ex + py * ey)
        if 0.0 < along < ex * ex + ey * ey:  # the chord comes nearest to the centre between its ends
            if abs(abs(px * qy - py * qx) / math.hypot(ex, ey) - radius) > tolerance:
                return False
    return total <= 3.1


def fit_arcs(points: Floats, tolerance: float) -> list[tuple[int, int, float, float]]:
    """Moves along points (n, 2) mm: (index of the end point, turn, centre x, centre y), turn 0 for
    straight ones. No move leaves the polyline by more than `tolerance` mm, no arc exceeds half a turn."""
    if len(points) < 2:
        return []
    rows = _fit(np.ascontiguousarray(points, dtype=np.float64), tolerance, MAX_RADIUS)
    return [(int(e), int(t), float(x), float(y)) for e, t, x, y in rows]
