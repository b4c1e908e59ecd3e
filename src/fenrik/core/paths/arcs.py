"""Arcs fitted to a level polyline within a tolerance."""

from __future__ import annotations

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

Floats = NDArray[np.float64]
MAX_RADIUS = 2000.0


@njit(cache=True, nogil=True)
def _fit(points, tolerance, max_radius):  # type: ignore[no-untyped-def]
    """Greedy: the longest run from each point that one arc through its ends and middle holds.

    Returns rows (end index, turn, cx, cy).
    """
    n = len(points)
    out = np.empty((n, 4))
    used = 0
    i = 0
    while i < n - 1:
        best_end, best_turn, best_x, best_y = i + 1, 0, 0.0, 0.0
        j = i + 3
        while j < n:
            ok, turn, cx, cy = _arc_through(points, i, j, tolerance, max_radius)
            if not ok:
                break
            best_end, best_turn, best_x, best_y = j, turn, cx, cy
            j += 1
        out[used, 0], out[used, 1], out[used, 2], out[used, 3] = best_end, best_turn, best_x, best_y
        used += 1
        i = best_end
    return out[:used]


@njit(cache=True, nogil=True)
def _arc_through(points, i, j, tolerance, max_radius):  # type: ignore[no-untyped-def]
    """Whether points i..j lie on one arc: centre from ends and middle, all points and chord middles
    within the tolerance, turning one way, at most half a turn."""
    m = (i + j) // 2
    ax, ay = points[i, 0], points[i, 1]
    bx, by = points[m, 0], points[m, 1]
    cx, cy = points[j, 0], points[j, 1]
    d = 2.0 * (ax * (by - cy) + bx * (cy - ay) + cx * (ay - by))
    if abs(d) < 1e-9:
        return False, 0, 0.0, 0.0
    a2, b2, c2 = ax * ax + ay * ay, bx * bx + by * by, cx * cx + cy * cy
    ux = (a2 * (by - cy) + b2 * (cy - ay) + c2 * (ay - by)) / d
    uy = (a2 * (cx - bx) + b2 * (ax - cx) + c2 * (bx - ax)) / d
    radius = math.hypot(ax - ux, ay - uy)
    if radius > max_radius:
        return False, 0, 0.0, 0.0
    turn = 1 if (bx - ax) * (cy - ay) - (by - ay) * (cx - ax) > 0 else -1
    total = 0.0
    for k in range(i, j):
        px, py = points[k, 0] - ux, points[k, 1] - uy
        qx, qy = points[k + 1, 0] - ux, points[k + 1, 1] - uy
        step = math.atan2(px * qy - py * qx, px * qx + py * qy) * turn
        if step <= 0.0:
            return False, 0, 0.0, 0.0
        total += step
        if abs(math.hypot(qx, qy) - radius) > tolerance:
            return False, 0, 0.0, 0.0
        if abs(math.hypot(0.5 * (px + qx), 0.5 * (py + qy)) - radius) > tolerance:
            return False, 0, 0.0, 0.0
    if total > 3.1:
        return False, 0, 0.0, 0.0
    return True, turn, ux, uy


def fit_arcs(points: Floats, tolerance: float) -> list[tuple[int, int, float, float]]:
    """Moves along points (n, 2) mm: (index of the end point, turn, centre x, centre y), turn 0 for
    straight ones. No arc leaves the polyline by more than `tolerance` mm, none exceeds half a turn."""
    if len(points) < 2:
        return []
    rows = _fit(np.ascontiguousarray(points, dtype=np.float64), tolerance, MAX_RADIUS)
    return [(int(e), int(t), float(x), float(y)) for e, t, x, y in rows]
