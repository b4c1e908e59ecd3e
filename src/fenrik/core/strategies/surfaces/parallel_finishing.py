"""Parallel finishing: straight passes in plan view over the part's surface.

The cutter is dropped on the part along parallel lines; the track is sampled, halved where it bends and
thinned so that its chords stay within the tolerance on both sides. Passes along X or Y become arcs in their
upright planes. Passes lie where the tool's middle is inside the keep-in and outside the keep-out areas.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely import affinity
from shapely.geometry import LineString
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.errors import ComputeError
from fenrik.core.motion.arcs import fit_arcs
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.planes import AXES, Plane, in_plane
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
    rest_of_ball,
)
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.strategies.kit.touching import Contact, cut_out, dense_track
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.cutting_data import cusp_height, stepover_for_cusp

Floats = NDArray[np.float64]
ARC_SAMPLING = 0.3
"""Share of the tolerance for the chords of the track; arcs take the rest."""


class ParallelFinishing(Parameters):
    """What parallel finishing can be told. Lengths mm."""

    angle_deg: float = fact(0.0, "Direction of the passes from the setup's X.", unit="°", ge=-360, le=360)
    spaced_by: Literal["cusp", "stepover"] = fact(
        "cusp", "What the distance of the passes follows from.", title="Spacing by"
    )
    cusp: float = fact(
        0.01,
        "Height of the ridges wanted on level ground.",
        unit="mm",
        gt=0,
        le=5,
        shown_when={"spaced_by": "cusp"},
    )
    stepover: float | None = fact(
        None,
        "Distance of the passes.",
        unit="mm",
        gt=0,
        le=100,
        shown_when={"spaced_by": "stepover"},
        reason="from cusp",
    )
    style: Literal["to_and_fro", "one_way"] = fact("to_and_fro", "Back and forth, or always the same way.")
    flat_to_deg: float = fact(
        90.0,
        "Greatest steepness of the surface that is finished; 90 finishes all of it.",
        unit="°",
        ge=1,
        le=90,
    )
    flat_from_deg: float = fact(
        0.0,
        "Least steepness that is finished: below it the middle of a ball, which stands still, would cut.",
        unit="°",
        ge=0,
        le=80,
    )
    overlap_deg: float = fact(
        3.0,
        "How far passes go beyond these, so that no gap is left beside steep passes.",
        unit="°",
        ge=0,
        le=30,
        group="rest",
    )
    rest_of: float | None = rest_of_ball()
    face_overlap: float = face_overlap()
    allowance: float = fact(
        0.0, "Left on the part; less than 0 down to the corner radius.", unit="mm", ge=-20, le=20
    )
    beyond: float = beyond_border()
    arcs: bool = fact(
        True, "Arcs in the planes ZX and YZ (G18, G19) where the passes run along X or Y.", group="rest"
    )
    link_share: float = fact(
        3.0,
        "Links up to this many stepovers follow the surface.",
        unit="stepovers",
        ge=0,
        le=50,
        group="rest",
        title="Stay down up to",
    )


def stepover_of(p: ParallelFinishing, assembly: Assembly) -> float:
    """Distance of the passes mm, given or from the cusp on level ground.

    With a ball and a corner radius from the radius that makes the ridge; a flat cutter leaves none.
    """
    if p.spaced_by == "stepover" and p.stepover is not None:
        return p.stepover
    if assembly.corner_radius <= 0:
        return 0.5 * assembly.diameter
    flat = 2.0 * assembly.profile.flat
    return float(min(0.9 * assembly.diameter, flat * 0.9 + stepover_for_cusp(assembly.corner_radius, p.cusp)))


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The finishing path in the setup frame. Raises ComputeError when no pass lies in the borders."""
    p: ParallelFinishing = inputs.parameters
    stepover = stepover_of(p, inputs.assembly)
    cutter = inputs.cutter(p.allowance, p.allowance)
    region = inputs.surface_ground(cutter, p.face_overlap, p.beyond)
    lines = _lines(region, math.radians(p.angle_deg), stepover)
    if not lines:
        raise ComputeError(
            "No pass lies within the borders of parallel finishing.",
            remedy="Enlarge the keep-in area or 'beyond', or reduce the keep-out area.",
        )
    if p.allowance < 0 and -p.allowance > inputs.assembly.corner_radius:
        raise ComputeError(
            f"The allowance {p.allowance:g} mm goes deeper than the corner radius "
            f"{inputs.assembly.corner_radius:g} mm of tool {inputs.assembly.number}.",
            remedy="Use an allowance above minus the corner radius.",
        )
    tolerance = inputs.tolerance * PATH_SHARE
    corner = max(inputs.assembly.corner_radius, 0.2)
    scan = min(max(0.02, math.sqrt(2.0 * corner * tolerance)), stepover, 0.5)
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())

    how = Contact(cutter, p.face_overlap, inputs.ball_before(p.rest_of, p.allowance))
    plane = _plane(p)
    sampling = tolerance if plane is None else ARC_SAMPLING * tolerance

    def track(a: Floats, b: Floats) -> Floats:
        return cutter.along(a, b, scan, sampling, inputs.heights.bottom)

    def flat_runs(points: Floats) -> list[Floats]:
        """The pieces of a track that are flat enough and touch the chosen faces."""
        pieces = [points]
        if p.flat_to_deg < 90.0 or p.flat_from_deg > 0.0:
            low, high = p.flat_from_deg - p.overlap_deg, p.flat_to_deg + p.overlap_deg
            pieces = _flat_enough(cutter, points, math.radians(low), math.radians(high), stepover)
        if inputs.faces is None:
            return pieces
        return [q for piece in pieces for q in inputs.faces.pieces(how, piece, 0.5 * stepover)]

    near = region.buffer(0.1 * stepover)
    shapely.prepare(near)
    done = 0
    for chain in _chains(lines, p.style == "to_and_fro", p.link_share * stepover):
        for start, end in chain:
            progress.step(done / len(lines), f"pass {done + 1} of {len(lines)}")
            done += 1
            for points in flat_runs(track(start, end)):
                path.run += 1
                reach = p.link_share * stepover
                _approach(path, link, track, points[0], near, reach, p.style == "to_and_fro")
                mark = path.count()
                _cut(path, points, inputs.feed, plane, tolerance - sampling)
                link.stock.cut(path.since(max(0, mark - 1)), inputs.assembly.cleared)
    if path.position is None and inputs.faces is not None:
        raise ComputeError(
            f"Tool {inputs.assembly.number} touches the chosen faces nowhere between {p.flat_from_deg:g}° "
            f"and {p.flat_to_deg:g}° of steepness.",
            remedy="Choose other faces, a smaller tool, or other limits of steepness.",
        )
    if path.position is None:
        raise ComputeError(
            f"No part of the surface within the borders is between {p.flat_from_deg:g}° and "
            f"{p.flat_to_deg:g}° steep.",
            remedy="Lower 'flat from', raise 'flat to', or enlarge the keep-in area.",
        )
    link.away()
    return path.build()


def _plane(p: ParallelFinishing) -> Plane | None:
    """The upright plane in which all passes lie and a controller drives arcs, None where there is none."""
    if not p.arcs or p.angle_deg % 90.0 != 0.0:
        return None
    return Plane.ZX if p.angle_deg % 180.0 == 0.0 else Plane.YZ


def _cut(path: PathBuilder, points: Floats, feed: float, plane: Plane | None, tolerance: float) -> None:
    """Along a pass (n, 3): straight moves, or arcs and lines within the tolerance of it."""
    if plane is None:
        path.line(points, feed)
        return
    points = points.copy()
    points[:, AXES[plane][2]] = points[0, AXES[plane][2]]  # turning the lines has rounded it
    path.line(points[:1], feed)
    for end, turn, first, second in fit_arcs(in_plane(points, np.full(len(points), plane)), tolerance):
        x, y, z = (float(v) for v in points[end])
        if turn:
            path.arc((x, y, z), (first, second), turn, feed, Motion.FEED, plane)
        else:
            path.feed(x, y, z, feed)


def _flat_enough(
    cutter: DropCutter, points: Floats, low: float, high: float, stepover: float
) -> list[Floats]:
    """Pieces of a track (n, 3) on which the surface is between `low` and `high` rad steep. Long moves are
    looked at every half stepover; pieces shorter than that are dropped, gaps up to it driven through."""
    dense = dense_track(points, 0.5 * stepover)
    slope = cutter.slope(dense[:, :2])
    return cut_out(points, dense, (slope >= low) & (slope <= high), 0.5 * stepover)


def _lines(region: BaseGeometry, angle: float, stepover: float) -> list[list[tuple[Floats, Floats]]]:
    """Per line the stretches (start, end) inside the region, all pointing the same way."""
    if region.is_empty:
        return []
    turned = affinity.rotate(region, -angle, origin=(0, 0), use_radians=True)
    x0, y0, x1, y1 = turned.bounds
    count = max(1, math.ceil((y1 - y0) / stepover - 1e-9) + 1)
    spread = (y1 - y0) / max(1, count - 1)  # even, never wider than the stepover
    inset = min(1e-3, 0.25 * (y1 - y0))
    c, s = math.cos(angle), math.sin(angle)
    back = np.array([[c, s], [-s, c]])
    rows: list[list[tuple[Floats, Floats]]] = []
    for i in range(count):
        y = min(max(y0 + i * spread, y0 + inset), y1 - inset)
        cut = turned.intersection(LineString([(x0 - 1, y), (x1 + 1, y)]))
        parts = [g for g in shapely.get_parts(cut) if isinstance(g, LineString) and g.length > 1e-3]
        stretches = []
        for part in sorted(parts, key=lambda g: g.bounds[0]):
            a, b = part.bounds[0], part.bounds[2]
            stretches.append((np.array([a, y]) @ back, np.array([b, y]) @ back))
        if stretches:
            rows.append(stretches)
    return rows


def _chains(
    rows: list[list[tuple[Floats, Floats]]], to_and_fro: bool, reach: float
) -> list[list[tuple[Floats, Floats]]]:
    """Stretches in the order of cutting: neighbours on following lines make a chain."""
    if not to_and_fro:
        return [[stretch] for row in rows for stretch in row]
    waiting = [list(row) for row in rows]
    chains = []
    for i, row in enumerate(waiting):
        while row:
            chain = [row.pop(0)]
            for following in waiting[i + 1 :]:
                end = chain[-1][1]
                options = []
                for k, (a, b) in enumerate(following):
                    options.append((float(np.hypot(*(b - end))), k, (b, a)))
                    options.append((float(np.hypot(*(a - end))), k, (a, b)))
                best = min(options, key=lambda o: o[0], default=None)
                if best is None or best[0] > max(reach, 1e-6):
                    break
                following.pop(best[1])
                chain.append(best[2])
            chains.append(chain)
    return chains


def _approach(
    path: PathBuilder,
    link: Linker,
    track: object,
    first: Floats,
    near: BaseGeometry,
    reach: float,
    may_follow: bool,
) -> None:
    """To the start of a pass: along the surface when near and inside, else over the stock."""
    here = path.position
    if may_follow and here is not None:
        distance = math.hypot(first[0] - here[0], first[1] - here[1])
        line = LineString([here[:2], (first[0], first[1])])
        if distance <= reach and near.covers(line):
            way = track(np.array(here[:2]), first[:2])  # type: ignore[operator]
            # not down into what lies beside the faces, and up again
            if float(way[:, 2].min()) >= min(here[2], float(first[2])) - reach:
                path.line(way[1:], link.feed, Motion.LINK)
                return
    link.over(float(first[0]), float(first[1]))
    link.down(float(first[0]), float(first[1]), float(first[2]))


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Stepover where it is left open: from a cusp of 10 µm."""
    radius = assembly.corner_radius
    if radius <= 0:
        return {"stepover": (0.5 * assembly.diameter, "half the diameter: a flat cutter leaves no ridge")}
    value = stepover_for_cusp(radius, 0.01)
    return {
        "stepover": (
            value,
            f"from a cusp of 0.01 mm: 2 √(h (2 r − h)), ridge {cusp_height(radius, value):.3f} mm",
        )
    }


STRATEGY = Strategy(
    "parallel_finishing",
    "Parallel finishing",
    "Parallel passes over the part's surface at an even stepover.",
    ParallelFinishing,
    compute,
    proposals,
    finishes=True,
    example=Example({"spaced_by": "stepover", "stepover": 1.5}),
)
