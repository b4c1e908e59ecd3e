"""Engraving: along lines at a depth under the part's surface, with a pointed or ball tool.

The tip follows the height at which the cutter would touch the part, less the depth: on a level face that is
the depth itself, on a curved one the depth along the tool, and beside a wall the cutter stays off it. Lines
are driven in the order of the nearest next end.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from shapely.geometry import LineString

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.notes import Engraved, as_lines
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, Inputs, Parameters, Strategy, fact
from fenrik.core.strategies.kit.contours import along
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
PROBE = 0.01
"""Radius of what feels the part's surface itself, mm."""
SPACING = 0.25
"""Distance of the places at which the surface is sought, mm."""
LEVEL = 1e-4
BESIDE = -1e6
"""The cutter's height where there is no part under it is below this."""
FALL = 2.0
"""Slope beyond which a line falls off the part rather than follows its surface."""


class Engraving(Parameters):
    """What engraving can be told. Lengths mm."""

    depth: float = fact(0.2, "Depth under the surface.", unit="mm", gt=0, le=20)
    passes: int = fact(1, "Passes to the depth.", ge=1, le=50)
    both_ways: bool = fact(
        True, "Open lines from whichever end is nearer.", group="rest", title="Either direction"
    )


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming a line that leaves the part, Cancelled."""
    p: Engraving = inputs.parameters
    if not inputs.lines:
        raise ComputeError(
            "Engraving has no lines.", remedy="Write a text, pick edges or faces, or give points."
        )
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    cutter, probe = inputs.cutter(), DropCutter(inputs.topology, Profile(PROBE, 0.0))
    rest = [_Line(words, *_on_part(words, points, cutter, probe, inputs)) for words, points in inputs.lines]
    count, here = len(rest), np.zeros(2)
    while rest:
        progress.step(1.0 - len(rest) / count, f"line {count - len(rest) + 1} of {count}")
        line = min(rest, key=lambda one: one.away(here, p.both_ways))
        rest.remove(line)
        _cut(path, link, line.begun(here, p.both_ways), inputs)
        position = path.position
        assert position is not None
        here = np.array(position[:2])
    link.away()
    path.notes.append(_zone(inputs))
    return path.build()


class _Line:
    """A line to engrave: places (n, 2) and the part's heights (n,) there."""

    def __init__(self, words: str, points: Floats, top: Floats) -> None:
        self.words, self.points, self.top = words, points, top

    @property
    def closed(self) -> bool:
        """Whether it ends where it begins."""
        return len(self.points) > 2 and bool(np.abs(self.points[0] - self.points[-1]).max() < 1e-6)

    def away(self, here: Floats, both: bool) -> float:
        """How far its nearest beginning is from a place."""
        ends = self.points if self.closed else self.points[[0, -1]] if both else self.points[:1]
        return float(np.hypot(*(ends - here).T).min())

    def begun(self, here: Floats, both: bool) -> _Line:
        """The line from its nearest beginning on."""
        points, top = self.points, self.top
        if self.closed:
            first = int(np.argmin(np.hypot(*(points[:-1] - here).T)))
            points, top = np.roll(points[:-1], -first, axis=0), np.roll(top[:-1], -first)
            points, top = np.vstack([points, points[:1]]), np.append(top, top[0])
        elif both and math.dist(points[-1], here) < math.dist(points[0], here):
            points, top = points[::-1], top[::-1]
        return _Line(self.words, points, top)


def _on_part(
    words: str, points: Floats, cutter: DropCutter, probe: DropCutter, inputs: Inputs
) -> tuple[Floats, Floats]:
    """A line (n, 2) on the part: itself where the part is level under it, else dense, with the heights there
    at which the cutter touches the part."""
    dense = np.asarray(LineString(points).segmentize(SPACING).coords)[:, :2]
    top = probe.tip(dense)
    if (off := top < BESIDE).any():
        x, y = dense[int(np.argmax(off))]
        raise ComputeError(
            f"{words} leaves the part at X {x:.2f} Y {y:.2f}.",
            remedy="Place it on the part, or make it smaller.",
        )
    steep = np.abs(np.diff(top)) > FALL * np.maximum(np.hypot(*np.diff(dense, axis=0).T), 1e-9) + LEVEL
    if steep.any():
        x, y = dense[int(np.argmax(steep))]
        raise ComputeError(
            f"{words} goes over a wall at X {x:.2f} Y {y:.2f}, where the surface falls by "
            f"{np.abs(np.diff(top)).max():.2f} mm.",
            remedy="Place it on one face, or make it smaller.",
        )
    surface, top = top, cutter.tip(dense)
    if (held := top - surface >= inputs.parameters.depth).any():
        x, y = dense[int(np.argmax(held))]
        raise ComputeError(
            f"{words} comes too near to a wall at X {x:.2f} Y {y:.2f}: tool {inputs.assembly.number} of"
            f" {inputs.assembly.diameter:g} mm touches it before it reaches the depth.",
            remedy="Use a slimmer tool, place the line farther from the wall, or engrave deeper.",
            offer={"tool_at_most": 0.5 * inputs.assembly.diameter},
        )
    if np.ptp(top) < LEVEL:
        return points, np.full(len(points), float(top.mean()))
    return dense, top


def _cut(path: PathBuilder, link: Linker, line: _Line, inputs: Inputs) -> None:
    """Down at the line's beginning, along it, and over its beginning again for the next pass."""
    p: Engraving = inputs.parameters
    tolerance = PATH_SHARE * inputs.tolerance
    for k in range(1, p.passes + 1):
        depth = p.depth * k / p.passes
        x, y = line.points[0].tolist()
        path.run += 1
        mark = max(0, path.count() - 1)
        if not (k > 1 and line.closed):
            link.over(x, y)
            link.down(x, y, float(line.top[0]) - depth)
        else:
            path.feed(x, y, float(line.top[0]) - depth, inputs.entry_feed, Motion.PLUNGE)
        if np.ptp(line.top) < LEVEL:
            z = float(line.top[0]) - depth
            along(path, line.points, z, z, inputs.feed, tolerance, Motion.FEED)
        else:
            path.line(np.column_stack([line.points, line.top - depth])[1:], inputs.feed, Motion.FEED)
        link.stock.cut(path.since(mark), inputs.assembly.cleared)
    link.up(float(line.top.max()) + inputs.heights.feed)


def _zone(inputs: Inputs) -> Engraved:
    """Where the groove may be, for the proof: the model shows the face without it."""
    p: Engraving = inputs.parameters
    radii = np.linspace(0.0, inputs.assembly.radius, 200)
    heights = np.array([inputs.assembly.profile.height(float(r)) for r in radii])
    lines = as_lines([points for _, points in inputs.lines])
    return Engraved(lines, p.depth, tuple(radii.tolist()), tuple(heights.tolist()))


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Nothing is left open."""
    return {}


STRATEGY = Strategy(
    "engraving",
    "Engraving",
    "Engraves text, outlines and centre lines at a depth under the surface.",
    Engraving,
    compute,
    proposals,
    ("chamfer", "ball", "taper_ball"),
    target="lines",
    example=Example(
        {"depth": 0.3, "passes": 2},
        tool={"kind": "chamfer", "diameter": 3.0, "point_deg": 60.0, "flute_length": 3.0},
        picks={
            "plate_a.step": [{"text": "ABC 89", "at": [10, 20], "height": 4, "angle_deg": 90}],
            "pillow_block.step": [{"text": "ABC 89", "at": [-20, -27], "height": 4}],
            "bearing_bracket.step": [{"text": "ABC 89", "at": [31, -13], "height": 4, "angle_deg": 90}],
        },
    ),
)
