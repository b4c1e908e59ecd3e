"""The planning stock of a setup that is worked from several sides.

The dexels, on one lattice in the setup's frame, are the truth. A side's height map is their projection along
its axis after the last operation of another side, or with an axis that moves; operations of the same side are
stamped on it from there on.
"""

from __future__ import annotations

from collections.abc import Callable

from fenrik.core.frames import invert
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.paths.standing import ARC_MM, path_pieces
from fenrik.core.job.setups.raw import planning_cell, raw_map
from fenrik.core.job.setups.setups import Setups
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import HeightMap, projected_map
from fenrik.core.strategies.registry import strategy

Keyed = list[tuple[OperationDoc, str]]
"""Operations and the keys of their paths, in order."""
PathOf = Callable[[SetupDoc, OperationDoc], Toolpath | None]
"""The path of an operation, None where it fails."""


def turns(operation: OperationDoc) -> bool:
    """Whether the tool's axis moves in an operation."""
    return strategy(operation.strategy).axis == "moving"


class SideStocks:
    """The height maps of all sides of a job's setups, kept while what led to them stands; what a side sees
    when the work comes back to it is kept in the store."""

    def __init__(self, setups: Setups, path_of: PathOf) -> None:
        self._setups, self._job, self._path_of = setups, setups.job, path_of
        self._dexels: dict[str, tuple[list[str], Stock]] = {}
        self._maps: dict[tuple[str, str | None], tuple[list[str], HeightMap]] = {}

    def before(self, setup: SetupDoc, side: str | None, earlier: Keyed) -> HeightMap:
        """A side's planning stock after some operations of its setup. A copy."""
        keys = [key for _, key in earlier]
        others = (o.side != side or turns(o) or bool(setup.turns_of(o)) for o, _ in earlier)
        foreign = max((i + 1 for i, other in enumerate(others) if other), default=0)
        done, stock = self._maps.get((setup.name, side), ([], None))
        if stock is None or done != keys[: len(done)] or len(done) < foreign:
            done, stock = keys[:foreign], self._projected(setup, side, earlier[:foreign])
        for operation, _ in earlier[len(done) :]:
            path = self._path_of(setup, operation)
            if path is not None:
                stock.cut(path, self._job.tool(operation.tool).cleared)
        self._maps[setup.name, side] = (keys, stock)
        return stock.copy()

    def _projected(self, setup: SetupDoc, side: str | None, earlier: Keyed) -> HeightMap:
        seen = self._setups.seen(setup, side)
        if not earlier:
            return raw_map(seen)
        setups = self._setups
        raw = [setups.stock_key(setup), setups.frame_of(setup), setups.frame_of(setup, side)]
        key = key_of("side_map", [*raw, planning_cell(seen), [key for _, key in earlier]])
        blob = setups.store.get(key)
        if blob is not None:
            return HeightMap.from_bytes(blob)
        stock = self._cut(setup, earlier)
        matrix = invert(seen.setup_from_side)
        seen_map = projected_map(stock, seen.stock_low, seen.stock_high, matrix, planning_cell(seen))
        setups.store.put(key, "side_map", seen_map.to_bytes())
        return seen_map

    def _cut(self, setup: SetupDoc, earlier: Keyed) -> Stock:
        """The dexels after some operations."""
        keys = [key for _, key in earlier]
        done, stock = self._dexels.get(setup.name, ([], None))
        if stock is None or done != keys[: len(done)]:
            done, stock = [], self._setups.raw_dexels(setup, planning_cell(self._setups.clamped(setup)))
        for operation, _ in earlier[len(done) :]:
            path = self._path_of(setup, operation)
            if path is not None and len(path) > 1:
                for once in self._setups.repetitions(setup, operation):
                    pieces, owner = path_pieces(path, once.frame, ARC_MM)
                    rapid = path.kind[owner + 1] == 0
                    stock.cut(pieces, tool_bodies(self._job.tool(operation.tool)), rapid, measured=False)
        self._dexels[setup.name] = (keys, stock)
        return stock
