"""Makes a toolpath move by move."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.notes import Note
from fenrik.core.motion.planes import Plane
from fenrik.core.motion.toolpath import Compensated, Cycle, Toolpath, no_path

Floats = NDArray[np.float64]


class PathBuilder:
    """Collects moves and makes a Toolpath. Points nearer than 1e-6 mm to the last are dropped."""

    def __init__(self) -> None:
        self._rows: list[tuple[float, float, float, int, int, float, float, float, int, int, int]] = []
        self.level = 0
        self.run = 0
        self.notes: list[Note] = []
        self.cycles: list[Cycle] = []
        self.compensated: list[Compensated] = []
        self._correcting: tuple[int, int, bool] | None = None

    @property
    def position(self) -> tuple[float, float, float] | None:
        """Where the tip is, None before the first move."""
        return self._rows[-1][:3] if self._rows else None

    def count(self) -> int:
        """How many moves there are."""
        return len(self._rows)

    def since(self, mark: int) -> Toolpath:
        """The moves from row `mark` on, row `mark` as their start."""
        rest = PathBuilder()
        rest._rows = self._rows[mark:]
        return rest.build()

    def _add(
        self,
        x: float,
        y: float,
        z: float,
        kind: int,
        feed: float,
        turn: int = 0,
        cx: float = np.nan,
        cy: float = np.nan,
        plane: int = 0,
    ) -> None:
        if self._rows and turn == 0:
            px, py, pz = self._rows[-1][:3]
            if abs(px - x) < 1e-6 and abs(py - y) < 1e-6 and abs(pz - z) < 1e-6:
                return
        self._rows.append(
            (
                float(x),
                float(y),
                float(z),
                int(kind),
                turn,
                float(cx),
                float(cy),
                float(feed),
                self.level,
                self.run,
                int(plane),
            )
        )

    def correct(self, side: int, whole: bool) -> None:
        """From the next move, a straight one, the control corrects the radius; see Compensated."""
        self._correcting = (len(self._rows), side, whole)

    def corrected(self) -> None:
        """The last move, a straight one, ended the correction; nothing where there was none."""
        if self._correcting is not None:
            first, side, whole = self._correcting
            self.compensated.append(Compensated(first, len(self._rows) - 1, side, whole))
            self._correcting = None

    def rapid(self, x: float, y: float, z: float) -> None:
        """Straight rapid move to a point."""
        self._add(x, y, z, Motion.RAPID, 0.0)

    def feed(self, x: float, y: float, z: float, feed: float, kind: Motion = Motion.FEED) -> None:
        """Straight move at feed mm/min."""
        self._add(x, y, z, kind, feed)

    def line(self, points: Floats, feed: float, kind: Motion = Motion.FEED) -> None:
        """Straight moves through points (n, 3)."""
        for x, y, z in points.tolist():
            self._add(x, y, z, kind, feed)

    def arc(
        self,
        end: tuple[float, float, float],
        centre: tuple[float, float],
        turn: int,
        feed: float,
        kind: Motion,
        plane: Plane = Plane.XY,
    ) -> None:
        """An arc or helix to `end`, by default about Z; `turn` +1 counter-clockwise, -1 clockwise, `centre`
        along the first and second axis of the plane."""
        self._add(*end, kind, feed, turn, *centre, plane)

    def build(self) -> Toolpath:
        """The finished path."""
        if not self._rows:
            return no_path(self.notes)
        columns = np.array(self._rows, dtype=np.float64).T
        turn, plane = columns[4].astype(np.int8), columns[10].astype(np.int8)
        tip, centre = np.ascontiguousarray(columns[:3].T), np.ascontiguousarray(columns[5:7].T)
        moves = Moves(tip, columns[3].astype(np.int8), turn, plane, centre, np.ascontiguousarray(columns[7]))
        level, run = columns[8].astype(np.int32), columns[9].astype(np.int32)
        return Toolpath(moves, level, run, self.notes, self.cycles, self.compensated)
