"""Room for smaller tools: the widest mill that would do where the chosen one does nothing, for the message
and its offer."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.levels import polygons
from fenrik.core.errors import ComputeError
from fenrik.core.strategies.base import Inputs
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
NEEDLE_MM = 0.2
"""Radius of the thin cutter with which the part is looked at."""
LEAST_MM, HALVINGS = 0.5, 12
"""Diameter of the smallest mill worth an offer, and steps of the search."""


class Room:
    """What flat mills of any diameter meet: the ground that blocks a needle, grown. Setup frame, mm."""

    def __init__(self, inputs: Inputs, radial: float, axial: float) -> None:
        self.inputs = inputs
        self._thin: dict[float, BaseGeometry] = {}
        margin = inputs.assembly.diameter + 2.0
        needle = DropCutter(inputs.topology, Profile(NEEDLE_MM, 0.0), radial, axial)
        self.areas = inputs.areas(needle, margin, min(0.5, inputs.assembly.diameter / 12), inputs.tolerance)

    def blocked(self, level: float, diameter: float) -> BaseGeometry:
        """Where the middle of a mill may not be."""
        if level not in self._thin:
            self._thin[level] = self.areas.blocked(level)
        return self._thin[level].buffer(0.5 * diameter - NEEDLE_MM, quad_segs=32)

    def widest(self, level: float, works: Callable[[float, BaseGeometry], bool]) -> float | None:
        """The widest diameter below the tool's, in tenths of a mm, for which something works, given it and
        the ground that it blocks at a level; None where none of LEAST_MM and more does."""

        def does(diameter: float) -> bool:
            return works(diameter, self.blocked(level, diameter))

        low, high = LEAST_MM, self.inputs.assembly.diameter
        if not does(low):
            return None
        for _ in range(HALVINGS):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if does(middle) else (low, middle)
        return max(LEAST_MM, math.floor(10 * low + 1e-6) / 10)

    def closed_ground(self, level: float, blocked: BaseGeometry, room: float) -> Polygon | None:
        """The widest closed ground in which a circle of radius `room` has space, with stock on it or not;
        None where there is none."""
        free = self.inputs.allowed(self.areas.domain.difference(blocked))
        shut = [g for g in polygons(free) if not g.intersects(self.areas.domain.exterior)]
        for ground in sorted(shut, key=lambda g: -g.area):
            circle = shapely.maximum_inscribed_circle(ground, tolerance=0.02)
            if circle.length >= room:
                return ground
        return None

    def has_stock(self, level: float, ground: Polygon) -> bool:
        """Whether stock stands higher than the level over the ground."""
        stock = self.inputs.stock
        j, i = np.nonzero(stock.heights > level + stock.cell)
        x, y = stock.x0 + (i + 0.5) * stock.cell, stock.y0 + (j + 0.5) * stock.cell
        return bool(shapely.contains_xy(ground, x, y).any())


def refuse_narrow(inputs: Inputs, radial: float, axial: float, levels: list[float], share: float) -> None:
    """For a clearing of a chosen area that cut nothing. Raises ComputeError with a smaller tool where stock
    stands in closed ground that only such a one can enter, `share` of its diameter being the room to each
    side that it needs; returns where there is nothing to clear."""
    if inputs.keep_in is None:
        return  # nobody said that this is to be cleared: drilled holes are closed ground, too
    tool, room = inputs.assembly, Room(inputs, radial, axial)
    wide = tool.diameter
    if any(room.closed_ground(z, room.blocked(z, wide), share * wide) is not None for z in set(levels)):
        return
    found: list[Polygon] = []

    def enters(level: float, diameter: float, blocked: BaseGeometry) -> bool:
        ground = room.closed_ground(level, blocked, share * diameter)
        if ground is None or not room.has_stock(level, ground):
            return False
        found.append(ground)
        return True

    for level in sorted(set(levels)):
        fits = room.widest(level, partial(enters, level))
        if fits is None:
            continue
        x, y = (
            round(v, 2) + 0.0 for v in shapely.maximum_inscribed_circle(found[-1], tolerance=0.02).coords[0]
        )
        raise ComputeError(
            f"Tool {tool.number} of {tool.diameter:g} mm has no room in the ground about X {x:.2f} Y "
            f"{y:.2f} at Z {level:.2f} and clears nothing.",
            remedy=f"Use a tool of {fits:g} mm or less.",
            offer={"tool_at_most": fits},
        )
