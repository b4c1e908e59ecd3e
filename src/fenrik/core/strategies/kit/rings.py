"""Rings of passes at a level: where stock stands on them, how the tool comes to them, and how they are
driven."""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from shapely.geometry import LineString, MultiPolygon, Point, Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.levels import polygons
from fenrik.core.motion.arcs import fit_arcs
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.strategies.base import Inputs
from fenrik.core.strategies.kit.linking import TOUCH_MM, Linker

Floats = NDArray[np.float64]


class Ways(NamedTuple):
    """How closed ground is entered, at which angle, and up to how many stepovers a link stays down."""

    entry: Literal["helix", "ramp"]
    ramp_deg: float
    keep_down_share: float


class RingCutter:
    """Drives rings in free ground at a level where the stock stands on them, and takes what it cuts out of
    the planning stock. `stepover` mm is the distance of neighbouring rings, `tolerance` mm that of their
    border, `spacing` mm that of the places looked at; a ring is driven as it is given where `forward`."""

    def __init__(
        self, inputs: Inputs, stepover: float, tolerance: float, spacing: float, forward: bool, ways: Ways
    ) -> None:
        self.inputs, self.radius, self.profile = inputs, inputs.assembly.radius, inputs.assembly.profile
        self.stepover, self.tolerance, self.spacing = stepover, tolerance, spacing
        self.forward, self.ways, self.slope = forward, ways, math.tan(math.radians(ways.ramp_deg))
        self.stock, self.path = inputs.stock.copy(), PathBuilder()
        self.link = Linker.of(inputs, self.path, self.stock)
        self._roomy: dict[int, tuple[BaseGeometry, BaseGeometry]] = {}

    def cut(self, ring: Floats, ground: BaseGeometry, level: float, beside: Floats | None = None) -> None:
        """Cuts the parts of a closed ring (n, 2), which lies in ground, where there is stock; `beside` (m, 2)
        are places that have been cut, one pass off."""
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
        """Goes to the place of `beside` nearest to the ring and tells the ring's point there, if that is no
        farther than a pass and free ground lies between."""
        away, at = cKDTree(beside).query(loop[::4])
        nearest = int(np.argmin(away))
        entry, start = 4 * nearest, beside[at[nearest]]
        near = away[nearest] <= self.ways.keep_down_share * self.stepover and self._inside(
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
        if gaps[at, side] > self.ways.keep_down_share * self.stepover or not self._inside(
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
        if self.ways.entry == "helix" and helix >= 0.05 * self.radius:
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
        if distance <= self.ways.keep_down_share * self.stepover:
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


def oriented(ring: BaseGeometry, ground: Polygon) -> Floats:
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
