"""Kernels of the planning height map. Heights are the top of the stock over square cells."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from fenrik.core.tooling._profile_kernels import underside


class Grid(NamedTuple):
    """Heights (ny, nx) mm over square cells of `cell` mm from (x0, y0)."""

    heights: NDArray[np.float64]
    x0: float
    y0: float
    cell: float


BLOCK = 8
"""Cells along the side of a block whose height is kept."""


@njit(cache=True, nogil=True)
def stamp(grid, pieces, shape, margin):
    """Lowers cells under a cutter swept along straight pieces (m, 6).

    `margin` is added to every distance: half a cell's diagonal keeps the map on the safe (high)
    side, 0 gives the plain map. On a slope the height at the nearest point is taken, which is never
    below the true sweep.
    """
    heights, x0, y0, cell = grid
    ny, nx = heights.shape
    radius = shape[0]
    reach = radius - margin
    if reach <= 0.0:
        return
    for m in range(len(pieces)):
        ax, ay, az = pieces[m, 0], pieces[m, 1], pieces[m, 2]
        dx, dy, dz = pieces[m, 3] - ax, pieces[m, 4] - ay, pieces[m, 5] - az
        low_x, high_x = min(ax, ax + dx) - reach, max(ax, ax + dx) + reach
        low_y, high_y = min(ay, ay + dy) - reach, max(ay, ay + dy) + reach
        i0, i1 = (
            max(0, int(math.ceil((low_x - x0) / cell - 0.5))),
            min(nx - 1, int(math.floor((high_x - x0) / cell - 0.5))),
        )
        j0, j1 = (
            max(0, int(math.ceil((low_y - y0) / cell - 0.5))),
            min(ny - 1, int(math.floor((high_y - y0) / cell - 0.5))),
        )
        square = dx * dx + dy * dy
        low_z = min(az, az + dz)
        for j in range(j0, j1 + 1):
            cy = y0 + (j + 0.5) * cell
            for i in range(i0, i1 + 1):
                if heights[j, i] <= low_z:
                    continue
                cx = x0 + (i + 0.5) * cell
                if square > 0.0:
                    t = ((cx - ax) * dx + (cy - ay) * dy) / square
                    t = min(1.0, max(0.0, t))
                else:
                    t = 0.0 if dz > 0.0 else 1.0
                ex, ey = cx - ax - t * dx, cy - ay - t * dy
                d = math.sqrt(ex * ex + ey * ey) + margin
                if d <= radius:
                    z = az + t * dz + underside(d, shape)
                    if z < heights[j, i]:
                        heights[j, i] = z


@njit(cache=True, nogil=True)
def window(grid, ax, ay, bx, by, reach):
    """First and last column and row of the cells within `reach` of a line's box, on the map."""
    _, x0, y0, cell = grid
    ny, nx = grid.heights.shape
    i0 = max(0, int(math.floor((min(ax, bx) - reach - x0) / cell)))
    i1 = min(nx - 1, int(math.floor((max(ax, bx) + reach - x0) / cell)))
    j0 = max(0, int(math.floor((min(ay, by) - reach - y0) / cell)))
    j1 = min(ny - 1, int(math.floor((max(ay, by) + reach - y0) / cell)))
    return i0, i1, j0, j1


@njit(cache=True, nogil=True)
def square_to(ax, ay, bx, by, x, y):
    """Square of the distance of a place from the straight line a-b (plan view)."""
    dx, dy = bx - ax, by - ay
    square = dx * dx + dy * dy
    t = 0.0
    if square > 0.0:
        t = min(1.0, max(0.0, ((x - ax) * dx + (y - ay) * dy) / square))
    ex, ey = x - ax - t * dx, y - ay - t * dy
    return ex * ex + ey * ey


@njit(cache=True, nogil=True)
def highest(grid, ax, ay, bx, by, reach):
    """Highest stock within `reach` of the straight line a-b (plan view); -1e30 off the map."""
    heights, x0, y0, cell = grid
    top = -1e30
    i0, i1, j0, j1 = window(grid, ax, ay, bx, by, reach)
    for j in range(j0, j1 + 1):
        cy = y0 + (j + 0.5) * cell
        for i in range(i0, i1 + 1):
            h = heights[j, i]
            if h <= top:
                continue
            if square_to(ax, ay, bx, by, x0 + (i + 0.5) * cell, cy) <= reach * reach:
                top = h
    return top


@njit(cache=True, nogil=True)
def highest_at(grid, points, reach):
    """`highest` for single points (n, 2)."""
    out = np.empty(len(points))
    for k in range(len(points)):
        out[k] = highest(grid, points[k, 0], points[k, 1], points[k, 0], points[k, 1], reach)
    return out


@njit(cache=True, nogil=True)
def block_tops(heights):
    """Highest cell of every block of BLOCK x BLOCK cells."""
    ny, nx = heights.shape
    out = np.full((ny // BLOCK + 1, nx // BLOCK + 1), -1e30)
    for j in range(ny):
        for i in range(nx):
            out[j // BLOCK, i // BLOCK] = max(out[j // BLOCK, i // BLOCK], heights[j, i])
    return out


@njit(cache=True, nogil=True)
def highest_over(grid, tops, line, reach, limit):
    """`highest` along a `line` (ax, ay, bx, by), or `limit` where nothing is higher. `tops` are the blocks'
    heights or more; those that are looked at become exact, so that ground once cleared costs no more."""
    ax, ay, bx, by = line
    heights, x0, y0, cell = grid
    ny, nx = heights.shape
    best = limit
    i0, i1, j0, j1 = window(grid, ax, ay, bx, by, reach)
    for bj in range(j0 // BLOCK, j1 // BLOCK + 1):
        for bi in range(i0 // BLOCK, i1 // BLOCK + 1):
            if tops[bj, bi] <= best:
                continue
            top = -1e30
            for j in range(bj * BLOCK, min(ny, (bj + 1) * BLOCK)):
                cy = y0 + (j + 0.5) * cell
                for i in range(bi * BLOCK, min(nx, (bi + 1) * BLOCK)):
                    h = heights[j, i]
                    top = max(top, h)
                    if h <= best:
                        continue
                    if square_to(ax, ay, bx, by, x0 + (i + 0.5) * cell, cy) <= reach * reach:
                        best = h
            tops[bj, bi] = top
    return best


@njit(cache=True, nogil=True)
def lacks(grid, pieces, rapid, shape, margin, bodies):
    """How much (pieces, bodies) the tip at the end of each piece (m, 6) stands too low for upright cylinders
    over the stock, which the cutter lowers piece by piece. `bodies` (b, 2): radius, height over the tip. A
    body that is no thicker than the cutter meets only what the cutter is about to take, so it is looked at
    before. Rapids are not looked at."""
    out = np.zeros((len(pieces), len(bodies)))
    tops = block_tops(grid.heights)
    for m in range(len(pieces)):
        ax, ay, bx, by = pieces[m, 0], pieces[m, 1], pieces[m, 3], pieces[m, 4]
        for b in range(len(bodies)):
            reach = bodies[b, 0] - margin
            if bodies[b, 0] <= shape[0] and reach > 0.0 and not rapid[m]:
                foot = max(pieces[m, 2], pieces[m, 5]) + bodies[b, 1]
                out[m, b] = highest_over(grid, tops, (ax, ay, bx, by), reach, foot) - foot
        stamp(grid, pieces[m : m + 1], shape, margin)
        if rapid[m]:
            continue
        for b in range(len(bodies)):
            if bodies[b, 0] > shape[0]:
                foot = pieces[m, 5] + bodies[b, 1]
                out[m, b] = highest_over(grid, tops, (bx, by, bx, by), bodies[b, 0], foot) - foot
    return out


@njit(cache=True, nogil=True)
def raster_top(grid, triangles):
    """Raises cells to the highest point of triangles (t, 3, 3) over the cell's centre."""
    heights, x0, y0, cell = grid
    ny, nx = heights.shape
    for m in range(len(triangles)):
        a, b, c = triangles[m, 0], triangles[m, 1], triangles[m, 2]
        det = (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1])
        if abs(det) < 1e-14:
            continue
        i0 = max(0, int(math.floor((min(a[0], b[0], c[0]) - x0) / cell)))
        i1 = min(nx - 1, int(math.floor((max(a[0], b[0], c[0]) - x0) / cell)))
        j0 = max(0, int(math.floor((min(a[1], b[1], c[1]) - y0) / cell)))
        j1 = min(ny - 1, int(math.floor((max(a[1], b[1], c[1]) - y0) / cell)))
        for j in range(j0, j1 + 1):
            py = y0 + (j + 0.5) * cell
            for i in range(i0, i1 + 1):
                px = x0 + (i + 0.5) * cell
                u = ((px - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (py - a[1])) / det
                v = ((b[0] - a[0]) * (py - a[1]) - (px - a[0]) * (b[1] - a[1])) / det
                if u >= -1e-9 and v >= -1e-9 and u + v <= 1.0 + 1e-9:
                    z = a[2] + u * (b[2] - a[2]) + v * (c[2] - a[2])
                    if z > heights[j, i]:
                        heights[j, i] = z
