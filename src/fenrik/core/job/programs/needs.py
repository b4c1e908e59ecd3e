"""Which operations of a setup have to run before which, whatever the order of its sides."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.posting.program import Step

Floats = NDArray[np.float64]
STRAIGHT_MM = 0.1
"""How far boxes take arcs for straight."""
ROOM_MM = 2.0
"""Boxes nearer to each other than this are taken to meet."""


@dataclass(frozen=True)
class Region:
    """Where a step cuts, and where any of its tool goes: corners (2, 3) of boxes in the setup's frame, and
    the number of the side from which it works."""

    cuts: Floats
    goes: Floats
    side: int


def region(step: Step, side: int, setup_from_side: Floats) -> Region:
    """The region of a step whose path is in the frame (4, 4) of its side. The boxes are those of the tips,
    grown along the tool by what cuts or by all of it, and about it by the radius there."""
    moves, tool = step.path.moves, step.tool
    pieces, owner = moves.straightened(STRAIGHT_MM)
    tips = apply(setup_from_side, np.vstack([pieces[:, :3], pieces[:, 3:]]))
    leans = moves.axes @ setup_from_side[:3, :3].T
    axes = np.vstack([leans[np.maximum(owner - 1, 0)], leans[owner]])
    feeding = np.tile(~moves.rapid[owner], 2)
    holder = [0.5 * d for s in tool.holder for d in (s.diameter_low, s.diameter_high)]
    cuts = _box(tips[feeding], axes[feeding], tool.flute_length, tool.radius)
    return Region(cuts, _box(tips, axes, tool.gauge_length, max(tool.radius, *holder, 0.0)), side)


def _box(tips: Floats, axes: Floats, length: float, radius: float) -> Floats:
    """Corners (2, 3) of the box about cylinders that stand on tips (n, 3)."""
    if not len(tips):
        return np.array([np.full(3, np.inf), np.full(3, -np.inf)])
    # what a disc square to the axis takes along each direction
    across = radius * np.sqrt(np.maximum(0.0, 1.0 - np.square(axes)))
    ends = tips + length * axes
    low = np.minimum(tips, ends) - across
    high = np.maximum(tips, ends) + across
    return np.array([low.min(axis=0), high.max(axis=0)])


def needs_of(regions: list[Region]) -> list[set[int]]:
    """For every step the earlier ones that have to run before it: those of its own side, those whose cutting
    made room for any of its tool, and those in whose way it cuts."""
    out: list[set[int]] = []
    for j, later in enumerate(regions):
        mine = set()
        for i, earlier in enumerate(regions[:j]):
            same = earlier.side == later.side
            if same or _meet(earlier.cuts, later.goes) or _meet(earlier.goes, later.cuts):
                mine.add(i)
        out.append(mine)
    return out


def _meet(a: Floats, b: Floats) -> bool:
    return bool((a[0] <= b[1] + ROOM_MM).all() and (b[0] <= a[1] + ROOM_MM).all())
