"""Along a wall: ways on and off, down to a level, level by level or down a ramp, over tabs."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Inputs
from fenrik.core.strategies.kit.contours import Contour, along, extended, leads, with_tabs
from fenrik.core.strategies.kit.correcting import ways_on_and_off
from fenrik.core.strategies.kit.linking import AIR_MM, TOUCH_MM, Linker
from fenrik.core.strategies.levels.level_roughing import levels_between
from fenrik.core.strategies.walls.profile_parameters import Profile
from fenrik.core.tolerances import PATH_SHARE

Floats = NDArray[np.float64]
BORDER, FIT = 0.1, PATH_SHARE - 0.1
"""Shares of the chord tolerance for the border of the blocked ground and for arcs and lines along it; the
rest is the mesh's."""
SKIN = 0.75
"""Stock beyond this share of the radius is a skin that going down beside it may take along (common practice,
no source)."""
FLOOR_SKIN = 0.1
"""What a roughing leaves on a floor is less than this share of the diameter."""
RAMP = math.tan(math.radians(3.0))
"""Slope of a ramp where stock stands on the way in (common practice, no source)."""


class WallCutter:
    """Drives contours and takes what they cut out of the planning stock; the wall lies on the right of the
    way where `material_right`."""

    def __init__(self, inputs: Inputs, parameters: Profile, material_right: bool) -> None:
        self.inputs, self.p, self.tool = inputs, parameters, inputs.assembly
        self.material_right = material_right
        self.stock, self.path = inputs.stock.copy(), PathBuilder()
        self.link = Linker.of(inputs, self.path, self.stock)
        self.step_down = parameters.step_down or 0.5 * self.tool.diameter
        self.foot = 0.0
        """Height mm of the walls' foot, from which tabs stand up."""
        self._shrunk: dict[float, tuple[BaseGeometry, BaseGeometry]] = {}

    def cut(
        self, rounds: list[tuple[float, Contour]], bottom: float, blocked: BaseGeometry, progress: Progress
    ) -> None:
        """One contour with the passes beside it, the outermost first, at all levels."""
        p, last = self.p, rounds[-1][1]
        near = [c.points for _, c in rounds]
        top = max(float(self.stock.top_at(points, self.tool.radius).max()) for points in near)
        levels = levels_between(max(top, bottom + TOUCH_MM), bottom, self.step_down, [])
        ramps = p.depth == "ramp" and last.closed
        for away, contour in rounds:
            at_wall = contour is last
            if ramps:
                self._ramped(contour, top, bottom, blocked, away)
            else:
                for level in levels if not (at_wall and p.last_at_depth) else levels[-1:]:
                    progress.step(0.5, f"level Z {level:.2f}")
                    self._level(contour, level, blocked, away)
            for _ in range(p.spring_passes if at_wall else 0):
                self._level(contour, bottom, blocked, away)

    def _arrive(self, contour: Contour, blocked: BaseGeometry, away: float) -> tuple[Contour, Floats, Floats]:
        """The contour as it is driven (turned to its beginning, overlapping, extended) with its ways in and
        out (n, 2)."""
        p, d = self.p, self.tool.diameter
        free = self._free(blocked, away)
        if contour.closed:
            driven = contour.begun(p.begin_x, p.begin_y).overlapping(p.overlap)
        else:
            driven = extended(contour, p.extension * d, free)
        size = p.lead_share * d if p.lead != "none" else 0.0
        # the free side lies to the left where the material is on the right
        side = 1.0 if self.material_right else -1.0
        way_in, way_out = leads(driven.points, p.lead, size, side, free)
        if self._corrects(away):
            before = way_in if len(way_in) > 1 else driven.points[:2]
            behind = way_out if len(way_out) > 1 else driven.points[-2:]
            what = self.inputs.walls[0].words
            on, off = ways_on_and_off(before, behind, d, self.material_right, free, what)
            way_in, way_out = np.vstack([on, way_in]), np.vstack([way_out, off])
        return driven, way_in, way_out

    def _corrects(self, away: float) -> bool:
        """Whether the control corrects the radius of a pass: of that at the wall, if at all."""
        return self.p.correction != "computer" and away == 0.0

    def _in(self, way: Floats, z: float, away: float) -> None:
        """Along the way in (n, 2) at a height; its first piece, straight, switches cutter compensation on."""
        at, tolerance = 0, FIT * self.inputs.tolerance
        if self._corrects(away):
            # the tool goes on the left of the contour where the material is on the right
            self.path.correct(1 if self.material_right else -1, self.p.correction == "control")
            self.path.feed(float(way[1, 0]), float(way[1, 1]), z, self.inputs.feed, Motion.LEAD)
            at = 1
        if len(way) - at > 1:
            along(self.path, way[at:], z, z, self.inputs.feed, tolerance, Motion.LEAD)

    def _out(self, way: Floats, z: float, away: float) -> None:
        """Along the way out (n, 2); its last piece, straight, switches cutter compensation off."""
        corrects = self._corrects(away)
        upto = len(way) - 1 if corrects else len(way)
        if upto > 1:
            along(self.path, way[:upto], z, z, self.inputs.feed, FIT * self.inputs.tolerance, Motion.LEAD)
        if corrects:
            self.path.feed(float(way[-1, 0]), float(way[-1, 1]), z, self.inputs.feed, Motion.LEAD)
            self.path.corrected()

    def _free(self, blocked: BaseGeometry, away: float) -> BaseGeometry:
        """What a way in or out must not touch; what lies on the border itself is free."""
        known = self._shrunk.get(away)
        if known is None or known[0] is not blocked:
            known = self._shrunk[away] = (blocked, blocked.buffer(away - BORDER * self.inputs.tolerance))
        return known[1]

    def _down(self, way_in: Floats, contour: Contour, driven: Contour, level: float, away: float) -> bool:
        """To the beginning of the way in at the level; False where stock stands there and the tool has ramped
        down along the contour instead."""
        start = way_in[0]
        core = max(0.3 * self.tool.radius, self.tool.radius - 1.5 * self.stock.half_diagonal)
        core = min(SKIN * self.tool.radius, core)
        if float(self.stock.top_at(start[None], core)[0]) <= level + TOUCH_MM:
            self.link.over(*start)
            self.link.down(float(start[0]), float(start[1]), level)
            return True
        if self._corrects(away):
            self._through_skin(way_in, level, core)
            return True
        if contour.closed:
            there = contour.begun(*driven.points[0].tolist()).points
        else:
            there = np.vstack([driven.points, driven.points[-2::-1]])
        top = float(self.stock.top_at(there, core).max()) + AIR_MM
        self.link.over(*there[0])
        self.link.down(float(there[0, 0]), float(there[0, 1]), top)
        turns = max(1, math.ceil((top - level) / (Contour(there, True).length * RAMP)))
        for k in range(turns):
            z0, z1 = (top + (level - top) * (k + j) / turns for j in (0, 1))
            along(self.path, there, z0, z1, self.inputs.entry_feed, FIT * self.inputs.tolerance, Motion.ENTRY)
        return False

    def _through_skin(self, way_in: Floats, level: float, core: float) -> None:
        """Down through what a roughing left on the floor, to and fro on the straight way on. Raises
        ComputeError where more stands there."""
        on, to = way_in[0], way_in[1]
        top = float(self.stock.top_at(way_in[:2], core).max())
        if top - level > FLOOR_SKIN * self.tool.diameter:
            raise ComputeError(
                f"{top - level:.2f} mm of stock stand where cutter compensation would be switched on beside"
                f" {self.inputs.walls[0].words}, at X {on[0]:.2f} Y {on[1]:.2f} Z {level:.2f}.",
                remedy="Clear the ground beside the wall first, begin elsewhere, or let the computer "
                "correct the radius.",
                offer={"parameters": {"correction": "computer"}},
            )
        start = top + AIR_MM
        self.link.over(*on)
        self.link.down(float(on[0]), float(on[1]), start)
        times = 2 * max(1, math.ceil((start - level) / (2 * math.dist(on, to) * RAMP)))
        for k in range(1, times + 1):
            x, y = (to if k % 2 else on).tolist()
            self.path.feed(x, y, start + (level - start) * k / times, self.inputs.entry_feed, Motion.ENTRY)

    def _level(self, contour: Contour, level: float, blocked: BaseGeometry, away: float) -> None:
        driven, way_in, way_out = self._arrive(contour, blocked, away)
        self.path.run += 1
        mark = max(0, self.path.count() - 1)
        led = self._down(way_in, contour, driven, level, away)
        tolerance, feed = FIT * self.inputs.tolerance, self.inputs.feed
        if led:
            self._in(way_in, level, away)
        tab_top = self.foot + self.p.tab_height
        if self.p.tabs and level < tab_top - 1e-9:
            for points, lifted in with_tabs(
                driven.points, self.p.tabs, self.p.tab_width + self.tool.diameter
            ):
                z = tab_top if lifted else level
                self._step(z)
                along(self.path, points, z, z, feed, tolerance, Motion.FEED)
            self._step(level)
        else:
            along(self.path, driven.points, level, level, feed, tolerance, Motion.FEED)
        self._out(way_out, level, away)
        self.stock.cut(self.path.since(mark), self.tool.cleared)

    def _step(self, z: float) -> None:
        """Straight up or down to a height, at entry feed."""
        here = self.path.position
        if here is not None and abs(here[2] - z) > 1e-9:
            self.path.feed(here[0], here[1], z, self.inputs.entry_feed, Motion.PLUNGE)

    def _ramped(
        self, contour: Contour, top: float, bottom: float, blocked: BaseGeometry, away: float
    ) -> None:
        """Down along a closed contour, a turn for every step down, then a level turn."""
        start = max(top, bottom) + AIR_MM
        driven, way_in, way_out = self._arrive(contour, blocked, away)
        loop = contour.begun(*driven.points[0].tolist()).points
        self.path.run += 1
        mark = max(0, self.path.count() - 1)
        self.link.over(*way_in[0])
        self.link.down(float(way_in[0, 0]), float(way_in[0, 1]), start)
        tolerance = FIT * self.inputs.tolerance
        self._in(way_in, start, away)
        turns = max(1, math.ceil((start - bottom) / self.step_down - 1e-9))
        for k in range(turns):
            z0, z1 = (start + (bottom - start) * (k + j) / turns for j in (0, 1))
            along(self.path, loop, z0, z1, self.inputs.feed, tolerance, Motion.FEED)
        along(self.path, driven.points, bottom, bottom, self.inputs.feed, tolerance, Motion.FEED)
        self._out(way_out, bottom, away)
        self.stock.cut(self.path.since(mark), self.tool.cleared)
