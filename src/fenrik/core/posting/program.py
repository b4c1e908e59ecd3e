"""A program as planned: the operations' paths in order, joined by safe moves, in program coordinates.

What stands here is what the posted text must mean; the comparison after reading back holds it to that.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.curves import piece_of
from fenrik.core.errors import PostError
from fenrik.core.paths.toolpath import Compensated, Cycle, Toolpath
from fenrik.core.posting.contour import programmed
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
TAPS = ("tap", "tap_left")
"""Cycles that no plain moves can stand for: nothing would hold spindle and feed together."""


@dataclass(frozen=True)
class Step:
    """One operation of a program; on another work offset than the program's first, with the height there at which tools
    are changed."""

    name: str
    tool: Assembly
    path: Toolpath
    spindle_rpm: float
    clockwise: bool
    coolant: str
    work_offset: str = ""
    tool_change_z: float | None = None


@dataclass(frozen=True)
class PlannedMoves:
    """The moves of one step, joins included: `end` (n, 3), `rapid`, `turn`, `plane`, `centre` (n, 2), `feed`, and which
    of them a canned cycle may stand for."""

    end: Floats
    rapid: NDArray[np.bool_]
    turn: NDArray[np.int8]
    plane: NDArray[np.int8]
    centre: Floats
    feed: Floats
    cycles: list[Cycle] = field(default_factory=list)
    compensated: list[Compensated] = field(default_factory=list)
    fresh: bool = False
    """Whether the machine has been at the tool-change height before, to change the tool or on its way."""
    elsewhere: bool = False
    """Whether it comes from another work offset, where places have other coordinates."""
    offset: int = 0
    """The number of its work offset, 54 to 59."""

    def dwells(self) -> Floats:
        """Seconds (n,) for which the tool stands after each move."""
        out = np.zeros(len(self.end))
        for cycle in self.cycles:
            if cycle.dwell:
                deepest = cycle.first + int(np.argmin(self.end[cycle.first : cycle.last + 1, 2]))
                out[deepest] = cycle.dwell
        return out


@dataclass(frozen=True)
class Program:
    """A program before it is written. `tool_change_z` is where the tip is taken to be after a tool change
    (the machine goes there by itself), in program coordinates, mm. With a `rapid_feed` mm/min what is no canned cycle
    (where holes are `canned`) goes at that feed instead of rapid; `by_home` takes the way between operations of one tool
    by the tool-change height."""

    name: str
    number: int
    part: str
    setup: str
    zero: str
    work_offset: str
    steps: list[Step]
    tool_change_z: float
    rapid_feed: float | None = None
    canned: bool = True
    by_home: bool = False

    def planned(self) -> list[PlannedMoves]:
        """The moves of every step with the joins before them; made once, for the writer and every comparison.

        After a tool change: over the start at the tool-change height, then down. With the same tool:
        up to the higher of the two heights, across, down.
        """
        return self._planned

    @cached_property
    def _planned(self) -> list[PlannedMoves]:
        out = []
        tool: int | None = None
        here: Floats | None = None
        offset = ""
        for step in self.steps:
            path = step.path
            first = path.tip[0]
            elsewhere = offset != self.offset_of(step)
            fresh = tool != step.tool.number or here is None or self.by_home or elsewhere
            offset = self.offset_of(step)
            if fresh or here is None:
                join = [(first[0], first[1], self.change_z_of(step)), tuple(first)]
            else:
                top = max(here[2], first[2])
                join = [(here[0], here[1], top), (first[0], first[1], top), tuple(first)]
            count = len(join)
            none = np.full((count, 2), np.nan)
            moves = PlannedMoves(
                np.vstack([np.array(join), path.tip[1:]]),
                np.concatenate([np.ones(count, dtype=bool), path.kind[1:] == 0]),
                np.concatenate([np.zeros(count, dtype=np.int8), path.turn[1:]]),
                np.concatenate([np.zeros(count, dtype=np.int8), path.plane[1:]]),
                np.vstack([none, path.centre[1:]]),
                np.concatenate([np.zeros(count), path.feed[1:]]),
                [replace(c, first=c.first + count - 1, last=c.last + count - 1) for c in path.cycles],
                [replace(c, first=c.first + count - 1, last=c.last + count - 1) for c in path.compensated],
                fresh,
                elsewhere,
                int(offset[1:]),
            )
            for span in moves.compensated:
                if span.whole:
                    moves = _contour(moves, span, step)
            out.append(moves if self.rapid_feed is None else self._fed(moves, self.rapid_feed))
            tool, here = step.tool.number, path.tip[-1]
        return out

    def offset_of(self, step: Step) -> str:
        """The work offset on which a step runs."""
        return step.work_offset or self.work_offset

    def change_z_of(self, step: Step) -> float:
        """The height of a tool change in the step's coordinates, mm."""
        return self.tool_change_z if step.tool_change_z is None else step.tool_change_z

    def change_heights(self) -> dict[str, float]:
        """That height per work offset."""
        return {self.offset_of(s): self.change_z_of(s) for s in self.steps}

    def registers(self) -> dict[int, float]:
        """What the control is to hold in the registers D (that of a tool has its number), mm: the radius, or 0 where only
        the wear is its own. Raises PostError for a tool that is used both ways."""
        out: dict[int, float] = {}
        for step in self.steps:
            for span in step.path.compensated:
                value = step.tool.radius if span.whole else 0.0
                if out.setdefault(step.tool.number, value) != value:
                    raise PostError(
                        f"Tool {step.tool.number} is corrected by its whole radius in one operation and by its wear only in"
                        f" '{step.name}': its register D{step.tool.number} cannot hold both.",
                        remedy="Use the same kind of compensation for all operations of the tool.",
                    )
        return out

    def _fed(self, moves: PlannedMoves, feed: float) -> PlannedMoves:
        """Rapids at a feed, but for those of canned cycles and the way down from a tool change."""
        fed = moves.rapid.copy()
        if moves.fresh:
            fed[:2] = False
        for cycle in moves.cycles:
            if self.canned or cycle.kind in TAPS:
                fed[cycle.first : cycle.last + 1] = False
        return replace(moves, rapid=moves.rapid & ~fed, feed=np.where(fed, feed, moves.feed))


def _contour(moves: PlannedMoves, span: Compensated, step: Step) -> PlannedMoves:
    """The moves with a corrected stretch written as its contour; what the contour does not have stays where it is."""
    end, turn, centre = moves.end.copy(), moves.turn.copy(), moves.centre.copy()
    rows, before = slice(span.first, span.last + 1), slice(span.first - 1, span.last)
    columns = (moves.end[before, :2], moves.end[rows, :2], moves.turn[rows], moves.centre[rows])
    pieces = [
        piece_of(tuple(a), tuple(b), t, tuple(c))
        for a, b, t, c in zip(*(v.tolist() for v in columns), strict=True)
    ]
    here = moves.end[span.first - 1, :2]
    for i, piece in enumerate(programmed(pieces, span.side * step.tool.radius, step.name), span.first):
        if piece is None:
            turn[i], centre[i] = 0, np.nan
        else:
            here = np.array(piece.b)
        end[i, :2] = here
    return replace(moves, end=end, turn=turn, centre=centre)
