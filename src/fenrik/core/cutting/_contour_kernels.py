"""Kernels that trace where the dropped cutter passes through a level."""

import math
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from fenrik.core.cutting._kernels import NONE, blocked_at


class Nodes(NamedTuple):
    """Heights (ny, nx) mm of a dropped tip over nodes `step` mm apart, from (x0, y0)."""

    heights: NDArray[np.float64]
    x0: float
    y0: float
    step: float


@njit(cache=True, nogil=True)
def _free_point(free, blocked, guess, level, tree, accuracy):
    """From a free place (x, y) towards a blocked one: the last free point, within `accuracy` mm; `guess` is
    the share of the way where it is looked for first."""
    (ax, ay), (bx, by) = free, blocked
    low, high = 0.0, 1.0
    length = math.hypot(bx - ax, by - ay)
    hint = NONE
    t, reach = min(0.98, max(0.02, guess)), 0.8 * accuracy / max(length, 1e-12)
    while (high - low) * length > accuracy:
        stands, found = blocked_at(ax + t * (bx - ax), ay + t * (by - ay), level, hint, tree)
        if stands:
            high, hint = t, found
            t -= reach
        else:
            low = t
            t += reach
        reach *= 4.0  # steps away from the guess, ever longer, until the place lies between two of them
        if not low < t < high or (low > 0.0 and high < 1.0):
            t = 0.5 * (low + high)
    return ax + low * (bx - ax), ay + low * (by - ay)


@njit(cache=True, nogil=True)
def crossings(nodes, level, tree, accuracy):
    """Marching squares over nodes: directed links between crossed grid edges.

    A node is blocked when its height is above `level`. Grid edge 2*(j*nx+i) runs from node (i, j) to
    (i+1, j), the next number to (i, j+1). Each link keeps the blocked side on its left. Returns
    links (m, 2) and the free-side crossing points by edge (dense (2*ny*nx, 2), NaN where none).
    """
    heights, x0, y0, step = nodes
    ny, nx = heights.shape
    points = np.full((2 * ny * nx, 2), np.nan)
    links = np.empty((2 * ny * nx, 2), dtype=np.int64)
    used = 0
    for j in range(ny):
        for i in range(nx):
            here = heights[j, i] > level
            ax, ay = x0 + i * step, y0 + j * step
            for side in range(2):
                oi, oj = (i + 1, j) if side == 0 else (i, j + 1)
                if oi >= nx or oj >= ny or (heights[oj, oi] > level) == here:
                    continue
                bx, by = x0 + oi * step, y0 + oj * step
                e = 2 * (j * nx + i) + side
                share = (level - heights[j, i]) / (heights[oj, oi] - heights[j, i])
                free, stands, guess = (
                    ((bx, by), (ax, ay), 1.0 - share) if here else ((ax, ay), (bx, by), share)
                )
                px, py = _free_point(free, stands, guess, level, tree, accuracy)
                points[e, 0], points[e, 1] = px, py
    edges = np.empty(4, dtype=np.int64)
    for j in range(ny - 1):
        for i in range(nx - 1):
            a, b = heights[j, i] > level, heights[j, i + 1] > level
            c, d = heights[j + 1, i + 1] > level, heights[j + 1, i] > level
            count = int(a) + int(b) + int(c) + int(d)
            if count == 0 or count == 4:
                continue
            edges[0] = 2 * (j * nx + i)  # bottom, from a to b
            edges[1] = 2 * (j * nx + i + 1) + 1  # right, b to c
            edges[2] = 2 * ((j + 1) * nx + i)  # top, d to c
            edges[3] = 2 * (j * nx + i) + 1  # left, a to d
            corners = (a, b, c, d)
            # walking round the cell a-b-c-d: where blocked turns to free a link ends, where free
            # turns to blocked one starts; links that cut off a free corner keep blocked ones joined
            for q in range(4):
                if corners[q] and not corners[(q + 1) % 4]:  # edge q leads from blocked to free
                    r = (q + 1) % 4
                    while not (not corners[r] and corners[(r + 1) % 4]):
                        r = (r + 1) % 4
                    links[used, 0], links[used, 1] = edges[q], edges[r]
                    used += 1
    return links[:used].copy(), points


@njit(cache=True, nogil=True)
def chain(links, size):
    """Link rows (m, 2) put in order of closed loops: list of edges and loop starts."""
    follow = np.full(size, -1, dtype=np.int64)
    for m in range(len(links)):
        follow[links[m, 0]] = links[m, 1]
    done = np.zeros(size, dtype=np.bool_)
    order = np.empty(len(links), dtype=np.int64)
    starts = np.empty(len(links) + 1, dtype=np.int64)
    used, loops = 0, 0
    for m in range(len(links)):
        e = links[m, 0]
        if done[e]:
            continue
        starts[loops] = used
        loops += 1
        while e >= 0 and not done[e]:
            done[e] = True
            order[used] = e
            used += 1
            e = follow[e]
    starts[loops] = used
    return order[:used], starts[: loops + 1]


@njit(cache=True, nogil=True)
def refine(points, level, spacing, tolerance, blocked_right, tree):
    """A closed loop (n, 2) with points added where a chord runs into blocked ground by more than half the
    tolerance.

    Chords are tested every `spacing` mm, half the tolerance to the free side; a failing one gets a point
    pushed to the free side in the middle of what is blocked. `blocked_right` is +1 when the blocked side lies
    to the right of the direction of travel.
    """
    n = len(points)
    capacity = 4 * n + 64
    out = np.empty((capacity, 2))
    used = 0
    hint = NONE
    stack = np.empty((32, 2))
    for i in range(n):
        if used + 40 > capacity:
            capacity *= 2
            grown = np.empty((capacity, 2))
            grown[:used] = out[:used]
            out = grown
        out[used, 0], out[used, 1] = points[i, 0], points[i, 1]
        used += 1
        stack[0, 0], stack[0, 1] = points[(i + 1) % n, 0], points[(i + 1) % n, 1]
        depth, added = 1, 0
        while depth > 0:
            ax, ay = out[used - 1, 0], out[used - 1, 1]
            ex, ey = stack[depth - 1, 0], stack[depth - 1, 1]
            length = math.hypot(ex - ax, ey - ay)
            count = int(length / spacing)
            first, last = -1.0, -1.0
            sx, sy = 0.0, 0.0
            if length > 4 * tolerance and added < 30 and depth < 31:
                sx, sy = -(ey - ay) / length * blocked_right, (ex - ax) / length * blocked_right
                for s in range(1, count + 2):
                    t = s / (count + 2)
                    blocked, found = blocked_at(
                        ax + t * (ex - ax) + 0.5 * tolerance * sx,
                        ay + t * (ey - ay) + 0.5 * tolerance * sy,
                        level,
                        hint,
                        tree,
                    )
                    if blocked:
                        hint, last = found, t
                        if first < 0.0:
                            first = t
            placed = False
            if first >= 0.0:
                at = 0.5 * (first + last)
                mx, my = ax + at * (ex - ax), ay + at * (ey - ay)
                push = tolerance
                while push < length + spacing:
                    blocked, found = blocked_at(mx + push * sx, my + push * sy, level, hint, tree)
                    if not blocked:
                        placed = True
                        break
                    hint = found
                    push *= 2.0
                if placed:
                    pushed = (mx + push * sx, my + push * sy)
                    fx, fy = _free_point(pushed, (mx, my), 0.5, level, tree, tolerance * 0.25)
                    stack[depth, 0], stack[depth, 1] = fx, fy
                    depth += 1
                    added += 1
            if not placed:
                if depth > 1:
                    out[used, 0], out[used, 1] = ex, ey
                    used += 1
                depth -= 1
    return out[:used].copy()
