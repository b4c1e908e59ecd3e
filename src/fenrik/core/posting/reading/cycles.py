"""What a hole of a canned cycle stands for (ISO 6983-1 G81 to G89, and the usual G73, G74, G76)."""

from __future__ import annotations

from typing import NamedTuple

PECKING, TAPPING = (73, 83), {84: 1, 74: -1}
"""Cycles that go down in pecks, and those in which the spindle is in step with the feed and turns back for
the way out, with its sense on the way in."""
DWELLING, FED_OUT = (82, 89), (85, 89, *TAPPING)
"""Cycles that wait at the bottom, and those that come out at feed."""
KNOWN = (73, 74, 76, 80, 81, 82, 83, 84, 85, 86, 89)
REFUSED: dict[float, str] = {
    87: "bores from below, with the spindle shifted by an amount that only the machine knows (G87)",
    88: "leaves the way out to the operator's hand (G88)",
}


class Leg(NamedTuple):
    """A move along Z to a height mm, at rapid or at feed, and the seconds waited at its end."""

    z: float
    rapid: bool
    dwell: float = 0.0


def legs_of(cycle: int, level: float, bottom: float, peck: float, wait: float, clearance: float) -> list[Leg]:
    """The moves of a hole from the level R on: down to the bottom and, where it is part of the cycle, at feed
    back to R. `peck` mm is the depth of a peck, `clearance` mm what stays over the last one at rapid."""
    if cycle in PECKING:
        return _pecks(cycle, level, bottom, peck, clearance)
    legs = [Leg(bottom, False, wait if cycle in DWELLING else 0.0)]
    if cycle in FED_OUT:
        legs.append(Leg(level, False))
    return legs


def _pecks(cycle: int, level: float, bottom: float, peck: float, clearance: float) -> list[Leg]:
    legs, depth = [], level
    while depth > bottom + 1e-9:
        following = max(bottom, depth - peck)
        if following - bottom < 1e-6:
            following = bottom
        if depth < level and cycle == 83:
            legs.append(Leg(depth + clearance, True))
        legs.append(Leg(following, False))
        depth = following
        if depth > bottom:
            legs.append(Leg(level if cycle == 83 else depth + clearance, True))
    return legs
