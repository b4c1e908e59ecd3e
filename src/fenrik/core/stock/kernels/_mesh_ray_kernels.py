"""Kernel that sends the rays of one direction through a closed mesh."""

import math

import numpy as np
from numba import njit

SLIVER = 1e-4
"""Material thinner than this (mm) is dropped."""


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
    """Rays of one direction through a closed mesh. Returns ends (nv, nu, capacity), counts and whether it
    fitted.

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
                    return hits, number, False
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
    return hits, number, True
