"""Profiles: along chosen walls, outside and inside, round about or a piece of them.

Where the cutter's middle may go is the border of the ground on which it would cut the part (`LevelAreas`) at the walls' own
depth; what of it lies along the chosen walls is the profile. So corner radius and taper of the tool count, other walls are
never cut, and a corner too narrow for the tool is passed by. Climb milling keeps the wall on the right of a tool that turns
clockwise, inside and outside (common practice, no source).
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from shapely.geometry import LineString, MultiPoint
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import ComputeError
from fenrik.core.paths.toolpath import Motion, PathBuilder, Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import CLEARING, Inputs, Parameters, Strategy, Wall, fact
from fenrik.core.strategies.contours import (
    Contour,
    along,
    band_about,
    borders_along,
    extended,
    leads,
    merged,
    rests,
    with_tabs,
)
from fenrik.core.strategies.correcting import Correction, correction_fact, ways_on_and_off
from fenrik.core.strategies.level_roughing import levels_between
from fenrik.core.strategies.linking import AIR_MM, TOUCH_MM, Linker
from fenrik.core.strategies.room import Room
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
BORDER, FIT = 0.1, PATH_SHARE - 0.1
"""Shares of the chord tolerance for the border of the blocked ground and for arcs and lines along it; the rest is the
mesh's."""
SHORTEST = 0.05
"""Pieces shorter than this share of the tool's diameter are left out."""


class Profile(Parameters):
    """What a profile can be told. Lengths mm."""

    step_down: float | None = fact(
        None,
        "Greatest depth of a level, or of a turn.",
        unit="mm",
        gt=0,
        le=500,
        reason="from material and tool",
    )
    depth: Literal["levels", "ramp"] = fact(
        "levels",
        "Level by level, or down along closed contours with a level turn at the end.",
        title="Way down",
    )
    passes: int = fact(1, "Passes side by side, the last one at the wall.", ge=1, le=50)
    stepover: float | None = fact(
        None, "Distance of the passes.", unit="mm", gt=0, le=200, reason="40 % of the diameter",
        shown_when={"passes": list(range(2, 51))},
    )  # fmt: skip
    allowance_radial: float = fact(0.0, "Left on the walls.", unit="mm", ge=-5, le=20)
    allowance_axial: float = fact(0.0, "Left under the tip.", unit="mm", ge=0, le=20)
    below: float = fact(0.0, "How far the tip goes below the walls' lower end.", unit="mm", ge=0, le=50)
    last_at_depth: bool = fact(False, "The pass at the wall only at full depth.", group="rest")
    spring_passes: int = fact(0, "Times that the last pass is driven again.", ge=0, le=10)
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    lead: Literal["arc", "line", "none"] = fact("arc", "How the tool comes to the wall and leaves it.")
    lead_share: float = fact(
        0.3, "Radius of the arc, or length of the line.", unit="diameters", gt=0, le=5, group="rest"
    )
    correction: Correction = correction_fact()
    overlap: float = fact(
        1.0,
        "How far a closed contour is driven beyond its beginning, and a rest beyond its ends.",
        unit="mm",
        ge=0,
        le=200,
        group="rest",
    )
    extension: float = fact(
        0.0,
        "By how much the ends of an open contour are driven on.",
        unit="diameters",
        ge=0,
        le=5,
        group="rest",
    )
    piece_from_x: float | None = fact(
        None,
        "Only a piece of the nearest contour, from the place nearest to this one, X.",
        unit="mm",
        group="rest",
        reason="the whole contour",
    )
    piece_from_y: float | None = fact(
        None, "The same place, Y.", unit="mm", group="rest", reason="the whole contour"
    )
    piece_to_x: float | None = fact(
        None,
        "The piece ends, as it is driven, at the place nearest to this one, X.",
        unit="mm",
        group="rest",
        reason="the whole contour",
    )
    piece_to_y: float | None = fact(
        None, "The same place, Y.", unit="mm", group="rest", reason="the whole contour"
    )
    rest_of: float | None = fact(
        None,
        "Only where a flat mill of this diameter, which went along these walls before, left something.",
        unit="mm",
        gt=0,
        le=200,
        group="rest",
        reason="the whole contour",
    )
    begin_x: float | None = fact(
        None,
        "Place near which a closed contour begins, X.",
        unit="mm",
        group="rest",
        reason="its longest straight",
    )
    begin_y: float | None = fact(
        None,
        "Place near which a closed contour begins, Y.",
        unit="mm",
        group="rest",
        reason="its longest straight",
    )
    tabs: int = fact(0, "Bridges left to hold the part.", ge=0, le=50)
    tab_width: float = fact(4.0, "Width of a bridge.", unit="mm", gt=0, le=200, group="rest")
    tab_height: float = fact(1.0, "Height of a bridge.", unit="mm", gt=0, le=50, group="rest")


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming walls that the tool cannot follow, Cancelled."""
    if not inputs.walls:
        raise ComputeError(
            "The profile has no walls.", remedy="Pick walls, a floor or top face, or the outline."
        )
    return _Profiling(inputs, progress).run()


class _Profiling:
    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        p: Profile = inputs.parameters
        self.inputs, self.p, self.progress = inputs, p, progress
        self.tool = inputs.assembly
        self.stock = inputs.stock.copy()
        self.path = PathBuilder()
        self.link = Linker.of(inputs, self.path, self.stock)
        self.stepover = p.stepover or 0.4 * self.tool.diameter
        self.step_down = p.step_down or 0.5 * self.tool.diameter
        self.material_right = (p.direction == "climb") == inputs.spindle_clockwise
        self._shrunk: dict[float, tuple[BaseGeometry, BaseGeometry]] = {}
        margin = 2 * self.tool.radius + p.passes * self.stepover + 2.0
        progress.step(0.0, "sampling the part")
        self.areas = inputs.areas(
            inputs.cutter(p.allowance_radial, p.allowance_axial), margin,
            min(0.5, max(0.1, self.tool.diameter / 24)), BORDER * inputs.tolerance,
        )  # fmt: skip

    def run(self) -> Toolpath:
        groups = self.inputs.walls_by_depth()
        for i, (low, walls) in enumerate(groups):
            self._group(walls, low, self.progress.part(i / len(groups), (i + 1) / len(groups)))
        if self.path.count() == 0 and self.p.rest_of is not None:
            raise ComputeError(
                f"A mill of {self.p.rest_of:g} mm leaves nothing on {self.inputs.walls[0].words} that tool"
                f" {self.tool.number} of {self.tool.diameter:g} mm could take.",
                remedy="Switch the operation off, give the diameter of the mill before, or use a smaller tool.",
                offer={"set": {"enabled": False}},
            )
        if self.path.count() == 0:
            self._refuse(groups[0][1], groups[0][0])
        self.link.away()
        return self.path.build()

    def _refuse(self, walls: list[Wall], low: float) -> None:
        """Raises ComputeError naming walls that the tool cannot follow, with the widest that can."""
        p, bottom, feet = self.p, low - self.p.below + self.p.allowance_axial, merged([w.line for w in walls])
        room = Room(self.inputs, p.allowance_radial, p.allowance_axial)
        wide = room.widest(bottom, lambda d, blocked: bool(self._contours(blocked, feet, 0.0, 0.5 * d)))
        raise ComputeError(
            f"Tool {self.tool.number} of {self.tool.diameter:g} mm cannot follow {walls[0].words} at Z {bottom:.2f}.",
            remedy="Pick other walls."
            if wide is None
            else f"Use a tool of {wide:g} mm or less, or pick other walls.",
            offer=None if wide is None else {"tool_at_most": wide},
        )

    def _group(self, walls: list[Wall], low: float, progress: Progress) -> None:
        """All contours whose walls end at one height."""
        p, bottom = self.p, low - self.p.below + self.p.allowance_axial
        progress.step(0.02, f"finding the contours at Z {bottom:.2f}")
        blocked = self.areas.blocked(bottom)
        feet = merged([w.line for w in walls])
        passes = [k * self.stepover for k in range(p.passes - 1, -1, -1)]
        rounds = [(away, self._contours(blocked, feet, away)) for away in passes]
        if not rounds[-1][1]:
            if p.rest_of is not None:
                return
            x, y = feet.representative_point().coords[0][:2]
            self.path.notes.append({"kind": "wall_left", "x": x, "y": y, "z": bottom, "wall": walls[0].words})
            return
        for c, contour in enumerate(rounds[-1][1]):
            progress.step(0.1 + 0.9 * c / len(rounds[-1][1]), f"contour {c + 1} of {len(rounds[-1][1])}")
            mine = [(away, _nearest(found, contour, away)) for away, found in rounds[:-1]]
            self._contour(
                [(a, f) for a, f in mine if f is not None] + [(0.0, contour)], bottom, blocked, progress
            )

    def _contours(
        self, blocked: BaseGeometry, feet: BaseGeometry, away: float, radius: float | None = None
    ) -> list[Contour]:
        """The pieces of the border of the ground that is blocked for a tool (of a radius, else ours), grown by `away`, that
        lie along the walls' feet."""
        ground = blocked.buffer(away, quad_segs=48) if away else blocked
        reach = (
            (radius or self.tool.radius) + self.p.allowance_radial + away + 2.0 * self.inputs.tolerance + 0.01
        )
        # flat at the ends: where no chosen wall follows, the contour ends square to the last
        band = self.inputs.allowed(band_about(feet, max(reach, 0.05)))
        found = borders_along(ground, band, self.material_right, 0.25 * self.areas.step)
        if self.p.rest_of is not None:
            found = rests(
                found,
                ground,
                0.5 * (self.p.rest_of - self.tool.diameter),
                self.p.overlap,
                self.inputs.tolerance,
            )
        ends = self._piece_ends()
        if ends is not None:
            near = [LineString(c.points).distance(MultiPoint(ends)) for c in found]
            found = [found[int(np.argmin(near))].between(*ends)] if found else []
        least = SHORTEST * self.tool.diameter
        return [c for c in found if c.length > least]

    def _piece_ends(self) -> tuple[Floats, Floats] | None:
        """The places near which the wanted piece of a contour begins and ends (2,); None for the whole."""
        p = self.p
        given = [p.piece_from_x, p.piece_from_y, p.piece_to_x, p.piece_to_y]
        if all(v is None for v in given):
            return None
        if any(v is None for v in given):
            raise ComputeError(
                "The piece of the contour is known at one end only, or in one direction only.",
                remedy="Give X and Y of both ends of the piece, or none of them.",
            )
        return np.array(given[:2], dtype=np.float64), np.array(given[2:], dtype=np.float64)

    def _contour(
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
                    self._level(contour, level, bottom, blocked, away)
            for _ in range(p.spring_passes if at_wall else 0):
                self._level(contour, bottom, bottom, blocked, away)

    def _arrive(self, contour: Contour, blocked: BaseGeometry, away: float) -> tuple[Contour, Floats, Floats]:
        """The contour as it is driven (turned to its beginning, overlapping, extended) with its ways in and out (n, 2)."""
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
        """To the beginning of the way in at the level; False where stock stands there and the tool has ramped down along
        the contour instead."""
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
        """Down through what a roughing left on the floor, to and fro on the straight way on. Raises ComputeError where more
        stands there."""
        on, to = way_in[0], way_in[1]
        top = float(self.stock.top_at(way_in[:2], core).max())
        if top - level > FLOOR_SKIN * self.tool.diameter:
            raise ComputeError(
                f"{top - level:.2f} mm of stock stand where cutter compensation would be switched on beside"
                f" {self.inputs.walls[0].words}, at X {on[0]:.2f} Y {on[1]:.2f} Z {level:.2f}.",
                remedy="Clear the ground beside the wall first, begin elsewhere, or let the computer correct the radius.",
                offer={"parameters": {"correction": "computer"}},
            )
        start = top + AIR_MM
        self.link.over(*on)
        self.link.down(float(on[0]), float(on[1]), start)
        times = 2 * max(1, math.ceil((start - level) / (2 * math.dist(on, to) * RAMP)))
        for k in range(1, times + 1):
            x, y = (to if k % 2 else on).tolist()
            self.path.feed(x, y, start + (level - start) * k / times, self.inputs.entry_feed, Motion.ENTRY)

    def _level(
        self, contour: Contour, level: float, bottom: float, blocked: BaseGeometry, away: float
    ) -> None:
        driven, way_in, way_out = self._arrive(contour, blocked, away)
        self.path.run += 1
        mark = max(0, self.path.count() - 1)
        led = self._down(way_in, contour, driven, level, away)
        tolerance, feed = FIT * self.inputs.tolerance, self.inputs.feed
        if led:
            self._in(way_in, level, away)
        bridge = bottom + self.p.tab_height
        if self.p.tabs and level < bridge - 1e-9:
            for points, lifted in with_tabs(
                driven.points, self.p.tabs, self.p.tab_width + self.tool.diameter
            ):
                z = bridge if lifted else level
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


SKIN = 0.75
"""Stock beyond this share of the radius is a skin that going down beside it may take along (common practice, no source)."""
FLOOR_SKIN = 0.1
"""What a roughing leaves on a floor is less than this share of the diameter."""
RAMP = math.tan(math.radians(3.0))
"""Slope of a ramp where stock stands on the way in (common practice, no source)."""


def _nearest(found: list[Contour], wanted: Contour, away: float) -> Contour | None:
    """The contour farther out that runs beside one at the wall."""
    line = LineString(wanted.points)
    best = min(found, key=lambda c: line.distance(LineString(c.points)), default=None)
    return best if best is not None and line.distance(LineString(best.points)) < 1.5 * away + 1e-6 else None


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Step down and stepover from the cutting data."""
    return {
        "step_down": (data["step_down"], "from material and tool"),
        "stepover": (data["stepover"], "40 % of the diameter (common practice, no source)"),
    }


STRATEGY = Strategy(
    "profile",
    "Profile",
    "Mills along chosen walls, outside or inside, with leads, passes and bridges.",
    Profile,
    compute,
    proposals,
    CLEARING,
    needs_walls=True,
)
