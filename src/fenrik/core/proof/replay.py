"""Any moment of a proved program: the stock as it stood then, and its surface.

The stock after every operation is kept by the proof; within an operation keyframes are made while it is
replayed, so that any moment lies a short stretch of motion behind one of them. The motion is the one that the
proof cut with, in the same pieces, so the stock at a moment is the same, bit for bit, as that of a fresh run
to it. Surfaces are kept by brick: only what changed is built anew.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion.pieces import by_axis, with_axes
from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.keeping import LiveStock, Snapshot
from fenrik.core.stock.surface import KeptBricks, StockSurface

Floats = NDArray[np.float64]
SPAN = 256
"""Pieces that are cut between two looks at the clock."""
KEYFRAME_S = 0.018
"""A keyframe is made after so much cutting."""
MOST_KEYFRAMES = 400
MOST_BRICKS = 12_000


@dataclass(frozen=True)
class Strokes:
    """The pieces of one operation in the order of cutting: `pieces` (m, 6) or (m, 12), `ends_at` (m,) s on
    the program's clock, the number of its set of `bodies` (m,)."""

    pieces: Floats
    ends_at: Floats
    tool: NDArray[np.int32]


class Replay:
    """One proved program. `after` are the stocks after its operations, `raw` the one before. Safe for
    threads."""

    def __init__(
        self, raw: Snapshot, after: list[Snapshot], steps: list[Strokes], bodies: list[Floats]
    ) -> None:
        self.bodies, self.shape = bodies, raw.shape
        leaning = any(s.pieces.shape[1] == 12 for s in steps)
        own = [with_axes(s.pieces) if leaning else s.pieces for s in steps]
        self.pieces = np.concatenate([np.zeros((0, 12 if leaning else 6)), *own])
        self.ends_at = np.concatenate([s.ends_at for s in steps]) if steps else np.zeros(0)
        self.tool = np.concatenate([s.tool for s in steps]) if steps else np.zeros(0, dtype=np.int32)
        self._after = after
        counts = np.cumsum([len(s.pieces) for s in steps]).astype(int).tolist()
        runs = [(pieces, s.tool[span]) for s in steps for pieces, span in by_axis(s.pieces)]
        self._cuts = Cuts([p for p, _ in runs], [tool for _, tool in runs], list(bodies)).settled()
        self._keyframes: dict[int, Snapshot] = {0: raw} | dict(zip(counts, after, strict=True))
        self._live = LiveStock(raw)
        self._bricks = KeptBricks(raw.shape, MOST_BRICKS)
        self._lock = threading.Lock()

    def index(self, moment: float) -> int:
        """Number of pieces that have ended at a moment s."""
        return int(np.searchsorted(self.ends_at, moment + 1e-9, side="right"))

    def go_to(self, moment: float) -> None:
        """Brings the stock to a moment, as the rest do when asked for it."""
        with self._lock:
            self._go_to(moment)

    def stock(self, moment: float) -> Stock:
        """A copy of the stock at a moment s of the program's clock."""
        with self._lock:
            self._go_to(moment)
            return self._live.stock.copy()

    def volume(self, moment: float) -> float:
        """The stock's volume mm³ at a moment s."""
        with self._lock:
            self._go_to(moment)
            return self._live.stock.volume()

    def surface(self, moment: float) -> StockSurface:
        """The stock's surface at a moment s; built anew only in the bricks whose tiles have not been seen
        like this."""
        with self._lock:
            self._go_to(moment)
            return self._bricks.surface(self._live.stock, self._cuts)

    def surface_after(self, step: int) -> StockSurface:
        """The stock's surface after an operation (from 0)."""
        with self._lock:
            self._live.go_to(self._after[step])
            return self._bricks.surface(self._live.stock, self._cuts)

    def _go_to(self, moment: float) -> None:
        """Brings the live stock to a moment."""
        index = self.index(moment)
        start = max(i for i in self._keyframes if i <= index)
        self._live.go_to(self._keyframes[start])
        at, since = start, time.perf_counter()
        while at < index:
            upto = min(index, at + SPAN)
            self._cut(at, upto, None)
            at = upto
            worth = time.perf_counter() - since > KEYFRAME_S and at not in self._keyframes
            if worth and len(self._keyframes) < MOST_KEYFRAMES:
                self._keyframes[at] = self._live.snapshot()
                since = time.perf_counter()
        begun = self.ends_at[index - 1] if index else 0.0
        if index < len(self.pieces) and moment > begun:
            share = (moment - begun) / max(self.ends_at[index] - begun, 1e-12)
            self._cut(index, index + 1, min(1.0, share))

    def _cut(self, a: int, b: int, share: float | None) -> None:
        """Cuts pieces a..b, tool by tool; with `share` only the beginning of one."""
        pieces = self.pieces[a:b]
        if share is not None:
            pieces = _begun(pieces, share)
        tools = self.tool[a:b]
        borders = [0, *(np.flatnonzero(np.diff(tools)) + 1).tolist(), len(tools)]
        for first, last in pairwise(borders):
            for own, part in by_axis(pieces[first:last]):
                rapid = np.zeros(len(own), dtype=np.bool_)
                tag = a + first + part.start
                self._live.stock.cut(
                    np.ascontiguousarray(own), self.bodies[tools[first]], rapid, tag, measured=False
                )


def _begun(pieces: Floats, share: float) -> Floats:
    """The first share of pieces (m, 6) or (m, 12)."""
    half = pieces.shape[1] // 2
    end = pieces[:, :half] + share * (pieces[:, half:] - pieces[:, :half])
    if half == 6:
        end[:, 3:] /= np.linalg.norm(end[:, 3:], axis=1, keepdims=True)
    return np.hstack([pieces[:, :half], end])
