"""Roughing in levels.

From the stock to the part plus allowance at steps down and at the part's own flat levels. At every
level the blocked ground (where the real cutter would cut part plus allowance) is grown in steps of
the stepover; its borders are the passes, cut from the farthest to the nearest: from outside in where
the stock is open, from the middle outward where the ground is closed, where the tool enters on a
helix, or on a ramp along the pass. Only what the in-process stock still holds is cut.
"""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from shapely.geometry import LineString, MultiPolygon, Point, Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.levels import LevelAreas, polygons
from fenrik.core.paths.arcs import fit_arcs
from fenrik.core.paths.toolpath import Motion, PathBuilder, Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import CLEARING, Inputs, Parameters, Strategy, fact
from fenrik.core.strategies.linking import Linker
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
TOUCH_MM = 0.02
"""Stock higher than this over a level counts as something to cut."""


class LevelRoughing(Parameters):
    """What roughing in levels can be told. Lengths mm."""

    step_down: float | None = fact(
        None, "Greatest depth from level to level.", unit="mm", gt=0, le=200, reason="from material and tool"
    )
    stepover: float | None = fact(
        None, "Distance of neighbouring passes.", unit="mm", gt=0, le=200, reason="40 % of the diameter"
    )
    allowance_radial: float = fact(0.3, "Left on walls.", unit="mm", ge=0, le=20, reason="room for finishing")
    allowance_axial: float = fact(0.2, "Left on floors.", unit="mm", ge=0, le=20, reason="room for finishing")
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
    )
    keep_down_share: float = fact(
        2.5, "Links up to this many stepovers stay down.", unit="stepovers", ge=0, le=50, group="rest"
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
    """The roughing path in the setup frame. Raises Cancelled."""
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
        self.stock = inputs.stock.copy()
        self.path = PathBuilder()
        self.narrow: list[dict[str, Any]] = []
        self._roomy: dict[int, tuple[BaseGeometry, BaseGeometry]] = {}
        self.link = Linker.of(inputs, self.path, self.stock)
        self.slope = math.tan(math.radians(p.ramp_deg))
        # clockwise spindle: climb keeps the wall on the right; shapely's oriented free ground has it there
        self.forward = (p.direction == "climb") == inputs.spindle_clockwise
        margin = 2 * self.radius + 2 * self.stepover + 2.0
        cutter = inputs.cutter(p.allowance_radial, p.allowance_axial)
        step = min(1.0, max(0.15, inputs.assembly.diameter / 12))
        self.tolerance = min(0.05, max(inputs.tolerance, 0.1 * p.allowance_radial))
        progress.step(0.0, "sampling the part")
        self.areas = LevelAreas(
            cutter, inputs.stock_low[:2] - margin, inputs.stock_high[:2] + margin, step, self.tolerance
        )
        self.spacing = min(step, self.stepover / 3)

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
        self.link.away()
        self.path.notes = self.narrow
        return self.path.build()

    def _level(self, level: float) -> None:
        blocked = self.areas.blocked(level)
        free = self.areas.domain.difference(blocked)
        if self.inputs.keep_out is not None:
            free = free.difference(self.inputs.keep_out)
        if self.inputs.keep_in is not None:
            free = free.intersection(self.inputs.keep_in)
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
            known = any(math.hypot(x - n["x"], y - n["y"]) < self.radius for n in self.narrow)
            if not known:
                self.narrow.append({"kind": "narrow", "x": x, "y": y, "z": level, "room": circle.length})
        return False

    def _open_ground(self, ground: BaseGeometry, level: float) -> None:
        """No wall at this level: passes follow the stock's own outline from outside in."""
        low, high = self.inputs.stock_low, self.inputs.stock_high
        area = shapely.box(low[0], low[1], high[0], high[1]).buffer(
            self.radius - self.stepover, join_style="mitre"
        )
        while not area.is_empty:
            for ring in (g.exterior for g in polygons(area)):
                self._cut_ring(np.asarray(ring.coords)[:, :2], ground, level)
            area = area.buffer(-self.stepover, join_style="mitre")

    def _ground(self, ground: Polygon, nested: list[list[Polygon]], depth: int, level: float) -> None:
        """Connected free ground: what lies further from the walls first, then its own borders. Where the ground within falls
        into several parts, only the widest is entered from above; the others are cut from its borders inward, so that the
        tool need not go down into the full again."""
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
            self._cut_ring(_oriented(ring, ground), ground, level, beside)
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
        """A part of the ground whose surroundings have been cut along points (n, 2) `cut`: its own borders, then what lies
        within them."""
        if not self._has_stock(part, level):
            return
        self.progress.step(self._share(), "")
        for ring in (part.exterior, *part.interiors):
            self._cut_ring(_oriented(ring, part), around, level, cut)
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
                self._cut_ring(_oriented(part.exterior, part), ground, level)

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

    def _cut_ring(
        self, ring: Floats, ground: BaseGeometry, level: float, beside: Floats | None = None
    ) -> None:
        """Cuts the parts of a closed ring (n, 2) where there is stock; `beside` (m, 2) are places that have been cut, one pass
        off."""
        if not self.forward:
            ring = ring[::-1]
        dense = np.asarray(LineString(ring).segmentize(self.spacing).coords)
        reach = self.profile.floor_radius - self.stock.half_diagonal * 1.5
        busy = self.stock.top_at(dense, max(reach, 0.3 * self.radius)) > level + TOUCH_MM
        busy[-1] = busy[0] = busy[0] or busy[-1]
        if not busy.any():
            return
        busy = _bridged(busy, max(1, int(2.0 * self.radius / self.spacing)))
        if busy.all():
            self._cut_closed(dense, ground, level, beside)
            return
        start = _longest_idle(busy[:-1])
        dense, busy = np.roll(dense[:-1], -start, axis=0), np.roll(busy[:-1], -start)
        edges = np.flatnonzero(np.diff(np.concatenate([[False], busy, [False]]).astype(np.int8)))
        runs = [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]
        lead = int(math.ceil((self.radius + 1.0) / self.spacing))
        for a, b in self._nearest_first(dense, runs):
            before = _walk_back(dense, a, lead, ~busy)
            run = dense[before : min(len(dense), b + 2)]
            if len(run) >= 2:
                self._cut_open(run, ground, level)

    def _nearest_first(self, dense: Floats, runs: list[tuple[int, int]]) -> list[tuple[int, int]]:
        here = self.path.position
        if here is None or len(runs) < 2:
            return runs
        away = [math.hypot(dense[a, 0] - here[0], dense[a, 1] - here[1]) for a, _ in runs]
        first = int(np.argmin(away))
        return runs[first:] + runs[:first]

    def _cut_closed(
        self, dense: Floats, ground: BaseGeometry, level: float, beside: Floats | None = None
    ) -> None:
        here = self.path.position
        loop = dense[:-1]
        core = max(0.3 * self.radius, self.radius - 1.5 * self.stock.half_diagonal)
        clear = self.stock.top_at(loop, core) <= level + TOUCH_MM
        entry = None
        if here is not None and abs(here[2] - level) < 1e-6:
            away = np.hypot(loop[:, 0] - here[0], loop[:, 1] - here[1])
            nearest = int(np.argmin(away))
            if self._may_stay_down(here, loop[nearest], ground, level):
                entry = nearest
        if entry is None and clear.any():
            entry = int(np.argmax(clear))
        if entry is None and beside is not None:
            entry = self._from_cut(loop, beside, ground, level)
        if entry is None:
            outside = self._from_outside(loop, ground)
            if outside is not None:
                entry, start = outside
                self._go(start, ground, level)
        if entry is not None:
            loop = np.roll(loop, -entry, axis=0)
            self._go(loop[0], ground, level)
            self._feed_through(np.vstack([loop, loop[:1]]), level)
            return
        self._enter_closed(loop, ground, level)

    def _inside(self, ground: BaseGeometry, a: tuple[float, float], b: Floats) -> bool:
        """Whether the straight way between two places stays on ground, its border counted in."""
        known = self._roomy.get(id(ground))
        if known is None or known[0] is not ground:
            grown = ground.buffer(1e-3)
            shapely.prepare(grown)
            known = self._roomy[id(ground)] = (ground, grown)
        return bool(known[1].covers(LineString([a, (float(b[0]), float(b[1]))])))

    def _from_cut(self, loop: Floats, beside: Floats, ground: BaseGeometry, level: float) -> int | None:
        """Goes to the place of `beside` nearest to the ring and tells the ring's point there, if that is no farther than a
        pass and free ground lies between."""
        away, at = cKDTree(beside).query(loop[::4])
        nearest = int(np.argmin(away))
        entry, start = 4 * nearest, beside[at[nearest]]
        near = away[nearest] <= self.p.keep_down_share * self.stepover and self._inside(
            ground, tuple(start), loop[entry]
        )
        if not near or not self._free_under(start, level):
            return None
        self._go(start, ground, level)
        return entry

    def _from_outside(self, loop: Floats, ground: BaseGeometry) -> tuple[int, Floats] | None:
        """A place beside the stock from which the nearest point of the ring is reached over free ground."""
        low, high = self.inputs.stock_low, self.inputs.stock_high
        reach = self.radius + 1.0
        gaps = np.column_stack([loop - (low[:2] - reach), (high[:2] + reach) - loop])  # to -X, -Y, +X, +Y
        at, side = np.unravel_index(int(np.argmin(gaps)), gaps.shape)
        start = loop[at].copy()
        start[side % 2] += gaps[at, side] * (-1.0 if side < 2 else 1.0)
        if gaps[at, side] > self.p.keep_down_share * self.stepover or not self._inside(
            ground, tuple(start), loop[at]
        ):
            return None
        return int(at), start

    def _enter_closed(self, loop: Floats, ground: BaseGeometry, level: float) -> None:
        """No free place on the ring: helix in the ground's widest place, or a ramp along the ring."""
        circle = shapely.maximum_inscribed_circle(MultiPolygon(polygons(ground)), tolerance=0.05)
        x, y = circle.coords[0]
        room = circle.length - 2 * self.tolerance
        helix = min(room, 0.45 * 2 * self.radius)
        if self.p.entry == "helix" and helix >= 0.05 * self.radius:
            turn = 1 if self.forward else -1
            before = self._mark()
            self.link.helix(x, y, helix, level, self.slope, turn)
            self._stamp_since(before)
            nearest = int(np.argmin(np.hypot(loop[:, 0] - x - helix, loop[:, 1] - y)))
            loop = np.roll(loop, -nearest, axis=0)
            if self._inside(ground, (x + helix, y), loop[0]):
                self.path.feed(loop[0, 0], loop[0, 1], level, self.inputs.feed, Motion.LINK)
                self._feed_through(np.vstack([loop, loop[:1]]), level)
                return
        closed = np.vstack([loop, loop[:1]])
        before = self._mark()
        self.link.ramp_along(self._thinned(closed), level, self.slope)
        self._stamp_since(before)
        self._feed_through(closed, level)

    def _cut_open(self, run: Floats, ground: BaseGeometry, level: float) -> None:
        start = run[0]
        here = self.path.position
        free_start = self._free_under(start, level)
        down = (
            here is not None
            and abs(here[2] - level) < 1e-6
            and self._may_stay_down(here, start, ground, level)
        )
        if not (down or free_start):
            thin = self._thinned(run)
            closed = np.vstack([thin, thin[-2::-1]])  # there and back again makes a ring to ramp on
            before = self._mark()
            self.link.ramp_along(closed, level, self.slope)
            self._stamp_since(before)
        else:
            self._go(start, ground, level)
        self._feed_through(run, level)

    def _free_under(self, place: Floats, level: float) -> bool:
        """Whether no more than a skin of a planning cell's width stands in the way of going down."""
        core = max(0.3 * self.radius, self.radius - 1.5 * self.stock.half_diagonal)
        return float(self.stock.top_at(place[None, :], core)[0]) <= level + TOUCH_MM

    def _may_stay_down(
        self, here: tuple[float, float, float], there: Floats, ground: BaseGeometry, level: float
    ) -> bool:
        distance = math.hypot(there[0] - here[0], there[1] - here[1])
        if distance < 1e-9:
            return True
        if not self._inside(ground, here[:2], there):
            return False
        if distance <= self.p.keep_down_share * self.stepover:
            return True
        top = self.stock.top(here[:2], there, self.radius)
        return distance <= 12 * self.radius and top <= level + TOUCH_MM

    def _go(self, start: Floats, ground: BaseGeometry, level: float) -> None:
        here = self.path.position
        x, y = float(start[0]), float(start[1])
        if (
            here is not None
            and abs(here[2] - level) < 1e-6
            and self._may_stay_down(here, start, ground, level)
        ):
            before = self._mark()
            self.path.feed(x, y, level, self.inputs.feed, Motion.LINK)
            self._stamp_since(before)
            return
        self.link.over(x, y)
        self.link.down(x, y, level)

    def _feed_through(self, run: Floats, level: float) -> None:
        """Cuts along points (n, 2) at the level, arcs where they fit."""
        self.path.run += 1
        thin = self._thinned(run)
        before = self._mark()
        here = self.path.position
        assert here is not None
        if math.hypot(thin[0, 0] - here[0], thin[0, 1] - here[1]) > 1e-6:
            self.path.feed(thin[0, 0], thin[0, 1], level, self.inputs.feed, Motion.LEAD)
        for end, turn, cx, cy in fit_arcs(thin, 0.3 * self.tolerance):
            x, y = float(thin[end, 0]), float(thin[end, 1])
            if turn:
                self.path.arc((x, y, level), (cx, cy), turn, self.inputs.feed, Motion.FEED)
            else:
                self.path.feed(x, y, level, self.inputs.feed)
        self._stamp_since(before)

    def _thinned(self, run: Floats) -> Floats:
        """Fewer points (n, 2), within a fifth of the border tolerance."""
        return np.asarray(LineString(run).simplify(0.2 * self.tolerance).coords)

    def _mark(self) -> int:
        return max(0, self.path.count() - 1)

    def _stamp_since(self, mark: int) -> None:
        self.stock.cut(self.path.since(mark), self.inputs.assembly.cleared)


def _rings(ground: Polygon) -> Floats:
    """The points (n, 2) of the borders of a part of the ground, dense enough to tell what is near."""
    return np.vstack(
        [np.asarray(r.segmentize(1.0).coords)[:, :2] for r in (ground.exterior, *ground.interiors)]
    )


def _oriented(ring: BaseGeometry, ground: Polygon) -> Floats:
    """A border of free ground directed so that the wall lies on the right."""
    points = np.asarray(ring.coords)[:, :2]
    counter_clockwise = shapely.is_ccw(ring)
    outer = Point(points[0]).distance(ground.exterior) < 1e-9
    return points if bool(counter_clockwise) == outer else points[::-1]


def _bridged(busy: NDArray[np.bool_], gap: int) -> NDArray[np.bool_]:
    """Idle stretches up to `gap` points between busy ones are driven through."""
    out = busy.copy()
    idle = np.flatnonzero(np.diff(np.concatenate([[False], ~busy, [False]]).astype(np.int8)))
    for a, b in zip(idle[::2], idle[1::2], strict=True):
        if b - a <= gap and a > 0 and b < len(busy):
            out[a:b] = True
    return out


def _longest_idle(busy: NDArray[np.bool_]) -> int:
    """Where the longest idle stretch of a ring begins."""
    turn = int(np.argmax(busy))
    edges = np.flatnonzero(np.diff(np.concatenate([[False], ~np.roll(busy, -turn), [False]]).astype(np.int8)))
    longest = int(np.argmax(edges[1::2] - edges[::2]))
    return int(edges[2 * longest] + turn) % len(busy)


def _walk_back(dense: Floats, start: int, most: int, idle: NDArray[np.bool_]) -> int:
    """Index up to `most` points before `start`, staying on idle points."""
    i = start
    while i > 0 and start - i < most and idle[i - 1]:
        i -= 1
    return i


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
)
