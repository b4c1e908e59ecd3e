"""Heights of the dexels seen along any direction: what a side sees of every interval, as thick as its cells,
raised into a height map."""

import math
from typing import NamedTuple

import numpy as np

from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._steady_kernels import slab
from fenrik.core.stock.kernels._tuples import Floats


class RayLattice(NamedTuple):
    """nu x nv rays along an axis `direction`, `spacing` mm apart from `origin` (3,)."""

    direction: int
    nu: int
    nv: int
    origin: Floats
    spacing: float


UNSEEN = np.int64(-2)
"""Stands for a neighbour that hides nothing, since the map's Z does not lean to its side."""
SIDE, TILE = 32, 1024
"""Rays along the side of a tile, and in it (see `_ray_kernels`)."""


@njit(cache=True, nogil=True)
def _raise_bar(grid, at, frame, span, reach):
    """Raises the map to a bar: the box that reaches `reach` mm to each side of a line from `at` (3,) along
    the first column of `frame` (3, 3), over the `span` (low, high) of that line.

    A cell is raised to the highest place of the box over any of its places: the box grown by what a cell's
    corner is off its middle, met by an upright line through the middle (the slabs of Kay and Kajiya 1986).
    """
    heights, x0, y0, cell = grid
    ny, nx = heights.shape
    half = 0.70711 * cell
    plan_a = math.hypot(frame[0, 0], frame[1, 0])
    plan_u, plan_v = math.hypot(frame[0, 1], frame[1, 1]), math.hypot(frame[0, 2], frame[1, 2])
    wide = reach * (plan_u + plan_v) + half
    least = (span[0] - half * plan_a, -reach - half * plan_u, -reach - half * plan_v)
    most = (span[1] + half * plan_a, reach + half * plan_u, reach + half * plan_v)
    x1, y1 = at[0] + span[0] * frame[0, 0], at[1] + span[0] * frame[1, 0]
    x2, y2 = at[0] + span[1] * frame[0, 0], at[1] + span[1] * frame[1, 0]
    run = math.hypot(x2 - x1, y2 - y1)
    dx, dy = ((x2 - x1) / run, (y2 - y1) / run) if run > 1e-9 else (0.0, 0.0)
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
                continue
        c0 = max(0, int(math.floor((min(x1 + s0 * dx, x1 + s1 * dx) - wide - x0) / cell)))
        c1 = min(nx - 1, int(math.floor((max(x1 + s0 * dx, x1 + s1 * dx) + wide - x0) / cell)))
        for c in range(c0, c1 + 1):
            x = x0 + (c + 0.5) * cell
            px, py = x - at[0], y - at[1]
            # the upright line's part in each pair of the box's faces
            bottom, top = -1e30, 1e30
            for k in range(3):
                inside = frame[0, k] * px + frame[1, k] * py
                bottom, top = slab(bottom, top, inside, frame[2, k], least[k], most[k])
            if bottom <= top and at[2] + top > heights[r, c]:
                heights[r, c] = at[2] + top


@njit(cache=True, nogil=True)
def _neighbour(i, j, nu, nv, tu):
    """The number of a ray, -1 beyond the lattice."""
    if i < 0 or j < 0 or i >= nu or j >= nv:
        return -1
    return ((j // SIDE) * tu + i // SIDE) * TILE + (j % SIDE) * SIDE + i % SIDE


@njit(cache=True, nogil=True)
def _seen(rays, r, n, beside, upwards, spacing):
    """What can be seen of interval n of ray r past its neighbours `beside`, on the side of the map's Z: their
    intervals hide what lies along them, but for a cell where they end."""
    places, widths, counts, ends = rays.places, rays.widths, rays.counts, rays.ends
    at = places[r // TILE] + (r % TILE) * widths[r // TILE] + 2 * n
    low, high = float(ends[at]), float(ends[at + 1])
    least, most = -1e30, 1e30
    for k in range(2):
        s = beside[k]
        if s == UNSEEN:
            continue
        if s < 0 or counts[s] != counts[r]:
            return low, high
        there = places[s // TILE] + (s % TILE) * widths[s // TILE] + 2 * n
        begin, end = float(ends[there]), float(ends[there + 1])
        if begin > low if upwards else end < high:
            return low, high
        least, most = max(least, begin), min(most, end)
    if upwards:
        return max(low, min(most - spacing, high)), high
    return low, min(high, max(least + spacing, low))


@njit(cache=True, nogil=True)
def raise_intervals(grid, rays, lattice, turned, shift, band):
    """Raises a map to the rays of a lattice (their numbers nu, nv and spacing are in `lattice`) in the rows
    of a `band` (first, last). `turned` (3, 3) and `shift` (3,) take lattice coordinates to the map's.

    The main direction, nearest to the map's Z, gives all material that a node of the lattice lies in: an
    interval is a bar that reaches a whole cell to each side, as far down as the map can see it past its
    neighbours. The other directions add intervals between two nodes, which no ray of the main one meets.
    """
    direction, nu, nv, origin, spacing = lattice
    places, widths, counts, ends = rays.places, rays.widths, rays.counts, rays.ends
    main = direction == np.argmax(np.abs(turned[2]))
    u, v = (1, 2) if direction == 0 else ((0, 2) if direction == 1 else (0, 1))
    reach = spacing if main else 0.5 * spacing
    frame = np.empty((3, 3))
    frame[:, 0], frame[:, 1], frame[:, 2] = turned[:, direction], turned[:, u], turned[:, v]
    az = turned[2, direction]
    step_u, step_v = (1 if turned[2, u] > 0 else -1), (1 if turned[2, v] > 0 else -1)
    tu = -(-nu // SIDE)
    for j in range(band[0], band[1]):
        for i in range(nu):
            r = _neighbour(i, j, nu, nv, tu)
            if counts[r] == 0:
                continue
            t = r // TILE
            at = places[t] + (r % TILE) * widths[t]
            pu, pv = origin[u] + (i + 0.5) * spacing, origin[v] + (j + 0.5) * spacing
            bx = turned[0, u] * pu + turned[0, v] * pv + shift[0]
            by = turned[1, u] * pu + turned[1, v] * pv + shift[1]
            bz = turned[2, u] * pu + turned[2, v] * pv + shift[2]
            beside = (
                _neighbour(i + step_u, j, nu, nv, tu) if abs(turned[2, u]) >= 1e-9 else UNSEEN,
                _neighbour(i, j + step_v, nu, nv, tu) if abs(turned[2, v]) >= 1e-9 else UNSEEN,
            )
            for n in range(counts[r]):
                low, high = float(ends[at + 2 * n]), float(ends[at + 2 * n + 1])
                if main:
                    low, high = _seen(rays, r, n, beside, az > 0.0, spacing)
                else:
                    node = (
                        origin[direction]
                        + (math.ceil((low - origin[direction]) / spacing - 0.5) + 0.5) * spacing
                    )
                    if node <= high:
                        continue
                _raise_bar(grid, (bx, by, bz), frame, (low, high), reach)
