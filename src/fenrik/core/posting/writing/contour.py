"""The contour that a control has to be given so that, correcting the cutter's radius, it drives a planned way
of its middle."""

from __future__ import annotations

import math
from itertools import pairwise

from fenrik.core.curves import SMOOTH_RAD, Piece, Point, bend, meeting, mitre
from fenrik.core.errors import PostError

RESOLUTION_MM = 0.0025
"""The coarsest step of a written coordinate."""
CORNER_MM = 0.03
"""Arcs about the part's own corners have the radius of the cutter but for the tolerance of the path: the
contour has a corner there."""


def programmed(pieces: list[Piece | None], left: float, what: str) -> list[Piece | None]:
    """The contour beside which a tool `left` mm to its left (under 0: right) drives the pieces, one for each:
    None for those that the contour does not have (arcs about its corners, moves straight up or down).

    The first piece is the way on, the last the way off. Pieces too short for the control to find their
    direction in rounded coordinates are left out where their neighbours meet. Raises PostError naming the
    operation `what`.
    """
    rows = [i for i, p in enumerate(pieces) if p is not None]
    chain = [p for p in pieces if p is not None]
    inner = list(range(1, len(chain) - 1))
    least = 2.0 * math.sqrt(abs(left) * RESOLUTION_MM)
    shifted: dict[int, Piece] = {}
    for k in inner:
        one = chain[k].shifted(-left)
        if one is not None and one.radius > CORNER_MM:
            shifted[k] = one
        elif chain[k].radius < abs(left) - CORNER_MM:
            raise PostError(
                f"'{what}' goes round with a radius of {chain[k].radius:.3f} mm: no contour beside which "
                f"the control corrects {abs(left):.3f} mm makes that.",
                remedy="Let the computer correct the radius and the control the wear only.",
            )
    kept = [k for k in inner if k in shifted]
    kept = [
        k
        for n, k in enumerate(kept)
        if n in (0, len(kept) - 1) or shifted[k].length >= least or not _meets(chain, shifted, kept, n)
    ]
    begin = {kept[0]: chain[kept[0]].beside(-left, False)}
    end = {kept[-1]: chain[kept[-1]].beside(-left, True)}
    for p, q in pairwise(kept):
        end[p] = begin[q] = _joint(chain, shifted, p, q, left, what)
    out: list[Piece | None] = [None] * len(pieces)
    out[rows[0]] = Piece(chain[0].a, begin[kept[0]])
    for k in kept:
        out[rows[k]] = Piece(begin[k], end[k], chain[k].turn, chain[k].centre)
    out[rows[-1]] = Piece(end[kept[-1]], chain[-1].b)
    return out


def _meets(chain: list[Piece], shifted: dict[int, Piece], kept: list[int], n: int) -> bool:
    """Whether the neighbours of a short piece meet beside it."""
    p, k, q = kept[n - 1], kept[n], kept[n + 1]
    if abs(bend(chain[p], chain[q])) < SMOOTH_RAD:
        return _goes_on(shifted[p], shifted[q])
    cross = meeting(shifted[p], shifted[q], shifted[k].a)
    return cross is not None and _off(shifted[k], cross) < RESOLUTION_MM


def _goes_on(one: Piece, other: Piece) -> bool:
    """Whether two pieces that head the same way may be driven on until they meet halfway."""
    gap = math.dist(one.b, other.a)
    return gap * gap / (8.0 * min(one.radius, other.radius)) < RESOLUTION_MM


def _off(piece: Piece, point: Point) -> float:
    """About how far a point lies from a short piece."""
    return math.dist(piece.a, point) + math.dist(point, piece.b) - math.dist(piece.a, piece.b)


def _joint(chain: list[Piece], shifted: dict[int, Piece], p: int, q: int, left: float, what: str) -> Point:
    """Where the contour goes from one piece to the next that it has."""
    a, b = shifted[p].b, shifted[q].a
    middle = (0.5 * (a[0] + b[0]), 0.5 * (a[1] + b[1]))
    gap = math.dist(a, b)
    angle = bend(chain[p], chain[q])
    if q == p + 1 and abs(angle) < SMOOTH_RAD:
        return mitre(chain[p], chain[q], -left)
    cross = meeting(shifted[p], shifted[q], middle) if abs(angle) >= SMOOTH_RAD else None
    if (
        cross is not None
        and math.dist(cross, middle)
        <= gap + 0.75 * abs(left) * abs(math.tan(0.5 * min(abs(angle), 3.0))) + CORNER_MM
    ):
        return cross
    smooth = abs(angle) < SMOOTH_RAD and _goes_on(shifted[p], shifted[q])
    if gap <= CORNER_MM or smooth:
        return middle
    raise PostError(
        f"'{what}' has a corner at X {chain[p].b[0]:.2f} Y {chain[p].b[1]:.2f} that no contour makes "
        f"beside which the control corrects {abs(left):.3f} mm.",
        remedy="Let the computer correct the radius and the control the wear only.",
    )
