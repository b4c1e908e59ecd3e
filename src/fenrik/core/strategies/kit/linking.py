"""Moves between cuts: down over cleared ground where that is safe, else over the in-process stock.

Shared by the strategies. Every height asked of the planning stock counts cells whole, so a rapid
never runs through material that the map knows of.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.strategies.base import Heights, Inputs
from fenrik.core.tooling.assembly import UNDERCUTTING, Assembly

Floats = NDArray[np.float64]
TOUCH_MM = 0.02
"""Stock higher than this over a level counts as something to cut."""
AIR_MM = 0.5
"""Height kept over the stock by rapids that stay low."""


def flutes_over(tool: Assembly) -> float | None:
    """Length mm of a cutting part whose neck is thinner, so that stock may stand over it (0: it is widest in
    its middle or at its foot), or None."""
    if tool.kind in UNDERCUTTING:
        return 0.0
    return tool.flute_length if tool.shank_diameter < tool.diameter - 1e-6 else None


@dataclass
class Linker:
    """Writes links into a path. `radius` is the cutter's, `stock` is read, never changed here."""

    path: PathBuilder
    stock: HeightMap
    heights: Heights
    radius: float
    feed: float
    entry_feed: float
    flutes: float | None = None
    """Length of the cutting part where the neck over it is thinner, so that stock may stand over it."""

    @staticmethod
    def of(inputs: Inputs, path: PathBuilder, stock: HeightMap) -> Linker:
        """The linker of an operation."""
        tool = inputs.assembly
        flutes = flutes_over(tool)
        return Linker(path, stock, inputs.heights, tool.radius, inputs.feed, inputs.entry_feed, flutes)

    def up(self, z: float) -> None:
        """Straight up to z: at rapid, but at feed while flutes wider than their neck may still meet stock."""
        here = self.path.position
        if here is None or z <= here[2]:
            return
        x, y = here[0], here[1]
        if self.flutes is not None:
            over = float(self.stock.top((x, y), (x, y), self.radius)) - self.flutes
            if over > here[2]:
                self.path.feed(x, y, min(z, over + AIR_MM), self.feed, Motion.LINK)
        self.path.rapid(x, y, z)

    def away(self) -> None:
        """Up to the clearance height, at the end."""
        self.up(self.heights.clearance)

    def over(self, x: float, y: float) -> None:
        """From wherever the tip is to above (x, y), at rapid, clear of the stock on the way."""
        here = self.path.position
        if here is None:
            self.path.rapid(x, y, self.heights.clearance)
            return
        top = max(self.stock.top(here[:2], (x, y), self.radius) + self.heights.feed, self.heights.retract)
        height = min(max(top, here[2]), max(self.heights.clearance, here[2]))
        self.up(height)
        self.path.rapid(x, y, height)

    def down(self, x: float, y: float, z: float) -> None:
        """Down to z over a place that is free (or bears no more than an allowance): rapid while no stock
        is near, at feed beside stock, at entry feed for the last bit."""
        under = float(self.stock.top_at(np.array([[x, y]]), self._core())[0])
        self._lower(x, y, self.radius, max(under, z) + self.heights.feed)
        self.path.feed(x, y, z, self.entry_feed, Motion.PLUNGE)

    def _core(self) -> float:
        """Radius under which the planning stock is surely met: its border cells count as free."""
        return max(0.3 * self.radius, self.radius - 1.5 * self.stock.half_diagonal)

    def _lower(self, x: float, y: float, reach: float, z: float) -> None:
        """Down at (x, y) to z: rapid to the feed height over all stock within `reach`, then at feed."""
        here = self.path.position
        assert here is not None
        safe = self.stock.top((x, y), (x, y), reach) + self.heights.feed
        if max(safe, z) < here[2]:
            self.path.rapid(x, y, max(safe, z))
        if z < min(safe, here[2]):
            self.path.feed(x, y, z, self.feed, Motion.PLUNGE)

    def helix(
        self, cx: float, cy: float, helix_radius: float, z: float, slope: float, climb_turn: int
    ) -> None:
        """Down a helix about (cx, cy) from just over the stock to z, closed by one level turn.

        `slope` is the tangent of the ramp angle, `climb_turn` the sense (+1 counter-clockwise).
        """
        under = float(self.stock.top_at(np.array([[cx, cy]]), self._core() + helix_radius)[0])
        start = min(max(under, z) + AIR_MM, self.heights.clearance)
        x, y = cx + helix_radius, cy
        self.over(x, y)
        self._lower(x, y, self.radius, start)
        drop_per_turn = 2.0 * math.pi * helix_radius * slope
        turns = max(1, math.ceil((start - z) / drop_per_turn))
        height = start
        for i in range(turns):
            following = start + (z - start) * (i + 1) / turns
            self._full_turn(cx, cy, helix_radius, height, following, climb_turn)
            height = following
        self._full_turn(cx, cy, helix_radius, z, z, climb_turn)

    def _full_turn(self, cx: float, cy: float, r: float, z0: float, z1: float, turn: int) -> None:
        middle = 0.5 * (z0 + z1)
        self.path.arc((cx - r, cy, middle), (cx, cy), turn, self.entry_feed, Motion.ENTRY)
        self.path.arc((cx + r, cy, z1), (cx, cy), turn, self.entry_feed, Motion.ENTRY)

    def ramp_along(self, loop: Floats, z: float, slope: float) -> None:
        """Down along a closed level loop (n, 2; first = last), falling by `slope`, from over the stock to z.

        Ends at the loop's start, with the whole loop still to be cut at z.
        """
        top = float(self.stock.top_at(loop, self._core()).max())
        start = min(max(top, z) + AIR_MM, self.heights.clearance)
        self.over(loop[0, 0], loop[0, 1])
        self._lower(loop[0, 0], loop[0, 1], self.radius, start)
        steps = np.hypot(*np.diff(loop, axis=0).T)
        around = float(steps.sum())
        turns = max(1, math.ceil((start - z) / (around * slope)))
        share = np.concatenate([[0.0], np.cumsum(steps)]) / around
        for i in range(turns):
            heights = start + (z - start) * (i + share) / turns
            self.path.line(np.column_stack([loop, heights])[1:], self.entry_feed, Motion.ENTRY)
