"""Finishing passes: sampling of parallel passes at 10 µm against a dense scan and midpoint bisection, and as
arcs; constant-Z levels against one grid of drops."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numpy as np
import shapely

from bench.cutter_location import surface
from bench.timing import Row, best
from fenrik.core.cutting.drop import DropCutter, Profile
from fenrik.core.cutting.levels import LevelAreas
from fenrik.core.cutting.topology import prepare
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.planes import Plane
from fenrik.core.stock.heightmap import pieces_of
from fenrik.core.strategies.surfaces.parallel_finishing import ARC_SAMPLING, _cut

TOLERANCE = 0.010


def bisected(cutter: DropCutter, a: np.ndarray, b: np.ndarray, step: float) -> np.ndarray:
    """Baseline: halve every chord whose middle is off by more than the tolerance."""
    length = float(np.hypot(*(b - a)))

    def at(s: float) -> tuple[float, float]:
        return s, float(cutter.tip((a + (b - a) * (s / length))[None, :])[0])

    out = [at(0.0)]

    def halve(p: tuple[float, float], q: tuple[float, float]) -> None:
        middle = at(0.5 * (p[0] + q[0]))
        rise = (q[1] - p[1]) / (q[0] - p[0])
        off = abs(middle[1] - 0.5 * (p[1] + q[1])) / np.hypot(1.0, rise)
        if off > TOLERANCE and q[0] - p[0] > 1e-3:
            halve(p, middle)
            halve(middle, q)
        else:
            out.append(q)

    stops = [at(s) for s in np.linspace(0.0, length, max(2, int(length / step)))]
    for p, q in itertools.pairwise(stops):
        halve(p, q)
    return np.array(out)


def deviation(cutter: DropCutter, track: np.ndarray, a: np.ndarray, b: np.ndarray) -> float:
    """Largest distance of a dense scan from a track (n, 2: s, z), square to it."""
    length = float(np.hypot(*(b - a)))
    dense = np.linspace(0.0, length, int(length / 0.002))
    heights = cutter.tip(a + (dense / length)[:, None] * (b - a))
    return float(shapely.distance(shapely.points(dense, heights), shapely.LineString(track)).max())


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    mesh = surface()
    cutter = DropCutter(prepare(mesh), Profile(3, 3))
    lines = [(np.array([2.0, y]), np.array([98.0, y])) for y in np.linspace(5.03, 95.07, 12)]
    worst, points, baseline, moves, off = 0.0, 0, 0, 0, 0.0
    for a, b in lines:
        track = cutter.along(a, b, 0.5, TOLERANCE, -100.0)
        flat = np.column_stack([np.hypot(*(track[:, :2] - a).T), track[:, 2]])
        worst = max(worst, deviation(cutter, flat, a, b))
        points += len(flat)
        baseline += len(bisected(cutter, a, b, 8.0))
        fine = cutter.along(a, b, 0.5, ARC_SAMPLING * TOLERANCE, -100.0)
        path = PathBuilder()
        _cut(path, fine, 1000.0, Plane.ZX, (1.0 - ARC_SAMPLING) * TOLERANCE)
        moves += path.count() - 1
        pieces, _ = pieces_of(path.build(), 1e-4)
        driven = np.vstack([pieces[:1, [0, 2]], pieces[:, [3, 5]]]) - [a[0], 0.0]
        off = max(off, deviation(cutter, driven, a, b))
    share = worst / TOLERANCE
    yield Row(
        "parallel passes at 10 µm: deviation of a dense scan",
        f"{1000 * worst:.2f} µm",
        "10 µm asked for",
        share,
        most=1.0,
    )
    yield Row("the same: points", f"{points}", f"{baseline} by bisection", points / baseline, most=1.15)
    yield Row(
        "the same as arcs: moves",
        f"{moves}",
        f"{points - len(lines)} chords",
        (points - len(lines)) / moves,
        least=2.5,
    )
    yield Row(
        "the same as arcs: deviation", f"{1000 * off:.2f} µm", "10 µm asked for", off / TOLERANCE, most=1.0
    )

    grid = np.stack(np.meshgrid(np.linspace(0, 100, 501), np.linspace(0, 100, 501)), axis=-1).reshape(-1, 2)
    low, high = np.array([-4.0, -4.0]), np.array([104.0, 104.0])

    def levels() -> None:
        areas = LevelAreas(cutter, low, high, 0.4, TOLERANCE)
        areas.blocked_at_all([float(z) for z in np.linspace(-7.0, 7.0, 16)])

    slow, plain = best(levels), best(lambda: cutter.tip(grid))
    yield Row(
        "constant Z, 16 levels at 10 µm",
        f"{slow:.2f} s",
        f"{plain:.2f} s a 501 x 501 grid",
        slow / plain,
        most=2.5,
    )
    gouge = 0.0
    areas = LevelAreas(cutter, low, high, 0.4, TOLERANCE)
    for z in np.linspace(-6.0, 6.0, 5):
        border = areas.blocked(float(z)).boundary
        dense = shapely.get_coordinates(shapely.segmentize(border, 0.02))[::7]
        dense = dense[((dense > 1.0) & (dense < 99.0)).all(axis=1)]  # beyond, the open surface ends in a jump
        over = cutter.tip(dense) - z
        rise = np.tan(cutter.slope(dense))
        gouge = max(gouge, float((over / np.hypot(1.0, rise)).max()))
    yield Row(
        "the same: gouge side", f"{1000 * gouge:.2f} µm", "10 µm asked for", gouge / TOLERANCE, most=1.0
    )
