"""Roughing in levels.

From the stock to the part plus allowance at steps down and at the part's own flat levels. At every
level the blocked ground (where the real cutter would cut part plus allowance) is grown in steps of
the stepover; its borders are the passes, cut from the farthest to the nearest: from outside in where
the stock is open, from the middle outward where the ground is closed, where the tool enters on a
helix, or on a ramp along the pass. Only what the in-process stock still holds is cut.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.levels import LevelAreas, polygons
from fenrik.core.motion.notes import Narrow, Note
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import CLEARING, Example, Inputs, Parameters, Strategy, fact
from fenrik.core.strategies.kit.linking import TOUCH_MM
from fenrik.core.strategies.kit.rings import RingCutter, Ways, oriented
from fenrik.core.strategies.kit.room import refuse_narrow
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]


class LevelRoughing(Parameters):
    """What roughing in levels can be told. Lengths mm."""

    step_down: float | None = fact(
        None, "Greatest depth from level to level.", unit="mm", gt=0, le=200, reason="from material and tool"
    )
    stepover: float | None = fact(
        None, "Distance of neighbouring passes.", unit="mm", gt=0, le=200, reason="40 % of the diameter"
    )
    allowance_radial: float = fact(
        0.3, "Left on walls.", unit="mm", ge=0, le=20, reason="room for finishing", title="Radial allowance"
    )
    allowance_axial: float = fact(
        0.2, "Left on floors.", unit="mm", ge=0, le=20, reason="room for finishing", title="Axial allowance"
    )
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    flat_levels: bool = fact(True, "Also cut at the heights of the part's flat faces.", group="rest")
    flats_only: bool = fact(
        False,
        "Cut at those heights only: what clearing left on floors.",
        group="rest",
        title="Only flat faces",
    )
    entry: Literal["helix", "ramp"] = fact("helix", "How the tool enters closed ground.", group="rest")
    ramp_deg: float = fact(
        3.0, "Angle of helix and ramp to the level.", unit="°", gt=0.1, le=30, group="rest"
    )
    narrowest_share: float = fact(
        0.1,
        "Closed ground in which the tool's middle has less room to each side is left.",
        unit="diameters",
        ge=0.01,
        le=2,
        group="rest",
        title="Narrowest ground",
    )
    keep_down_share: float = fact(
        2.5,
        "Links up to this many stepovers stay down.",
        unit="stepovers",
        ge=0,
        le=50,
        group="rest",
        title="Stay down up to",
    )


def levels_between(top: float, bottom: float, step: float, flats: list[float]) -> list[float]:
    """Levels from below `top` down to `bottom`: all flats between, the gaps divided evenly into steps
    no greater than `step` (mm, setup frame)."""
    stops = sorted(
        {round(f, 6) for f in flats if bottom + 1e-6 < f < top - 1e-6} | {round(bottom, 6)}, reverse=True
    )
    out: list[float] = []
    above = top
    for stop in stops:
        count = max(1, math.ceil((above - stop) / step - 1e-6))
        out += [above + (stop - above) * (i + 1) / count for i in range(count)]
        above = stop
    return out


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The roughing path in the setup frame. Raises ComputeError where a smaller tool is needed for any of it,
    Cancelled."""
    return _Roughing(inputs, progress).run()


class _Roughing:
    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        p: LevelRoughing = inputs.parameters
        self.inputs, self.progress, self.p = inputs, progress, p
        self.radius = inputs.assembly.radius
        self.profile = inputs.assembly.profile
        across = 2.0 * self.profile.floor_radius if self.profile.tapered else inputs.assembly.diameter
        self.stepover = min(p.stepover or 0.4 * across, across)
        self.step_down = p.step_down or 0.5 * inputs.assembly.diameter
        self.narrow: list[Narrow] = []
        margin = 2 * self.radius + 2 * self.stepover + 2.0
        cutter = inputs.cutter(p.allowance_radial, p.allowance_axial)
        step = min(1.0, max(0.15, inputs.assembly.diameter / 12))
        self.tolerance = min(0.05, max(inputs.tolerance, 0.1 * p.allowance_radial))
        progress.step(0.0, "sampling the part")
        self.areas = LevelAreas(
            cutter, inputs.stock_low[:2] - margin, inputs.stock_high[:2] + margin, step, self.tolerance
        )
        # clockwise spindle: climb keeps the wall on the right; oriented rings have it there
        forward = (p.direction == "climb") == inputs.spindle_clockwise
        ways = Ways(p.entry, p.ramp_deg, p.keep_down_share)
        spacing = min(step, self.stepover / 3)
        self.rings = RingCutter(inputs, self.stepover, self.tolerance, spacing, forward, ways)
        self.stock, self.path = self.rings.stock, self.rings.path

    def run(self) -> Toolpath:
        inputs = self.inputs
        flats = [f + self.p.allowance_axial for f in inputs.flats] if self.p.flat_levels else []
        bottom = max(inputs.heights.bottom, inputs.part_low[2])
        top = float(self.stock.heights.max())
        stops = levels_between(top, bottom, self.step_down, flats)
        if self.p.flats_only:
            stops = sorted({round(f, 6) for f in flats if bottom - 1e-6 <= f < top - 1e-6}, reverse=True)
        for number, level in enumerate(stops):
            self.progress.step(
                number / max(1, len(stops)), f"level {number + 1} of {len(stops)} at Z {level:.2f}"
            )
            self.path.level = number + 1
            self._level(level)
        if self.path.count() == 0 and stops:
            axial, share = self.p.allowance_axial, self.p.narrowest_share
            refuse_narrow(inputs, self.p.allowance_radial, axial, stops, share)
        self.rings.link.away()
        self.path.notes = list[Note](self.narrow)
        return self.path.build()

    def _level(self, level: float) -> None:
        blocked = self.areas.blocked(level)
        free = self.inputs.allowed(self.areas.domain.difference(blocked))
        walls = self.areas.domain.difference(free)
        if walls.is_empty:
            self._open_ground(free, level)
            return
        nested = [polygons(free)]
        while any(self._has_stock(g, level) for g in nested[-1]) and len(nested) < 2000:
            grown = walls.buffer(len(nested) * self.stepover, quad_segs=16)
            nested.append(polygons(self.areas.domain.difference(grown)))
        for ground in nested[0]:
            if self._wide_enough(ground, level):
                self._ground(ground, nested, 0, level)

    def _wide_enough(self, ground: Polygon, level: float) -> bool:
        """Closed ground with too little room for an entry is left and noted once per place."""
        wanted = self.p.narrowest_share * 2 * self.radius
        if ground.area > 40 * wanted * wanted or ground.intersects(self.areas.domain.exterior):
            return True
        circle = shapely.maximum_inscribed_circle(ground, tolerance=0.02)
        if circle.length >= wanted:
            return True
        if self._has_stock(ground, level):
            x, y = circle.coords[0]
            known = any(math.hypot(x - n.place[0], y - n.place[1]) < self.radius for n in self.narrow)
            if not known:
                self.narrow.append(Narrow((x, y, level), circle.length))
        return False

    def _open_ground(self, ground: BaseGeometry, level: float) -> None:
        """No wall at this level: passes follow the stock's own outline from outside in."""
        low, high = self.inputs.stock_low, self.inputs.stock_high
        area = shapely.box(low[0], low[1], high[0], high[1]).buffer(
            self.radius - self.stepover, join_style="mitre"
        )
        while not area.is_empty:
            for ring in (g.exterior for g in polygons(area)):
                self.rings.cut(np.asarray(ring.coords)[:, :2], ground, level)
            area = area.buffer(-self.stepover, join_style="mitre")

    def _ground(self, ground: Polygon, nested: list[list[Polygon]], depth: int, level: float) -> None:
        """Connected free ground: what lies further from the walls first, then its own borders. Where the
        ground within falls into several parts, only the widest is entered from above; the others are cut from
        its borders inward, so that the tool need not go down into the full again."""
        if not self._has_stock(ground, level):
            return
        self.progress.step(self._share(), "")
        inside = self._within(ground, nested, depth)
        inside.sort(key=lambda g: -g.area)
        beside: Floats | None = None
        for part in inside[:1]:
            self._ground(part, nested, depth + 1, level)
            beside = _rings(part)
        if not inside:
            self._leftover_middle(ground, level)
        for ring in (*ground.interiors, ground.exterior):
            self.rings.cut(oriented(ring, ground), ground, level, beside)
        for part in inside[1:]:
            self._inward(part, nested, depth + 1, level, _rings(ground), ground)

    def _within(self, ground: Polygon, nested: list[list[Polygon]], depth: int) -> list[Polygon]:
        """The parts of the next offset that lie in a part of this one."""
        deeper = nested[depth + 1] if depth + 1 < len(nested) else []
        return [g for g in deeper if ground.contains(g.representative_point())]

    def _inward(
        self,
        part: Polygon,
        nested: list[list[Polygon]],
        depth: int,
        level: float,
        cut: Floats,
        around: Polygon,
    ) -> None:
        """A part of the ground whose surroundings have been cut along points (n, 2) `cut`: its own borders,
        then what lies within them."""
        if not self._has_stock(part, level):
            return
        self.progress.step(self._share(), "")
        for ring in (part.exterior, *part.interiors):
            self.rings.cut(oriented(ring, part), around, level, cut)
        inside = self._within(part, nested, depth)
        for deeper in inside:
            self._inward(deeper, nested, depth + 1, level, _rings(part), part)
        if not inside:
            self._leftover_middle(part, level)

    def _leftover_middle(self, ground: Polygon, level: float) -> None:
        """Ground too narrow for another pass inside, yet wider than the cutter's flat: a middle run."""
        flat = self.profile.flat
        centre = shapely.maximum_inscribed_circle(ground, tolerance=0.05)
        if centre.length > flat + 1e-3:
            for part in polygons(ground.buffer(-0.5 * centre.length)):
                self.rings.cut(oriented(part.exterior, part), ground, level)

    def _share(self) -> float:
        top, bottom = float(self.inputs.stock_high[2]), float(self.inputs.part_low[2])
        here = self.path.position
        return 0.0 if here is None or top <= bottom else min(0.99, max(0.0, (top - here[2]) / (top - bottom)))

    def _has_stock(self, ground: Polygon, level: float) -> bool:
        """Whether the stock rises over the level anywhere the cutter could reach from this ground."""
        s, reach = self.stock, self.radius
        x0, y0, x1, y1 = ground.bounds
        i0, i1 = max(0, int((x0 - reach - s.x0) / s.cell)), int((x1 + reach - s.x0) / s.cell) + 1
        j0, j1 = max(0, int((y0 - reach - s.y0) / s.cell)), int((y1 + reach - s.y0) / s.cell) + 1
        window = s.heights[j0 : max(j0, j1), i0 : max(i0, i1)]
        return bool(window.size) and bool((window > level + TOUCH_MM).any())


def _rings(ground: Polygon) -> Floats:
    """The points (n, 2) of the borders of a part of the ground, dense enough to tell what is near."""
    return np.vstack(
        [np.asarray(r.segmentize(1.0).coords)[:, :2] for r in (ground.exterior, *ground.interiors)]
    )


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Step down and stepover from the cutting data."""
    return {
        "step_down": (data["step_down"], "from material and tool"),
        "stepover": (data["stepover"], "40 % of the diameter (common practice, no source)"),
    }


STRATEGY = Strategy(
    "level_roughing",
    "Roughing in levels",
    "Clears the stock down to the part plus allowance, level by level.",
    LevelRoughing,
    compute,
    proposals,
    CLEARING,
    goes_around=True,
    example=Example({"step_down": 5.0}),
)
