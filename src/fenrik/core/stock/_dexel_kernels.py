"""Kernels of the interval dexels: subtraction, removal by moves, rays through meshes.

Rays of one direction: ends (nv, nu, 2K) float32, sorted start, end, start, end ...; tags (nv, nu, 2K)
int32 of the piece of motion that made an end (-1: as delivered); counts (nv, nu) of intervals.
Lattice axes of direction d: u, v are the other two in ascending order.
"""

import math

import numpy as np
from numba import njit, prange

from fenrik.core.stock._sweep_kernels import BALL, ball, level, upright

SLIVER = 1e-4
"""Leftovers thinner than this (mm) are dropped."""


@njit(cache=True, nogil=True)
def subtract(ends, tags, count, low, high, tag):
    """Removes low..high from one ray. Returns (new count, removed length); count -1: no room."""
    n = count
    removed = 0.0
    i = 0
    while i < n:
        a, b = ends[2 * i], ends[2 * i + 1]
        if b <= low:
            i += 1
            continue
        if a >= high:
            break
        keep_left = low - a > SLIVER
        keep_right = b - high > SLIVER
        if keep_left and keep_right:
            if 2 * (n + 1) > len(ends):
                return -1, removed
            for k in range(2 * n - 1, 2 * i, -1):
                ends[k + 2], tags[k + 2] = ends[k], tags[k]
            ends[2 * i + 1], tags[2 * i + 1] = low, tag
            ends[2 * i + 2], tags[2 * i + 2] = high, tag
            return n + 1, removed + (high - low)
        if keep_left:
            removed += b - low
            ends[2 * i + 1], tags[2 * i + 1] = low, tag
            i += 1
        elif keep_right:
            removed += high - a
            ends[2 * i], tags[2 * i] = high, tag
            i += 1
        else:
            removed += b - a
            for k in range(2 * i, 2 * (n - 1)):
                ends[k], tags[k] = ends[k + 2], tags[k + 2]
            n -= 1
    return n, removed


@njit(cache=True, nogil=True)
def _cut_block(
    direction,
    ends,
    tags,
    counts,
    origin,
    cell,
    row_from,
    row_to,
    pieces,
    first,
    last,
    bodies,
    rapid,
    tag0,
    volume,
    deepest,
):
    """All pieces first..last with all bodies on the rays of rows row_from..row_to of one direction.

    volume (n, 3) += removed length by role; deepest (n, 3) = longest removal by role, shank and holder
    always, the cutter only where the piece is rapid. Returns False when a ray had no room.
    """
    nu = ends.shape[1]
    # what is empty stays empty: rows and columns without material are passed over
    farthest = -1e30
    used = np.zeros(row_to - row_from, dtype=np.bool_)
    first_u, last_u = nu, -1
    for j in range(row_from, row_to):
        for i in range(nu):
            if counts[j, i] > 0:
                farthest = max(farthest, ends[j, i, 2 * counts[j, i] - 1])
                used[j - row_from] = True
                first_u, last_u = min(first_u, i), max(last_u, i)
    if last_u < 0:
        return True
    u, v = (1, 2) if direction == 0 else ((0, 2) if direction == 1 else (0, 1))
    for p in range(first, last):
        for q in range(len(bodies)):
            kind, role = int(bodies[q, 0]), int(bodies[q, 5])
            z0, z1, r0, r1 = bodies[q, 1], bodies[q, 2], bodies[q, 3], bodies[q, 4]
            wide = r0 + r1 if kind != 0 else max(r0, r1)
            low_u, high_u = min(pieces[p, u], pieces[p, 3 + u]), max(pieces[p, u], pieces[p, 3 + u])
            low_v, high_v = min(pieces[p, v], pieces[p, 3 + v]), max(pieces[p, v], pieces[p, 3 + v])
            low_u, high_u = low_u - wide, high_u + wide
            if v == 2:
                top = 2.0 * r1 if kind == BALL else z1
                low_v, high_v = low_v + z0, high_v + top
            else:
                low_v, high_v = low_v - wide, high_v + wide
            j0 = max(row_from, int(math.ceil((low_v - origin[v]) / cell - 0.5)))
            j1 = min(row_to - 1, int(math.floor((high_v - origin[v]) / cell - 0.5)))
            if j0 > j1:
                continue
            i0 = max(first_u, int(math.ceil((low_u - origin[u]) / cell - 0.5)))
            i1 = min(last_u, int(math.floor((high_u - origin[u]) / cell - 0.5)))
            if i0 > i1:
                continue
            # reach along the ray: rays without material there need no geometry
            low_a = min(pieces[p, direction], pieces[p, 3 + direction])
            high_a = max(pieces[p, direction], pieces[p, 3 + direction])
            if direction == 2:
                low_a, high_a = low_a + z0, high_a + (2.0 * r1 if kind == BALL else z1)
            else:
                low_a, high_a = low_a - wide, high_a + wide
            if low_a >= farthest:
                continue
            px, py, pz = pieces[p, 0], pieces[p, 1], pieces[p, 2]
            dx, dy, dz = pieces[p, 3] - px, pieces[p, 4] - py, pieces[p, 5] - pz
            for j in range(j0, j1 + 1):
                if not used[j - row_from]:
                    continue
                at_v = origin[v] + (j + 0.5) * cell
                for i in range(i0, i1 + 1):
                    n = counts[j, i]
                    touched = False
                    for e in range(n):
                        if ends[j, i, 2 * e + 1] > low_a and ends[j, i, 2 * e] < high_a:
                            touched = True
                            break
                    if not touched:
                        continue
                    at_u = origin[u] + (i + 0.5) * cell
                    if direction == 2:
                        if kind == BALL:
                            low, high = ball(pz + r1, dz, at_u - px, at_v - py, dx, dy, r1)
                        else:
                            low, high = upright(kind, z0, z1, r0, r1, at_u - px, at_v - py, pz, dx, dy, dz)
                    elif direction == 0:
                        if kind == BALL:
                            low, high = ball(px, dx, at_u - py, at_v - pz - r1, dy, dz, r1)
                        else:
                            low, high = level(kind, z0, z1, r0, r1, px, dx, at_u - py, dy, at_v - pz, dz)
                    else:
                        if kind == BALL:
                            low, high = ball(py, dy, at_u - px, at_v - pz - r1, dx, dz, r1)
                        else:
                            low, high = level(kind, z0, z1, r0, r1, py, dy, at_u - px, dx, at_v - pz, dz)
                    if high - low <= 0.0:
                        continue
                    if high <= ends[j, i, 0] or low >= ends[j, i, 2 * n - 1]:
                        continue
                    n, removed = subtract(
                        ends[j, i], tags[j, i], n, np.float32(low), np.float32(high), tag0 + p
                    )
                    if n < 0:
                        return False
                    counts[j, i] = n
                    if removed > 0.0:
                        volume[p, role] += removed
                        if (role > 0 or rapid[p]) and removed > deepest[p, role]:
                            deepest[p, role] = removed
    return True


@njit(cache=True, nogil=True, parallel=True)
def cut(
    ends0, tags0, counts0, ends1, tags1, counts1, ends2, tags2, counts2, origin, cell, pieces, bodies, rapid, tag0, workers, block
):  # fmt: skip
    """Removes the swept bodies (b, 6: body row and role) along pieces (m, 6) from all three directions.

    Rows of rays are dealt out in blocks to `workers`; within a block the pieces come in order, so the
    result does not depend on their number. Returns per worker and direction: removed length (w, 3, m, 3)
    and longest removal, and which directions ran out of room (3,).
    """
    m = len(pieces)
    volume = np.zeros((workers, 3, m, 3), dtype=np.float64)
    deepest = np.zeros((workers, 3, m, 3), dtype=np.float32)
    full = np.zeros((workers, 3), dtype=np.bool_)
    rows0, rows1, rows2 = ends0.shape[0], ends1.shape[0], ends2.shape[0]
    b0, b1, b2 = (rows0 + block - 1) // block, (rows1 + block - 1) // block, (rows2 + block - 1) // block
    for w in prange(workers):
        for task in range(w, b0 + b1 + b2, workers):
            if task < b0:
                a = task * block
                ok = _cut_block(
                    0, ends0, tags0, counts0, origin, cell, a, min(rows0, a + block), pieces, 0, m, bodies, rapid, tag0,
                    volume[w, 0], deepest[w, 0],
                )  # fmt: skip
                full[w, 0] |= not ok
            elif task < b0 + b1:
                a = (task - b0) * block
                ok = _cut_block(
                    1, ends1, tags1, counts1, origin, cell, a, min(rows1, a + block), pieces, 0, m, bodies, rapid, tag0,
                    volume[w, 1], deepest[w, 1],
                )  # fmt: skip
                full[w, 1] |= not ok
            else:
                a = (task - b0 - b1) * block
                ok = _cut_block(
                    2, ends2, tags2, counts2, origin, cell, a, min(rows2, a + block), pieces, 0, m, bodies, rapid, tag0,
                    volume[w, 2], deepest[w, 2],
                )  # fmt: skip
                full[w, 2] |= not ok
    return volume, deepest, full


@njit(cache=True, nogil=True)
def _side(points, a, b, pu, pv, u, v):
    """Side of (pu, pv) against the edge a-b taken in the order of vertex numbers; 0 counts as +1."""
    i, j = (a, b) if a < b else (b, a)
    value = (points[j, u] - points[i, u]) * (pv - points[i, v]) - (points[j, v] - points[i, v]) * (
        pu - points[i, u]
    )
    sign = 1 if value >= 0.0 else -1
    return sign if a < b else -sign


@njit(cache=True, nogil=True)
def mesh_rays(direction, points, triangles, origin, cell, nu, nv, capacity):
    """Rays of one direction through a closed mesh. Returns ends, tags, counts and whether it fitted.

    Edges are tested in the order of their vertex numbers, so that two triangles sharing one agree
    and a ray through an edge or a vertex is counted once.
    """
    u, v = (1, 2) if direction == 0 else ((0, 2) if direction == 1 else (0, 1))
    hits = np.zeros((nv, nu, capacity), dtype=np.float32)
    number = np.zeros((nv, nu), dtype=np.int32)
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        au, av, bu, bv, cu, cv = (
            points[a, u],
            points[a, v],
            points[b, u],
            points[b, v],
            points[c, u],
            points[c, v],
        )
        det = (bu - au) * (cv - av) - (cu - au) * (bv - av)
        if det == 0.0:
            continue
        i0 = max(0, int(math.ceil((min(au, bu, cu) - origin[u]) / cell - 0.5)))
        i1 = min(nu - 1, int(math.floor((max(au, bu, cu) - origin[u]) / cell - 0.5)))
        j0 = max(0, int(math.ceil((min(av, bv, cv) - origin[v]) / cell - 0.5)))
        j1 = min(nv - 1, int(math.floor((max(av, bv, cv) - origin[v]) / cell - 0.5)))
        for j in range(j0, j1 + 1):
            pv = origin[v] + (j + 0.5) * cell
            for i in range(i0, i1 + 1):
                pu = origin[u] + (i + 0.5) * cell
                s = _side(points, a, b, pu, pv, u, v)
                if _side(points, b, c, pu, pv, u, v) != s or _side(points, c, a, pu, pv, u, v) != s:
                    continue
                lb = ((pu - au) * (cv - av) - (cu - au) * (pv - av)) / det
                lc = ((bu - au) * (pv - av) - (pu - au) * (bv - av)) / det
                if number[j, i] >= capacity:
                    return hits, np.zeros((1, 1, 1), dtype=np.int32), number, False
                x = points[a, direction] + lb * (points[b, direction] - points[a, direction])
                x += lc * (points[c, direction] - points[a, direction])
                hits[j, i, number[j, i]] = x
                number[j, i] += 1
    for j in range(nv):
        for i in range(nu):
            n = number[j, i] - number[j, i] % 2
            row = hits[j, i, :n]
            row.sort()
            kept = 0
            for k in range(0, n, 2):
                if row[k + 1] - row[k] > SLIVER:
                    row[2 * kept], row[2 * kept + 1] = row[k], row[k + 1]
                    kept += 1
            number[j, i] = kept
    tags = np.full((nv, nu, capacity), -1, dtype=np.int32)
    return hits, tags, number, True
