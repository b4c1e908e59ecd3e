"""Areas in which a cutter may stand at a level: the real offset of the tool against the part.

The dropped cutter's height is sampled on a grid; where it passes through the level the crossing is
found on the grid edges by halving, chords are tested against the drop again, and what is blocked
becomes polygons. So corner radius and ball are respected, not only the radius.
"""

from __future__ import annotations

import math
import os
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LinearRing, MultiPolygon, Polygon, box
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting import _contour_kernels as c
from fenrik.core.cutting.drop import DropCutter

Floats = NDArray[np.float64]
FREE = -1e6
"""A height at which nothing stands."""


class LevelAreas:
    """Blocked ground of one cutter over one part, for any level, inside a rectangle of the setup frame.

    `step` mm is the grid: blocked spots smaller than it, which only a rounded cutter just touching a
    peak can have, are not seen; `tolerance` mm is the accuracy of the borders.
    """

    def __init__(self, cutter: DropCutter, low: Floats, high: Floats, step: float, tolerance: float) -> None:
        nx = max(2, int(np.ceil((high[0] - low[0]) / step)) + 1)
        ny = max(2, int(np.ceil((high[1] - low[1]) / step)) + 1)
        # an odd share keeps grid nodes off the round numbers where walls like to stand
        self.x0, self.y0 = float(low[0]) - 0.0137 * step, float(low[1]) - 0.0171 * step
        self.step, self.tolerance = step, tolerance
        xs, ys = self.x0 + step * np.arange(nx), self.y0 + step * np.arange(ny)
        grid = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
        self.cutter = cutter
        self.heights = cutter.tip(grid).reshape(ny, nx) - cutter.lift
        # what goes on beyond the rectangle, as a fixture does, ends at its border, so that every ring closes
        self.heights[[0, -1], :] = self.heights[:, [0, -1]] = FREE
        self.domain = box(xs[0], ys[0], xs[-1], ys[-1])

    def nodes_in(self, bounds: tuple[float, float, float, float]) -> tuple[Floats, Floats, Floats]:
        """The sampled places (n,), (n,) within bounds (x, y low, x, y high) and the lowest height of the tip
        there (n,), mm."""
        ny, nx = self.heights.shape
        i0, j0 = (
            max(0, math.floor((v - o) / self.step)) for v, o in ((bounds[0], self.x0), (bounds[1], self.y0))
        )
        i1, j1 = (
            min(n, math.ceil((v - o) / self.step) + 1)
            for v, o, n in ((bounds[2], self.x0, nx), (bounds[3], self.y0, ny))
        )
        j, i = np.mgrid[j0:j1, i0:i1]
        heights = self.heights[j0:j1, i0:i1] + self.cutter.lift
        return self.x0 + self.step * i.ravel(), self.y0 + self.step * j.ravel(), heights.ravel()

    def blocked_at_all(self, levels: list[float]) -> list[BaseGeometry]:
        """As `blocked` for many levels, on as many threads as there are cores (the kernels release the
        lock)."""
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            return list(pool.map(self.blocked, levels))

    def blocked(self, level: float) -> BaseGeometry:
        """Where the tip may not be at height `level` mm: a polygon or several, possibly empty."""
        inner = level - self.cutter.lift + 1e-6
        tree = self.cutter.tree
        nodes = c.Nodes(self.heights, self.x0, self.y0, self.step)
        links, points = c.crossings(nodes, inner, tree, self.tolerance * 0.25)
        if len(links) == 0:
            return Polygon()
        order, starts = c.chain(links, len(points))
        rings = []
        for a, b in pairwise(starts):
            loop = points[order[a:b]]
            if len(loop) < 3:
                continue
            loop = c.refine(loop, inner, self.step / 3, self.tolerance, -1.0, tree)
            ring = LinearRing(loop)
            if ring.length > 0:
                rings.append(ring)
        if not rings:
            return Polygon()
        area = shapely.build_area(shapely.union_all([shapely.node(shapely.geometrycollections(rings))]))
        return shapely.make_valid(area)


def polygons(shape: BaseGeometry) -> list[Polygon]:
    """The polygons in any geometry, empty ones left out."""
    if shape.is_empty:
        return []
    if isinstance(shape, Polygon):
        return [shape]
    if isinstance(shape, MultiPolygon) or hasattr(shape, "geoms"):
        return [p for part in shape.geoms for p in polygons(part)]
    return []
