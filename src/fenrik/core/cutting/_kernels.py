"""Numba kernels of the drop cutter: contact with facet, edge, vertex; the tree; batches.

A cutter is `shape` (see `fenrik.core.tooling.profile.Profile.shape`): radius, flat, corner, tangent of the
cone, where arc and cone end, and the arc of the rim. The tip over a point at distance d from the axis is
lifted by `underside`, which is convex: flat, arc, cone, arc of the rim.

Primitive rows (12 doubles): facet  A B C | three edge functions (nx ny c) >= 0 inside
                             edge   x0 y0 z0 ux uy length slope
                             vertex x y z
"""

import math
from typing import Any, NamedTuple

import numpy as np
from numba import njit, prange
from numpy.typing import NDArray

from fenrik.core.tooling._profile_kernels import underside

FACET, EDGE, VERTEX = 0, 1, 2
LOWEST = -1e30
NONE: Any = np.int64(-1)
"""No primitive. Of a type, as all that kernels hand on: a plain number has them compiled once more for it."""
FACET_SLACK = (
    1e-11  # facets reach this much farther, so that none is missed between two that lie in one plane
)


class Tree(NamedTuple):
    """Everything that one cutter can touch, in a tree of the boxes where it does (`build_tree`).

    `node_box` (m, 5) mm and `child` (m, 2) are the tree, `kinds` (n,) and `rows` (n, 12) the primitives in
    its order, `shape` is the cutter's.
    """

    node_box: NDArray[np.float64]
    child: NDArray[np.int32]
    kinds: NDArray[np.int8]
    rows: NDArray[np.float64]
    shape: tuple[float, ...]


class Scan(NamedTuple):
    """How finely a track is sampled, mm: the first `step`, the `tolerance` of a chord, the shortest piece."""

    step: float
    tolerance: float
    finest: float


@njit(cache=True, nogil=True)
def edge_tip(row, x, y, shape, least):
    """Tip height at which the cutter at (x, y) touches the edge from above; any lower value when it is below
    `least`."""
    dx, dy = x - row[0], y - row[1]
    foot = dx * row[3] + dy * row[4]
    q = abs(dy * row[3] - dx * row[4])
    radius, flat, corner = shape[0], shape[1], shape[2]
    if q >= radius:
        return LOWEST
    z0, length, slope = row[2], row[5], row[6]
    half = math.sqrt(radius * radius - q * q)
    low, high = max(0.0, foot - half), min(length, foot + half)
    if low > high or z0 + max(slope * low, slope * high) <= least:
        return LOWEST
    tapered = shape[4] < radius
    if slope == 0.0:
        s = foot
    elif corner == 0.0 and not tapered:
        s = high if slope > 0.0 else low
    elif flat <= 1e-12 and not tapered:
        rho = math.sqrt(corner * corner - q * q)
        s = foot + slope * rho / math.sqrt(1.0 + slope * slope)
    elif not tapered:
        s = foot + _torus_step(q, abs(slope), flat, corner, half) * (1.0 if slope > 0.0 else -1.0)
    else:
        s = foot + min(half, _tapered_step(q, abs(slope), half, shape)) * (1.0 if slope > 0.0 else -1.0)
    s = min(high, max(low, s))
    d = math.sqrt(q * q + (s - foot) * (s - foot))
    return z0 + slope * s - underside(min(d, radius), shape)


@njit(cache=True, nogil=True)
def _tapered_step(q, slope, half, shape):
    """Distance w >= 0 along the edge from its foot at which a tapered underside rises as the edge does."""
    flat, corner, tan, arc_end, rim_start = shape[1], shape[2], shape[3], shape[4], shape[8]
    if q < arc_end:
        w = math.sqrt(arc_end * arc_end - q * q)
        if tan * w >= slope * arc_end:  # before the cone begins
            if corner == 0.0:
                return w
            if flat <= 1e-12:
                return slope * math.sqrt(corner * corner - q * q) / math.sqrt(1.0 + slope * slope)
            return _torus_step(q, slope, flat, corner, w)
    if q < rim_start:
        w = math.sqrt(rim_start * rim_start - q * q)
        if tan * w >= slope * rim_start:
            return slope * q / math.sqrt(max(1e-300, tan * tan - slope * slope))
    if shape[7] == 0.0:
        return half
    return _torus_step(q, slope, shape[6], shape[7], half)


@njit(cache=True, nogil=True)
def _torus_step(q, slope, flat, corner, half):
    """Distance w >= 0 along the edge from its foot at which a torus, d = flat + corner * u, has the edge's
    slope.

    Solves f(u) = u w - slope d sqrt(1 - u²) = 0 with w² = d² - q², which grows with u, by Newton kept in a
    bracket; the tip's height is stationary there, so a step of 1e-6 is left to its square.
    """
    low = 0.0 if q <= flat else min(1.0, (q - flat) / corner)
    high = 1.0
    u = slope / math.sqrt(1.0 + slope * slope)
    if u <= low:
        u = 0.5 * (low + high)
    for _ in range(60):
        d = flat + corner * u
        w = math.sqrt(max(0.0, d * d - q * q))
        c = math.sqrt(1.0 - u * u)
        value = u * w - slope * d * c
        if value > 0.0:
            high = u
        else:
            low = u
        if high - low < 1e-12:
            break
        rise = 0.0
        if w > 0.0 and c > 0.0:
            rise = w + u * d * corner / w + slope * (d * u / c - corner * c)
        following = u - value / rise if rise > 0.0 else 0.5 * (low + high)
        if not low < following < high:
            following = 0.5 * (low + high)
        done = abs(following - u) < 1e-6 * c
        u = following
        if done:
            break
    d = flat + corner * u
    return min(half, math.sqrt(max(0.0, d * d - q * q)))


@njit(cache=True, inline="always")
def primitive_tip(kind, row, x, y, shape, least):
    """Tip height over one primitive; any lower value when it is below `least`."""
    if kind == FACET:
        if row[3] * x + row[4] * y + row[5] < -FACET_SLACK:
            return LOWEST
        if row[6] * x + row[7] * y + row[8] < -FACET_SLACK:
            return LOWEST
        if row[9] * x + row[10] * y + row[11] < -FACET_SLACK:
            return LOWEST
        return row[0] * x + row[1] * y + row[2]
    if kind == VERTEX:
        dx, dy = x - row[0], y - row[1]
        d2 = dx * dx + dy * dy
        if d2 >= shape[0] * shape[0]:
            return LOWEST
        return row[2] - underside(math.sqrt(d2), shape)
    return edge_tip(row, x, y, shape, least)


@njit(cache=True, nogil=True)
def build_tree(boxes, tops, leaf):
    """A binary tree over boxes (n, 4: x_low, x_high, y_low, y_high) with the highest tip per node.

    Returns node boxes (m, 5), children (m, 2; for leaves first item and -count) and the item order.
    """
    n = len(boxes)
    order = np.arange(n)
    node_box = np.empty((2 * n + 1, 5))
    child = np.empty((2 * n + 1, 2), dtype=np.int32)
    stack = np.empty((128, 3), dtype=np.int64)
    stack[0] = (0, 0, n)
    depth, used = 1, 1
    keys = np.empty(n)
    while depth > 0:
        depth -= 1
        node, first, last = stack[depth]
        low_x, high_x, low_y, high_y, top = 1e300, -1e300, 1e300, -1e300, -1e300
        c_low_x, c_high_x, c_low_y, c_high_y = 1e300, -1e300, 1e300, -1e300
        for k in range(first, last):
            i = order[k]
            low_x, high_x = min(low_x, boxes[i, 0]), max(high_x, boxes[i, 1])
            low_y, high_y = min(low_y, boxes[i, 2]), max(high_y, boxes[i, 3])
            top = max(top, tops[i])
            cx, cy = boxes[i, 0] + boxes[i, 1], boxes[i, 2] + boxes[i, 3]
            c_low_x, c_high_x = min(c_low_x, cx), max(c_high_x, cx)
            c_low_y, c_high_y = min(c_low_y, cy), max(c_high_y, cy)
        node_box[node] = (low_x, high_x, low_y, high_y, top)
        if last - first <= leaf:
            child[node, 0], child[node, 1] = first, -(last - first)
            continue
        along_x = c_high_x - c_low_x >= c_high_y - c_low_y
        for k in range(first, last):
            i = order[k]
            keys[k] = boxes[i, 0] + boxes[i, 1] if along_x else boxes[i, 2] + boxes[i, 3]
        middle = (first + last) // 2
        _select(keys, order, first, last - 1, middle)
        child[node, 0], child[node, 1] = used, used + 1
        stack[depth] = (used, first, middle)
        stack[depth + 1] = (used + 1, middle, last)
        depth += 2
        used += 2
    return node_box[:used].copy(), child[:used].copy(), order


@njit(cache=True, nogil=True)
def _select(keys, order, low, high, k):
    """Quickselect: afterwards keys[low..k-1] <= keys[k] <= keys[k+1..high], order moved along."""
    while low < high:
        pivot = keys[(low + high) // 2]
        i, j = low, high
        while i <= j:
            while keys[i] < pivot:
                i += 1
            while keys[j] > pivot:
                j -= 1
            if i <= j:
                keys[i], keys[j] = keys[j], keys[i]
                order[i], order[j] = order[j], order[i]
                i += 1
                j -= 1
        if k <= j:
            high = j
        elif k >= i:
            low = i
        else:
            return


@njit(cache=True, nogil=True)
def drop_one(x, y, start, hint, tree):
    """(tip height, winning primitive) of the cutter dropped at (x, y), not below `start`.

    `hint` is a primitive that probably wins (the neighbour's winner); -1 for none.
    """
    node_box, child, kinds, rows, shape = tree
    best, winner = start, NONE
    if hint >= 0:
        z = primitive_tip(kinds[hint], rows[hint], x, y, shape, best)
        if z > best:
            best, winner = z, hint
    stack = np.empty(96, dtype=np.int32)
    stack[0] = 0
    depth = 1
    while depth > 0:
        depth -= 1
        node = stack[depth]
        if node_box[node, 4] <= best:
            continue
        left, right = child[node, 0], child[node, 1]
        if right < 0:
            for k in range(left, left - right):
                z = primitive_tip(kinds[k], rows[k], x, y, shape, best)
                if z > best:
                    best, winner = z, k
            continue
        lb, rb = node_box[left], node_box[right]
        hit_left = lb[4] > best and lb[0] <= x <= lb[1] and lb[2] <= y <= lb[3]
        hit_right = rb[4] > best and rb[0] <= x <= rb[1] and rb[2] <= y <= rb[3]
        if hit_left and hit_right:
            if lb[4] > rb[4]:
                stack[depth], stack[depth + 1] = right, left
            else:
                stack[depth], stack[depth + 1] = left, right
            depth += 2
        elif hit_left:
            stack[depth] = left
            depth += 1
        elif hit_right:
            stack[depth] = right
            depth += 1
    return best, winner


@njit(cache=True, nogil=True)
def blocked_at(x, y, level, hint, tree):
    """Whether the dropped cutter's tip lies above `level` at (x, y), and the primitive that says so (-1:
    none).

    Ends at the first primitive that is high enough; `hint` is tried before all others.
    """
    node_box, child, kinds, rows, shape = tree
    if hint >= 0 and primitive_tip(kinds[hint], rows[hint], x, y, shape, level) > level:
        return True, hint
    stack = np.empty(96, dtype=np.int32)
    stack[0] = 0
    depth = 1
    while depth > 0:
        depth -= 1
        node = stack[depth]
        box = node_box[node]
        if box[4] <= level or not (box[0] <= x <= box[1] and box[2] <= y <= box[3]):
            continue
        left, right = child[node, 0], child[node, 1]
        if right < 0:
            for k in range(left, left - right):
                if primitive_tip(kinds[k], rows[k], x, y, shape, level) > level:
                    return True, k
            continue
        if node_box[left, 4] > node_box[right, 4]:
            stack[depth], stack[depth + 1] = right, left
        else:
            stack[depth], stack[depth + 1] = left, right
        depth += 2
    return False, NONE


@njit(cache=True, nogil=True, parallel=True)
def blocked_many(points, levels, tree):
    """`blocked_at` for points (n, 2) with a level each (n,): (n,) bool."""
    node_box, child, kinds, rows, shape = tree  # a tuple in a tuple does not pass into a parallel loop
    n = len(points)
    out = np.zeros(n, dtype=np.bool_)
    chunk = 256
    for c in prange((n + chunk - 1) // chunk):
        mine = Tree(node_box, child, kinds, rows, shape)
        hint = NONE
        for i in range(c * chunk, min(n, (c + 1) * chunk)):
            blocked, found = blocked_at(points[i, 0], points[i, 1], levels[i], hint, mine)
            out[i] = blocked
            if blocked:
                hint = found
    return out


@njit(cache=True, nogil=True, parallel=True)
def drop_many(points, floor, tree):
    """Tip heights at points (n, 2), not below `floor`; neighbours in the list help each other."""
    node_box, child, kinds, rows, shape = tree  # a tuple in a tuple does not pass into a parallel loop
    n = len(points)
    out = np.empty(n)
    chunk = 256
    for c in prange((n + chunk - 1) // chunk):
        mine = Tree(node_box, child, kinds, rows, shape)
        hint = NONE
        for i in range(c * chunk, min(n, (c + 1) * chunk)):
            z, winner = drop_one(points[i, 0], points[i, 1], floor, hint, mine)
            out[i] = z
            hint = winner
    return out


@njit(cache=True, nogil=True)
def drop_many_serial(points, floor, tree):
    """As `drop_many`, on one thread."""
    n = len(points)
    out = np.empty(n)
    hint = NONE
    for i in range(n):
        out[i], hint = drop_one(points[i, 0], points[i, 1], floor, hint, tree)
    return out


@njit(cache=True, nogil=True)
def sample_line(start, end, scan, floor, tree):
    """Heights along the straight line from start to end (2,) as (s, z) rows, s from 0 to its length.

    A regular grid of the scan's step, then halved wherever the middle leaves the chord by more than its
    tolerance, down to its finest piece.
    """
    x0, y0, x1, y1 = start[0], start[1], end[0], end[1]
    step, tolerance, finest = scan
    length = math.hypot(x1 - x0, y1 - y0)
    ux = (x1 - x0) / length if length > 0.0 else 0.0
    uy = (y1 - y0) / length if length > 0.0 else 0.0
    count = max(1, int(math.ceil(length / step)))
    capacity = 4 * count + 64
    out = np.empty((capacity, 2))
    z, hint = drop_one(x0, y0, floor, NONE, tree)
    out[0, 0], out[0, 1] = 0.0, z
    used = 1
    stack = np.empty((64, 2))
    for k in range(count):
        s_to = length * (k + 1) / count
        z_to, hint = drop_one(x0 + ux * s_to, y0 + uy * s_to, floor, hint, tree)
        stack[0, 0], stack[0, 1] = s_to, z_to
        depth = 1
        while depth > 0:
            s_from, z_from = out[used - 1, 0], out[used - 1, 1]
            s_end, z_end = stack[depth - 1, 0], stack[depth - 1, 1]
            s_mid = 0.5 * (s_from + s_end)
            split = False
            if s_end - s_from > finest and depth < 63:
                z_mid, hint = drop_one(x0 + ux * s_mid, y0 + uy * s_mid, floor, hint, tree)
                rise = (z_end - z_from) / (s_end - s_from)
                off = abs(z_mid - 0.5 * (z_from + z_end)) / math.sqrt(1.0 + rise * rise)
                split = off > tolerance
                if split:
                    stack[depth, 0], stack[depth, 1] = s_mid, z_mid
                    depth += 1
            if not split:
                if used == capacity:
                    capacity *= 2
                    grown = np.empty((capacity, 2))
                    grown[:used] = out
                    out = grown
                out[used, 0], out[used, 1] = s_end, z_end
                used += 1
                depth -= 1
    return out[:used].copy()


@njit(cache=True, nogil=True)
def thin_line(samples, tolerance):
    """Fewest points of a sampled line (s, z) such that no sample leaves its chord by more than
    `tolerance` (square to the chord); greedy from the start with a cone of chord angles."""
    n = len(samples)
    keep = np.zeros(n, dtype=np.bool_)
    keep[0] = True
    anchor = 0
    while anchor < n - 1:
        low, high = -4.0, 4.0
        last = anchor + 1
        for j in range(anchor + 1, n):
            ds = samples[j, 0] - samples[anchor, 0]
            dz = samples[j, 1] - samples[anchor, 1]
            away = math.sqrt(ds * ds + dz * dz)
            angle = math.atan2(dz, ds)
            if low <= angle <= high:
                last = j
            if away > tolerance:
                reach = math.asin(tolerance / away)
                low, high = max(low, angle - reach), min(high, angle + reach)
            if low > high:
                break
        keep[last] = True
        anchor = last
    return keep
