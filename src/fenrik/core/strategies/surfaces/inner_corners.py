"""A pass along inner corners: where the cutter touches the part twice, with passes beside it.

The lines come from `fenrik.core.cutting.creases`; every pass is the dropped cutter's own track over its line,
held to the chord tolerance, so it cuts no deeper than the part. Passes beside the corner run from the outside
to the corner.
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.creases import creases
from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, Inputs, Parameters, Strategy, face_overlap, fact
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.strategies.kit.touching import Contact
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.cutting_data import stepover_for_cusp

Floats = NDArray[np.float64]


class InnerCorners(Parameters):
    """What the pass along inner corners can be told. Lengths mm."""

    beside: int = fact(0, "Passes to either side of the corner.", ge=0, le=50, title="Passes beside")
    stepover: float | None = fact(
        None, "Distance of the passes beside it.", unit="mm", gt=0, le=50, reason="from a cusp of 0.01 mm"
    )
    direction: Literal["climb", "conventional", "either"] = fact(
        "either", "Which way the teeth meet the wall on the right or left of the corner.", group="rest"
    )
    least_angle_deg: float = fact(
        20.0,
        "Least angle between the two surfaces' normals.",
        unit="°",
        ge=5,
        le=120,
        group="rest",
        title="Smallest angle",
    )
    shortest: float = fact(
        2.0, "Corners shorter than this are left.", unit="mm", ge=0, le=1000, title="Shortest pass"
    )
    fineness: float | None = fact(
        None,
        "Grid on which corners are looked for.",
        unit="mm",
        ge=0.05,
        le=5,
        group="rest",
        reason="from the cutter",
        title="Search grid",
    )
    face_overlap: float = face_overlap()
    allowance: float = fact(0.0, "Left on the part.", unit="mm", ge=0, le=20)


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError when there is no inner corner, Cancelled."""
    p: InnerCorners = inputs.parameters
    tool = inputs.assembly
    progress.step(0.0, "preparing the cutter")
    cutter = inputs.cutter(p.allowance, p.allowance)
    region = inputs.surface_ground(cutter, p.face_overlap)
    x0, y0, x1, y1 = region.bounds
    fine = p.fineness or min(0.5, max(0.1, tool.radius / 12))
    progress.step(0.05, "looking for inner corners")
    floor = inputs.heights.bottom
    found = creases(
        cutter, np.array([x0, y0]), np.array([x1, y1]), fine, math.radians(p.least_angle_deg), floor
    )
    lines = _wanted(found, region, max(p.shortest, 2 * fine), fine)
    if not lines:
        raise ComputeError(
            f"Tool {tool.number} finds no inner corner of {p.least_angle_deg:g}° and {p.shortest:g} mm "
            "within the borders.",
            remedy="Lower the least angle or the shortest length, or enlarge the keep-in area.",
        )
    stepover = p.stepover or _stepover(tool)
    passes = [line for corner in _in_order(lines) for line in _beside(corner, p.beside, stepover)]
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    tolerance = inputs.tolerance * PATH_SHARE
    scan = min(0.5, max(0.05, math.sqrt(2.0 * max(tool.corner_radius, 0.2) * tolerance)))
    for number, line in enumerate(passes):
        progress.step(0.2 + 0.8 * number / len(passes), f"pass {number + 1} of {len(passes)}")
        points = np.concatenate(
            [
                cutter.along(a, b, scan, tolerance, floor)[0 if i == 0 else 1 :]
                for i, (a, b) in enumerate(_legs(line))
            ]
        )
        faces = inputs.faces
        pieces = [points] if faces is None else faces.pieces(Contact(cutter, p.face_overlap), points, fine)
        for points in pieces:
            path.run += 1
            here = path.position
            if p.direction == "either" and here is not None and _nearer(points[-1], points[0], here):
                points = points[::-1]
            _go(path, link, points[0], stepover)
            path.line(points, inputs.feed)
            link.stock.cut(path.since(max(0, path.count() - len(points))), tool.cleared)
    if path.position is None:
        raise ComputeError(
            f"No inner corner that tool {tool.number} finds touches the chosen faces.",
            remedy="Choose other faces, or a larger tool.",
        )
    link.away()
    return path.build()


def _stepover(tool: Assembly) -> float:
    return stepover_for_cusp(tool.corner_radius, 0.01) if tool.corner_radius > 0 else 0.1 * tool.diameter


def _legs(line: Floats) -> list[tuple[Floats, Floats]]:
    return list(pairwise(line))


def _wanted(found: list[Floats], region: BaseGeometry, shortest: float, fine: float) -> list[Floats]:
    """The lines inside the borders that are long enough, thinned to what their accuracy is worth."""
    out = []
    for line in found:
        inside = LineString(line).simplify(0.02 * fine).intersection(region)
        for piece in shapely.get_parts(inside):
            if isinstance(piece, LineString) and piece.length >= shortest:
                out.append(np.asarray(piece.coords)[:, :2])
    return out


def _in_order(lines: list[Floats]) -> list[Floats]:
    """Each line next that begins or ends nearest to where the last one ended."""
    waiting = sorted(lines, key=lambda l: (-len(l), l[0, 0], l[0, 1]))
    out: list[Floats] = []
    while waiting:
        at = out[-1][-1] if out else waiting[0][0]
        ends = [(min(np.hypot(*(l[0] - at)), np.hypot(*(l[-1] - at))), i) for i, l in enumerate(waiting)]
        line = waiting.pop(min(ends)[1])
        out.append(line if np.hypot(*(line[0] - at)) <= np.hypot(*(line[-1] - at)) else line[::-1])
    return out


def _beside(line: Floats, count: int, stepover: float) -> list[Floats]:
    """The passes of one corner from the outside to itself, left and right in turn."""
    out: list[Floats] = []
    for k in range(count, 0, -1):
        for side in (1.0, -1.0):
            moved = LineString(line).offset_curve(side * k * stepover, quad_segs=8)
            out += [np.asarray(g.coords)[:, :2] for g in shapely.get_parts(moved) if len(g.coords) > 1]
    return [*out, line]


def _nearer(a: Floats, b: Floats, place: tuple[float, float, float]) -> bool:
    at = np.array(place)
    return float(np.linalg.norm(a - at)) < float(np.linalg.norm(b - at))


def _go(path: PathBuilder, link: Linker, start: Floats, reach: float) -> None:
    here = path.position
    if here is not None and float(np.linalg.norm(start - np.array(here))) <= 0.05 * reach:
        x, y, z = (float(v) for v in start)
        path.feed(x, y, z, link.feed, Motion.LINK)
        return
    link.over(float(start[0]), float(start[1]))
    link.down(float(start[0]), float(start[1]), float(start[2]))


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Stepover where it is left open: from a cusp of 10 µm."""
    return {
        "stepover": (_stepover(assembly), "from a cusp of 0.01 mm, a tenth of the diameter for a flat cutter")
    }


STRATEGY = Strategy(
    "inner_corners",
    "Pass along inner corners",
    "Follows the lines where the cutter touches the part twice.",
    InnerCorners,
    compute,
    proposals,
    finishes=True,
    example=Example({"beside": 1, "shortest": 1.0, "fineness": 0.4}),
)
