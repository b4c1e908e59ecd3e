"""Constant-cusp finishing: passes at the same distance over the surface, whatever its slope.

From the border of the area inward, every pass lies a pass's width from the one before, measured over the
surface that the tool's centre describes, and the width follows from the wanted cusp, the ball or corner
radius and the curvature there: h = s² (1/r - k) / 8, k the curvature of the centre's surface, positive where
it bulges (geometry of two circles; small cusps). The tracks over the level lines are the dropped cutter's
own, so nothing is cut deeper than the part.
"""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.ndimage import binary_erosion, gaussian_filter
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.surface_distance import distances, level_lines
from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import (
    Example,
    Inputs,
    Parameters,
    Strategy,
    beyond_border,
    face_overlap,
    fact,
)
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.strategies.kit.touching import ChosenFaces, Contact
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.cutting_data import stepover_for_cusp

Floats = NDArray[np.float64]
SURE = 0.96
"""Share of the width that is used, for the ways between the hops of the grid."""
MOST_NODES = 4_000_000


class ConstantCusp(Parameters):
    """What constant-cusp finishing can be told. Lengths mm."""

    cusp: float = fact(0.01, "Height of the ridges between passes, everywhere.", unit="mm", gt=0, le=5)
    steep_to_deg: float = fact(
        75.0,
        "Greatest steepness that is finished; steeper walls are for constant Z.",
        unit="°",
        ge=5,
        le=85,
        title="Steepest finished",
    )
    steep_from_deg: float = fact(
        0.0,
        "Least steepness that is finished: below it the middle of a ball, which stands still, would cut.",
        unit="°",
        ge=0,
        le=80,
        title="Steep from",
    )
    inward: bool = fact(
        True, "From the border to the middle; else from the middle out.", title="From the border inward"
    )
    beyond: float = beyond_border()
    shortest: float = fact(
        1.0,
        "Passes shorter than this are left.",
        unit="mm",
        ge=0,
        le=100,
        group="rest",
        title="Shortest pass",
    )
    face_overlap: float = face_overlap()
    allowance: float = fact(
        0.0, "Left on the part; less than 0 down to the corner radius.", unit="mm", ge=-20, le=20
    )


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError when nothing lies in the borders, Cancelled."""
    p: ConstantCusp = inputs.parameters
    tool = inputs.assembly
    if tool.corner_radius <= 0:
        raise ComputeError(
            f"Tool {tool.number} is flat: it leaves no ridge whose height could be held.",
            remedy="Use a ball mill or one with a corner radius.",
        )
    if -p.allowance > tool.corner_radius:
        raise ComputeError(
            f"The allowance {p.allowance:g} mm goes deeper than the corner radius {tool.corner_radius:g} mm.",
            remedy="Use an allowance above minus the corner radius.",
        )
    progress.step(0.0, "preparing the cutter")
    cutter = inputs.cutter(p.allowance, p.allowance)
    region = inputs.surface_ground(cutter, p.face_overlap, p.beyond)
    if region.is_empty:
        raise ComputeError(
            "No ground is left between keep-in and keep-out.", remedy="Enlarge the one or reduce the other."
        )
    width = stepover_for_cusp(tool.corner_radius, p.cusp)
    slopes = (math.radians(p.steep_from_deg), math.radians(p.steep_to_deg))
    grid = _Grid(cutter, region, min(0.5, width / 2.5), inputs.heights.bottom, slopes)
    if inputs.faces is not None:
        grid.keep_touched(inputs.faces, Contact(cutter, p.face_overlap))
    progress.step(0.15, "measuring over the surface")
    field = distances(
        grid.heights, grid.step, grid.allowed, grid.border, SURE * grid.widths(tool.corner_radius, p.cusp)
    )
    progress.step(0.4, "drawing the passes")
    finite = field[np.isfinite(field)]
    if not len(finite):
        raise ComputeError(
            f"No part of the surface within the borders is between {p.steep_from_deg:g}° and "
            f"{p.steep_to_deg:g}° steep.",
            remedy="Lower 'steep from', raise 'steep to', or enlarge the keep-in area.",
        )
    levels = np.arange(0.02, float(finite.max()), 1.0)
    lines = [
        line
        for line in level_lines(field, grid.x0, grid.y0, grid.step, levels)
        if _length(line[1]) >= p.shortest
    ]
    path = _Passes(inputs, cutter, width).run(_ordered(lines, p.inward, 3.0 * width), progress)
    return path


def _length(line: Floats) -> float:
    return float(np.hypot(*np.diff(line, axis=0).T).sum())


class _Grid:
    """The surface under the tip on a grid over the region."""

    def __init__(
        self, cutter: DropCutter, region: BaseGeometry, step: float, floor: float, slopes: tuple[float, float]
    ) -> None:
        low_x, low_y, high_x, high_y = region.bounds
        size = (high_x - low_x) * (high_y - low_y)
        self.step = max(step, math.sqrt(size / MOST_NODES))
        self.x0, self.y0 = low_x - 2.137 * self.step, low_y - 2.171 * self.step
        nx = int((high_x - self.x0) / self.step) + 4
        ny = int((high_y - self.y0) / self.step) + 4
        xs, ys = self.x0 + self.step * np.arange(nx), self.y0 + self.step * np.arange(ny)
        gx, gy = np.meshgrid(xs, ys)
        self.heights = cutter.tip(np.column_stack([gx.ravel(), gy.ravel()]), floor).reshape(ny, nx)
        shapely.prepare(region)
        inside = shapely.contains_xy(region, gx.ravel(), gy.ravel()).reshape(ny, nx)
        dy, dx = np.gradient(self.heights, self.step)
        slope = np.arctan(np.hypot(dx, dy))
        self.allowed = inside & (slope >= slopes[0] - 1e-9) & (slope <= slopes[1])
        self.border = self.allowed & ~binary_erosion(self.allowed)

    def keep_touched(self, faces: ChosenFaces, how: Contact) -> None:
        """Leaves the ground over which the cutter touches chosen faces."""
        rows, columns = np.nonzero(self.allowed)
        xy = np.column_stack([self.x0 + self.step * columns, self.y0 + self.step * rows])
        tips = np.column_stack([xy, self.heights[rows, columns]])
        self.allowed[rows, columns] = faces.touched(how.cutter, tips, how.overlap)
        self.border = self.allowed & ~binary_erosion(self.allowed)

    def widths(self, radius: float, cusp: float) -> Floats:
        """Width of a pass (ny, nx) mm for the wanted cusp, by the greatest hollow curvature and half of the
        bulge."""
        z = gaussian_filter(self.heights, 1.5)
        dy, dx = np.gradient(z, self.step)
        dyy, dyx = np.gradient(dy, self.step)
        _, dxx = np.gradient(dx, self.step)
        steep = 1.0 + dx * dx + dy * dy
        mean = ((1 + dy * dy) * dxx - 2 * dx * dy * dyx + (1 + dx * dx) * dyy) / (2.0 * steep**1.5)
        gauss = (dxx * dyy - dyx * dyx) / steep**2
        spread = np.sqrt(np.maximum(0.0, mean * mean - gauss))
        hollow = mean + spread  # the greatest upward bend: there the ridges are highest
        bend = np.clip(hollow, -0.7 / radius, 4.0 / radius)
        flat = stepover_for_cusp(radius, cusp)
        return np.asarray(np.clip(flat / np.sqrt(1.0 + radius * bend), 0.3 * flat, 1.5 * flat))


def _ordered(lines: list[tuple[float, Floats]], inward: bool, reach: float) -> list[Floats]:
    """Lines level by level, each followed by the nearest of the next level as long as one is near."""
    waiting = sorted(lines, key=lambda row: row[0] if inward else -row[0])
    out: list[Floats] = []
    middles = [(level, points) for level, points in waiting]
    while middles:
        level, points = middles.pop(0)
        out.append(points)
        while True:
            following = [
                (float(np.hypot(*(q - out[-1][-1]).T).min()), i)
                for i, (other, q) in enumerate(middles)
                if 0.5 < (other - level if inward else level - other) < 1.5
            ]
            best = min(following, default=None)
            if best is None or best[0] > reach:
                break
            level, points = middles.pop(best[1])
            out.append(_begun_near(points, out[-1][-1]))
    return out


def _begun_near(points: Floats, place: Floats) -> Floats:
    """A closed line begun at its point nearest to a place; an open one from its nearer end."""
    if np.hypot(*(points[0] - points[-1])) < 1e-9 and len(points) > 3:
        start = int(np.argmin(np.hypot(*(points[:-1] - place).T)))
        ring = np.roll(points[:-1], -start, axis=0)
        return np.vstack([ring, ring[:1]])
    return points if np.hypot(*(points[0] - place)) <= np.hypot(*(points[-1] - place)) else points[::-1]


class _Passes:
    """Writes the tracks over the lines, linked over the surface where that is short."""

    def __init__(self, inputs: Inputs, cutter: DropCutter, width: float) -> None:
        tool = inputs.assembly
        self.inputs, self.cutter, self.width = inputs, cutter, width
        self.tolerance = inputs.tolerance * PATH_SHARE
        self.scan = min(0.5, max(0.05, math.sqrt(2.0 * tool.corner_radius * self.tolerance)))
        self.path = PathBuilder()
        self.link = Linker.of(inputs, self.path, inputs.stock.copy())

    def run(self, lines: list[Floats], progress: Progress) -> Toolpath:
        tool = self.inputs.assembly
        for number, line in enumerate(lines):
            progress.step(0.4 + 0.6 * number / len(lines), f"pass {number + 1} of {len(lines)}")
            thin = np.asarray(LineString(line).simplify(0.02 * self.width).coords)
            track = self._track(thin)
            self.path.run += 1
            self._go(track[0])
            mark = self.path.count()
            self.path.line(track, self.inputs.feed)
            self.link.stock.cut(self.path.since(max(0, mark - 1)), tool.cleared)
        self.link.away()
        return self.path.build()

    def _track(self, line: Floats) -> Floats:
        floor = self.inputs.heights.bottom
        legs = [self.cutter.along(a, b, self.scan, self.tolerance, floor) for a, b in pairwise(line)]
        return np.concatenate([leg[0 if i == 0 else 1 :] for i, leg in enumerate(legs)])

    def _go(self, start: Floats) -> None:
        here = self.path.position
        if here is not None:
            distance = math.hypot(start[0] - here[0], start[1] - here[1])
            if distance <= 3.0 * self.width and distance > 1e-9:
                way = self.cutter.along(
                    np.array(here[:2]), start[:2], self.scan, self.tolerance, self.inputs.heights.bottom
                )
                if float(np.abs(np.diff(way[:, 2])).sum()) <= 6.0 * self.width:
                    self.path.line(way[1:], self.inputs.feed, Motion.LINK)
                    return
            elif distance <= 1e-9 and abs(start[2] - here[2]) < 1e-6:
                return
        self.link.over(float(start[0]), float(start[1]))
        self.link.down(float(start[0]), float(start[1]), float(start[2]))


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Nothing is left open."""
    return {}


STRATEGY = Strategy(
    "constant_cusp",
    "Constant-cusp finishing",
    "Passes at the same distance over the surface, from the border inward.",
    ConstantCusp,
    compute,
    proposals,
    finishes=True,
    example=Example({"cusp": 0.3}, kind="ball"),
)
