"""Edges broken by a pointed cutter: along the edges of a top face, or along chamfers that the model shows.

At the chamfer's lower end the cutter's cone has the radius tip/2 + below x tan(point/2), `below` being how
far the tip passes under it (geometry). A cylinder of that radius, kept off the part down to the tip, says
where the middle goes, so that neither the wall nor a floor under it is touched; where the whole cutter would
meet another wall, the edge is left. Where an edge goes on beyond what was picked, the way ends so that the
cone, which reaches ahead of its middle, leaves alone what was not."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.levels import LevelAreas
from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.notes import EdgeBroken, EdgeLeft, EdgesMissing, as_lines
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, Inputs, Parameters, Rim, Strategy, fact
from fenrik.core.strategies.kit.contours import Contour, along, band_about, borders_along, leads, merged
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
LEAST_RADIUS = 0.02
"""Radius mm of the cone at the edge below which the wall is not safe from a blunt tip."""
BORDER = 0.1
"""Share of the chord tolerance for the border of the blocked ground."""
NEEDLE_MM, UNDER_MM = 0.02, 0.02
"""Radius of what feels the part at the edges' height, and how far under it."""
SHORTEST_MM = 0.1
"""Shorter pieces of an edge are left out."""


class EdgeBreaking(Parameters):
    """What edge breaking can be told. Lengths mm."""

    width: float = fact(
        0.3,
        "Width of the broken edge seen from above, where the model shows a sharp one.",
        unit="mm",
        gt=0,
        le=20,
    )
    below: float = fact(
        0.5,
        "How far the tip passes below the chamfer's lower end.",
        unit="mm",
        gt=0,
        le=50,
        title="Depth below",
    )
    passes: int = fact(1, "Passes from outside in.", ge=1, le=20)
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    lead_share: float = fact(
        0.25,
        "Radius of the arcs in and out.",
        unit="diameters",
        ge=0,
        le=5,
        group="rest",
        title="Lead length",
    )
    overlap: float = fact(
        1.0, "How far a closed edge is driven beyond its beginning.", unit="mm", ge=0, le=200, group="rest"
    )


@dataclass(frozen=True)
class _Cut:
    """Edges at one height: their lower end, the tip's height, the chamfer's legs seen from above and from the
    side."""

    low: float
    tip: float
    width: float
    height: float


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming what is in the way, Cancelled."""
    if not inputs.rims:
        raise ComputeError(
            "Edge breaking has no edges.", remedy="Pick top faces, or chamfers that the model shows."
        )
    return _Breaking(inputs, progress).run()


class _Breaking:
    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        self.inputs, self.progress = inputs, progress
        self.p: EdgeBreaking = inputs.parameters
        self.tool = inputs.assembly
        self.half = math.radians(0.5 * self.tool.point_deg)
        self.radius = 0.5 * self.tool.tip_diameter + self.p.below * math.tan(self.half)
        if self.radius < LEAST_RADIUS:
            raise ComputeError(
                f"With its tip {self.p.below:g} mm below the edge tool {self.tool.number} is "
                f"{2 * self.radius:.3f} mm thick there.",
                remedy="Let the tip pass farther below.",
            )
        self.path = PathBuilder()
        self.link = Linker.of(inputs, self.path, inputs.stock.copy())
        self.driven: list[tuple[float, BaseGeometry]] = []
        self.material_right = (self.p.direction == "climb") == inputs.spindle_clockwise

    def run(self) -> Toolpath:
        progress = self.progress
        progress.step(0.0, "sampling the part")
        thin = DropCutter(self.inputs.topology, Profile(self.radius, 0.0), 0.0, 0.0)
        margin = self.tool.diameter + 2.0
        low, high = self.inputs.part_low[:2] - margin, self.inputs.part_high[:2] + margin
        step, border = min(0.5, max(0.1, self.radius)), BORDER * self.inputs.tolerance
        areas = LevelAreas(thin, low, high, step, border)
        needle = DropCutter(self.inputs.topology, Profile(NEEDLE_MM, 0.0))
        self.section = LevelAreas(needle, low, high, step, border)
        self.whole = LevelAreas(self.inputs.cutter(), low, high, 0.5, border)
        groups: dict[tuple[float, float, bool], list[Rim]] = {}
        for rim in self.inputs.rims:
            key = (round(rim.high, 4), round(rim.width or self.p.width, 4), rim.low is None)
            groups.setdefault(key, []).append(rim)
        for i, ((_, width, _), rims) in enumerate(sorted(groups.items(), key=lambda g: g[0], reverse=True)):
            stage = progress.stage(0.1 + 0.9 * i / len(groups), 0.1 + 0.9 * (i + 1) / len(groups))
            self._group(rims, width, areas, stage)
        missing = [r for r in self.inputs.rims if not self._made(r)]
        if self.path.count() == 0:
            raise ComputeError(
                f"Tool {self.tool.number} of {self.tool.diameter:g} mm reaches none of the edges without "
                "touching another wall.",
                remedy="Use a smaller tool, or pick other edges.",
            )
        if missing:
            x, y = np.asarray(missing[0].line.centroid.coords[0])
            place = (float(x), float(y), missing[0].high)
            words = missing[0].words
            self.path.notes.append(EdgesMissing(place, len(missing), len(self.inputs.rims), words))
        self.link.away()
        return self.path.build()

    def _made(self, rim: Rim) -> bool:
        """Whether some of an edge is driven along."""
        near = self.radius + (rim.width or self.p.width) + 4 * self.inputs.tolerance + 0.05
        return any(abs(high - rim.high) < 1e-4 and rim.line.distance(way) < near for high, way in self.driven)

    def _cut(self, rims: list[Rim], width: float) -> _Cut:
        height = width / math.tan(self.half)
        low = rims[0].high - height
        for rim in rims:
            if rim.low is not None and abs(rim.low - low) > 2 * self.inputs.tolerance:
                shown = math.degrees(2 * math.atan2(width, rim.high - rim.low))
                raise ComputeError(
                    f"{rim.words} has an included angle of {shown:.1f}°; tool {self.tool.number} has"
                    f" {self.tool.point_deg:g}°.",
                    remedy=f"Use a tool with a point of {shown:.0f}°.",
                )
        return _Cut(low, low - self.p.below, width, height)

    def _group(self, rims: list[Rim], width: float, areas: LevelAreas, progress: Progress) -> None:
        cut = self._cut(rims, width)
        if self.radius + cut.width > self.tool.radius + 1e-6:
            raise ComputeError(
                f"A chamfer of {cut.width:.2f} mm needs a cone of {2 * (self.radius + cut.width):.2f} mm; "
                f"tool {self.tool.number} has {self.tool.diameter:g} mm.",
                remedy="Let the tip pass less far below, or use a wider tool.",
            )
        feet = merged([r.line for r in rims])
        progress.step(0.1, f"finding the edges at Z {rims[0].high:.2f}")
        blocked = areas.blocked(cut.tip)
        sharp, left = rims[0].low is None, False
        for k in range(self.p.passes - 1, -1, -1):
            progress.step(0.2 + 0.8 * (1.0 - (k + 1) / self.p.passes), "looking for other walls")
            away = k * cut.width / self.p.passes
            ground = blocked.buffer(away, quad_segs=48) if away else blocked
            reach = self.radius + away + 4 * self.inputs.tolerance + 0.01
            band = band_about(feet, reach)
            found = borders_along(ground, band, self.material_right, 0.25 * min(areas.step, 0.2))
            free = [piece for c in found for piece in self._clear(c, cut, sharp)]
            left = left or not found or sum(c.length for c in free) < sum(c.length for c in found) - 1e-6
            others = self._others(feet, rims[0].high, cut.width)
            beside = self.radius + away + cut.width - 0.5 * self.inputs.tolerance
            free = [piece for c in free for piece in _beside(c, others, beside)]
            solid = shapely.union_all(
                [
                    ground.buffer(-BORDER * self.inputs.tolerance),
                    others.buffer(beside - 1e-6, quad_segs=48),
                    self.whole.blocked(self._raised(cut, sharp)),
                ]
            )
            for i, contour in enumerate(free):
                done = 1.0 - (k + 1 - (i + 1) / len(free)) / self.p.passes
                progress.step(0.2 + 0.8 * done, f"edge {i + 1} of {len(free)}")
                self._drive(contour, cut, solid)
                self.driven.append((rims[0].high, LineString(contour.points)))
        if left:
            at = np.asarray(feet.centroid.coords[0])
            self.path.notes.append(EdgeLeft((float(at[0]), float(at[1]), rims[0].high)))
        if sharp:
            lines = as_lines([np.asarray(g.coords) for g in getattr(feet, "geoms", [feet])])
            self.path.notes.append(EdgeBroken(lines, rims[0].high, cut.width, cut.height))

    def _clear(self, contour: Contour, cut: _Cut, sharp: bool) -> list[Contour]:
        """The pieces on which the whole cutter meets nothing but the edge: raised until it would only touch a
        sharp one."""
        pieces = contour.where(self.inputs.cutter().tip(contour.points) <= self._raised(cut, sharp))
        return [c for c in pieces if c.length > SHORTEST_MM]

    def _raised(self, cut: _Cut, sharp: bool) -> float:
        """The height of the tip at which the whole cutter would only touch the edge."""
        slack = 2.0 * self.inputs.tolerance / math.sin(self.half)
        return cut.tip + (cut.height if sharp else 0.0) + slack

    def _others(self, feet: BaseGeometry, high: float, width: float) -> BaseGeometry:
        """The part at the height of edges but for what is to be broken: other edges, seen from above."""
        section = self.section.blocked(high - UNDER_MM)
        return section.difference(feet.buffer(width + BORDER * self.inputs.tolerance, quad_segs=48))

    def _drive(self, contour: Contour, cut: _Cut, solid: BaseGeometry) -> None:
        driven = contour.begun().overlapping(self.p.overlap) if contour.closed else contour
        side = 1.0 if self.material_right else -1.0
        size = self.p.lead_share * self.tool.diameter
        arcs, lines = (leads(driven.points, kind, size, side, solid) for kind in ("arc", "line"))
        # an arc goes on along the edge before it leaves it: where that would break what follows, straight off
        way_in, way_out = (arc if len(arc) > 1 else line for arc, line in zip(arcs, lines, strict=True))
        self.path.run += 1
        self.link.over(*way_in[0])
        self.link.down(float(way_in[0, 0]), float(way_in[0, 1]), cut.tip)
        fit, feed = (PATH_SHARE - BORDER) * self.inputs.tolerance, self.inputs.feed
        for points, kind in ((way_in, Motion.LEAD), (driven.points, Motion.FEED), (way_out, Motion.LEAD)):
            if len(points) > 1:
                along(self.path, points, cut.tip, cut.tip, feed, fit, kind)


def _beside(contour: Contour, others: BaseGeometry, least: float) -> list[Contour]:
    """The pieces of a contour at least so many mm from other edges."""
    if others.is_empty:
        return [contour]
    shapely.prepare(others)
    away = shapely.distance(others, shapely.points(contour.points))
    return [c for c in contour.where(np.asarray(away) >= least) if c.length > SHORTEST_MM]


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Nothing is left open."""
    return {}


STRATEGY = Strategy(
    "edge_breaking",
    "Edge breaking",
    "Chamfers the edges of top faces, or cuts the chamfers that the model shows, with a pointed cutter.",
    EdgeBreaking,
    compute,
    proposals,
    ("chamfer",),
    target="rims",
    example=Example(
        {"width": 0.4},
        tool={"kind": "chamfer", "diameter": 6.0, "point_deg": 90.0, "flute_length": 6.0},
        picks={"": [{"face": 1}], "bearing_bracket.step": [{"face": 2}], "plate_a.step": [{"face": 5}]},
    ),
)
