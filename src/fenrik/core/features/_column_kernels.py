"""Where upright lines cross triangles."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def cross(corners, area, low, high, points):  # type: ignore[no-untyped-def]
    """Lines through points (n, 2) and triangles `corners` (m, 3, 3) with twice their signed area (m,) and
    their boxes `low`, `high` (m, 2) in plan view: the line (k,) and the height (k,) of every crossing."""
    x0, x1, y0, y1 = points[:, 0].min(), points[:, 0].max(), points[:, 1].min(), points[:, 1].max()
    line = np.empty(256, dtype=np.int64)
    height = np.empty(256)
    used = 0
    for t in range(len(corners)):
        if low[t, 0] > x1 or high[t, 0] < x0 or low[t, 1] > y1 or high[t, 1] < y0:
            continue
        ax, ay, az = corners[t, 0]
        bx, by, bz = corners[t, 1]
        cx, cy, cz = corners[t, 2]
        for i in range(len(points)):
            px, py = points[i, 0], points[i, 1]
            if low[t, 0] > px or high[t, 0] < px or low[t, 1] > py or high[t, 1] < py:
                continue
            wa = ((bx - px) * (cy - py) - (by - py) * (cx - px)) / area[t]
            wb = ((cx - px) * (ay - py) - (cy - py) * (ax - px)) / area[t]
            wc = ((ax - px) * (by - py) - (ay - py) * (bx - px)) / area[t]
            if wa < 0 or wb < 0 or wc < 0:
                continue
            if used == len(line):
                line, height = np.concatenate((line, line)), np.concatenate((height, height))
            line[used], height[used] = i, wa * az + wb * bz + wc * cz
            used += 1
    return line[:used], height[:used]
