"""Paths whose tool axis moves: poses collected row by row, and poses thinned to those that are needed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.notes import Note
from fenrik.core.motion.toolpath import Toolpath, no_path

Floats = NDArray[np.float64]
SAME_MM, SAME_AXIS = 1e-6, 1e-9


class PosedPath:
    """Collects straight moves of a tool whose axis goes with them. A pose like the last is dropped."""

    def __init__(self) -> None:
        self.level = self.run = 0
        self.notes: list[Note] = []
        self._tips: list[Floats] = []
        self._axes: list[Floats] = []
        self._marks: list[tuple[int, float, int, int]] = []

    def to(self, tip: Floats, axis: Floats, kind: Motion, feed: float = 0.0) -> None:
        """To one pose: `tip` mm and unit `axis` (3,) from the tip to the spindle."""
        if (
            self._tips
            and np.abs(self._tips[-1] - tip).max() < SAME_MM
            and np.abs(self._axes[-1] - axis).max() < SAME_AXIS
        ):
            return
        self._tips.append(np.asarray(tip, dtype=np.float64))
        self._axes.append(np.asarray(axis, dtype=np.float64))
        self._marks.append((int(kind), float(feed), self.level, self.run))

    def along(self, tips: Floats, axes: Floats, kind: Motion, feeds: Floats) -> None:
        """Through poses (n, 3) each, at feeds (n,) mm/min of the tip."""
        for tip, axis, feed in zip(tips, axes, feeds.tolist(), strict=True):
            self.to(tip, axis, kind, feed)

    def build(self) -> Toolpath:
        """The finished path."""
        if not self._tips:
            return no_path(self.notes)
        kinds, feeds, levels, runs = (np.array(c) for c in zip(*self._marks, strict=True))
        moves = replace(
            Moves.straight(np.array(self._tips)),
            kind=kinds.astype(np.int8),
            feed=feeds.astype(np.float64),
            axis=np.array(self._axes),
        )
        return Toolpath(moves, levels.astype(np.int32), runs.astype(np.int32), self.notes)


def thinned(low: Floats, high: Floats, out: Floats, tolerance: float) -> NDArray[np.int64]:
    """Which (m,) of dense poses are enough: between them a tool that goes straight stays within `tolerance`
    mm of the poses left out, square to the wall.

    `low` and `high` (n, 3) are the tool's axis where it begins and ends to matter, `out` (n, 3) the wall's
    normals. Both ends go straight from pose to pose, and so does all between them.
    """
    kept, last = [0], len(low) - 1
    while kept[-1] < last:
        begin = kept[-1]
        good, step = begin + 1, 1
        while good + step <= last and _fits(low, high, out, begin, good + step, tolerance):
            good, step = good + step, 2 * step
        while step:  # as far again in ever shorter steps
            if good + step <= last and _fits(low, high, out, begin, good + step, tolerance):
                good += step
            step //= 2
        kept.append(good)
    return np.array(kept, dtype=np.int64)


def _fits(low: Floats, high: Floats, out: Floats, i: int, j: int, tolerance: float) -> bool:
    """Whether the poses between i and j, one at least, lie within the tolerance of going straight."""
    inner = slice(i + 1, j)
    way = low[j] - low[i]
    size = float(way @ way)
    share = (low[inner] - low[i]) @ way / size if size > 0 else np.linspace(0, 1, j - i + 1)[1:-1]
    for ends in (low, high):
        straight = ends[i] + share[:, None] * (ends[j] - ends[i])
        if float(np.abs(((ends[inner] - straight) * out[inner]).sum(axis=1)).max()) > tolerance:
            return False
    return True
