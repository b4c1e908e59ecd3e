"""Numba kernels of the drop cutter: contact with facet, edge, vertex; the tree; batches.

A cutter is (radius R, corner radius r); a = R - r is the radius of its flat bottom. The tip height
over a point at distance d from the axis is lifted by profile(d) = 0 for d <= a, else
r - sqrt(r² - (d - a)²), for d <= R.

Primitive rows (12 doubles): facet  A B C | three edge functions (nx ny c) >= 0 inside
                             edge   x0 y0 z0 ux uy length slope
                             vertex x y z
"""

import math

import numpy as np
from numba import njit, prange

FACET, EDGE, VERTEX = 0, 1, 2
LOWEST = -1e30


@njit(cache=True, inline="always")
def profile(d, flat, corner):
    if d <= flat:
        return 0.0
    over = d - flat
    return corner - math.sqrt(max(0.0, corner * corner - over * over))


@njit(cache=True, nogil=True)
def edge_tip(row, x, y, radius, corner):
    """Tip height at which the cutter at (x, y) touches the edge from above."""
    dx, dy = x - row[0], y - row[1]
    foot = dx * row[3] + dy * row[4]
    q = abs(dy * row[3] - dx * row[4])
    if q >= radius:
        return LOWEST
    z0, length, slope = row[2], row[5], row[6]
    flat = radius - corner
    half = math.sqrt(radius * radius - q * q)
    low, high = max(0.0, foot - half), min(length, foot + half)
    if low > high:
        return LOWEST
    if slope == 0.0:
        s = foot
    elif corner == 0.0:
        s = high if slope > 0.0 else low
    elif flat <= 1e-12:
        rho = math.sqrt(corner * corner - q * q)
        s = foot + slope * rho / math.sqrt(1.0 + slope * slope)
    else:
        s = foot + _bull_step(q, abs(slope), flat, corner, half) * (1.0 if slope > 0.0 else -1.0)
    s = min(high, max(low, s))
    d = math.sqrt(q * q + (s - foot) * (s - foot))
    return z0 + slope * s - profile(min(d, radius), flat, corner)


@njit(cache=True, nogil=True)
def _bull_step(q, slope, flat, corner, half):
    """Distance w >= 0 along the edge from its foot at which the corner torus has the edge's slope.

    With d = flat + corner*sin(t): tan(t) * sqrt(d² - q²) / d = slope; the left side grows with t.
    """
    t_low = 0.0 if q <= flat else math.asin(min(1.0, (q - flat) / corner))
    t_high = 0.5 * math.pi
    t = max(t_low, min(math.atan(slope), 1.5))
    for _ in range(60):
        d = flat + corner * math.sin(t)
        w2 = max(0.0, d * d - q * q)
        w = math.sqrt(w2)
        tan = math.tan(t)
        value = tan * w / d - slope
        if value > 0.0:
            t_high = t
        else:
            t_low = t
        if t_high - t_low < 1e-12:
            break
        cos = math.cos(t)
        rise = w / (d * cos * cos)
        if w > 0.0:
            rise += tan * corner * cos * (q * q) / (d * d * w)
        following = t - value / rise if rise > 0.0 else 0.5 * (t_low + t_high)
        if not (t_low < following < t_high):
            following = 0.5 * (t_low + t_high)
        if abs(following - t) < 1e-10:
            t = following
            break
        t = following
    d = flat + corner * math.sin(t)
    return min(half, math.sqrt(max(0.0, d * d - q * q)))


@njit(cache=True, inline="always")
def primitive_tip(kind, row, x, y, radius, corner):
    if kind == FACET:
        if row[3] * x + row[4] * y + row[5] < -1e-12:
            return LOWEST
        if row[6] * x + row[7] * y + row[8] < -1e-12:
            return LOWEST
        if row[9] * x + row[10] * y + row[11] < -1e-12:
            return LOWEST
        return row[0] * x + row[1] * y + row[2]
    if kind == VERTEX:
        dx, dy = x - row[0], y - row[1]
        d2 = dx * dx + dy * dy
        if d2 >= radius * radius:
            return LOWEST
        return row[2] - profile(math.sqrt(d2), radius - corner, corner)
    return edge_tip(row, x, y, radius, corner)


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
def drop_one(x, y, start, hint, node_box, child, kinds, rows, radius, corner):
    """(tip height, winning primitive) of the cutter dropped at (x, y), not below `start`.

    `hint` is a primitive that probably wins (the neighbour's winner); -1 for none.
    """
    best, winner = start, -1
    if hint >= 0:
        z = primitive_tip(kinds[hint], rows[hint], x, y, radius, corner)
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
                z = primitive_tip(kinds[k], rows[k], x, y, radius, corner)
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
def blocked_at(x, y, level, hint, node_box, child, kinds, rows, radius, corner):
    """Whether the dropped cutter's tip lies above `level` at (x, y), and the primitive that says so (-1: none).

    Ends at the first primitive that is high enough; `hint` is tried before all others.
    """
    if hint >= 0 and primitive_tip(kinds[hint], rows[hint], x, y, radius, corner) > level:
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
                if primitive_tip(kinds[k], rows[k], x, y, radius, corner) > level:
                    return True, k
            continue
        if node_box[left, 4] > node_box[right, 4]:
            stack[depth], stack[depth + 1] = right, left
        else:
            stack[depth], stack[depth + 1] = left, right
        depth += 2
    return False, -1


@njit(cache=True, nogil=True, parallel=True)
def blocked_many(points, levels, node_box, child, kinds, rows, radius, corner):
    """`blocked_at` for points (n, 2) with a level each (n,): (n,) bool."""
    n = len(points)
    out = np.zeros(n, dtype=np.bool_)
    chunk = 256
    for c in prange((n + chunk - 1) // chunk):
        hint = -1
        for i in range(c * chunk, min(n, (c + 1) * chunk)):
            blocked, found = blocked_at(
                points[i, 0], points[i, 1], levels[i], hint, node_box, child, kinds, rows, radius, corner
            )
            out[i] = blocked
            if blocked:
                hint = found
    return out


@njit(cache=True, nogil=True, parallel=True)
def drop_many(points, floor, node_box, child, kinds, rows, radius, corner):
    """Tip heights at points (n, 2), not below `floor`; neighbours in the list help each other."""
    n = len(points)
    out = np.empty(n)
    chunk = 256
    for c in prange((n + chunk - 1) // chunk):
        hint = -1
        for i in range(c * chunk, min(n, (c + 1) * chunk)):
            z, winner = drop_one(
                points[i, 0], points[i, 1], floor, hint, node_box, child, kinds, rows, radius, corner
            )
            out[i] = z
            hint = winner
    return out


@njit(cache=True, nogil=True)
def drop_many_serial(points, floor, node_box, child, kinds, rows, radius, corner):
    """As `drop_many`, on one thread."""
    n = len(points)
    out = np.empty(n)
    hint = -1
    for i in range(n):
        out[i], hint = drop_one(
            points[i, 0], points[i, 1], floor, hint, node_box, child, kinds, rows, radius, corner
        )
    return out


@njit(cache=True, nogil=True)
def sample_line(x0, y0, x1, y1, step, tolerance, finest, floor, node_box, child, kinds, rows, radius, corner):
    """Heights along a straight line as (s, z) rows, s from 0 to its length.

    A regular grid of `step`, then halved wherever the middle leaves the chord by more than
    `tolerance`, down to `finest`.
    """
    length = math.hypot(x1 - x0, y1 - y0)
    ux = (x1 - x0) / length if length > 0.0 else 0.0
    uy = (y1 - y0) / length if length > 0.0 else 0.0
    count = max(1, int(math.ceil(length / step)))
    capacity = 4 * count + 64
    out = np.empty((capacity, 2))
    z, hint = drop_one(x0, y0, floor, -1, node_box, child, kinds, rows, radius, corner)
    out[0, 0], out[0, 1] = 0.0, z
    used = 1
    stack = np.empty((64, 2))
    for k in range(count):
        s_to = length * (k + 1) / count
        z_to, hint = drop_one(
            x0 + ux * s_to, y0 + uy * s_to, floor, hint, node_box, child, kinds, rows, radius, corner
        )
        stack[0, 0], stack[0, 1] = s_to, z_to
        depth = 1
        while depth > 0:
            s_from, z_from = out[used - 1, 0], out[used - 1, 1]
            s_end, z_end = stack[depth - 1, 0], stack[depth - 1, 1]
            s_mid = 0.5 * (s_from + s_end)
            split = False
            if s_end - s_from > finest and depth < 63:
                z_mid, hint = drop_one(
                    x0 + ux * s_mid,
                    y0 + uy * s_mid,
                    floor,
                    hint,
                    node_box,
                    child,
                    kinds,
                    rows,
                    radius,
                    corner,
                )
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
