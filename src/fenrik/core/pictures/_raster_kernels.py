"""Fills triangles into a picture with a depth for every pixel."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray


@njit(cache=True)
def fill(  # type: ignore[no-untyped-def]
    points: NDArray[np.float64],
    triangles: NDArray[np.int32],
    first: int,
    depth: NDArray[np.float64],
    owner: NDArray[np.int32],
):
    """Draws triangles (m, 3) of points (n, 3), in pixels right, down and towards the eye, into `depth` and
    `owner` (rows, columns): the nearest wins, its number from `first` is its owner's."""
    rows, columns = depth.shape
    for t in range(len(triangles)):
        a, b, c = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]]
        area = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
        if abs(area) < 1e-12:
            continue
        left = max(int(np.floor(min(a[0], b[0], c[0]))), 0)
        right = min(int(np.ceil(max(a[0], b[0], c[0]))), columns - 1)
        top = max(int(np.floor(min(a[1], b[1], c[1]))), 0)
        low = min(int(np.ceil(max(a[1], b[1], c[1]))), rows - 1)
        for row in range(top, low + 1):
            y = row + 0.5
            for column in range(left, right + 1):
                x = column + 0.5
                u = ((b[0] - x) * (c[1] - y) - (b[1] - y) * (c[0] - x)) / area
                v = ((c[0] - x) * (a[1] - y) - (c[1] - y) * (a[0] - x)) / area
                w = 1.0 - u - v
                if u < 0.0 or v < 0.0 or w < 0.0:
                    continue
                z = u * a[2] + v * b[2] + w * c[2]
                if z > depth[row, column]:
                    depth[row, column] = z
                    owner[row, column] = first + t
