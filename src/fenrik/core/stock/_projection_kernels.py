"""Heights of the dexels seen along any direction: every interval, as thick as a cell, raised into a height map."""

import math

from fenrik.core.stock._jit import njit


@njit(cache=True, nogil=True)
def raise_intervals(heights, x0, y0, cell, ends, counts, direction, origin, spacing, turned, shift):
    """Raises `heights` (ny, nx) over cells of `cell` mm from (x0, y0) to the intervals of rays along an axis `direction` of
    a lattice: ends (nv, nu, width) and counts (nv, nu), `spacing` mm apart from `origin` (3,). `turned` (3, 3) and `shift`
    (3,) take lattice coordinates to the map's.

    An interval stands for a bar with a square cross-section of one cell; the map gets no less than the bar at any place.
    """
    u, v = (1, 2) if direction == 0 else ((0, 2) if direction == 1 else (0, 1))
    half = 0.5 * spacing
    # how far the bar reaches beyond the interval's own line, in plan view and upward
    wide = (
        half * (math.hypot(turned[0, u], turned[1, u]) + math.hypot(turned[0, v], turned[1, v]))
        + cell * 0.70711
    )
    rise = half * (abs(turned[2, u]) + abs(turned[2, v]))
    ax, ay, az = turned[0, direction], turned[1, direction], turned[2, direction]
    level = math.hypot(ax, ay)
    ny, nx = heights.shape
    for j in range(ends.shape[0]):
        for i in range(ends.shape[1]):
            pu, pv = origin[u] + (i + 0.5) * spacing, origin[v] + (j + 0.5) * spacing
            bx = turned[0, u] * pu + turned[0, v] * pv + shift[0]
            by = turned[1, u] * pu + turned[1, v] * pv + shift[1]
            bz = turned[2, u] * pu + turned[2, v] * pv + shift[2]
            for n in range(counts[j, i]):
                low, high = ends[j, i, 2 * n], ends[j, i, 2 * n + 1]
                x1, y1, z1 = bx + low * ax, by + low * ay, bz + low * az
                x2, y2, z2 = bx + high * ax, by + high * ay, bz + high * az
                if level < 1e-9:
                    x2, y2 = x1, y1
                run = math.hypot(x2 - x1, y2 - y1)
                slope = (z2 - z1) / run if run > 1e-9 else 0.0
                dx, dy = ((x2 - x1) / run, (y2 - y1) / run) if run > 1e-9 else (1.0, 0.0)
                top = max(z1, z2)
                r0 = max(0, int(math.floor((min(y1, y2) - wide - y0) / cell)))
                r1 = min(ny - 1, int(math.floor((max(y1, y2) + wide - y0) / cell)))
                for r in range(r0, r1 + 1):
                    y = y0 + (r + 0.5) * cell
                    # the part of the line within reach of this row
                    s0, s1 = 0.0, run
                    if abs(dy) > 1e-9:
                        a, b = (y - wide - y1) / dy, (y + wide - y1) / dy
                        s0, s1 = max(s0, min(a, b)), min(s1, max(a, b))
                        if s0 > s1:
                            s0 = s1 = 0.0 if s0 > run else run
                            if abs(y - y1 - s0 * dy) > wide:
                                continue
                    c0 = max(0, int(math.floor((min(x1 + s0 * dx, x1 + s1 * dx) - wide - x0) / cell)))
                    c1 = min(nx - 1, int(math.floor((max(x1 + s0 * dx, x1 + s1 * dx) + wide - x0) / cell)))
                    for c in range(c0, c1 + 1):
                        x = x0 + (c + 0.5) * cell
                        off = dx * (y - y1) - dy * (x - x1)
                        if abs(off) > wide:
                            continue
                        along = dx * (x - x1) + dy * (y - y1)
                        if along < -wide or along > run + wide:
                            continue
                        # the highest place of the line within `wide` of the cell's middle
                        at = along + (wide if slope > 0 else -wide)
                        z = top if run < 1e-9 else z1 + slope * min(run, max(0.0, at))
                        heights[r, c] = max(heights[r, c], z + rise)
