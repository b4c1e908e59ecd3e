"""Lines and arcs in a plane: which way they head, what lies beside them, where two of them meet."""

from __future__ import annotations

import math
from dataclasses import dataclass

Point = tuple[float, float]
SMOOTH_RAD = 0.01
"""Pieces that meet at a smaller angle go on smoothly: what lies beside them is joined in the middle."""


@dataclass(frozen=True)
class Piece:
    """A line from `a` to `b` (`turn` 0), or an arc about `centre`, counter-clockwise (+1) or clockwise (-1);
    mm."""

    a: Point
    b: Point
    turn: int = 0
    centre: Point = (math.nan, math.nan)

    @property
    def radius(self) -> float:
        """Radius of an arc, infinite for a line."""
        return math.dist(self.a, self.centre) if self.turn else math.inf

    @property
    def sweep(self) -> float:
        """Angle rad over 0 through which an arc turns; one that ends where it begins is a full circle."""
        (ax, ay), (bx, by), (cx, cy) = self.a, self.b, self.centre
        angle = self.turn * (math.atan2(by - cy, bx - cx) - math.atan2(ay - cy, ax - cx)) % (2 * math.pi)
        return angle if angle > 1e-9 else 2 * math.pi

    @property
    def length(self) -> float:
        """Length, mm."""
        return self.radius * self.sweep if self.turn else math.dist(self.a, self.b)

    def heading(self, at_end: bool) -> Point:
        """The unit vector of the way at one of its ends."""
        if not self.turn:
            long = math.dist(self.a, self.b)
            return (self.b[0] - self.a[0]) / long, (self.b[1] - self.a[1]) / long
        x, y = self.b if at_end else self.a
        dx, dy = x - self.centre[0], y - self.centre[1]
        long = math.hypot(dx, dy)
        return -self.turn * dy / long, self.turn * dx / long

    def beside(self, left: float, at_end: bool) -> Point:
        """The point so many mm to the left of one of its ends."""
        x, y = self.b if at_end else self.a
        hx, hy = self.heading(at_end)
        return x - left * hy, y + left * hx

    def shifted(self, left: float) -> Piece | None:
        """The piece so many mm to its left; None for an arc whose radius does not allow it."""
        if self.turn and self.radius - self.turn * left <= 1e-9:
            return None
        return Piece(self.beside(left, False), self.beside(left, True), self.turn, self.centre)


SHORTEST_MM = 1e-6
"""Moves shorter than this in the plane have no direction there."""


def piece_of(a: Point, b: Point, turn: int, centre: Point) -> Piece | None:
    """A move in plan view; None for one straight up or down."""
    if turn:
        return Piece(a, b, turn, centre)
    return Piece(a, b) if math.dist(a, b) > SHORTEST_MM else None


def bend(before: Piece, behind: Piece) -> float:
    """By which angle rad the way turns from one piece to the next, over 0 to the left."""
    (ax, ay), (bx, by) = before.heading(True), behind.heading(False)
    return math.atan2(ax * by - ay * bx, ax * bx + ay * by)


def mitre(before: Piece, behind: Piece, left: float) -> Point:
    """Where what lies `left` mm beside two pieces meets, taken for straight: exact for lines, near enough for
    a small bend of arcs."""
    (ax, ay), (bx, by) = before.heading(True), behind.heading(False)
    share = left / max(1.0 + ax * bx + ay * by, 1e-9)
    return before.b[0] - share * (ay + by), before.b[1] + share * (ax + bx)


def meeting(one: Piece, other: Piece, near: Point) -> Point | None:
    """Where the whole lines or circles of two pieces cross, the place nearest to a point; None where they do
    not."""
    if not one.turn and not other.turn:
        found = _lines(one, other)
    elif one.turn and other.turn:
        found = _circles(one, other)
    else:
        found = _line_circle(*((one, other) if other.turn else (other, one)))
    return min(found, key=lambda p: math.dist(p, near), default=None)


def _lines(one: Piece, other: Piece) -> list[Point]:
    (ux, uy), (vx, vy) = one.heading(False), other.heading(False)
    cross = ux * vy - uy * vx
    if abs(cross) < 1e-12:
        return []
    wx, wy = other.a[0] - one.a[0], other.a[1] - one.a[1]
    t = (wx * vy - wy * vx) / cross
    return [(one.a[0] + t * ux, one.a[1] + t * uy)]


def _line_circle(line: Piece, arc: Piece) -> list[Point]:
    ux, uy = line.heading(False)
    wx, wy = line.a[0] - arc.centre[0], line.a[1] - arc.centre[1]
    b, c = wx * ux + wy * uy, wx * wx + wy * wy - arc.radius**2
    root = b * b - c
    if root < 0:
        return []
    return [(line.a[0] + t * ux, line.a[1] + t * uy) for t in (-b - math.sqrt(root), -b + math.sqrt(root))]


def _circles(one: Piece, other: Piece) -> list[Point]:
    dx, dy = other.centre[0] - one.centre[0], other.centre[1] - one.centre[1]
    apart = math.hypot(dx, dy)
    if apart < 1e-9:
        return []
    p, q = one.radius, other.radius
    along = (apart * apart + p * p - q * q) / (2 * apart)
    root = p * p - along * along
    if root < 0:
        return []
    ux, uy, away = dx / apart, dy / apart, math.sqrt(root)
    x, y = one.centre[0] + along * ux, one.centre[1] + along * uy
    return [(x - away * uy, y + away * ux), (x + away * uy, y - away * ux)]
