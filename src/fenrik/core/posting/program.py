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
from fenrik.core.frames import apply, invert
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion import table
from fenrik.core.motion.moved import moved_path
from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.program_motion import RowFrame
from fenrik.core.motion.toolpath import Compensated, Cycle, Toolpath, shifted
from fenrik.core.posting.arms.moves import ArmMoves
from fenrik.core.posting.moving import MovingPoses
from fenrik.core.posting.reading.rotary_control import RotaryControl
from fenrik.core.posting.writing.contour import programmed
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
TAPS = ("tap", "tap_left")
"""Cycles that no plain moves can stand for: nothing would hold spindle and feed together."""


@dataclass(frozen=True)
class Step:
    """One operation of a program; on another work offset than the program's first, with the height there at
    which tools are changed."""

    name: str
    tool: Assembly
    path: Toolpath
    spindle_rpm: float
    clockwise: bool
    coolant: str
    work_offset: str = ""
    tool_change_z: float | None = None
    side: SidePose | None = None
    """The side that it works and how the machine stands meanwhile; None on machines without rotary joints."""
    arm: ArmMoves | None = None
    """What an arm is told, where one holds the tool."""
    held: str = ""
    """How it holds the tool meanwhile, in words."""
    turned: float | None = None
    """How far the joint that carries the work is turned on for it, degrees, where it is one of several times;
    `frame` (4, 4) is that of its side then."""
    frame: Floats | None = None


@dataclass(frozen=True)
class SidePose:
    """A side on its machine: `setup_from_side` (4, 4), where the setup stands, the rotary joints' angles (r,)
    degrees as they are written, and whether the side is written as a tilted plane."""

    setup_from_side: Floats
    on: OnMachine
    angles: Floats
    as_plane: bool
    moving: MovingPoses | None = None
    """The poses of an operation on which the tool's axis moves; `angles` are those of the first."""
    over: float | None = None
    """The coordinate Z at which the tip goes from side to side with the same tool; None: at the machine's
    upper end."""

    @property
    def key(self) -> tuple[object, ...]:
        """What tells positions of the machine apart."""
        return (*self.angles.tolist(), self.setup_from_side.tobytes() if self.as_plane else b"")


@dataclass(frozen=True)
class PlannedMoves:
    """The `moves` of one step, joins included, and which of them a canned cycle may stand for."""

    moves: Moves
    cycles: list[Cycle] = field(default_factory=list)
    compensated: list[Compensated] = field(default_factory=list)
    fresh: bool = False
    """Whether the machine has been at the tool-change height before, to change the tool or on its way."""
    elsewhere: bool = False
    """Whether it comes from another work offset, where places have other coordinates."""
    up_to: float | None = None
    """Where it comes from another side at a height of its own, the coordinate Z there; its first move goes up
    to that in the coordinates of the side before."""
    offset: int = 0
    """The number of its work offset, 54 to 59."""
    frames: tuple[RowFrame, ...] = ()
    """On machines with rotary joints, the coordinates of the way there and of the path, by `Moves.side`;
    there NaN in `Moves.begin` where the place that a move comes from is not known."""
    moving: MovingPoses | None = None
    """Where the tool's axis moves, the poses of all moves but the first."""

    def __len__(self) -> int:
        return len(self.moves)

    def dwells(self) -> Floats:
        """Seconds (n,) for which the tool stands after each move."""
        return dwells_of(self.moves, self.cycles)


@dataclass(frozen=True)
class Program:
    """A program before it is written. `tool_change_z` is where the tip is taken to be after a tool change
    (the machine goes there by itself), in program coordinates, mm. With a `rapid_feed` mm/min what is no
    canned cycle (where holes are `canned`) goes at that feed instead of rapid; `by_home` takes the way
    between operations of one tool by the tool-change height."""

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
        if any(s.side is not None for s in self.steps):
            return self._planned_on_sides()
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
            moves = replace(_joined(path, join, fresh, int(offset[1:])), elsewhere=elsewhere)
            for span in moves.compensated:
                if span.whole:
                    moves = _contour(moves, span, step)
            out.append(moves if self.rapid_feed is None else self._fed(moves, self.rapid_feed))
            tool, here = step.tool.number, path.tip[-1]
        return out

    def _planned_on_sides(self) -> list[PlannedMoves]:
        """As `planned`, on a machine with rotary joints: to the machine's upper end, the rotary joints, over
        the start, down."""
        out: list[PlannedMoves] = []
        before: tuple[object, ...] | None = None
        here: Floats | None = None  # in coordinates of the work offset
        came_from: RowFrame | None = None
        last = np.zeros(3)
        for step in self.steps:
            side = step.side
            assert side is not None
            if side.moving is not None:
                known = before is not None and before[1] == self.offset_of(step) and here is not None
                out.append(self._planned_moving(step, side, here if known else None))
                here, came_from = side.moving.words(side.on, step.tool.gauge_length)[-1], None
                before = ("moving", self.offset_of(step))
                continue
            key = (step.tool.number, self.offset_of(step), *side.key)
            written = side.on.frame(side.angles, step.tool.gauge_length)
            frames: tuple[RowFrame, ...] = (
                written,
                RowFrame(side.setup_from_side, written.axis, side.angles) if side.as_plane else written,
            )
            rows_from_side = invert(frames[1].setup_from_rows) @ side.setup_from_side
            path = step.path if side.as_plane else moved_path(step.path, rows_from_side)
            words_from_rows = invert(written.setup_from_rows) @ frames[1].setup_from_rows
            first, fresh = path.tip[0], key != before or self.by_home
            over = apply(words_from_rows, first[None])[0]
            over[2] = side.on.home(step.tool.gauge_length)
            safe = self._safe(side, over[2], before, key) if fresh and came_from is not None else None
            if safe is not None and here is not None and came_from is not None:
                over[2] = max(safe, here[2])
                down = apply(invert(words_from_rows), over[None])[0]
                up = (here[0], here[1], over[2])
                join, start = [up, tuple(over), tuple(first)], [tuple(here), up, tuple(down)]
                frames = (*frames, came_from)
            elif fresh:
                came = np.full(3, np.nan) if here is None or before is None or before[1] != key[1] else here
                down = apply(invert(words_from_rows), over[None])[0]
                join, start = [tuple(over), tuple(first)], [(came[0], came[1], over[2]), tuple(down)]
            else:
                top = max(last[2], first[2])
                join = [(last[0], last[1], top), (first[0], first[1], top), tuple(first)]
                start = [tuple(last), *join[:-1]]
            moves = _joined(path, join, fresh, int(self.offset_of(step)[1:]))
            frame = np.ones(len(moves), dtype=np.int32)
            ways = len(join) - 1 if fresh else 0
            frame[:ways] = 0
            if len(frames) > 2:
                frame[0] = 2
            begins = np.vstack([np.array(start), moves.moves.tip[len(join) - 1 : -1]])
            moves = replace(moves, frames=frames, moves=replace(moves.moves, side=frame, begin=begins))
            if len(frames) > 2:
                moves = replace(moves, up_to=float(over[2]))
            for span in moves.compensated:
                if span.whole:
                    moves = _contour(moves, span, step)
            out.append(moves if self.rapid_feed is None else self._fed(moves, self.rapid_feed))
            before, last = key, path.tip[-1]
            here, came_from = apply(words_from_rows, last[None])[0], written
        return out

    def _safe(
        self, side: SidePose, home: float, before: tuple[object, ...] | None, key: tuple[object, ...]
    ) -> float | None:
        """The coordinate Z at which the way to a side goes over all that turns; None where it goes at the
        machine's upper end, as after a tool change."""
        if side.over is None or self.by_home or before is None or before[:2] != key[:2] or side.over >= home:
            return None
        return side.over

    def _planned_moving(self, step: Step, side: SidePose, here: Floats | None) -> PlannedMoves:
        """A step on which the tool's axis moves: from the machine's upper end to its first pose, and on."""
        moving, length = side.moving, step.tool.gauge_length
        assert moving is not None
        moves = moving.moves(side.on, length, np.full(3, np.nan) if here is None else here)
        written = side.on.frame(side.angles, length)
        frames = (written, RowFrame(np.eye(4), np.array([0.0, 0.0, 1.0]), 0.0 * side.angles))
        offset = int(self.offset_of(step)[1:])
        out = PlannedMoves(moves, fresh=True, offset=offset, frames=frames, moving=moving)
        return out if self.rapid_feed is None else self._fed(out, self.rapid_feed)

    @property
    def diameters(self) -> bool:
        """Whether words of X are diameters."""
        side = self.steps[0].side if self.steps else None
        return side is not None and side.on.machine.diameters

    def offset_of(self, step: Step) -> str:
        """The work offset on which a step runs."""
        return step.work_offset or self.work_offset

    def change_z_of(self, step: Step) -> float:
        """The height of a tool change in the step's coordinates, mm."""
        return self.tool_change_z if step.tool_change_z is None else step.tool_change_z

    def change_heights(self) -> dict[str, float]:
        """That height per work offset."""
        return {self.offset_of(s): self.change_z_of(s) for s in self.steps}

    def control(self) -> RotaryControl | None:
        """What the control is told of a machine with rotary joints: where the work offsets stand, the tools'
        lengths."""
        sides = [(self.offset_of(s), s) for s in self.steps if s.side is not None]
        if not sides:
            return None
        places = {int(offset[1:]): s.side.on for offset, s in sides if s.side is not None}
        return RotaryControl(places, {s.tool.number: s.tool.gauge_length for s in self.steps})

    def registers(self) -> dict[int, float]:
        """What the control is to hold in the registers D (that of a tool has its number), mm: the radius, or
        0 where only the wear is its own. Raises PostError for a tool that is used both ways."""
        out: dict[int, float] = {}
        for step in self.steps:
            for span in step.path.compensated:
                value = step.tool.radius if span.whole else 0.0
                if out.setdefault(step.tool.number, value) != value:
                    raise PostError(
                        f"Tool {step.tool.number} is corrected by its whole radius in one operation and by "
                        f"its wear only in '{step.name}': its register D{step.tool.number} cannot hold both.",
                        remedy="Use the same kind of compensation for all operations of the tool.",
                    )
        return out

    def _fed(self, planned: PlannedMoves, feed: float) -> PlannedMoves:
        """Rapids at a feed, but for those of canned cycles and the way down from a tool change."""
        moves = planned.moves
        fed = moves.rapid.copy()
        if planned.fresh:
            fed[: 2 if planned.up_to is None else 3] = False
        for cycle in planned.cycles:
            if self.canned or cycle.kind in TAPS:
                fed[cycle.first : cycle.last + 1] = False
        kind = np.where(fed, Motion.FEED, moves.kind).astype(np.int8)
        return replace(planned, moves=replace(moves, kind=kind, feed=np.where(fed, feed, moves.feed)))


def dwells_of(moves: Moves, cycles: list[Cycle]) -> Floats:
    """Seconds (n,) for which the tool stands after each of some moves: at the bottom of cycles that say
    so."""
    out = np.zeros(len(moves))
    for cycle in cycles:
        if cycle.dwell:
            deepest = cycle.first + int(np.argmin(moves.tip[cycle.first : cycle.last + 1, 2]))
            out[deepest] = cycle.dwell
    return out


def _joined(path: Toolpath, join: list[tuple[float, ...]], fresh: bool, offset: int) -> PlannedMoves:
    """A path with the way to its first point before it."""
    way = Moves.straight(np.array(join))
    moves = table.concat([way, table.rows(path.moves, slice(1, None))])
    more = len(join) - 1
    return PlannedMoves(
        moves, shifted(path.cycles, more), shifted(path.compensated, more), fresh, offset=offset
    )


def _contour(planned: PlannedMoves, span: Compensated, step: Step) -> PlannedMoves:
    """The moves with a corrected stretch written as its contour; what the contour does not have stays where
    it is."""
    moves = planned.moves
    tip, turn, centre = moves.tip.copy(), moves.turn.copy(), moves.centre.copy()
    rows, before = slice(span.first, span.last + 1), slice(span.first - 1, span.last)
    columns = (moves.tip[before, :2], moves.tip[rows, :2], moves.turn[rows], moves.centre[rows])
    pieces = [
        piece_of(tuple(a), tuple(b), t, tuple(c))
        for a, b, t, c in zip(*(v.tolist() for v in columns), strict=True)
    ]
    here = moves.tip[span.first - 1, :2]
    for i, piece in enumerate(programmed(pieces, span.side * step.tool.radius, step.name), span.first):
        if piece is None:
            turn[i], centre[i] = 0, np.nan
        else:
            here = np.array(piece.b)
        tip[i, :2] = here
    return replace(planned, moves=replace(moves, tip=tip, turn=turn, centre=centre))
