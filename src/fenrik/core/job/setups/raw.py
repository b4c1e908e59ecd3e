"""The stock before the first operation of a setup, and the cells in which planning and proof look at it."""

from __future__ import annotations

import numpy as np

from fenrik.core.setups.setup import Clamped
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.heightmap import HeightMap

MAX_NODES = 24_000_000


def raw_stock(clamped: Clamped, cell: float) -> Stock:
    """The stock before the first operation."""
    if clamped.stock_mesh is not None:
        return Stock.of_mesh(clamped.stock_mesh, cell)
    return Stock.of_box(clamped.stock_low, clamped.stock_high, cell)


def proof_cell(clamped: Clamped, wanted: float | None) -> float:
    """The proof's cell mm: as wanted, or from the size of the stock; never more nodes than memory bears."""
    size = clamped.stock_high - clamped.stock_low
    proposed = wanted or min(1.0, max(0.1, float(np.linalg.norm(size)) / 450))
    least = float((np.prod(size) / MAX_NODES) ** (1 / 3))
    return round(max(proposed, least), 4)


def planning_cell(clamped: Clamped) -> float:
    """Cell of the planning stock: a four-hundredth of the longer side, 0.1 to 1 mm."""
    longer = float(max(clamped.stock_high[:2] - clamped.stock_low[:2]))
    return min(1.0, max(0.1, longer / 400))


def raw_map(clamped: Clamped) -> HeightMap:
    """The planning stock before the first operation."""
    cell = planning_cell(clamped)
    if clamped.stock_mesh is not None:
        return HeightMap.of_mesh(clamped.stock_mesh, cell)
    return HeightMap.of_box(clamped.stock_low, clamped.stock_high, cell)
