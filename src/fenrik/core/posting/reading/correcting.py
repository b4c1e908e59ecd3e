"""What a control makes of a contour when it corrects the cutter's radius (ISO 6983-1: G41, G42, G40).

The first block with the correction ends square to the beginning of the next one, the last one leaves from
square to the end of the one before. Between them every line and arc runs beside its programmed one; at an
inner corner both are cut off where they cross, round an outer one the tool rolls on an arc about the corner.
A piece that the correction turns round is an alarm: the tool would cut into the contour.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from fenrik.core.curves import SMOOTH_RAD, Piece, bend, meeting, mitre

HAIR_MM = 2e-4
"""Corners at which less than this lies between the ends are joined in the middle."""

GRAZING_RAD = 0.1
"""Circles that cross at less than this may miss one another by the rounding of their centres."""
FULL = 2 * math.pi - 1e-3


class Alarm(Exception):
    """The contour cannot be driven with this correction; `row` is the number of the piece, `words` say
    why."""

    def __init__(self, row: int, words: str) -> None:
        super().__init__(words)
        self.row, self.words = row, words


@dataclass(frozen=True)
class Driven:
    """A move of the tool's middle in plan view and the number of the programmed piece that it belongs to;
    `rolls` tells the arc round a corner at the piece's end."""

    piece: Piece
    row: int
    rolls: bool = False


def corrected(pieces: list[Piece | None], left: float) -> list[Driven]:
    """The way of the tool's middle, `left` mm to the left of the contour (under 0: to the right), along
    programmed pieces of which the first and the last are the straight ways on and off. None stands for a move
    without way in plan view; it keeps its place. Raises Alarm."""
    rows = [i for i, p in enumerate(pieces) if p is not None]
    chain = [p for p in pieces if p is not None]
    if len(chain) < 3 or pieces[0] is None or pieces[-1] is None:
        raise Alarm(0, "switches the correction on and off with no contour between")
    for i in (0, -1):
        if chain[i].turn:
            raise Alarm(rows[i], "switches the correction on or off on an arc")
    ends = [_corner(chain, rows, k, left) for k in range(1, len(chain) - 2)]
    # where every piece between the ways on and off begins and ends
    begin = [chain[1].beside(left, False), *(e[1] for e in ends)]
    end = [*(e[0] for e in ends), chain[-2].beside(left, True)]
    for k, piece in enumerate(chain[1:-1]):
        if piece.turn and piece.sweep > FULL and math.dist(begin[k], end[k]) < HAIR_MM:
            end[k] = begin[k]  # a full circle stays one
            if k + 1 < len(begin):
                begin[k + 1] = begin[k]
    out = [Driven(Piece(chain[0].a, begin[0]), rows[0])]
    for k, piece in enumerate(chain[1:-1]):
        driven = Piece(begin[k], end[k], piece.turn, piece.centre)
        if not _same_way(piece, driven, left):
            raise Alarm(rows[k + 1], f"is too short or too tight for a correction of {abs(left):.3f} mm")
        out.append(Driven(driven, rows[k + 1]))
        if k < len(ends) and math.dist(end[k], begin[k + 1]) > 0:
            turn = 1 if bend(piece, chain[k + 2]) > 0 else -1
            out.append(Driven(Piece(end[k], begin[k + 1], turn, piece.b), rows[k + 1], True))
    out.append(Driven(Piece(end[-1], chain[-1].b), rows[-1]))
    return out


def _corner(
    chain: list[Piece], rows: list[int], k: int, left: float
) -> tuple[tuple[float, float], tuple[float, float]]:
    """Where the tool's middle ends beside piece k and begins beside the next; one place but for outer
    corners."""
    before, behind = chain[k], chain[k + 1]
    angle = bend(before, behind)
    if abs(angle) < SMOOTH_RAD or abs(angle * left) < HAIR_MM:
        at = mitre(before, behind, left)
        return at, at
    if angle * left < 0:
        return before.beside(left, True), behind.beside(left, False)
    one, other = before.shifted(left), behind.shifted(left)
    cross = None if one is None or other is None else meeting(one, other, before.b)
    if cross is None and one is not None and other is not None and abs(angle) < GRAZING_RAD:
        cross = mitre(before, behind, left)
    if cross is None:
        raise Alarm(rows[k], f"has no room for a correction of {abs(left):.3f} mm at its end")
    return cross, cross


def _same_way(piece: Piece, driven: Piece, left: float) -> bool:
    """Whether a corrected piece still runs as its programmed one does."""
    if not piece.turn:
        hx, hy = piece.heading(False)
        return (driven.b[0] - driven.a[0]) * hx + (driven.b[1] - driven.a[1]) * hy > 0
    if piece.radius - piece.turn * left <= 1e-6:
        return False
    return driven.sweep <= piece.sweep + 0.5 or piece.sweep > 2 * math.pi - 0.5
