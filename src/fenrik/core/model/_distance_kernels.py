"""Kernels of the signed distance to a closed triangle mesh."""

import math

import numpy as np
from numba import njit, prange


@njit(cache=True, nogil=True)
def build(boxes, leaf):
    """Binary tree over boxes (n, 6: low xyz, high xyz): node boxes, children (leaves: first, -count),
    order."""
    n = len(boxes)
    order = np.arange(n)
    node_box = np.empty((2 * n + 1, 6))
    child = np.empty((2 * n + 1, 2), dtype=np.int32)
    stack = np.empty((128, 3), dtype=np.int64)
    stack[0] = (0, 0, n)
    depth, used = 1, 1
    while depth > 0:
        depth -= 1
        node, first, last = stack[depth]
        for a in range(3):
            low, high = 1e300, -1e300
            for k in range(first, last):
                low, high = min(low, boxes[order[k], a]), max(high, boxes[order[k], 3 + a])
            node_box[node, a], node_box[node, 3 + a] = low, high
        if last - first <= leaf:
            child[node, 0], child[node, 1] = first, -(last - first)
            continue
        axis, widest = 0, -1.0
        for a in range(3):
            if node_box[node, 3 + a] - node_box[node, a] > widest:
                axis, widest = a, node_box[node, 3 + a] - node_box[node, a]
        part = order[first:last]
        keys = np.empty(last - first)
        for k in range(last - first):
            keys[k] = boxes[part[k], axis] + boxes[part[k], 3 + axis]
        order[first:last] = part[np.argsort(keys)]
        middle = (first + last) // 2
        child[node, 0], child[node, 1] = used, used + 1
        stack[depth] = (used, first, middle)
        stack[depth + 1] = (used + 1, middle, last)
        depth += 2
        used += 2
    return node_box[:used].copy(), child[:used].copy(), order


@njit(cache=True, inline="always")
def _box_gap(box, x, y, z):
    dx = max(0.0, max(box[0] - x, x - box[3]))
    dy = max(0.0, max(box[1] - y, y - box[4]))
    dz = max(0.0, max(box[2] - z, z - box[5]))
    return dx * dx + dy * dy + dz * dz


@njit(cache=True, nogil=True)
def _closest(t, x, y, z):
    """Closest point of a triangle row (9) and where it lies: 0 inside, 1-3 on ab, bc, ca, 4-6 at a, b, c.

    Regions after Ericson, Real-Time Collision Detection (2005), 5.1.5.
    """
    ax, ay, az = t[0], t[1], t[2]
    abx, aby, abz = t[3] - ax, t[4] - ay, t[5] - az
    acx, acy, acz = t[6] - ax, t[7] - ay, t[8] - az
    apx, apy, apz = x - ax, y - ay, z - az
    d1 = abx * apx + aby * apy + abz * apz
    d2 = acx * apx + acy * apy + acz * apz
    if d1 <= 0.0 and d2 <= 0.0:
        return ax, ay, az, 4
    bpx, bpy, bpz = x - t[3], y - t[4], z - t[5]
    d3 = abx * bpx + aby * bpy + abz * bpz
    d4 = acx * bpx + acy * bpy + acz * bpz
    if d3 >= 0.0 and d4 <= d3:
        return t[3], t[4], t[5], 5
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        v = d1 / (d1 - d3)
        return ax + v * abx, ay + v * aby, az + v * abz, 1
    cpx, cpy, cpz = x - t[6], y - t[7], z - t[8]
    d5 = abx * cpx + aby * cpy + abz * cpz
    d6 = acx * cpx + acy * cpy + acz * cpz
    if d6 >= 0.0 and d5 <= d6:
        return t[6], t[7], t[8], 6
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        w = d2 / (d2 - d6)
        return ax + w * acx, ay + w * acy, az + w * acz, 3
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        return t[3] + w * (t[6] - t[3]), t[4] + w * (t[7] - t[4]), t[5] + w * (t[8] - t[5]), 2
    scale = 1.0 / (va + vb + vc)
    v, w = vb * scale, vc * scale
    return ax + v * abx + w * acx, ay + v * aby + w * acy, az + v * abz + w * acz, 0


@njit(cache=True, nogil=True)
def nearest(x, y, z, hint, node_box, child, corners):
    """(squared distance, triangle, feature) nearest to a point; `hint` is a triangle tried first."""
    best, tri, feature = 1e300, -1, 0
    if hint >= 0:
        cx, cy, cz, feature = _closest(corners[hint], x, y, z)
        best, tri = (x - cx) ** 2 + (y - cy) ** 2 + (z - cz) ** 2, hint
    stack = np.empty(96, dtype=np.int32)
    gaps = np.empty(96)
    stack[0], gaps[0] = 0, 0.0
    depth = 1
    while depth > 0:
        depth -= 1
        node = stack[depth]
        if gaps[depth] >= best:
            continue
        left, right = child[node, 0], child[node, 1]
        if right < 0:
            for k in range(left, left - right):
                cx, cy, cz, where = _closest(corners[k], x, y, z)
                d = (x - cx) ** 2 + (y - cy) ** 2 + (z - cz) ** 2
                if d < best:
                    best, tri, feature = d, k, where
            continue
        gl, gr = _box_gap(node_box[left], x, y, z), _box_gap(node_box[right], x, y, z)
        if gl < gr:
            stack[depth], gaps[depth], stack[depth + 1], gaps[depth + 1] = right, gr, left, gl
        else:
            stack[depth], gaps[depth], stack[depth + 1], gaps[depth + 1] = left, gl, right, gr
        depth += 2
    return best, tri, feature


@njit(cache=True, nogil=True, parallel=True)
def signed(points, node_box, child, corners, normals):
    """Signed distance (n,) of points (n, 3), positive outside, and the nearest triangle (n,).

    `normals` (t, 7, 3): face, three edges, three vertices; the sign is that of the angle-weighted
    normal of the nearest feature (Bærentzen and Aanæs 2005).
    """
    n = len(points)
    out = np.empty(n)
    tri = np.empty(n, dtype=np.int32)
    chunk = 512
    for c in prange((n + chunk - 1) // chunk):
        hint = np.int64(-1)  # of a type: a plain number has `nearest` compiled once more for it
        for i in range(c * chunk, min(n, (c + 1) * chunk)):
            x, y, z = points[i, 0], points[i, 1], points[i, 2]
            d2, hint, feature = nearest(x, y, z, hint, node_box, child, corners)
            cx, cy, cz, feature = _closest(corners[hint], x, y, z)
            m = normals[hint, feature]
            side = (x - cx) * m[0] + (y - cy) * m[1] + (z - cz) * m[2]
            d = math.sqrt(d2)
            out[i] = d if side >= 0.0 else -d
            tri[i] = hint
    return out, tri
