"""Contours in plan view as they are driven: where they begin, how they overlap, leads, tabs, arcs."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
import shapely
import shapely.ops
from numpy.typing import NDArray
from shapely.geometry import LineString, Point
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient

from fenrik.core.cutting.levels import polygons
from fenrik.core.motion.arcs import fit_arcs
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion

Floats = NDArray[np.float64]
MANY_POINTS, THINNED_SHARE = 5000, 0.02
"""From so many points on lines are thinned where only what is near them is looked for, and by which share of
the nearness."""
SMALLEST_LEAD = 0.1
"""A lead that does not fit is halved down to this share of what was wanted, and then left out."""


@dataclass(frozen=True)
class Contour:
    """Points (n, 2) mm in driving order; a closed one ends where it begins."""

    points: Floats
    closed: bool

    @property
    def length(self) -> float:
        """Length, mm."""
        return float(np.hypot(*np.diff(self.points, axis=0).T).sum())

    def begun(self, x: float | None = None, y: float | None = None) -> Contour:
        """A closed contour that begins near a place (or a line, where only x or y is given), else in the
        middle of its longest straight piece."""
        loop = self.points[:-1]
        away = [loop[:, k] - v for k, v in enumerate((x, y)) if v is not None]
        first = int(np.argmin(np.sum(np.square(away), axis=0))) if away else _middle_of_straight(self.points)
        return Contour(np.vstack([np.roll(loop, -first, axis=0), loop[first]]), True)

    def where(self, inside: NDArray[np.bool_]) -> list[Contour]:
        """Its pieces over the points (n,) at which something holds; itself where it holds everywhere."""
        points = self.points
        if inside.all():
            return [self]
        if self.closed:
            start = int(np.argmin(inside))
            points, inside = np.roll(points[:-1], -start, axis=0), np.roll(inside[:-1], -start)
        edges = np.flatnonzero(np.diff(np.concatenate([[False], inside, [False]]).astype(np.int8)))
        return [
            Contour(points[i:j], False) for i, j in zip(edges[::2], edges[1::2], strict=True) if j - i > 1
        ]

    def around(self, inside: NDArray[np.bool_], overlap: float) -> list[Contour]:
        """Its pieces over the points (n,) at which something holds, driven on by `overlap` mm along it."""
        if not inside.any():
            return []
        run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(self.points, axis=0).T))])
        marks = run[inside]
        if self.closed:
            marks = np.concatenate([marks - run[-1], marks, marks + run[-1]])
        marks = np.concatenate([[-math.inf], marks, [math.inf]])
        behind = np.searchsorted(marks, run)
        return self.where(np.minimum(run - marks[behind - 1], marks[behind] - run) <= overlap)

    def between(self, a: Floats, b: Floats) -> Contour:
        """The piece, as it is driven, from the point nearest to a place (2,) to that nearest to another; of
        an open contour that between them."""
        line = LineString(self.points)
        at = [line.project(Point(p)) for p in (a, b)]
        if not self.closed:
            at.sort()
        pieces = [shapely.ops.substring(line, at[0], at[1])]
        if at[0] >= at[1]:
            pieces = [
                shapely.ops.substring(line, at[0], line.length),
                shapely.ops.substring(line, 0.0, at[1]),
            ]
        points = np.vstack([np.asarray(p.coords)[:, :2] for p in pieces if p.length > 0])
        return Contour(_distinct(points), False)

    def overlapping(self, by: float) -> Contour:
        """A closed contour driven on beyond its beginning by so many mm."""
        if by <= 0:
            return self
        whole = LineString(self.points)
        more = np.asarray(shapely.ops.substring(whole, 0.0, min(by, whole.length)).coords)
        return Contour(_distinct(np.vstack([self.points, more[1:]])), True)


def _distinct(points: Floats) -> Floats:
    """Points (n, 2) without repeats, so that every step has a direction: a cut at a point gives that point
    twice."""
    steps = np.hypot(*np.diff(points, axis=0).T)
    return np.asarray(points[np.concatenate([[True], steps > 1e-9])])


def merged(lines: list[BaseGeometry]) -> BaseGeometry:
    """Lines in plan view, those that meet joined."""
    whole = shapely.set_precision(shapely.union_all(lines), 1e-6)
    return shapely.line_merge(whole) if whole.geom_type == "MultiLineString" else whole


def band_about(lines: BaseGeometry, reach: float) -> BaseGeometry:
    """The area within `reach` mm of lines in plan view, square at their ends. Piece by piece and then joined:
    a buffer around thousands of pieces at once takes a hundred times as long. Lines of very many points are
    thinned by a share of the reach, and the area made wider by as much."""
    if shapely.get_num_coordinates(lines) > MANY_POINTS:
        slack = THINNED_SHARE * reach
        lines, reach = shapely.simplify(lines, slack), reach + slack
    return shapely.union_all(shapely.buffer(shapely.get_parts(lines), reach, quad_segs=48, cap_style="flat"))


def borders_along(
    ground: BaseGeometry, band: BaseGeometry, material_right: bool, spacing: float
) -> list[Contour]:
    """The pieces of the border of blocked ground that lie in an area, directed so that the ground lies on the
    right, or on the left; points at most `spacing` mm apart."""
    shapely.prepare(band)
    found: list[Contour] = []
    for polygon in polygons(ground):
        turned = orient(polygon, -1.0 if material_right else 1.0)
        for ring in (turned.exterior, *turned.interiors):
            dense = np.asarray(ring.segmentize(spacing).coords)[:, :2]
            found += Contour(dense, True).where(shapely.contains_xy(band, dense))
    return found


def rests(
    contours: list[Contour], ground: BaseGeometry, wider: float, overlap: float, tolerance: float
) -> list[Contour]:
    """The pieces of the border of blocked ground (the contours) at which a mill that is `wider` mm larger in
    radius leaves more than the tolerance, driven on by `overlap` along the border. Where the larger mill's
    middle may not be is the ground grown by `wider`; what it leaves lies between the ground and that shrunk
    again (a closing: J. Serra, Image Analysis and Mathematical Morphology, 1982)."""
    if wider <= 0:
        return []
    left = ground.buffer(wider, quad_segs=48).buffer(-wider - tolerance, quad_segs=48)
    shapely.prepare(left)
    return [piece for c in contours for piece in c.around(shapely.contains_xy(left, c.points), overlap)]


def apart(
    contours: list[Contour], others: list[Contour], least: float, touching: float, overlap: float
) -> list[Contour]:
    """The pieces of contours that leave others by more than `least` mm, from where they part (by `touching`
    mm) and driven on by `overlap`."""
    if not others:
        return contours
    pieces = np.concatenate([np.stack([o.points[:-1], o.points[1:]], axis=1) for o in others])
    lines = shapely.STRtree(np.asarray(shapely.linestrings(pieces)).ravel())
    out: list[Contour] = []
    for contour in contours:
        (spots, _), found = lines.query_nearest(
            shapely.points(contour.points), return_distance=True, all_matches=False
        )
        away = np.empty(len(contour.points))
        away[spots] = found
        parted = away > touching
        runs = np.cumsum(np.concatenate([[0], np.diff(parted.astype(np.int8)) != 0]))
        if contour.closed and parted[0] and parted[-1]:
            runs[runs == runs[-1]] = runs[0]
        out += contour.around(parted & np.isin(runs, runs[away > least]), overlap)
    return out


def _middle_of_straight(ring: Floats) -> int:
    """The point (an index) in the middle of the longest straight run of a closed ring (n, 2)."""
    steps = np.diff(ring, axis=0)
    long = np.hypot(*steps.T)
    heading = np.unwrap(np.arctan2(steps[:, 1], steps[:, 0]))
    best, first, best_at = 0.0, 0, 0
    for i in range(1, len(steps) + 1):
        if i == len(steps) or abs(heading[i] - heading[first]) > 1e-3:
            run = float(long[first:i].sum())
            if run > best + 1e-9:
                best, best_at = run, (first + i) // 2
            first = i
    return best_at % (len(ring) - 1)


def extended(contour: Contour, by: float, blocked: BaseGeometry) -> Contour:
    """An open contour driven on straight at both ends, as far as nothing stands there."""
    if by <= 0 or len(contour.points) < 2:
        return contour
    out = contour.points
    for end in (0, -1):
        a, b = (out[0], out[1]) if end == 0 else (out[-1], out[-2])
        way = (a - b) / max(1e-12, float(np.hypot(*(a - b))))
        for share in (1.0, 0.75, 0.5, 0.25):
            far = a + share * by * way
            if not LineString([a, far]).intersects(blocked):
                out = np.vstack([far, out]) if end == 0 else np.vstack([out, far])
                break
    return Contour(out, False)


def leads(
    points: Floats, kind: str, size: float, side: float, blocked: BaseGeometry
) -> tuple[Floats, Floats]:
    """Ways (n, 2) in and out: quarter circles that touch the contour, or lines square to it, on the free side
    (+1 left of the way, -1 right). One that would touch blocked ground is made smaller, at last nothing but
    the end itself."""
    shapely.prepare(blocked)
    return _lead(points, kind, size, side, blocked, True), _lead(points, kind, size, side, blocked, False)


def _lead(points: Floats, kind: str, size: float, side: float, blocked: BaseGeometry, before: bool) -> Floats:
    out: Floats
    at, other = (points[0], points[1]) if before else (points[-1], points[-2])
    along_ = (other - at) if before else (at - other)
    way = along_ / max(1e-12, float(np.hypot(*along_)))
    free = side * np.array([-way[1], way[0]])
    wanted = size
    while size > 0 and size >= SMALLEST_LEAD * wanted:
        if kind == "line":
            far = at + size * free
            out = np.array([far, at])
        else:
            angle = np.linspace(0.5 * math.pi, 0.0, 25)
            sense = -1.0 if before else 1.0
            out = (
                at
                + size * free
                + size * (np.outer(np.sin(angle), sense * way) - np.outer(np.cos(angle), free))
            )
        if not LineString(out).intersects(blocked):
            return np.asarray(out if before else out[::-1])
        size *= 0.5
    return np.asarray(at[None])


def with_tabs(points: Floats, count: int, width: float) -> list[tuple[Floats, bool]]:
    """The contour in pieces (n, 2), and whether each goes over a tab: so many, evenly spread."""
    line = LineString(points)
    width = min(width, 0.5 * line.length / count)
    stops = [0.0]
    for k in range(count):
        middle = (k + 0.5) * line.length / count
        stops += [middle - 0.5 * width, middle + 0.5 * width]
    stops.append(line.length)
    cut = [np.asarray(shapely.ops.substring(line, a, b).coords) for a, b in pairwise(stops)]
    return [(piece, i % 2 == 1) for i, piece in enumerate(cut) if len(piece) > 1]


@lru_cache(maxsize=64)
def _fitted(points: bytes, tolerance: float) -> tuple[Floats, Floats, list[tuple[int, int, float, float]]]:
    """A plan line (n, 2) thinned within the tolerance, the way run up to each of its points, and its moves as
    lines and arcs (see `fit_arcs`): the same at all levels and turns, so worked out once."""
    thin = np.asarray(LineString(np.frombuffer(points).reshape(-1, 2)).simplify(0.1 * tolerance).coords)
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(thin, axis=0).T))])
    return thin, run, fit_arcs(thin, 0.9 * tolerance)


def along(
    path: PathBuilder, points: Floats, z0: float, z1: float, feed: float, tolerance: float, kind: Motion
) -> None:
    """From the first of the points (n, 2) through them, evenly from z0 to z1, as arcs and lines within the
    tolerance."""
    thin, run, moves = _fitted(np.ascontiguousarray(points, dtype=np.float64).tobytes(), tolerance)
    here = path.position
    if here is not None and math.dist(here, (*thin[0], z0)) > 1e-9:
        path.feed(float(thin[0, 0]), float(thin[0, 1]), z0, feed, kind)
    for end, turn, cx, cy in moves:
        x, y = float(thin[end, 0]), float(thin[end, 1])
        z = z0 + (z1 - z0) * float(run[end] / max(run[-1], 1e-12))
        if turn:
            path.arc((x, y, z), (cx, cy), turn, feed, kind)
        else:
            path.feed(x, y, z, feed, kind)
