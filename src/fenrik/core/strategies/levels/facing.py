"""Facing: level passes over the blank down to the part's top, to and fro or always the same way.

Passes begin beside the blank, so the cutter never enters from above; the first takes a stepover, the last
leaves nothing. Going one way, the rest of the blank lies on the side on which the teeth climb (common
practice, no source).
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString

from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, Inputs, Parameters, Strategy, fact
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
BESIDE_MM = 1.0
"""Room between the cutter and the blank where a pass begins and ends."""


class Facing(Parameters):
    """What facing can be told. Lengths mm."""

    style: Literal["to_and_fro", "one_way"] = fact("to_and_fro", "Back and forth, or always the same way.")
    along: Literal["longer_side", "x", "y"] = fact(
        "longer_side", "Direction of the passes.", title="Passes along"
    )
    stepover: float | None = fact(None, "Distance of the passes.", unit="mm", gt=0, le=500)
    step_down: float | None = fact(None, "Depth of a level.", unit="mm", gt=0, le=100)
    direction: Literal["climb", "conventional"] = fact(
        "climb", "Which way the teeth meet the material.", shown_when={"style": "one_way"}
    )
    allowance: float = fact(0.0, "Left on the part's top.", unit="mm", ge=0, le=100)


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError when nothing stands over the part's top, Cancelled."""
    p: Facing = inputs.parameters
    low, high = _area(inputs)
    target = float(inputs.part_high[2]) + p.allowance
    height = float(inputs.stock_high[2]) - target
    if height <= 1e-6:
        raise ComputeError(
            f"Nothing stands over the part's top at Z {target:.3f}: the blank ends at Z "
            f"{inputs.stock_high[2]:.3f}.",
            remedy="Give the stock an allowance above, or switch facing off.",
            offer={"set": {"enabled": False}},
        )
    count = max(1, math.ceil(height / (p.step_down or height) - 1e-9))
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    lines = _lines(low, high, inputs, p)
    for i in range(count):
        level = float(inputs.stock_high[2]) - height * (i + 1) / count
        path.level = i
        for k, (start, end) in enumerate(lines):
            progress.step((i + k / len(lines)) / count, f"level {i + 1} of {count}, pass {k + 1}")
            path.run += 1
            mark = max(0, path.count() - 1)
            _pass(path, link, start, end, level, p.style == "to_and_fro" and k > 0, inputs)
            link.stock.cut(path.since(mark), inputs.assembly.cleared)
    link.away()
    return path.build()


def _area(inputs: Inputs) -> tuple[Floats, Floats]:
    """Corners (2,) of what is faced: the blank, or what of it lies about the keep-in areas."""
    low, high = inputs.stock_low[:2], inputs.stock_high[:2]
    if inputs.keep_in is not None:
        bounds = np.array(inputs.keep_in.bounds)
        low, high = np.maximum(low, bounds[:2]), np.minimum(high, bounds[2:])
    if (high - low).min() <= 0:
        raise ComputeError(
            "The keep-in area lies beside the blank.", remedy="Move or enlarge the keep-in area."
        )
    return low, high


def _lines(low: Floats, high: Floats, inputs: Inputs, p: Facing) -> list[tuple[Floats, Floats]]:
    """Ends of the passes in the order of cutting, less what lies in keep-out areas."""
    size, radius = high - low, inputs.assembly.radius
    along = {"x": 0, "y": 1}.get(p.along, int(size[1] > size[0]))
    across = 1 - along
    stepover = min(p.stepover or 0.65 * inputs.assembly.diameter, 2.0 * radius)
    flat = 2.0 * (radius - inputs.assembly.corner_radius)
    stepover = min(stepover, flat) if flat > 0 else stepover
    count = max(1, math.ceil(float(size[across]) / stepover - 1e-9))
    # a tool that turns clockwise climbs with the material on its right: seen along X that is towards -Y,
    # along Y towards X
    right = (p.direction == "climb") == inputs.spindle_clockwise
    downward = right == (along == 0)
    reach = radius + BESIDE_MM
    out: list[tuple[Floats, Floats]] = []
    for i in range(count):
        done = (i + 1) * float(size[across]) / count
        inner = radius - inputs.assembly.corner_radius
        place = float(high[across]) - done + inner if downward else float(low[across]) + done - inner
        ends = np.zeros((2, 2))
        ends[:, across] = place
        ends[:, along] = low[along] - reach, high[along] + reach
        if p.style == "to_and_fro" and i % 2:
            ends = ends[::-1]
        out += _outside(ends, inputs)
    return out


def _outside(ends: Floats, inputs: Inputs) -> list[tuple[Floats, Floats]]:
    if inputs.keep_out is None:
        return [(ends[0], ends[1])]
    left = LineString(ends).difference(inputs.keep_out)
    parts = [np.asarray(g.coords) for g in shapely.get_parts(left) if g.length > 1e-3]
    return sorted(((c[0], c[-1]) for c in parts), key=lambda pair: float(np.hypot(*(pair[0] - ends[0]))))


def _pass(
    path: PathBuilder, link: Linker, start: Floats, end: Floats, level: float, follow: bool, inputs: Inputs
) -> None:
    """To the start, beside the blank at feed where the last pass ended there, and across."""
    here = path.position
    near = (
        here is not None
        and abs(here[2] - level) < 1e-9
        and math.dist(here[:2], start) <= inputs.assembly.diameter
    )
    if follow and near:
        path.feed(float(start[0]), float(start[1]), level, link.feed, Motion.LINK)
    else:
        link.over(float(start[0]), float(start[1]))
        link.down(float(start[0]), float(start[1]), level)
    path.feed(float(end[0]), float(end[1]), level, inputs.feed)


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Stepover and depth where they are left open."""
    return {
        "stepover": (
            0.65 * assembly.diameter,
            "0.65 diameters: two thirds of the cutter in the material (common practice, no source)",
        ),
        "step_down": (data["step_down"], "as for roughing with this tool"),
    }


STRATEGY = Strategy(
    "facing",
    "Facing",
    "Level passes over the blank down to the part's top.",
    Facing,
    compute,
    proposals,
    ("flat", "corner"),
    example=Example({"stepover": 2.0, "step_down": 0.25}),
)
