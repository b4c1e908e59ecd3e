"""The stock's surface for display and measuring: dual contouring of the dexels, brick by brick, sharp edges
kept.

One vertex per mixed cell where the planes at its edges' crossings meet best (Ju, Losasso, Schaefer, Warren
2002); the crossings are exact points of the stock, their directions come from the piece of motion and the
tool that cut them. Flat faces and edges between them are exact, curved ones err by cell² / (8 R). Where a
direction is not known (stock delivered as a solid) the vertex is the crossings' mean, and edges are broken by
at most a cell.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from itertools import product

import numba
import numpy as np
from numpy.typing import NDArray

from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.kernels import _brick_kernels as k

Floats = NDArray[np.float64]
UNSEEN = k.UNSEEN
"""Tag of a point that no ray met: the middle between two nodes."""
Place = tuple[int, int, int]


@dataclass(frozen=True)
class Brick:
    """The surface in 32 x 32 x 32 cells: the mixed `cells` (n,) with their `vertices` (n, 3) mm, and `quads`
    (m, 4) of cells, outward, with their exact `points` (m, 3), lattice `axes` (m,) and `tags` (m,)."""

    cells: NDArray[np.int32]
    vertices: Floats
    quads: NDArray[np.int32]
    points: Floats
    axes: NDArray[np.int8]
    tags: NDArray[np.int32]

    def same(self, other: Brick) -> bool:
        """Whether two bricks are equal bit for bit."""
        return all(np.array_equal(getattr(self, f), getattr(other, f)) for f in Brick.__dataclass_fields__)


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
            total += np.bincount(self.quads[:, side], values, len(total))
            count += np.bincount(self.quads[:, side], minlength=len(count))
        return total / np.maximum(count, 1.0)


@cache
def _workers(count: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(count, "surface")


def brick_grid(shape: tuple[int, int, int]) -> tuple[int, int, int]:
    """Numbers of bricks that hold the (n + 1) cells along each axis."""
    nx, ny, nz = (-(-(n + 1) // k.BRICK) for n in shape)
    return nx, ny, nz


def _dexels(stock: Stock) -> k.Dexels:
    x, y, z = stock.rays
    tiles_u = (x.tiles[0], y.tiles[0], z.tiles[0])
    rays = (x.arrays, y.arrays, z.arrays)
    return k.Dexels(rays, tiles_u, stock.shape, stock.origin, stock.cell, stock.is_box)


def bricks(stock: Stock, cuts: Cuts, places: Iterable[Place]) -> dict[Place, Brick]:
    """The bricks at some places of a stock whose tags are those of `cuts`."""
    dexels, table = _dexels(stock), cuts.table()

    def build(place: Place) -> Brick:
        return Brick(*k.brick(place, dexels, table))

    wanted = list(places)
    threads = numba.get_num_threads()
    run: Callable[..., Iterable[Brick]] = map if threads == 1 or len(wanted) < 2 else _workers(threads).map
    return dict(zip(wanted, run(build, wanted), strict=True))


def names(stock: Stock, places: list[Place]) -> NDArray[np.uint64]:
    """A hash (n,) of all that the surface in each brick depends on, the cuts' table apart."""
    dexels = _dexels(stock)
    shares = np.array_split(np.array(places, dtype=np.int64).reshape(-1, 3), numba.get_num_threads())

    def name(share: NDArray[np.int64]) -> NDArray[np.uint64]:
        return np.asarray(k.brick_names(share, dexels))

    return np.concatenate(list(_workers(numba.get_num_threads()).map(name, shares)))


def room_for_cells(shape: tuple[int, int, int]) -> NDArray[np.int32]:
    """Room that `joined` needs, for those who call it often."""
    return np.empty(int(np.prod(np.array(shape, dtype=np.int64) + 1)), dtype=np.int32)


def joined(
    parts: Mapping[Place, Brick], shape: tuple[int, int, int], room: NDArray[np.int32] | None = None
) -> StockSurface:
    """One surface from all bricks of a stock, in the order of their places."""
    ordered = [parts[place] for place in sorted(parts)]
    cells = np.concatenate([b.cells for b in ordered])
    quads = np.concatenate([b.quads for b in ordered])
    return StockSurface(
        np.concatenate([b.vertices for b in ordered]),
        k.renumber(cells, quads, room if room is not None else room_for_cells(shape)),
        np.concatenate([b.points for b in ordered]),
        np.concatenate([b.axes for b in ordered]),
        np.concatenate([b.tags for b in ordered]),
    )


def all_places(shape: tuple[int, int, int]) -> list[Place]:
    """Every brick's place."""
    return [(i, j, k) for i, j, k in product(*(range(n) for n in brick_grid(shape)))]


class KeptBricks:
    """Surfaces of one stock as it changes: bricks are kept under the content of the tiles that they stand on,
    so that only what changed is built anew. `most` bricks are kept, and never fewer than twice those of a
    surface. Tags mean the same in all calls: cuts are only added. Not safe for threads."""

    def __init__(self, shape: tuple[int, int, int], most: int = 0) -> None:
        self._places, self._room, self._most = all_places(shape), room_for_cells(shape), most
        self._bricks: OrderedDict[tuple[Place, int], Brick] = OrderedDict()

    def surface(self, stock: Stock, cuts: Cuts) -> StockSurface:
        """The closed surface, equal bit for bit to one that is built from nothing."""
        keys = dict(zip(self._places, names(stock, self._places).tolist(), strict=True))
        missing = [place for place, name in keys.items() if (place, name) not in self._bricks]
        for place, brick in bricks(stock, cuts, missing).items():
            self._bricks[place, keys[place]] = brick
        parts = {}
        for key in keys.items():
            parts[key[0]] = self._bricks[key]
            self._bricks.move_to_end(key)
        while len(self._bricks) > max(self._most, 2 * len(keys)):
            self._bricks.popitem(last=False)
        return joined(parts, stock.shape, self._room)


def surface(stock: Stock, cuts: Cuts | None = None) -> StockSurface:
    """The closed surface of a stock; without `cuts` edges are not kept sharp."""
    return joined(bricks(stock, cuts or Cuts(), all_places(stock.shape)), stock.shape)
