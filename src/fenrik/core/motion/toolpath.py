"""The toolpath of one operation with one tool."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, replace
from typing import Any, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray

from fenrik.core.binary import pack, unpack
from fenrik.core.motion import table
from fenrik.core.motion.moves import Moves
from fenrik.core.motion.notes import Note, from_plain, to_plain
from fenrik.core.motion.table import column

Floats = NDArray[np.float64]
CycleKind = Literal["drill", "dwell", "peck", "chip_break", "ream", "bore", "tap", "tap_left"]
Span = TypeVar("Span", "Cycle", "Compensated")


@dataclass(frozen=True)
class Cycle:
    """Rows first..last of a path that a controller drives as one canned cycle (ISO 6983-1: G73, G74, G81 to
    G85, G89).

    It is driven at the place of row `last`: from `retract` down to `bottom` mm, `peck` mm at a time, and up
    to `back`, with `dwell` s at the bottom.
    """

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
    """Rows first..last of a path on which the control corrects the cutter's radius (ISO 6983-1: G41, G42):
    row `first` is the straight move on which it begins, row `last` that on which it ends. The tool goes on
    the `side` +1 left (G41) or -1 right (G42) of the contour; `whole` by its radius, so that the contour
    itself is written, else by its wear only."""

    first: int
    last: int
    side: int
    whole: bool


def on_rows(spans: Sequence[Span], first: NDArray[np.int64], last: NDArray[np.int64]) -> list[Span]:
    """Spans of rows after their rows have become others: `first` and `last` (n,) are the new numbers of
    each."""
    return [replace(s, first=int(first[s.first]), last=int(last[s.last])) for s in spans]


def shifted(spans: Sequence[Span], by: int) -> list[Span]:
    """Spans of rows after `by` rows were put before them."""
    return [replace(s, first=s.first + by, last=s.last + by) for s in spans]


@dataclass(frozen=True)
class Toolpath:
    """Moves of one operation; row 0 says where they begin and is reached by rapid.

    `level` and `run` (n,) are marks of the strategy: the level that a move belongs to and the run on it.
    `cycles` and `compensated` name stretches that a control drives in its own way, `notes` say what the
    strategy found.
    """

    moves: Moves = table.table()
    level: NDArray[np.int32] = column("<i4")
    run: NDArray[np.int32] = column("<i4")
    notes: list[Note] = field(default_factory=list)
    cycles: list[Cycle] = field(default_factory=list)
    compensated: list[Compensated] = field(default_factory=list)

    def __len__(self) -> int:
        return len(self.moves)

    @property
    def tip(self) -> Floats:
        """Where each move ends (n, 3), mm."""
        return self.moves.tip

    @property
    def kind(self) -> NDArray[np.int8]:
        """What each move is for (n,), of Motion."""
        return self.moves.kind

    @property
    def turn(self) -> NDArray[np.int8]:
        """0 for straight moves (n,), +1 for arcs counter-clockwise, -1 clockwise."""
        return self.moves.turn

    @property
    def plane(self) -> NDArray[np.int8]:
        """The plane (n,) in which each arc lies."""
        return self.moves.plane

    @property
    def centre(self) -> Floats:
        """The centre (n, 2) of each arc in its plane."""
        return self.moves.centre

    @property
    def feed(self) -> Floats:
        """Feed (n,), mm/min."""
        return self.moves.feed

    @property
    def turns_axis(self) -> bool:
        """Whether the tool's axis may differ from move to move."""
        return self.moves.turns_axis

    def with_moves(self, **columns: Any) -> Toolpath:
        """The path with other columns of its moves."""
        return replace(self, moves=replace(self.moves, **columns))

    def divided(self, counts: NDArray[np.int64]) -> tuple[Toolpath, NDArray[np.int64]]:
        """Every move in so many even parts (n,), and the row (m,) that each came from. Spans keep their
        stretches, cycles go from the first part of their first row."""
        moves, owner = self.moves.divided(counts)
        rows = np.arange(len(self))
        first, last = np.searchsorted(owner, rows), np.searchsorted(owner, rows, "right") - 1
        return (
            replace(
                self,
                moves=moves,
                level=self.level[owner],
                run=self.run[owner],
                cycles=on_rows(self.cycles, first, last),
                compensated=on_rows(self.compensated, first, last),
            ),
            owner,
        )

    def cutting_length(self) -> float:
        """Length of all moves at feed, mm."""
        return float(self.moves.lengths()[~self.moves.rapid].sum())

    def to_bytes(self) -> bytes:
        """One blob, as `binary.pack` writes it: notes and spans in its head, the columns as arrays."""
        marked = {name: [asdict(c) for c in getattr(self, name)] for name in ("cycles", "compensated")}
        return pack({"notes": [to_plain(n) for n in self.notes], **marked}, table.to_arrays(self))

    @staticmethod
    def from_bytes(blob: bytes) -> Toolpath:
        """The inverse of `to_bytes`. Raises ValueError when the bytes are something else."""
        head, arrays = unpack(blob)
        cycles, compensated = (
            [Cycle(**c) for c in head["cycles"]],
            [Compensated(**c) for c in head["compensated"]],
        )
        return table.from_arrays(
            Toolpath,
            arrays,
            moves=table.from_arrays(Moves, arrays),
            notes=[from_plain(n) for n in head["notes"]],
            cycles=cycles,
            compensated=compensated,
        )


def no_path(notes: list[Note] | None = None) -> Toolpath:
    """A path without moves."""
    marks = np.zeros(0, dtype=np.int32)
    return Toolpath(Moves.straight(np.zeros((0, 3))), marks, marks, notes or [])
