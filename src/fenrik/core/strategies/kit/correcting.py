"""Who corrects the cutter's radius: the computer, the control, or both."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import ComputeError
from fenrik.core.strategies.base import fact

Floats = NDArray[np.float64]
Correction = Literal["computer", "wear", "control"]
WAY_SHARE = 0.2
"""Length of the straight ways on and off over the tool's diameter (common practice, no source)."""
LEAST_SHARE = 0.05


def correction_fact() -> Any:
    """The parameter of strategies whose paths a control can correct."""
    return fact(
        "computer",
        "Who corrects the cutter's radius: the computer; the computer, and the control the wear (G41, G42 "
        "with 0 in D); or the control alone, from the contour (G41, G42 with the radius in D).",
        group="rest",
        title="Cutter compensation",
    )


def ways_on_and_off(
    way_in: Floats, way_out: Floats, diameter: float, free_left: bool, blocked: BaseGeometry, words: str
) -> tuple[Floats, Floats]:
    """Places (2,) from which a straight way leads to the beginning of the way in (n, 2), and to which one
    leads from the end of the way out, clear of blocked ground. Raises ComputeError naming `words` where there
    is no room."""
    return (
        _place(way_in[0], way_in[1] - way_in[0], diameter, free_left, blocked, words, "on"),
        _place(way_out[-1], way_out[-2] - way_out[-1], diameter, not free_left, blocked, words, "off"),
    )


def _place(
    at: Floats, along: Floats, diameter: float, free_left: bool, blocked: BaseGeometry, words: str, which: str
) -> Floats:
    """`along` points from the place into the path."""
    t = along / float(np.hypot(*along))
    free = np.array([-t[1], t[0]]) * (1.0 if free_left else -1.0)
    size = WAY_SHARE * diameter
    while size >= LEAST_SHARE * diameter:
        # straight off, slanted, or straight on: what the contour is written beside is never nearer than the
        # radius
        for angle in (0.0, math.pi / 4, math.pi / 2):
            far = at + size * (math.cos(angle) * free - math.sin(angle) * t)
            if not LineString([at, far]).intersects(blocked):
                return np.asarray(far)
        size *= 0.5
    raise ComputeError(
        f"There is no room to switch cutter compensation {which} beside {words} at X {at[0]:.2f} Y "
        f"{at[1]:.2f}.",
        remedy="Begin the contour elsewhere, use a smaller tool, or let the computer correct the radius.",
        offer={"parameters": {"correction": "computer"}},
    )
