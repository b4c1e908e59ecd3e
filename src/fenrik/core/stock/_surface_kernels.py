"""Kernels that turn interval dexels into a closed surface and its exact points."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def inside_flags(ends, counts, origin_z, cell, nz):
    """Material at the nodes (nx+2, ny+2, nz+2) with a border of air, from the rays along Z."""
    ny, nx = counts.shape
    flags = np.zeros((nx + 2, ny + 2, nz + 2), dtype=np.uint8)
    for j in range(ny):
        for i in range(nx):
            for q in range(counts[j, i]):
                a = int(np.ceil((ends[j, i, 2 * q] - origin_z) / cell - 0.5))
                b = int(np.floor((ends[j, i, 2 * q + 1] - origin_z) / cell - 0.5))
                for k in range(max(0, a), min(nz - 1, b) + 1):
                    flags[i + 1, j + 1, k + 1] = 1
    return flags


@njit(cache=True, nogil=True)
def _crossing(ends, tags, count, low, high, from_inside):
    """Where a ray leaves (or enters) the material between two nodes, with its tag; middle if unseen."""
    for q in range(count):
        e = 2 * q + (1 if from_inside else 0)
        if low - 1e-5 <= ends[e] <= high + 1e-5:
            return float(ends[e]), tags[e]
    return 0.5 * (low + high), -2


@njit(cache=True, nogil=True)
def nets(flags, ex, tx, cx, ey, ty, cy, ez, tz, cz, origin, cell):
    """Surface nets: one vertex per mixed cell at the mean of its exact edge crossings, one quad per
    crossed lattice edge, facing outward.

    Returns vertices (n, 3), quads (m, 4), crossing points (m, 3), their axis (m,) and tags (m,), in
    the order of the quads; quad vertices index vertices.
    """
    mx, my, mz = flags.shape
    number = np.full((mx - 1, my - 1, mz - 1), -1, dtype=np.int32)
    count = 0
    for i in range(mx - 1):
        for j in range(my - 1):
            for k in range(mz - 1):
                total = (
                    flags[i, j, k] + flags[i + 1, j, k] + flags[i, j + 1, k] + flags[i + 1, j + 1, k]
                    + flags[i, j, k + 1] + flags[i + 1, j, k + 1] + flags[i, j + 1, k + 1] + flags[i + 1, j + 1, k + 1]
                )  # fmt: skip
                if 0 < total < 8:
                    number[i, j, k] = count
                    count += 1
    sums = np.zeros((count, 4))
    crossed = 0
    for i in range(mx):
        for j in range(my):
            for k in range(mz):
                f = flags[i, j, k]
                if i + 1 < mx and flags[i + 1, j, k] != f:
                    crossed += 1
                if j + 1 < my and flags[i, j + 1, k] != f:
                    crossed += 1
                if k + 1 < mz and flags[i, j, k + 1] != f:
                    crossed += 1
    quads = np.empty((crossed, 4), dtype=np.int32)
    points = np.empty((crossed, 3))
    axes = np.empty(crossed, dtype=np.int8)
    owner = np.empty(crossed, dtype=np.int32)
    used = 0
    for i in range(mx):
        for j in range(my):
            for k in range(mz):
                f = flags[i, j, k]
                for a in range(3):
                    ni, nj, nk = i + (a == 0), j + (a == 1), k + (a == 2)
                    if ni >= mx or nj >= my or nk >= mz or flags[ni, nj, nk] == f:
                        continue
                    x = origin[0] + (i - 0.5) * cell
                    y = origin[1] + (j - 0.5) * cell
                    z = origin[2] + (k - 0.5) * cell
                    if a == 0:
                        value, tag = _crossing(
                            ex[k - 1, j - 1], tx[k - 1, j - 1], cx[k - 1, j - 1], x, x + cell, f == 1
                        )
                        x = value
                        c0, c1 = number[i, j - 1, k - 1], number[i, j, k - 1]
                        c2, c3 = number[i, j, k], number[i, j - 1, k]
                    elif a == 1:
                        value, tag = _crossing(
                            ey[k - 1, i - 1], ty[k - 1, i - 1], cy[k - 1, i - 1], y, y + cell, f == 1
                        )
                        y = value
                        c0, c1 = number[i - 1, j, k - 1], number[i - 1, j, k]
                        c2, c3 = number[i, j, k], number[i, j, k - 1]
                    else:
                        value, tag = _crossing(
                            ez[j - 1, i - 1], tz[j - 1, i - 1], cz[j - 1, i - 1], z, z + cell, f == 1
                        )
                        z = value
                        c0, c1 = number[i - 1, j - 1, k], number[i, j - 1, k]
                        c2, c3 = number[i, j, k], number[i - 1, j, k]
                    if f == 1:
                        quads[used] = (c0, c1, c2, c3)
                    else:
                        quads[used] = (c0, c3, c2, c1)
                    points[used] = (x, y, z)
                    axes[used], owner[used] = a, tag
                    for c in (c0, c1, c2, c3):
                        sums[c, 0] += x
                        sums[c, 1] += y
                        sums[c, 2] += z
                        sums[c, 3] += 1.0
                    used += 1
    vertices = sums[:, :3] / sums[:, 3:]
    return vertices, quads, points, axes, owner
