"""Stocks kept after every operation at little cost: tiles that an operation did not change are shared.

A tile's record is what its rays hold, without spare room: counts, ends and tags. A snapshot is one record per
tile and direction; taking one compares with the snapshot before and takes over the records that are equal.
What is written to a store is the changed records only; a chain of them from the raw stock on gives the stock
back, bit for bit.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.binary import pack, unpack
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.kernels import _ray_kernels as k
from fenrik.core.stock.kernels._ray_kernels import TILE
from fenrik.core.stock.rays import Rays


@dataclass(frozen=True)
class Record:
    """One tile: `counts` (TILE,) uint8 or int32 intervals per ray, `ends` and `tags` (2 * sum of counts,)."""

    counts: NDArray[Any]
    ends: NDArray[np.float32]
    tags: NDArray[np.int32]

    @cached_property
    def digest(self) -> bytes:
        """A hash of the content."""
        h = hashlib.blake2b(self.counts.tobytes(), digest_size=8)
        h.update(self.ends.tobytes())
        h.update(self.tags.tobytes())
        return h.digest()

    def same(self, other: Record) -> bool:
        """Whether the tiles are equal bit for bit."""
        return (
            np.array_equal(self.counts, other.counts)
            and np.array_equal(self.ends, other.ends)
            and np.array_equal(self.tags, other.tags)
        )

    @property
    def size(self) -> int:
        """Bytes."""
        return self.counts.nbytes + self.ends.nbytes + self.tags.nbytes


@dataclass(frozen=True)
class Snapshot:
    """A stock at one moment. `records[d][t]` is tile t of direction d."""

    origin: NDArray[np.float64]
    cell: float
    shape: tuple[int, int, int]
    sizes: tuple[tuple[int, int], ...]
    records: tuple[tuple[Record, ...], ...]
    is_box: bool = True

    @staticmethod
    def of(stock: Stock, before: Snapshot | None = None) -> Snapshot:
        """The stock now; records equal to those of `before` are shared with it. The tiles in which it differs
        from `before` must be among those that the stock calls touched."""
        directions = []
        for d, rays in enumerate(stock.rays):
            if before is None:
                directions.append(tuple(_record(rays, t) for t in range(len(rays.arrays.places))))
                continue
            rows = list(before.records[d])
            for t in np.flatnonzero(stock.touched[d]).tolist():
                record = _record(rays, t)
                if not rows[t].same(record):
                    rows[t] = record
            directions.append(tuple(rows))
        sizes = tuple((r.nu, r.nv) for r in stock.rays)
        return Snapshot(stock.origin, stock.cell, stock.shape, sizes, tuple(directions), stock.is_box)

    def stock(self) -> Stock:
        """The stock, ready to be cut."""
        rays = [_rays(*size, records) for size, records in zip(self.sizes, self.records, strict=True)]
        return Stock(self.origin.copy(), self.cell, self.shape, rays, self.is_box)

    def delivered_as_solid(self) -> Snapshot:
        """The same, not delivered as a box."""
        return replace(self, is_box=False)

    def size(self, shared: set[int] | None = None) -> int:
        """Bytes of the records, without those whose ids are in `shared`, to which all are added."""
        seen = shared if shared is not None else set()
        total = 0
        for direction in self.records:
            for record in direction:
                if id(record) not in seen:
                    seen.add(id(record))
                    total += record.size
        return total

    def changes(self, before: Snapshot | None) -> bytes:
        """The records that `before` does not share, as one blob; all of them without one."""
        arrays: dict[str, NDArray[Any]] = {}
        for d, direction in enumerate(self.records):
            changed = [t for t, r in enumerate(direction) if before is None or r is not before.records[d][t]]
            records = [direction[t] for t in changed]
            arrays[f"tiles{d}"] = np.array(changed, dtype=np.int32)
            arrays[f"counts{d}"] = _joined([r.counts.astype(np.int32) for r in records], np.int32)
            arrays[f"ends{d}"] = _joined([r.ends for r in records], np.float32)
            arrays[f"tags{d}"] = _joined([r.tags for r in records], np.int32)
        return pack({"cell": self.cell}, arrays)

    def changed(self, blob: bytes) -> Snapshot:
        """The snapshot whose `changes` against this one are the blob."""
        _, arrays = unpack(blob)
        directions = []
        for d, direction in enumerate(self.records):
            rows = list(direction)
            counts = arrays[f"counts{d}"].reshape(-1, TILE)
            ends = np.concatenate([[0], 2 * np.cumsum(counts.sum(axis=1))]).astype(np.int64)
            for i, t in enumerate(arrays[f"tiles{d}"]):
                span = slice(ends[i], ends[i + 1])
                narrow = _narrow(counts[i])
                rows[int(t)] = Record(
                    narrow, arrays[f"ends{d}"][span].copy(), arrays[f"tags{d}"][span].copy()
                )
            directions.append(tuple(rows))
        return Snapshot(self.origin, self.cell, self.shape, self.sizes, tuple(directions), self.is_box)


class LiveStock:
    """A stock that is cut and put back to snapshots of itself; only what differs is copied."""

    def __init__(self, snapshot: Snapshot) -> None:
        self.stock, self._base = snapshot.stock(), snapshot

    def go_to(self, snapshot: Snapshot) -> None:
        """Puts the stock back to a snapshot of the same lattice."""
        for d, rays in enumerate(self.stock.rays):
            touched, wanted = self.stock.touched[d], snapshot.records[d]
            other = [
                t for t, (a, b) in enumerate(zip(self._base.records[d], wanted, strict=True)) if a is not b
            ]
            touched[other] = True
            for t in np.flatnonzero(touched).tolist():
                _put(rays, t, wanted[t])
            touched[:] = False
        self._base = snapshot

    def snapshot(self) -> Snapshot:
        """The stock as it is now."""
        self._base = Snapshot.of(self.stock, self._base)
        for touched in self.stock.touched:
            touched[:] = False
        return self._base


def _put(rays: Rays, tile: int, record: Record) -> None:
    counts = record.counts.astype(np.int32)
    rays.arrays.counts[tile * TILE : (tile + 1) * TILE] = counts
    while rays.arrays.widths[tile] < 2 * counts.max(initial=0):
        rays.grow(np.array([tile]))
    own = rays.arrays
    k.open_tile(counts, (record.ends, record.tags), own.ends, own.tags, own.places[tile], own.widths[tile])
    k.fill_tile(tile, own)


def _joined(parts: list[NDArray[Any]], kind: Any) -> NDArray[Any]:
    return np.concatenate(parts).astype(kind) if parts else np.zeros(0, dtype=kind)


def _narrow(counts: NDArray[np.int32]) -> NDArray[Any]:
    return counts.astype(np.uint8) if counts.max(initial=0) < 256 else counts.copy()


def _record(rays: Rays, tile: int) -> Record:
    own = rays.arrays
    counts = own.counts[tile * TILE : (tile + 1) * TILE]
    ends, tags = k.close_tile(counts, own.ends, own.tags, own.places[tile], own.widths[tile])
    return Record(_narrow(counts), ends, tags)


def _rays(nu: int, nv: int, records: tuple[Record, ...]) -> Rays:
    widths = np.array([2 * max(1, int(r.counts.max(initial=0))) for r in records], dtype=np.int64)
    places = np.concatenate([[0], np.cumsum(widths * TILE)])
    counts = np.concatenate([r.counts.astype(np.int32) for r in records])
    ends = np.zeros(int(places[-1]), dtype=np.float32)
    tags = np.full(int(places[-1]), -1, dtype=np.int32)
    for t, record in enumerate(records):
        own = counts[t * TILE : (t + 1) * TILE]
        k.open_tile(own, (record.ends, record.tags), ends, tags, places[t], widths[t])
    return Rays.of((nu, nv), places[:-1].astype(np.int64), widths, counts, ends, tags)
