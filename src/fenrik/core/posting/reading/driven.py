"""The motion of a program whose text corrects the cutter's radius: from programmed contours to the tool's
middle."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.curves import Piece, piece_of
from fenrik.core.errors import PostError
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.reading.correcting import Alarm, Driven, corrected


@dataclass(frozen=True)
class Span:
    """Moves first..last of a text with the correction on, `side` +1 left of the way, -1 right, from the
    register D."""

    first: int
    last: int
    side: int
    register: int


@dataclass(frozen=True)
class DrivenMotion:
    """The `motion` that a machine drives, the move of the text (n,) behind each of its moves, and of every
    span its first and last move."""

    motion: ProgramMotion
    row: NDArray[np.int64]
    spans: list[tuple[int, int]]


def driven(table: ProgramMotion, spans: list[Span], registers: dict[int, float]) -> DrivenMotion:
    """The motion of a text's programmed moves with the corrections mm that the control holds in its registers
    D.

    Raises PostError naming the line of a move that cannot be corrected.
    """
    parts: list[ProgramMotion] = []
    rows: list[NDArray[np.int64]] = []
    bounds: list[tuple[int, int]] = []
    at = count = 0
    for span in spans:
        before = np.arange(at, span.first)
        inside, owner = _span(table, span, registers[span.register])
        parts += [table.rows(before), inside]
        rows += [before, owner]
        count += len(before)
        bounds.append((count, count + len(owner) - 1))
        count += len(owner)
        at = span.last + 1
    rest = np.arange(at, len(table))
    parts.append(table.rows(rest))
    rows.append(rest)
    return DrivenMotion(ProgramMotion.joined(parts), np.concatenate(rows), bounds)


def pieces_of(table: ProgramMotion, first: int, last: int) -> list[Piece | None]:
    """Moves first..last in plan view; None for those straight up or down."""
    rows = slice(first, last + 1)
    columns = (table.start[rows, :2], table.tip[rows, :2], table.turn[rows], table.centre[rows])
    return [
        piece_of(tuple(a), tuple(b), t, tuple(c))
        for a, b, t, c in zip(*(v.tolist() for v in columns), strict=True)
    ]


def _span(table: ProgramMotion, span: Span, value: float) -> tuple[ProgramMotion, NDArray[np.int64]]:
    try:
        moves = corrected(pieces_of(table, span.first, span.last), span.side * value)
    except Alarm as alarm:
        raise PostError(
            f"Line {table.line[span.first + alarm.row]} {alarm.words}.",
            remedy="Let the computer correct the radius and the control the wear only, or use a smaller "
            "tool.",
        ) from alarm
    by_row: dict[int, list[Driven]] = {}
    for one in moves:
        by_row.setdefault(one.row, []).append(one)
    ordered: list[tuple[int, Driven | None]] = []
    for row in range(span.last - span.first + 1):
        ordered += [(row, m) for m in by_row.get(row, [])] or [(row, None)]
    owner = np.array([span.first + row for row, _ in ordered], dtype=np.int64)
    motion = table.rows(owner)
    start, end = motion.start.copy(), motion.tip.copy()
    turn, centre, dwell = motion.turn.copy(), motion.centre.copy(), motion.dwell.copy()
    here = (float(start[0, 0]), float(start[0, 1]))
    for i, (_, move) in enumerate(ordered):
        start[i, :2] = here
        if move is not None:
            here = move.piece.b
            turn[i], centre[i] = move.piece.turn, move.piece.centre
            if move.rolls:
                start[i, 2] = end[i, 2]
                dwell[i - 1] = 0.0
        end[i, :2] = here
    made = replace(motion.moves, begin=start, tip=end, turn=turn, centre=centre)
    return replace(motion, moves=made, dwell=dwell), owner
