"""Constant-Z finishing: round the part's walls, level below level.

At every level the borders of the blocked ground of the real cutter are the passes, clipped to where the
surface is steep enough. Passes that lie below each other belong to one region and are cut from the top down
before the next region begins, or all regions level by level. From one pass down to the next the tool ramps
along the new pass, or all the way round it (a helix). Lower ground is never entered before the pass above it,
so a ramp is always free.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.levels import LevelAreas, polygons
from fenrik.core.errors import ComputeError
from fenrik.core.motion.arcs import fit_arcs
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import (
    Example,
    Inputs,
    Parameters,
    Strategy,
    face_overlap,
    fact,
    rest_of_ball,
)
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.strategies.kit.runs import steady_runs
from fenrik.core.strategies.kit.touching import Contact
from fenrik.core.strategies.levels.level_roughing import levels_between
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.cutting_data import stepover_for_cusp

Floats = NDArray[np.float64]

AT_ONCE = 8
"""Levels worked out together."""


class ConstantZ(Parameters):
    """What constant-Z finishing can be told. Lengths mm."""

    spaced_by: Literal["cusp", "step"] = fact(
        "cusp", "What the distance of the levels follows from.", title="Spacing by"
    )
    cusp: float = fact(
        0.01,
        "Height of the ridges at the least steepness.",
        unit="mm",
        gt=0,
        le=5,
        shown_when={"spaced_by": "cusp"},
    )
    step_down: float | None = fact(
        None,
        "Distance of the levels.",
        unit="mm",
        gt=0,
        le=100,
        shown_when={"spaced_by": "step"},
        reason="from cusp",
    )
    steep_from_deg: float = fact(
        45.0,
        "Least steepness of the surface; 0 finishes all of it.",
        unit="°",
        ge=0,
        le=90,
        title="Steep from",
    )
    overlap_deg: float = fact(
        3.0,
        "How far passes go beyond that, so that no gap is left beside flat passes.",
        unit="°",
        ge=0,
        le=30,
        group="rest",
    )
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    flat_levels: bool = fact(True, "Also go round at the heights of the part's flat faces.", group="rest")
    order: Literal["region", "level"] = fact(
        "region", "Each region down to its bottom, or all regions level by level."
    )
    descent: Literal["ramp", "helix"] = fact("ramp", "How the tool gets down to the next pass.", group="rest")
    ramp_deg: float = fact(
        5.0, "Angle of the ramp.", unit="°", gt=0.1, le=45, group="rest", shown_when={"descent": "ramp"}
    )
    overlap: float = fact(
        1.0, "How far a closed pass goes on beyond its start.", unit="mm", ge=0, le=50, group="rest"
    )
    rest_of: float | None = rest_of_ball()
    face_overlap: float = face_overlap()
    allowance: float = fact(
        0.0, "Left on the part; less than 0 down to the corner radius.", unit="mm", ge=-20, le=20
    )


@dataclass
class _Pass:
    """A pass in plan view, points (n, 2); a closed one repeats its first point."""

    points: Floats
    level: float
    closed: bool
    number: int
    done: bool = False


def step_of(p: ConstantZ, assembly: Assembly) -> float:
    """Distance of the levels mm: given, or where the ridge at the least steepness has the wanted height."""
    if p.spaced_by == "step" and p.step_down is not None:
        return p.step_down
    radius = assembly.corner_radius
    if radius <= 0:
        return p.step_down or 0.5
    steep = math.radians(max(10.0, p.steep_from_deg))
    return stepover_for_cusp(radius, p.cusp) * math.sin(steep)


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The finishing path in the setup frame. Raises ComputeError when nothing is steep enough, Cancelled."""
    return _Run(inputs, progress).run()


class _Run:
    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        p: ConstantZ = inputs.parameters
        tool = inputs.assembly
        if p.allowance < 0 and -p.allowance > tool.corner_radius:
            raise ComputeError(
                f"The allowance {p.allowance:g} mm goes deeper than the corner radius "
                f"{tool.corner_radius:g} mm of tool {tool.number}.",
                remedy="Use an allowance above minus the corner radius.",
            )
        self.inputs, self.progress, self.p = inputs, progress, p
        self.cutter = inputs.cutter(p.allowance, p.allowance)
        self.before = inputs.ball_before(p.rest_of, p.allowance)
        self.tolerance = inputs.tolerance * PATH_SHARE
        margin = 2 * tool.radius + 2.0
        progress.step(0.0, "sampling the part")
        low, high = inputs.part_low[:2], inputs.part_high[:2]
        if inputs.faces is not None:
            x0, y0, x1, y1 = inputs.faces.room(self.cutter, p.face_overlap).bounds
            low, high = np.maximum(low, [x0, y0]), np.minimum(high, [x1, y1])
        self.areas = LevelAreas(
            self.cutter,
            low - margin,
            high + margin,
            min(0.5, max(0.1, tool.diameter / 16)),
            0.5 * self.tolerance,
        )
        self.path = PathBuilder()
        self.link = Linker.of(inputs, self.path, inputs.stock.copy())
        self.step = step_of(p, tool)
        self.rings, self.steep_enough = 0, False
        self.forward = (p.direction == "climb") == inputs.spindle_clockwise

    def run(self) -> Toolpath:
        levels = self._levels()
        passes: list[list[_Pass]] = []
        for i in range(0, len(levels), AT_ONCE):
            self.progress.step(0.6 * i / len(levels), f"level {i + 1} of {len(levels)} at Z {levels[i]:.2f}")
            some = levels[i : i + AT_ONCE]
            for level, blocked in zip(some, self.areas.blocked_at_all(some), strict=True):
                passes.append(self._passes(level, blocked))
        total = sum(len(row) for row in passes)
        if total == 0:
            raise self._nothing(levels)
        done = 0
        for chain in self._chains(passes):
            for i, one in enumerate(chain):
                self.progress.step(0.6 + 0.4 * done / total, f"pass {done + 1}")
                done += 1
                self._cut(one, i > 0)
        self.link.away()
        return self.path.build()

    def _nothing(self, levels: list[float]) -> ComputeError:
        """Why there is no pass: what cut off the last of them."""
        low, high = self._range()
        bottom = self.inputs.heights.bottom
        if not levels or (not self.rings and bottom > low):
            return ComputeError(
                f"The bottom of the operation, Z {bottom:.2f}, leaves nothing of what it finishes: it is a "
                f"height of the tip, which would go from Z {high:.2f} to Z {low:.2f}.",
                remedy="Lower 'bottom' under Heights.",
            )
        if self.inputs.faces is None or not self.steep_enough:
            return ComputeError(
                f"No part of the surface within the borders is steeper than {self.p.steep_from_deg:g}°.",
                remedy="Lower 'steep from', or enlarge the keep-in area.",
            )
        return ComputeError(
            f"Nowhere steeper than {self.p.steep_from_deg:g}° and above Z {max(low, bottom):.2f} is there a "
            "pass that touches the chosen faces.",
            remedy="Choose other faces, a smaller tool, or lower 'bottom'.",
        )

    def _range(self) -> tuple[float, float]:
        """Lowest and highest tip mm by the faces that are finished, whatever the operation's bottom is."""
        faces, low, high = self.inputs.faces, float(self.inputs.part_low[2]), float(self.inputs.part_high[2])
        if faces is not None:
            # the tip lies under its contact, by the corner radius at most
            low = max(low, faces.low - self.p.face_overlap - self.cutter.corner)
            high = min(high, faces.high + self.p.face_overlap)
        return low, high

    def _levels(self) -> list[float]:
        low, high = self._range()
        top, bottom = high - 1e-4, max(self.inputs.heights.bottom, low)
        flats = [f + self.p.allowance for f in self.inputs.flats] if self.p.flat_levels else []
        return levels_between(top, bottom, self.step, flats) if top > bottom else []

    def _passes(self, level: float, blocked: BaseGeometry) -> list[_Pass]:
        out: list[_Pass] = []
        border = self._borders()
        for area in polygons(blocked):
            for number, ring in enumerate((area.exterior, *area.interiors)):
                points = _blocked_right(ring, number == 0)
                if not self.forward:
                    points = points[::-1]
                out += self._clipped(points, level, border)
        return out

    def _borders(self) -> BaseGeometry | None:
        inputs = self.inputs
        area = inputs.keep_in
        if inputs.keep_out is not None:
            area = (area if area is not None else self.areas.domain).difference(inputs.keep_out)
        return area

    def _clipped(self, ring: Floats, level: float, border: BaseGeometry | None) -> list[_Pass]:
        """The pieces of a closed ring that are steep enough and inside the borders."""
        self.rings += 1
        dense = np.asarray(LineString(ring).segmentize(max(0.3, self.areas.step)).coords)
        keep = self._steep(dense)
        if border is not None:
            shapely.prepare(border)
            keep &= shapely.contains_xy(border, dense[:, 0], dense[:, 1])
        self.steep_enough |= bool(keep.any())
        if self.inputs.faces is not None and keep.any():
            keep[keep] = self._touched(dense, level)[keep]
        out: list[_Pass] = []
        for piece, closed in steady_runs(dense, keep, 2.0 * self.areas.step):
            out.append(_Pass(piece, level, closed, len(out)))
        return out

    def _touched(self, ring: Floats, level: float) -> NDArray[np.bool_]:
        """Where the tool touches the chosen faces as it goes round a ring at a level; what blocks it lies on
        the ring's right, or on its left where it is gone round the other way."""
        assert self.inputs.faces is not None
        along = np.roll(ring[:-1], -1, axis=0) - np.roll(ring[:-1], 1, axis=0)
        along /= np.maximum(np.hypot(*along.T), 1e-12)[:, None]
        side = 1.0 if self.forward else -1.0
        heading = side * np.column_stack([along[:, 1], -along[:, 0]])
        heading = np.vstack([heading, heading[:1]])
        tips = np.column_stack([ring, np.full(len(ring), level)])
        how = Contact(self.cutter, self.p.face_overlap, self.before)
        return self.inputs.faces.wanted(how, tips, heading, closed=True)

    def _steep(self, points: Floats) -> NDArray[np.bool_]:
        least = math.radians(max(0.0, self.p.steep_from_deg - self.p.overlap_deg))
        if least <= 0:
            return np.ones(len(points), dtype=np.bool_)
        return np.asarray(self.cutter.slope(points) >= least)

    def _chains(self, passes: list[list[_Pass]]) -> list[list[_Pass]]:
        """The order of cutting: passes below each other by region, or every level as it comes."""
        if self.p.order == "level":
            return [[one] for row in passes for one in row]
        lines = [[LineString(one.points) for one in row] for row in passes]
        chains = []
        for i, row in enumerate(passes):
            for first in row:
                if first.done:
                    continue
                first.done = True
                chain, at = [first], LineString(first.points)
                for j in range(i + 1, len(passes)):
                    waiting = [k for k, one in enumerate(passes[j]) if not one.done]
                    near = [(lines[j][k].distance(at), k) for k in waiting]
                    best = min(near, default=None)
                    if best is None or best[0] > self._reach():
                        break
                    following = passes[j][best[1]]
                    following.done = True
                    chain.append(following)
                    at = lines[j][best[1]]
                chains.append(chain)
        return chains

    def _reach(self) -> float:
        """How far apart in plan view passes of one region lie at most."""
        least = math.radians(max(8.0, self.p.steep_from_deg - self.p.overlap_deg))
        return 1.5 * self.step / math.tan(least) + self.areas.step

    def _cut(self, one: _Pass, follows: bool) -> None:
        here = self.path.position
        points = one.points
        if one.closed and here is not None:
            points = _from_nearest(points, here[:2])
        x, y = float(points[0, 0]), float(points[0, 1])
        self.path.run += 1
        linked = follows and here is not None and self._may_go(here, (x, y))
        if not linked:
            self.link.over(x, y)
            self.link.down(x, y, one.level)
            self._feed(points, one.level, Motion.FEED)
        else:
            assert here is not None
            self.path.feed(x, y, here[2], self.inputs.feed, Motion.LINK)
            if one.closed:
                self._ramp_in(points, here[2], one.level)
            else:
                self.path.feed(x, y, one.level, self.inputs.entry_feed, Motion.LINK)
            self._feed(points, one.level, Motion.FEED)
        if one.closed and self.p.overlap > 0:
            run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
            self._feed(points[run <= min(self.p.overlap, 0.5 * run[-1])], one.level, Motion.LEAD)
        self.path.level = one.number

    def _may_go(self, here: tuple[float, float, float], there: tuple[float, float]) -> bool:
        """Whether a straight level move at the height of the pass above stays clear of the part."""
        length = math.hypot(there[0] - here[0], there[1] - here[1])
        if length > 3.0 * self._reach() + self.inputs.assembly.radius:
            return False
        share = np.linspace(0.0, 1.0, max(3, math.ceil(length / 0.05)))[:, None]
        points = np.array(here[:2]) + share * (np.array(there) - np.array(here[:2]))
        return bool((self.cutter.tip(points) <= here[2] + 0.25 * self.tolerance).all())

    def _ramp_in(self, points: Floats, high: float, low: float) -> None:
        """Down along a closed pass: over its whole length for a helix, else at the ramp's angle."""
        steps = np.hypot(*np.diff(points, axis=0).T)
        run = np.concatenate([[0.0], np.cumsum(steps)])
        fall = max(high - low, 0.0)
        length = run[-1] if self.p.descent == "helix" else fall / math.tan(math.radians(self.p.ramp_deg))
        if fall <= 0 or length <= 0:
            return
        turns = max(1, math.ceil(length / run[-1] - 1e-9))
        for turn in range(turns):
            heights = high - fall * np.minimum(1.0, (turn * run[-1] + run) / length)
            last = int(np.searchsorted(turn * run[-1] + run, length - 1e-9)) + 1
            self.path.line(
                np.column_stack([points, heights])[1 : min(last, len(points))], self.inputs.feed, Motion.FEED
            )
        if last < len(points):  # back to where the level pass begins, on the way that has been cut
            self._feed(points[last - 1 :], low, Motion.FEED)

    def _feed(self, points: Floats, level: float, kind: Motion) -> None:
        """Along points (n, 2) at a level, arcs where they fit."""
        if len(points) < 2:
            return
        thin = np.asarray(LineString(points).simplify(0.15 * self.tolerance).coords)
        for end, turn, cx, cy in fit_arcs(thin, 0.3 * self.tolerance):
            x, y = float(thin[end, 0]), float(thin[end, 1])
            if turn:
                self.path.arc((x, y, level), (cx, cy), turn, self.inputs.feed, kind)
            else:
                self.path.feed(x, y, level, self.inputs.feed, kind)


def _blocked_right(ring: BaseGeometry, outer: bool) -> Floats:
    """A border of blocked ground directed so that it lies on the right."""
    points = np.asarray(ring.coords)[:, :2]
    return points[::-1] if bool(shapely.is_ccw(ring)) == outer else points


def _from_nearest(points: Floats, place: tuple[float, float]) -> Floats:
    """A closed pass begun at its point nearest to a place."""
    start = int(np.argmin(np.hypot(points[:-1, 0] - place[0], points[:-1, 1] - place[1])))
    ring = np.roll(points[:-1], -start, axis=0)
    return np.vstack([ring, ring[:1]])


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Step where it is left open: from a cusp of 10 µm at the wall."""
    radius = assembly.corner_radius
    if radius <= 0:
        return {"step_down": (0.5, "a flat cutter: half a millimetre")}
    value = stepover_for_cusp(radius, 0.01) * math.sin(math.radians(45.0))
    return {"step_down": (value, "from a cusp of 0.01 mm at 45°: 2 √(h (2 r − h)) sin 45°")}


STRATEGY = Strategy(
    "constant_z",
    "Constant-Z finishing",
    "Goes round steep surfaces at levels, down region by region.",
    ConstantZ,
    compute,
    proposals,
    finishes=True,
    example=Example({"spaced_by": "step", "step_down": 3.0}),
)
