"""The rays of one direction, stored in tiles."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.stock.kernels import _tile_kernels as k
from fenrik.core.stock.kernels._tile_kernels import SIDE, TILE
from fenrik.core.stock.kernels._tuples import TileRays

Singles = NDArray[np.float32]
Ints = NDArray[np.int32]


def unlearnt(tiles: int) -> list[Singles]:
    """Room for what is known of the rays and rows of so many tiles."""
    sizes = [TILE, TILE, TILE, TILE, SIDE, SIDE]
    return [np.empty(tiles * size, dtype=np.float32) for size in sizes]


@dataclass
class Rays:
    """nu x nv rays in tiles of SIDE x SIDE (see `_tile_kernels` for the arrays)."""

    nu: int
    nv: int
    places: NDArray[np.int64]
    widths: NDArray[np.int64]
    counts: Ints
    ends: Singles
    tags: Ints
    first: Singles
    last: Singles
    void_low: Singles
    void_high: Singles
    row_first: Singles
    row_last: Singles

    @property
    def tiles(self) -> tuple[int, int]:
        """Numbers of tiles along u and v."""
        return -(-self.nu // SIDE), -(-self.nv // SIDE)

    @property
    def arrays(self) -> TileRays:
        """The arrays as the kernels take them."""
        return TileRays(*(getattr(self, name) for name in TileRays._fields))

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
        rays = Rays(
            nu,
            nv,
            places,
            widths,
            count,
            flat,
            np.full(len(flat), -1, dtype=np.int32),
            *unlearnt(len(places)),
        )
        rays.learn()
        return rays

    def learn(self) -> None:
        """Brings first, last and voids up to date with the intervals."""
        k.fill(self.arrays)

    def dense(self) -> tuple[Singles, Ints, Ints]:
        """Ends (nv, nu, width), tags alike and counts (nv, nu) by row and column."""
        tu, tv = self.tiles
        width = 2 * max(1, int(self.counts.max(initial=0)))
        ends = np.zeros((tv, SIDE, tu, SIDE, width), dtype=np.float32)
        tags = np.full((tv, SIDE, tu, SIDE, width), -1, dtype=np.int32)
        for t, (place, room) in enumerate(zip(self.places, self.widths, strict=True)):
            taken = min(width, int(room))
            span = slice(place, place + TILE * room)
            j, i = t // tu, t % tu
            ends[j, :, i, :, :taken] = self.ends[span].reshape(SIDE, SIDE, room)[:, :, :taken]
            tags[j, :, i, :, :taken] = self.tags[span].reshape(SIDE, SIDE, room)[:, :, :taken]
        shape = (tv * SIDE, tu * SIDE, width)
        return (
            ends.reshape(shape)[: self.nv, : self.nu],
            tags.reshape(shape)[: self.nv, : self.nu],
            self._by_row(self.counts),
        )

    def _by_row(self, values: NDArray[Any]) -> NDArray[Any]:
        tu, tv = self.tiles
        shaped = values.reshape(tv, tu, SIDE, SIDE).transpose(0, 2, 1, 3)
        return np.ascontiguousarray(shaped.reshape(tv * SIDE, tu * SIDE)[: self.nv, : self.nu])

    def copy(self) -> Rays:
        """An independent copy."""
        own = {name: getattr(self, name).copy() for name in TileRays._fields}
        return Rays(self.nu, self.nv, **own)

    def grow(self, tiles: NDArray[np.int64]) -> None:
        """Twice the room per ray in some tiles, which move to the end of the arrays."""
        more_ends: list[NDArray[Any]] = [self.ends]
        more_tags: list[NDArray[Any]] = [self.tags]
        place = len(self.ends)
        for t in tiles:
            room = int(self.widths[t])
            span = slice(int(self.places[t]), int(self.places[t]) + TILE * room)
            for more, old in ((more_ends, self.ends), (more_tags, self.tags)):
                wider = np.zeros((TILE, 2 * room), dtype=old.dtype)
                wider[:, :room] = old[span].reshape(TILE, room)
                more.append(wider.reshape(-1))
            self.places[t], self.widths[t] = place, 2 * room
            place += 2 * room * TILE
        self.ends, self.tags = np.concatenate(more_ends), np.concatenate(more_tags)
        if len(self.ends) > 2 * TILE * int(self.widths.sum()):
            self._close_up()

    def _close_up(self) -> None:
        """Gives back what grown tiles left behind."""
        spans = [slice(p, p + TILE * w) for p, w in zip(self.places, self.widths, strict=True)]
        self.ends = np.concatenate([self.ends[s] for s in spans])
        self.tags = np.concatenate([self.tags[s] for s in spans])
        self.places = np.concatenate([[0], np.cumsum(self.widths * TILE)[:-1]]).astype(np.int64)

    def spans(self) -> Singles:
        """Lowest and highest material of every tile (tiles, 2)."""
        return np.asarray(k.tile_spans(self.counts, self.first, self.last, len(self.places)))

    def length(self) -> float:
        """Total length of material on all rays, mm."""
        return float(k.lengths(self.places, self.widths, self.counts, self.ends))

    def outermost(self) -> Singles:
        """The last end of every ray by row and column (nv, nu), NaN where there is no material."""
        return np.asarray(self._by_row(np.where(self.counts > 0, self.last, np.nan)))
