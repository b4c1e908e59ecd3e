"""The rays of one direction, stored in tiles."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.stock.kernels import _ray_kernels as k
from fenrik.core.stock.kernels._ray_kernels import SIDE, TILE
from fenrik.core.stock.kernels._tuples import Ints, Longs, Singles, TileRays


@dataclass
class Rays:
    """nu x nv rays in tiles of SIDE x SIDE, in the arrays that the kernels take."""

    nu: int
    nv: int
    arrays: TileRays

    @staticmethod
    def of(
        size: tuple[int, int], places: Longs, widths: Longs, counts: Ints, ends: Singles, tags: Ints
    ) -> Rays:
        """Rays of a `size` (nu, nv) from their intervals (see `TileRays`); the rest follows from them."""
        sizes = [TILE, TILE, TILE, TILE, SIDE, SIDE]
        rest = [np.empty(len(places) * each, dtype=np.float32) for each in sizes]
        arrays = TileRays(places, widths, counts, ends, tags, *rest)
        k.fill(arrays)
        return Rays(*size, arrays)

    @property
    def tiles(self) -> tuple[int, int]:
        """Numbers of tiles along u and v."""
        return -(-self.nu // SIDE), -(-self.nv // SIDE)

    @staticmethod
    def of_dense(ends: Singles, counts: Ints) -> Rays:
        """Rays as delivered, from arrays by row and column: ends (nv, nu, width), counts (nv, nu)."""
        nv, nu, width = ends.shape
        tu, tv = -(-nu // SIDE), -(-nv // SIDE)
        pad = ((0, tv * SIDE - nv), (0, tu * SIDE - nu))
        shaped = np.pad(ends.astype(np.float32), (*pad, (0, 0))).reshape(tv, SIDE, tu, SIDE, width)
        flat = np.ascontiguousarray(shaped.transpose(0, 2, 1, 3, 4)).reshape(-1)
        number = np.pad(counts.astype(np.int32), pad).reshape(tv, SIDE, tu, SIDE).transpose(0, 2, 1, 3)
        count = np.ascontiguousarray(number).reshape(-1)
        widths = np.full(tu * tv, width, dtype=np.int64)
        places = np.arange(tu * tv, dtype=np.int64) * (TILE * width)
        return Rays.of((nu, nv), places, widths, count, flat, np.full(len(flat), -1, dtype=np.int32))

    def dense(self) -> tuple[Singles, Ints, Ints]:
        """Ends (nv, nu, width), tags alike and counts (nv, nu) by row and column."""
        (tu, tv), own = self.tiles, self.arrays
        width = 2 * max(1, int(own.counts.max(initial=0)))
        ends = np.zeros((tv, SIDE, tu, SIDE, width), dtype=np.float32)
        tags = np.full((tv, SIDE, tu, SIDE, width), -1, dtype=np.int32)
        for t, (place, room) in enumerate(zip(own.places, own.widths, strict=True)):
            taken = min(width, int(room))
            span = slice(place, place + TILE * room)
            j, i = t // tu, t % tu
            ends[j, :, i, :, :taken] = own.ends[span].reshape(SIDE, SIDE, room)[:, :, :taken]
            tags[j, :, i, :, :taken] = own.tags[span].reshape(SIDE, SIDE, room)[:, :, :taken]
        shape = (tv * SIDE, tu * SIDE, width)
        return (
            ends.reshape(shape)[: self.nv, : self.nu],
            tags.reshape(shape)[: self.nv, : self.nu],
            self._by_row(own.counts),
        )

    def _by_row(self, values: NDArray[Any]) -> NDArray[Any]:
        tu, tv = self.tiles
        shaped = values.reshape(tv, tu, SIDE, SIDE).transpose(0, 2, 1, 3)
        return np.ascontiguousarray(shaped.reshape(tv * SIDE, tu * SIDE)[: self.nv, : self.nu])

    def copy(self) -> Rays:
        """An independent copy."""
        return Rays(self.nu, self.nv, TileRays._make(a.copy() for a in self.arrays))

    def grow(self, tiles: Longs) -> None:
        """Twice the room per ray in some tiles, which move to the end of the arrays."""
        own = self.arrays
        more_ends: list[NDArray[Any]] = [own.ends]
        more_tags: list[NDArray[Any]] = [own.tags]
        place = len(own.ends)
        for t in tiles:
            room = int(own.widths[t])
            span = slice(int(own.places[t]), int(own.places[t]) + TILE * room)
            for more, old in ((more_ends, own.ends), (more_tags, own.tags)):
                wider = np.zeros((TILE, 2 * room), dtype=old.dtype)
                wider[:, :room] = old[span].reshape(TILE, room)
                more.append(wider.reshape(-1))
            own.places[t], own.widths[t] = place, 2 * room
            place += 2 * room * TILE
        self.arrays = own._replace(ends=np.concatenate(more_ends), tags=np.concatenate(more_tags))
        if len(self.arrays.ends) > 2 * TILE * int(own.widths.sum()):
            self._close_up()

    def _close_up(self) -> None:
        """Gives back what grown tiles left behind."""
        own = self.arrays
        spans = [slice(p, p + TILE * w) for p, w in zip(own.places, own.widths, strict=True)]
        places = np.concatenate([[0], np.cumsum(own.widths * TILE)[:-1]]).astype(np.int64)
        ends, tags = (np.concatenate([old[span] for span in spans]) for old in (own.ends, own.tags))
        self.arrays = own._replace(places=places, ends=ends, tags=tags)

    def spans(self) -> Singles:
        """Lowest and highest material of every tile (tiles, 2)."""
        own = self.arrays
        return np.asarray(k.tile_spans(own.counts, own.first, own.last, len(own.places)))

    def length(self) -> float:
        """Total length of material on all rays, mm."""
        own = self.arrays
        return float(k.lengths(own.places, own.widths, own.counts, own.ends))

    def outermost(self) -> Singles:
        """The last end of every ray by row and column (nv, nu), NaN where there is no material."""
        own = self.arrays
        return np.asarray(self._by_row(np.where(own.counts > 0, own.last, np.nan)))
