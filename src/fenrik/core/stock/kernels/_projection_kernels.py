"""Heights of the dexels seen along any direction: what a side sees of every interval, as thick as its cells,
raised into a height map."""

import math
from typing import NamedTuple

import numpy as np

from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._tuples import Floats


class RayLattice(NamedTuple):
    """nu x nv rays along an axis `direction`, `spacing` mm apart from `origin` (3,)."""

    direction: int
    nu: int
    nv: int
    origin: Floats
    spacing: float


SIDE, TILE = 32, 1024
"""Rays along the side of a tile, and in it (see `_tile_kernels`)."""


@njit(cache=True, nogil=True)
def _raise_bar(grid, begin, end, wide, rise):
    """Raises the map to a straight bar between two places: at every cell within `wide` of its line the
    highest place of the line that is as near, and `rise` more."""
    heights, x0, y0, cell = grid
    (x1, y1, z1), (x2, y2, z2) = begin, end
    ny, nx = heights.shape
    run = math.hypot(x2 - x1, y2 - y1)
    top = max(z1, z2) + rise
    r0 = max(0, int(math.floor((min(y1, y2) - wide - y0) / cell)))
    r1 = min(ny - 1, int(math.floor((max(y1, y2) + wide - y0) / cell)))
    if run < 1e-9:
        c0 = max(0, int(math.floor((x1 - wide - x0) / cell)))
        c1 = min(nx - 1, int(math.floor((x1 + wide - x0) / cell)))
        for r in range(r0, r1 + 1):
            for c in range(c0, c1 + 1):
                heights[r, c] = max(heights[r, c], top)
        return
    slope = (z2 - z1) / run
    dx, dy = (x2 - x1) / run, (y2 - y1) / run
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
            if abs(dx * (y - y1) - dy * (x - x1)) > wide:
                continue
            along = dx * (x - x1) + dy * (y - y1)
            if along < -wide or along > run + wide:
                continue
            at = along + (wide if slope > 0 else -wide)
            z = z1 + slope * min(run, max(0.0, at)) + rise
            if z > heights[r, c]:
                heights[r, c] = z


@njit(cache=True, nogil=True)
def _neighbour(i, j, nu, nv, tu):
    """The number of a ray, -1 beyond the lattice."""
    if i < 0 or j < 0 or i >= nu or j >= nv:
        return -1
    return ((j // SIDE) * tu + i // SIDE) * TILE + (j % SIDE) * SIDE + i % SIDE


@njit(cache=True, nogil=True)
def raise_intervals(grid, rays, lattice, turned, shift, band):
    """Raises a map to the rays of a lattice (their numbers nu, nv and spacing are in `lattice`) in the rows
    of a `band` (first, last). `turned` (3, 3) and `shift` (3,) take lattice coordinates to the map's.

    The main direction, nearest to the map's Z, gives all material that a node of the lattice lies in: an
    interval is a bar that reaches a whole cell to each side, as far down as the map can see it past its
    neighbours. The other directions add intervals between two nodes, which no ray of the main one meets.
    """
    direction, nu, nv, origin, spacing = lattice
    places, widths, counts, ends, first, last = (
        rays.places,
        rays.widths,
        rays.counts,
        rays.ends,
        rays.first,
        rays.last,
    )
    main = direction == np.argmax(np.abs(turned[2]))
    cell = grid.cell
    u, v = (1, 2) if direction == 0 else ((0, 2) if direction == 1 else (0, 1))
    reach = spacing if main else 0.5 * spacing
    plan_u, plan_v = math.hypot(turned[0, u], turned[1, u]), math.hypot(turned[0, v], turned[1, v])
    wide = reach * (plan_u + plan_v) + cell * 0.70711
    rise = reach * (abs(turned[2, u]) + abs(turned[2, v]))
    ax, ay, az = turned[0, direction], turned[1, direction], turned[2, direction]
    if math.hypot(ax, ay) < 1e-9:
        ax, ay = 0.0, 0.0
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
            # what neighbours on the side of the map's Z hide of it
            low_seen, high_seen = -1e30, 1e30
            if main:
                hidden = True
                for n in range(2):
                    lean = abs(turned[2, u]) if n == 0 else abs(turned[2, v])
                    if lean < 1e-9:
                        continue
                    s = (
                        _neighbour(i + step_u, j, nu, nv, tu)
                        if n == 0
                        else _neighbour(i, j + step_v, nu, nv, tu)
                    )
                    if s < 0 or counts[s] != 1 or counts[r] != 1:
                        hidden = False
                        break
                    if az > 0.0:
                        hidden = hidden and first[s] <= first[r]
                        high_seen = min(high_seen, last[s])
                    else:
                        hidden = hidden and last[s] >= last[r]
                        low_seen = max(low_seen, first[s])
                if not hidden or counts[r] != 1:
                    low_seen, high_seen = -1e30, 1e30
                elif az > 0.0:
                    low_seen, high_seen = high_seen - spacing, 1e30
                else:
                    low_seen, high_seen = -1e30, low_seen + spacing
                if not hidden:
                    low_seen, high_seen = -1e30, 1e30
            for n in range(counts[r]):
                low, high = float(ends[at + 2 * n]), float(ends[at + 2 * n + 1])
                if main:
                    if az > 0.0:
                        low = max(low, min(low_seen, high))
                    else:
                        high = min(high, max(high_seen, low))
                else:
                    node = (
                        origin[direction]
                        + (math.ceil((low - origin[direction]) / spacing - 0.5) + 0.5) * spacing
                    )
                    if node <= high:
                        continue
                begin = (bx + low * ax, by + low * ay, bz + low * az)
                end = (bx + high * ax, by + high * ay, bz + high * az)
                _raise_bar(grid, begin, end, wide, rise)
