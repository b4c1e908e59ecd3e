"""Distances over the surface that the dropped cutter describes, and their level lines.

The surface is sampled on a grid in plan view; a shortest way runs from node to node over hops to the 32
nearest directions, each as long as it is in space, divided by the local width of a pass. That is Dijkstra's
method on a graph; its ways are too long by up to 1.4 % where they run between two directions of the hops
(geometry: half of the widest gap between neighbouring hop directions). Level lines are drawn by marching
squares (contourpy) after a light smoothing.
"""

from __future__ import annotations

import contourpy
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

Floats = NDArray[np.float64]
HOPS = ((1, 0), (0, 1), (1, 1), (-1, 1), (2, 1), (1, 2), (-1, 2), (-2, 1), (3, 1), (1, 3), (-1, 3), (-3, 1),
        (3, 2), (2, 3), (-2, 3), (-3, 2))  # fmt: skip


def distances(
    heights: Floats, step: float, allowed: NDArray[np.bool_], sources: NDArray[np.bool_], width: Floats
) -> Floats:
    """Distance (ny, nx) of every node from the nearest source, in passes: length in space over the local
    `width` mm of a pass. Infinite where not `allowed` or cut off."""
    ny, nx = heights.shape
    number = np.arange(ny * nx).reshape(ny, nx)
    rows, columns, costs = [], [], []
    slow = 1.0 / width
    for dx, dy in HOPS:
        a = (slice(0, ny - dy), slice(max(0, -dx), nx - max(0, dx)))
        b = (slice(dy, ny), slice(max(0, dx), nx - max(0, -dx)))
        good = allowed[a] & allowed[b]
        rise = heights[b][good] - heights[a][good]
        length = np.sqrt((step * step) * (dx * dx + dy * dy) + rise * rise)
        rows.append(number[a][good])
        columns.append(number[b][good])
        costs.append(length * 0.5 * (slow[a][good] + slow[b][good]))
    graph = coo_matrix(
        (np.concatenate(costs), (np.concatenate(rows), np.concatenate(columns))), shape=(ny * nx, ny * nx)
    ).tocsr()
    start = np.flatnonzero((sources & allowed).ravel())
    if not len(start):
        return np.full((ny, nx), np.inf)
    out = dijkstra(graph, directed=False, indices=start, min_only=True)
    return np.asarray(out).reshape(ny, nx)


def level_lines(
    field: Floats, x0: float, y0: float, step: float, levels: Floats
) -> list[tuple[float, Floats]]:
    """Lines (level, points (n, 2) mm) on which the field takes the levels, in their order; closed ones repeat
    their first point. Nodes that are not finite bound the lines."""
    finite = np.isfinite(field)
    known = np.where(finite, field, 0.0)
    weight = gaussian_filter(finite.astype(np.float64), 1.0)
    smooth = gaussian_filter(known, 1.0) / np.maximum(weight, 1e-9)
    ny, nx = field.shape
    xs, ys = x0 + step * np.arange(nx), y0 + step * np.arange(ny)
    masked = np.ma.masked_array(np.where(finite, smooth, 0.0), ~finite)
    maker = contourpy.contour_generator(xs, ys, masked, name="serial")
    return [(float(level), np.asarray(line)) for level in levels for line in maker.lines(float(level))]
