"""Motion as a controller executes it: what a program's text means, whatever wrote it."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenrik.core import planes

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class MotionTable:
    """Moves of one program in program coordinates, columns of length n.

    `start`, `end` (n, 3) mm; `rapid` (n,) bool; `turn` (n,) 0 straight, +1 counter-clockwise, -1
    clockwise; `plane` (n,) of Plane; `centre` (n, 2) along its axes (NaN when straight); `feed` (n,) mm/min; `tool` (n,) number;
    `spindle` (n,) 1/min, negative counter-clockwise, 0 stopped; `line` (n,) line of the text from 1; `dwell` (n,) s
    for which the tool stands after a move; `offset` (n,) 54 to 59, the work offset in whose coordinates it is.
    """

    start: Floats
    end: Floats
    rapid: NDArray[np.bool_]
    turn: NDArray[np.int8]
    plane: NDArray[np.int8]
    centre: Floats
    feed: Floats
    tool: NDArray[np.int32]
    spindle: Floats
    line: NDArray[np.int32]
    dwell: Floats = field(default_factory=lambda: np.zeros(0))
    offset: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, dtype=np.int32))

    def __post_init__(self) -> None:
        if len(self.dwell) != len(self.end):
            object.__setattr__(self, "dwell", np.zeros(len(self.end)))
        if len(self.offset) != len(self.end):
            object.__setattr__(self, "offset", np.zeros(len(self.end), dtype=np.int32))

    def rows(self, chosen: NDArray[np.int64] | NDArray[np.bool_]) -> MotionTable:
        """Some of the moves."""
        return MotionTable(*(getattr(self, name)[chosen] for name in MotionTable.__dataclass_fields__))

    def __len__(self) -> int:
        return len(self.end)

    def sweeps(self) -> Floats:
        """Angle rad each arc turns through, 0 for straight moves; a closed arc is a full turn."""
        out = np.zeros(len(self.end))
        arc = np.flatnonzero(self.turn)
        if len(arc):
            rows = (self.start[arc], self.end[arc], self.centre[arc], self.turn[arc], self.plane[arc])
            out[arc] = planes.sweeps(*rows)
        return out

    def lengths(self) -> Floats:
        """Length (n,) of every move along its line, arc or helix, mm."""
        return planes.lengths(self.start, self.end, self.turn, self.plane, self.centre)

    def box(self) -> tuple[Floats, Floats]:
        """Lowest and highest tip position (3,) over all moves, arcs included."""
        pieces = self.straightened(0.01)[0]
        points = np.concatenate([pieces[:, :3], pieces[:, 3:]])
        return points.min(axis=0), points.max(axis=0)

    def straightened(
        self, tolerance: float, longest: float | None = None
    ) -> tuple[Floats, NDArray[np.int32]]:
        """Straight pieces (m, 6: start, end) within `tolerance` mm of the motion and the move (m,) each
        belongs to; the ends of an arc's chords lie on it. Moves at feed are cut into parts of at most
        `longest` mm."""
        sweeps = self.sweeps()
        counts = np.ones(len(self.end), dtype=np.int64)
        if longest is not None:
            parts = np.ceil(self.lengths() / longest - 1e-9)
            counts = np.where(self.rapid, 1, np.maximum(1, parts)).astype(np.int64)
        arc = np.flatnonzero(self.turn)
        radius = np.maximum(planes.radii(self.start[arc], self.centre[arc], self.plane[arc]), tolerance)
        angle = np.maximum(2.0 * np.arccos(1.0 - tolerance / radius), 1e-3)
        chords = np.ceil(sweeps[arc] / np.minimum(angle, 2.0)).astype(
            np.int64
        )  # a turn is a triangle at least
        counts[arc] = np.maximum(counts[arc], chords)
        owner = np.repeat(np.arange(len(self.end)), counts)
        first = np.cumsum(counts) - counts
        share = (np.arange(len(owner)) - first[owner])[:, None] / counts[owner][:, None]
        upto = (np.arange(len(owner)) - first[owner] + 1)[:, None] / counts[owner][:, None]
        pieces = np.hstack([self._at(owner, share, sweeps), self._at(owner, upto, sweeps)])
        last = first + counts - 1
        pieces[first, :3], pieces[last, 3:] = self.start, self.end
        return pieces, owner.astype(np.int32)

    def in_pieces(self, pieces: Floats, owner: NDArray[np.int64]) -> MotionTable:
        """The motion as straight moves: pieces (m, 6) with the move (m,) that each belongs to."""
        columns = {c: getattr(self, c)[owner] for c in ("rapid", "feed", "tool", "spindle", "line")}
        straight, nowhere = np.zeros(len(pieces), dtype=np.int8), np.full((len(pieces), 2), np.nan)
        return MotionTable(
            pieces[:, :3], pieces[:, 3:], turn=straight, plane=straight, centre=nowhere, **columns
        )

    def _at(self, owner: NDArray[np.int64], share: Floats, sweeps: Floats) -> Floats:
        """Positions (m, 3) at a share (m, 1) of the moves `owner` (m,)."""
        start, end = self.start[owner], self.end[owner]
        points = start + share * (end - start)
        arc = self.turn[owner] != 0
        if arc.any():
            rows, part = owner[arc], share[arc, 0]
            angle = part * sweeps[rows] * self.turn[rows]
            points[arc] = planes.on_arcs(
                start[arc], end[arc], self.centre[rows], angle, self.plane[rows], part
            )
        return points
