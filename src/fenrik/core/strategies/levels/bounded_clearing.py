"""Clearing at a bounded load.

Level by level as roughing in levels, but the passes are not offsets of the border: the tool follows the
border of the stock itself and steers so that it is engaged over the same angle all the way, in corners and
between islands too. That bears the whole length of the flutes and a higher feed. Between the great steps
down, smaller ones are cut on the way back up, so that slopes are left even.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.levels import LevelAreas
from fenrik.core.motion.arcs import fit_arcs
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.notes import Engagement, NarrowEntry, Unreached
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import CLEARING, Example, Inputs, Parameters, Strategy, fact
from fenrik.core.strategies.kit.linking import TOUCH_MM, Linker
from fenrik.core.strategies.kit.room import refuse_narrow
from fenrik.core.strategies.levels.clearing import ENTRY, LIFT, LINK, Clearing, Stretch, field_of
from fenrik.core.strategies.levels.level_roughing import levels_between
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.cutting_data import engagement_angle

Floats = NDArray[np.float64]
AIM, BOUND = 0.985, 1.04
"""Shares of the wanted engagement that the passes aim at and that planning never exceeds; 1.10 is
promised."""

ENTRY_ROOM = 0.08
"""Room to each side, in diameters, in which an entry on a helix is found: a tenth of the radius, the fineness
of the bitmap and the chords of the way."""
SLOT = 0.5
"""Entries on a helix smaller than this (radii) cut over the whole width: they are reported."""


class BoundedClearing(Parameters):
    """What clearing at a bounded load can be told. Lengths mm."""

    stepover: float | None = fact(
        None,
        "Width of cut on a straight pass; the engagement that follows from it is kept everywhere.",
        unit="mm",
        gt=0,
        le=200,
        reason="from the diameter",
    )
    step_down: float | None = fact(
        None,
        "Greatest depth from level to level.",
        unit="mm",
        gt=0,
        le=200,
        reason="from flutes and diameter",
    )
    step_up: float | None = fact(
        None,
        "Steps on the way back up, where slopes have left more than this.",
        unit="mm",
        gt=0,
        le=200,
        reason="from the step down",
    )
    allowance_radial: float = fact(
        0.3, "Left on walls.", unit="mm", ge=0, le=20, reason="room for finishing", title="Radial allowance"
    )
    allowance_axial: float = fact(
        0.2, "Left on floors.", unit="mm", ge=0, le=20, reason="room for finishing", title="Axial allowance"
    )
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    flat_levels: bool = fact(True, "Also cut at the heights of the part's flat faces.", group="rest")
    ramp_deg: float = fact(
        2.0, "Angle of the entering helix to the level.", unit="°", gt=0.1, le=30, group="rest"
    )
    tightest_share: float = fact(
        0.25,
        "Smallest radius of the way, in tool radii.",
        unit="radii",
        ge=0.1,
        le=1,
        group="rest",
        title="Smallest radius of the path",
    )
    link_feed: float | None = fact(
        None,
        "Feed over cleared ground.",
        unit="mm/min",
        gt=0,
        le=200000,
        group="rest",
        reason="three times the feed",
    )
    lift: float = fact(
        0.3,
        "How far the tool is lifted on its way over cleared ground.",
        unit="mm",
        ge=0,
        le=10,
        group="rest",
    )


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The clearing path in the setup frame. Raises ComputeError where a smaller tool is needed for any of it,
    Cancelled."""
    return ClearingRun(inputs, progress).run()


class ClearingRun:
    """One run of the strategy; clearing of the rest is a variant of it."""

    gap = 0.5
    """Air shorter than this (radii) stays part of a pass."""

    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        p: BoundedClearing = inputs.parameters
        self.inputs, self.progress, self.p = inputs, progress, p
        tool = inputs.assembly
        self.radius = tool.radius
        self.floor = tool.profile.floor_radius if tool.corner_radius or tool.profile.tapered else self.radius
        across = 2.0 * self.floor if tool.profile.tapered else tool.diameter
        self.stepover = min(p.stepover or 0.2 * across, across)
        self.step_down = p.step_down or tool.diameter
        self.step_up = p.step_up or self.step_down
        self.wanted = engagement_angle(self.stepover, across)
        self.side = 1 if (p.direction == "climb") == inputs.spindle_clockwise else -1
        self.stock = inputs.stock.copy()
        self.path, self.mark = PathBuilder(), 0
        self.link_feed = p.link_feed or inputs.feed
        self.link = Linker.of(inputs, self.path, self.stock)
        self.slope = math.tan(math.radians(p.ramp_deg))
        self.tolerance = min(0.05, max(inputs.tolerance, 0.1 * p.allowance_radial))
        margin = 2.2 * self.radius + 2.0
        progress.step(0.0, "sampling the part")
        self.areas = LevelAreas(
            inputs.cutter(p.allowance_radial, p.allowance_axial),
            inputs.stock_low[:2] - margin,
            inputs.stock_high[:2] + margin,
            min(1.0, max(0.15, tool.diameter / 12)),
            self.tolerance,
        )
        self.engaged: list[Floats] = []

    def run(self) -> Toolpath:
        inputs = self.inputs
        flats = [f + self.p.allowance_axial for f in inputs.flats] if self.p.flat_levels else []
        bottom = max(inputs.heights.bottom, float(inputs.part_low[2]))
        top = float(self.stock.heights.max())
        order = levels_up_and_down(top, bottom, self.step_down, self.step_up, flats)
        for number, level in enumerate(order):
            stage = self.progress.stage(number / len(order), (number + 1) / len(order))
            words = f"level {number + 1} of {len(order)} at Z {level:.2f}"
            stage.step(0.0, words)
            self.path.level = number + 1
            self._level(level, stage, words)
        if self.path.count() == 0 and order:
            self._nothing(order)
        self.link.away()
        self._note_load()
        return self.path.build()

    def _nothing(self, levels: list[float]) -> None:
        """Nothing was cut at any level. Raises ComputeError where a smaller tool would cut something."""
        refuse_narrow(self.inputs, self.p.allowance_radial, self.p.allowance_axial, levels, ENTRY_ROOM)

    def _area(self, level: float) -> BaseGeometry:
        """Where the tool's middle may be: free ground, less what the chords of the way may stray."""
        free = self.inputs.allowed(self.areas.domain.difference(self.areas.blocked(level)))
        # not far beyond the stock: passes need no more than the cutter's own width there
        low, high = self.inputs.stock_low, self.inputs.stock_high
        near = shapely.box(low[0], low[1], high[0], high[1]).buffer(1.9 * self.radius)
        area: BaseGeometry = shapely.buffer(free.intersection(near), -0.012)
        return area

    def _level(self, level: float, progress: Progress, words: str) -> None:
        area = self._area(level)
        if area.is_empty:
            return
        radius = self.floor
        field = field_of(area, radius, self._stock_at(level, area))
        if not field.stock.any():
            return
        clearing = Clearing(
            field,
            radius,
            AIM * self.wanted,
            BOUND * self.wanted,
            self.side,
            self.p.tightest_share * radius,
            self.gap,
        )
        for stretch in clearing.run(lambda share: progress.step(max(0.0, share), words)):
            self._write(stretch, level)
        self._catch_up()
        if clearing.left > 0:
            rest = clearing.left * field.h**2
            if rest > 0.5 * self.radius**2:
                j, i = (float(v) + 0.5 for v in np.argwhere(field.stock)[0])
                place = (field.x0 + i * field.h, field.y0 + j * field.h, level)
                self.path.notes.append(Unreached(place, rest))

    def _stock_at(self, level: float, area: BaseGeometry) -> Callable[[Floats, Floats], NDArray[np.bool_]]:
        """Whether there is stock to cut over places (grids of x and y) at a level."""
        stock = self.stock
        over = self._over(level, area)
        ny, nx = over.shape

        def at(x: Floats, y: Floats) -> NDArray[np.bool_]:
            i = np.floor((x - stock.x0) / stock.cell).astype(np.int64)
            j = np.floor((y - stock.y0) / stock.cell).astype(np.int64)
            inside = (i >= 0) & (j >= 0) & (i < nx) & (j < ny)
            return np.asarray(inside & over[np.clip(j, 0, ny - 1), np.clip(i, 0, nx - 1)])

        return at

    def _over(self, level: float, area: BaseGeometry) -> NDArray[np.bool_]:
        """Cells of the planning stock that rise over the level; `area` is where the tool's middle may be."""
        return np.asarray(self.stock.heights > level + TOUCH_MM)

    def _write(self, stretch: Stretch, level: float) -> None:
        """One stretch of the way into the path."""
        if stretch.kind in (LIFT, ENTRY):
            self._catch_up()  # the ways over and down look at the stock
        x, y = (float(v) for v in stretch.points[0])
        if stretch.kind == LIFT:
            self.link.over(x, y)
            self.link.down(x, y, level)
        elif stretch.kind == ENTRY:
            helix = float(stretch.points[1, 0]) - x
            if helix < SLOT * self.radius:
                self.path.notes.append(NarrowEntry((x, y, level), helix))
            self.link.helix(x, y, helix, level, self.slope, 1 if self.side > 0 else -1)
        elif stretch.kind == LINK:
            self._over_cleared(stretch.points, level)
        else:
            self.path.run += 1
            self.engaged.append(
                np.column_stack([np.hypot(*np.diff(stretch.points, axis=0).T), stretch.engaged[1:]])
            )
            self._feed(stretch.points, level, Motion.FEED)

    def _catch_up(self) -> None:
        """Takes what was written since the last time out of the planning stock."""
        self.stock.cut(self.path.since(self.mark), self.inputs.assembly.cleared)
        self.mark = max(0, self.path.count() - 1)

    def _over_cleared(self, points: Floats, level: float) -> None:
        """A link over ground that is free: lifted a little when it is longer than the cutter is wide."""
        here = self.path.position
        assert here is not None
        length = float(np.hypot(*np.diff(points, axis=0).T).sum())
        lifted = level + self.p.lift if length > 2 * self.radius else level
        if lifted > level:
            self.path.feed(here[0], here[1], lifted, self.link_feed, Motion.LINK)
        for x, y in points[1:].tolist():
            self.path.feed(x, y, lifted, self.link_feed, Motion.LINK)
        x, y = (float(v) for v in points[-1])
        self.path.feed(x, y, level, self.inputs.feed, Motion.LINK)

    def _feed(self, points: Floats, level: float, kind: Motion) -> None:
        """Along points (n, 2) at the level, arcs where they fit."""
        here = self.path.position
        assert here is not None
        if math.hypot(points[0, 0] - here[0], points[0, 1] - here[1]) > 1e-6:
            self.path.feed(float(points[0, 0]), float(points[0, 1]), level, self.inputs.feed, Motion.LINK)
        thin = np.asarray(LineString(points).simplify(0.002).coords)
        for end, turn, cx, cy in fit_arcs(thin, 0.006):
            x, y = float(thin[end, 0]), float(thin[end, 1])
            if turn:
                self.path.arc((x, y, level), (cx, cy), turn, self.inputs.feed, kind)
            else:
                self.path.feed(x, y, level, self.inputs.feed, kind)

    def _note_load(self) -> None:
        """What the passes met, entries apart: for the sheet and for the tests."""
        if not self.engaged:
            return
        rows = np.concatenate(self.engaged)
        rows = rows[rows[:, 1] > 0]
        if not len(rows):
            return
        angle = np.degrees(rows[:, 1])
        order = np.argsort(angle)
        run = np.cumsum(rows[order, 0])
        p95 = float(angle[order][np.searchsorted(run, 0.95 * run[-1])])
        most, wanted = round(float(angle.max()), 2), round(math.degrees(self.wanted), 2)
        self.path.notes.append(Engagement(wanted, round(p95, 2), most, round(float(run[-1]), 1)))


def levels_up_and_down(
    top: float, bottom: float, step_down: float, step_up: float, flats: list[float]
) -> list[float]:
    """Levels in the order of cutting: down by `step_down`, and after each the ones between it and the one
    above, from below upward, no more than `step_up` apart (mm, setup frame)."""
    out: list[float] = []
    above = top
    for level in levels_between(top, bottom, step_down, flats):
        out.append(level)
        count = max(1, math.ceil((above - level) / step_up - 1e-6))
        out += [level + (above - level) * i / count for i in range(1, count)]
        above = level
    return out


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """A narrow cut over a great depth."""
    down = min(0.9 * assembly.flute_length, 1.5 * assembly.diameter)
    return {
        "stepover": (0.2 * assembly.diameter, "20 % of the diameter (common practice, no source)"),
        "step_down": (down, "1.5 diameters, not more than 90 % of the flutes (common practice, no source)"),
        "step_up": (down / 4, "a quarter of the step down"),
        "link_feed": (data["link_feed_mm_min"], "three times the feed, held to the machine's"),
    }


STRATEGY = Strategy(
    "bounded_clearing",
    "Clearing at a bounded load",
    "Clears the stock with the same engagement all the way: deep, narrow and fast.",
    BoundedClearing,
    compute,
    proposals,
    CLEARING,
    goes_around=True,
    example=Example({"step_down": 10.0, "step_up": 10.0, "stepover": 3.0}),
)
