"""The toolpath: columns, not objects. Setup frame, mm, mm/min."""

from __future__ import annotations

import json
import struct
from dataclasses import asdict, dataclass, field
from enum import IntEnum
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core import planes
from fenrik.core.planes import Plane

Floats = NDArray[np.float64]
CycleKind = Literal["drill", "dwell", "peck", "chip_break", "ream", "bore", "tap", "tap_left"]
MAGIC = b"FNPATH2\0"


class Motion(IntEnum):
    """What a move is for. Everything but RAPID moves at feed."""

    RAPID = 0
    FEED = 1
    PLUNGE = 2
    LEAD = 3
    LINK = 4
    ENTRY = 5


@dataclass(frozen=True)
class Cycle:
    """Rows first..last of a path that a controller drives as one canned cycle (ISO 6983-1: G73, G74, G81 to G85, G89) at the place
    of row `last`: from `retract` down to `bottom` mm, `peck` mm at a time, and up to `back`, with `dwell` s at the bottom."""

    kind: CycleKind
    first: int
    last: int
    retract: float
    bottom: float
    back: float
    feed: float
    peck: float = 0.0
    dwell: float = 0.0


@dataclass(frozen=True)
class Compensated:
    """Rows first..last of a path on which the control corrects the cutter's radius (ISO 6983-1: G41, G42): row `first` is
    the straight move on which it begins, row `last` that on which it ends. The tool goes on the `side` +1 left (G41) or -1
    right (G42) of the contour; `whole` by its radius, so that the contour itself is written, else by its wear only."""

    first: int
    last: int
    side: int
    whole: bool


@dataclass(frozen=True)
class Toolpath:
    """Moves of one operation with one tool; row i goes from row i-1's tip to its own.

    `tip` (n, 3); `kind` (n,) of Motion; `turn` (n,) 0 straight, +1 counter-clockwise, -1 clockwise
    arc; `plane` (n,) of Plane in which it lies; `centre` (n, 2) of arcs along the plane's first and second axis
    (NaN else); `feed` (n,) mm/min (0 for rapids); `level` (n,) and `run` (n,) marks. Row 0 is the start and is reached
    by rapid.
    """

    tip: Floats
    kind: NDArray[np.int8]
    turn: NDArray[np.int8]
    plane: NDArray[np.int8]
    centre: Floats
    feed: Floats
    level: NDArray[np.int32]
    run: NDArray[np.int32]
    notes: list[dict[str, object]] = field(default_factory=list)
    cycles: list[Cycle] = field(default_factory=list)
    compensated: list[Compensated] = field(default_factory=list)

    def __len__(self) -> int:
        return len(self.tip)

    def lengths(self) -> Floats:
        """Length of every move (n,), the first 0, arcs and helices along their curve."""
        if len(self) == 0:
            return np.zeros(0)
        tail = (self.turn[1:], self.plane[1:], self.centre[1:])
        return np.concatenate([[0.0], planes.lengths(self.tip[:-1], self.tip[1:], *tail)])

    def divided(self, counts: NDArray[np.int64]) -> tuple[NDArray[np.int64], Floats]:
        """Every move in so many even parts (n,), at least one: the row (m,) of each part and the tip (m, 3) at its end,
        on arcs and helices too. Row 0 stays one."""
        counts = np.concatenate([[1], counts[1:]])
        owner = np.repeat(np.arange(len(self)), counts)
        first = np.cumsum(counts) - counts
        share = (np.arange(len(owner)) - first[owner] + 1) / counts[owner]
        start = self.tip[np.maximum(owner - 1, 0)]
        points = np.where(
            share[:, None] >= 1.0, self.tip[owner], start + share[:, None] * (self.tip[owner] - start)
        )
        arc = (self.turn[owner] != 0) & (share < 1.0)
        if arc.any():
            rows = owner[arc]
            ends, centre, turn, plane = self.tip[rows], self.centre[rows], self.turn[rows], self.plane[rows]
            sweep = planes.sweeps(start[arc], ends, centre, turn, plane)
            points[arc] = planes.on_arcs(
                start[arc], ends, centre, sweep * share[arc] * turn, plane, share[arc]
            )
        return owner, points

    def cutting_length(self) -> float:
        """Length of all moves at feed, mm."""
        return float(self.lengths()[self.kind != Motion.RAPID].sum())

    def to_bytes(self) -> bytes:
        """One blob: magic, length and JSON of the header, then the columns in order, little-endian.

        The browser reads the same bytes. Columns: tip f64 (n, 3), centre f64 (n, 2), feed f64, level
        i32, run i32, kind i8, turn i8, plane i8.
        """
        marked = {name: [asdict(c) for c in getattr(self, name)] for name in ("cycles", "compensated")}
        head = json.dumps({"count": len(self.tip), "notes": self.notes, **marked}).encode()
        head += b" " * (-(len(head) + 12) % 8)
        columns = (
            self.tip.astype("<f8"),
            self.centre.astype("<f8"),
            self.feed.astype("<f8"),
            self.level.astype("<i4"),
            self.run.astype("<i4"),
            self.kind.astype("<i1"),
            self.turn.astype("<i1"),
            self.plane.astype("<i1"),
        )
        return MAGIC + struct.pack("<I", len(head)) + head + b"".join(c.tobytes() for c in columns)

    @staticmethod
    def from_bytes(blob: bytes) -> Toolpath:
        """The inverse of `to_bytes`. Raises ValueError when the bytes are something else."""
        if blob[:8] != MAGIC:
            raise ValueError("expected a toolpath blob")
        (size,) = struct.unpack_from("<I", blob, 8)
        head = json.loads(blob[12 : 12 + size])
        n, at = head["count"], 12 + size
        out = []
        for kind, width in (
            ("<f8", 3),
            ("<f8", 2),
            ("<f8", 1),
            ("<i4", 1),
            ("<i4", 1),
            ("<i1", 1),
            ("<i1", 1),
            ("<i1", 1),
        ):
            column = np.frombuffer(blob, kind, n * width, at)
            at += column.nbytes
            out.append(column.reshape(n, width) if width > 1 else column)
        tip, centre, feed, level, run, kinds, turn, plane = out
        cycles = [Cycle(**c) for c in head["cycles"]]
        compensated = [Compensated(**c) for c in head["compensated"]]
        return Toolpath(tip, kinds, turn, plane, centre, feed, level, run, head["notes"], cycles, compensated)


class PathBuilder:
    """Collects moves and makes a Toolpath. Points nearer than 1e-6 mm to the last are dropped."""

    def __init__(self) -> None:
        self._rows: list[tuple[float, float, float, int, int, float, float, float, int, int, int]] = []
        self.level = 0
        self.run = 0
        self.notes: list[dict[str, object]] = []
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
        part = PathBuilder()
        part._rows = self._rows[mark:]
        return part.build()

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
        """An arc or helix to `end`, by default about Z; `turn` +1 counter-clockwise, -1 clockwise, `centre` along the
        first and second axis of the plane."""
        self._add(*end, kind, feed, turn, *centre, plane)

    def build(self) -> Toolpath:
        """The finished path."""
        if not self._rows:
            empty = np.zeros((0,), dtype=np.float64)
            none = np.zeros(0, dtype=np.int8)
            marks = np.zeros(0, dtype=np.int32)
            return Toolpath(
                np.zeros((0, 3)), none, none, none, np.zeros((0, 2)), empty, marks, marks, self.notes
            )
        table = np.array(self._rows, dtype=np.float64)
        return Toolpath(
            np.ascontiguousarray(table[:, :3]),
            table[:, 3].astype(np.int8),
            table[:, 4].astype(np.int8),
            table[:, 10].astype(np.int8),
            np.ascontiguousarray(table[:, 5:7]),
            np.ascontiguousarray(table[:, 7]),
            table[:, 8].astype(np.int32),
            table[:, 9].astype(np.int32),
            self.notes,
            self.cycles,
            self.compensated,
        )
