"""The stock's surface for display and measuring: surface nets over the dexels.

After Gibson (1998): one vertex per mixed cell, here at the mean of the exact crossings of its edges,
so flat faces are exact, curved ones err by cell²/(8 R), sharp edges are broken by at most a cell.
The crossings themselves are exact points of the stock and carry the piece of motion that cut them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.stock import _surface_kernels as k
from fenrik.core.stock.dexels import Stock

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class StockSurface:
    """Vertices (n, 3) mm and quads (m, 4) facing outward; per quad the exact `points` (m, 3), the lattice
    `axes` (m,) they lie along and the `tags` (m,) of the cutting piece (-1 as delivered, -2 unknown)."""

    vertices: Floats
    quads: NDArray[np.int32]
    points: Floats
    axes: NDArray[np.int8]
    tags: NDArray[np.int32]

    def triangles(self) -> NDArray[np.int32]:
        """Two triangles per quad, (2m, 3)."""
        q = self.quads
        return np.concatenate([q[:, [0, 1, 2]], q[:, [0, 2, 3]]]).astype(np.int32)

    def at_vertices(self, values: Floats) -> Floats:
        """Values given per quad (m,) as means per vertex (n,)."""
        total, count = np.zeros(len(self.vertices)), np.zeros(len(self.vertices))
        for side in range(4):
            np.add.at(total, self.quads[:, side], values)
            np.add.at(count, self.quads[:, side], 1.0)
        return total / np.maximum(count, 1.0)


def surface(stock: Stock) -> StockSurface:
    """The closed surface of a stock."""
    (ex, tx, cx), (ey, ty, cy), (ez, tz, cz) = (rays.dense() for rays in stock.rays)
    flags = k.inside_flags(ez, cz, stock.origin[2], stock.cell, stock.shape[2])
    vertices, quads, points, axes, tags = k.nets(
        flags, ex, tx, cx, ey, ty, cy, ez, tz, cz, stock.origin, stock.cell
    )
    return StockSurface(vertices, quads, points, axes, tags)
