"""Where the centre of a programmed arc lies, by its words I, J, K or R (ISO 6983-1)."""

from __future__ import annotations

import math
from collections.abc import Sequence

from fenrik.core.posting.reading.blocks import Block

PLANES = {17: (0, 1, "I", "J"), 18: (2, 0, "K", "I"), 19: (1, 2, "J", "K")}
"""Per plane its first and second axis and the words of the centre along them (ISO 6983-1)."""
ARC_TOLERANCE_MM = 0.01
"""Difference between an arc's start and end radius that a controller still takes."""
Place = tuple[float, float]


def centre_of(
    block: Block, plane: int, scale: float, a: Sequence[float], b: Sequence[float], turn: int
) -> Place:
    """The centre mm along the first and second axis of the plane of an arc from a to b (X, Y, Z mm);
    counter-clockwise where `turn` is 1. `scale` mm is one unit of the text. Raises PostError."""
    first, second, *letters = PLANES[plane]
    foreign = next((c for c in "IJK" if c in block.values and c not in letters), None)
    if foreign is not None:
        raise block.wrong(f"gives {foreign}, which no arc in the plane G{plane} has")
    p, q = (a[first], a[second]), (b[first], b[second])
    if "R" in block.values:
        if any(c in block.values for c in letters):
            raise block.wrong("gives both a radius and a centre")
        return _by_radius(block, block.values["R"] * scale, p, q, turn)
    if not any(c in block.values for c in letters):
        raise block.wrong("is an arc without centre or radius")
    x, y = (at + block.values.get(c, 0.0) * scale for at, c in zip(p, letters, strict=True))
    r0, r1 = math.dist(p, (x, y)), math.dist(q, (x, y))
    if r0 <= 0 or abs(r0 - r1) > ARC_TOLERANCE_MM:
        raise block.wrong(f"is an arc whose start and end radius differ by {abs(r0 - r1):.4f} mm")
    return x, y


def _by_radius(block: Block, radius: float, a: Place, b: Place, turn: int) -> Place:
    """The centre of the short arc of a positive radius, of the long one of a negative."""
    dx, dy = b[0] - a[0], b[1] - a[1]
    chord = math.hypot(dx, dy)
    if chord == 0.0:
        raise block.wrong("is a full circle by radius, which has no centre")
    if chord / 2 > abs(radius) + ARC_TOLERANCE_MM:
        raise block.wrong(f"is an arc of radius {abs(radius):.4f} mm over a chord of {chord:.4f} mm")
    away = math.sqrt(max(0.0, radius * radius - chord * chord / 4))
    # the short arc counter-clockwise has its centre on the left
    side = turn * (1.0 if radius > 0 else -1.0)
    return (0.5 * (a[0] + b[0]) - side * away * dy / chord, 0.5 * (a[1] + b[1]) + side * away * dx / chord)
