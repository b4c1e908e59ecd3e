"""The planning stock: a height map that never shows less material than there is.

Strategies use it to find where there is still something to cut, where a tool may go down, and how
high a rapid must be. The proof does not: it uses interval dexels and the posted text.
"""

from __future__ import annotations

from collections import deque
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from itertools import pairwise

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter

from fenrik.core.binary import pack, unpack
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.kernels import _height_kernels as k
from fenrik.core.stock.kernels._projection_kernels import RayLattice, raise_intervals
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
NOTHING = -1e30
PARTS = 4
"""Bands of a direction's rays for each worker."""


@dataclass
class HeightMap:
    """Heights (ny, nx) float64 mm over square cells of `cell` mm from (x0, y0), setup frame."""

    heights: Floats
    x0: float
    y0: float
    cell: float

    @staticmethod
    def of_box(low: Floats, high: Floats, cell: float) -> HeightMap:
        """The map of a box."""
        nx = max(1, int(np.ceil((high[0] - low[0]) / cell - 1e-9)))
        ny = max(1, int(np.ceil((high[1] - low[1]) / cell - 1e-9)))
        return HeightMap(np.full((ny, nx), float(high[2])), float(low[0]), float(low[1]), cell)

    @staticmethod
    def of_mesh(mesh: TriangleMesh, cell: float) -> HeightMap:
        """The map of a closed mesh, widened by a cell so that slopes and borders stay covered."""
        low, high = mesh.bounds
        flat = HeightMap.of_box(low - 2 * cell, high + 2 * cell, cell)
        flat.heights[:] = NOTHING
        k.raster_top(flat.grid, mesh.vertices[mesh.triangles])
        flat.heights = maximum_filter(flat.heights, size=3)
        return flat

    def copy(self) -> HeightMap:
        """An independent copy."""
        return HeightMap(self.heights.copy(), self.x0, self.y0, self.cell)

    def to_bytes(self) -> bytes:
        """The map as a blob."""
        return pack({"x0": self.x0, "y0": self.y0, "cell": self.cell}, {"heights": self.heights})

    @staticmethod
    def from_bytes(blob: bytes) -> HeightMap:
        """The inverse of `to_bytes`."""
        head, arrays = unpack(blob)
        return HeightMap(arrays["heights"].copy(), head["x0"], head["y0"], head["cell"])

    @property
    def grid(self) -> k.Grid:
        """The map as the kernels take it."""
        return k.Grid(self.heights, self.x0, self.y0, self.cell)

    @property
    def half_diagonal(self) -> float:
        """Half a cell's diagonal, mm."""
        return self.cell * 0.70711

    def cut(self, path: Toolpath, profile: Profile) -> None:
        """Takes away what the cutter certainly removes along a path (rapids included)."""
        if len(path) > 1:
            self.cut_pieces(pieces_of(path)[0], profile)

    def cut_pieces(self, pieces: Floats, profile: Profile) -> None:
        """As `cut`, for straight pieces (m, 6: start and end of the tip)."""
        k.stamp(self.grid, pieces, profile.shape, self.half_diagonal)

    def lacks(self, pieces: Floats, rapid: NDArray[np.bool_], profile: Profile, bodies: Floats) -> Floats:
        """How much (m, b) mm the tip stands too low at the ends of pieces (m, 6) for cylinders `bodies` (b,
        2: radius, height over the tip) that are to stay over the stock, which the cutter lowers as it goes.
        Cells are met at their middles."""
        half = self.half_diagonal
        return np.asarray(k.lacks(self.grid, pieces, rapid, profile.shape, half, bodies))

    def top(self, a: Floats | tuple[float, float], b: Floats | tuple[float, float], reach: float) -> float:
        """Highest stock within `reach` mm of the line a-b in plan view, cells counted whole."""
        line = (float(a[0]), float(a[1]), float(b[0]), float(b[1]))
        return float(k.highest(self.grid, *line, reach + self.half_diagonal))

    def top_at(self, points: Floats, reach: float) -> Floats:
        """Highest stock (n,) within `reach` mm of points (n, 2); `reach` is taken as it is."""
        xy = np.ascontiguousarray(points, dtype=np.float64)
        return np.asarray(k.highest_at(self.grid, xy, reach))


def pieces_of(
    path: Toolpath, tolerance: float = 0.02, longest: float | None = None
) -> tuple[Floats, NDArray[np.int32]]:
    """A toolpath as straight pieces (m, 6), arcs within `tolerance` mm, moves at feed at most `longest` mm,
    and the move (m,) each belongs to."""
    return path.moves.after_start().straightened(tolerance, longest)


def projected_map(stock: Stock, low: Floats, high: Floats, map_from_stock: Floats, cell: float) -> HeightMap:
    """The height map of a stock's dexels seen down the Z of another frame: never less than there is.

    `map_from_stock` (4, 4) takes the stock's frame to that of the map; low and high (3,) bound the stock
    there. Material that no ray of any direction meets, thinner than the lattice's cell both ways, does not
    count.
    """
    out = HeightMap.of_box(low - 2 * cell, high + 2 * cell, cell)
    out.heights[:] = NOTHING
    turned, shift = np.ascontiguousarray(map_from_stock[:3, :3]), np.ascontiguousarray(map_from_stock[:3, 3])
    workers = numba.get_num_threads()
    tasks = []
    for direction, rays in enumerate(stock.rays):
        rows = np.linspace(0, rays.nv, PARTS * workers + 1).astype(int)
        tasks += [(direction, int(a), int(b)) for a, b in pairwise(rows) if a < b]

    queue = deque(tasks)  # some bands have far more to show than others

    def seen(worker: int) -> Floats:
        own = out.heights if worker == 0 else np.full_like(out.heights, NOTHING)
        grid = out.grid._replace(heights=own)
        while queue:
            try:
                direction, first, last = queue.popleft()
            except IndexError:
                break
            rays = stock.rays[direction]
            lattice = RayLattice(direction, rays.nu, rays.nv, stock.origin, stock.cell)
            raise_intervals(grid, rays.arrays, lattice, turned, shift, (first, last))
        return own

    for more in _workers(workers).map(seen, range(workers)):
        np.maximum(out.heights, more, out=out.heights)
    return out


@cache
def _workers(count: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(count, "projection")
