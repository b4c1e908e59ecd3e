"""The straight lines of a face: a ruled face as what lies between two rails, sampled from its exact surface.

A face is ruled where one family of its parameter lines is straight: planes, cylinders, cones, extrusions,
B-splines of degree 1 one way, and whatever else turns out to be. Loading OCP takes over a second: callers
import this module inside functions.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepTools import BRepTools
from OCP.GeomAbs import GeomAbs_SurfaceType
from OCP.gp import gp_Pnt, gp_Vec
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS
from scipy.interpolate import CubicSpline

from fenrik.core.errors import ComputeError
from fenrik.core.frames import unit
from fenrik.core.model.ruled import Rulings

Floats = NDArray[np.float64]
STATIONS = (33, 65, 129, 257, 513, 1025)
"""How many rulings are tried, until those between them lie on the surface."""
STRAIGHT_MM = 1e-4
"""How far a ruling may bend."""
BETWEEN_MM = 5e-5
"""How far the surface halfway between two rulings may lie from a spline through all of them."""
EDGE_POINTS = 121
"""At which an edge of the border is sampled."""
END_COSINE = 0.7071
"""A piece of the border that goes along the rulings by more than this is an end of the face, no rail."""
SHORTEST_MM = 1e-3
At = Callable[[float, float], tuple[Floats, Floats]]


@dataclass(frozen=True)
class _Surface:
    """A face's surface over s along the face and t along its straight lines: `at` gives point and normal, out
    of the material; `border` holds the outer edges, (m, 2: s, t) each."""

    at: At
    border: list[Floats]

    @property
    def ends(self) -> tuple[Floats, Floats]:
        """Least and greatest (s, t) of the border."""
        points = np.concatenate(self.border)
        return points.min(axis=0), points.max(axis=0)


def rulings_of(face: Any, up: Floats) -> Rulings:
    """The rulings of a face (TopoDS_Face, part frame). On a plane, where any line would do, they rise
    steepest along `up` (3,). Raises ComputeError in words that go on after the face's name."""
    surface = _surface(face, np.asarray(up, dtype=np.float64))
    (first, t_low), (last, t_high) = (end.tolist() for end in surface.ends)
    if t_high - t_low <= 0.0 or last - first <= 0.0:
        raise _not_ruled("has no extent")
    rails = [_rail(surface, below) for below in (True, False)]
    for count in STATIONS:
        s = np.linspace(first, last, count)
        low, high = (np.array([surface.at(a, t)[0] for a in s]) for t in (t_low, t_high))
        if max(_between(surface, s, t, points) for t, points in ((t_low, low), (t_high, high))) < BETWEEN_MM:
            break
    else:
        raise _not_ruled("has a kink, or bends too sharply for its straight lines to be followed")
    out_low, out_high = (np.array([surface.at(a, t)[1] for a in s]) for t in (t_low, t_high))
    if float(np.linalg.norm(high - low, axis=1).min()) < SHORTEST_MM:
        raise _not_ruled("has straight lines that meet in a point")
    foot, top = ((_rail_at(rail, s) - t_low) / (t_high - t_low) for rail in rails)
    if float((top - foot).max()) <= 0.0:
        raise _not_ruled("has long edges that cross")
    return Rulings(low, high, out_low, out_high, foot, top)


def _not_ruled(words: str) -> ComputeError:
    return ComputeError(words, remedy="Pick a face whose lines from edge to edge are straight.")


def _surface(face: Any, up: Floats) -> _Surface:
    adaptor = BRepAdaptor_Surface(face)
    sign = -1.0 if face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED else 1.0
    point, along_u, along_v = gp_Pnt(), gp_Vec(), gp_Vec()

    def at(u: float, v: float) -> tuple[Floats, Floats]:
        adaptor.D1(u, v, point, along_u, along_v)
        normal = along_u.Crossed(along_v)
        length = normal.Magnitude()
        if length < 1e-12:
            raise _not_ruled("has straight lines that meet in a point")
        out = np.array([normal.X(), normal.Y(), normal.Z()]) * (sign / length)
        return np.array([point.X(), point.Y(), point.Z()]), out

    border = _border(face)
    if adaptor.GetType() == GeomAbs_SurfaceType.GeomAbs_Plane:
        return _plane(at, border, up)
    whole = _Surface(at, border)
    low, high = whole.ends
    bends = [_bend(at, low, high, axis) for axis in (0, 1)]
    if min(bends) > STRAIGHT_MM:
        raise _not_ruled(f"is not ruled: its straightest lines bend by {min(bends):.3f} mm")
    straight = int(np.argmin(bends)) if max(bends) > STRAIGHT_MM else _steeper(at, low, high, up)
    if straight == 1:
        return whole
    return _Surface(lambda s, t: at(t, s), [edge[:, ::-1] for edge in border])


def _plane(at: At, border: list[Floats], up: Floats) -> _Surface:
    """A plane with t rising along `up`."""
    origin, normal = at(0.0, 0.0)
    rising = up - normal * float(normal @ up)
    if float(np.linalg.norm(rising)) < 1e-6:
        raise _not_ruled("lies square to the tool and is no wall")
    along_t = unit(rising)
    along_s = np.cross(along_t, normal)
    turned = []
    for edge in border:
        points = np.array([at(u, v)[0] for u, v in edge]) - origin
        turned.append(np.column_stack([points @ along_s, points @ along_t]))
    return _Surface(lambda s, t: (origin + s * along_s + t * along_t, normal), turned)


def _border(face: Any) -> list[Floats]:
    """The outer border in the surface's parameters, edge by edge, (m, 2) each."""
    out = []
    walk = TopExp_Explorer(BRepTools.OuterWire_s(face), TopAbs_ShapeEnum.TopAbs_EDGE)
    while walk.More():
        edge = TopoDS.Edge(walk.Current())
        walk.Next()
        curve = BRep_Tool.CurveOnSurface_s(edge, face, 0.0, 0.0)
        first, last = (float(end) for end in BRep_Tool.Range_s(edge, face))
        points = [curve.Value(p) for p in np.linspace(first, last, EDGE_POINTS)]
        out.append(np.array([[p.X(), p.Y()] for p in points]))
    return out


def _bend(at: At, low: Floats, high: Floats, axis: int) -> float:
    """How far the lines along one parameter bend, mm, on a few of them."""
    worst = 0.0
    for share in (0.1, 0.37, 0.63, 0.9):
        shares = np.full((9, 2), share)
        shares[:, axis] = np.linspace(0.0, 1.0, 9)
        line = np.array([at(*uv)[0] for uv in (low + (high - low) * shares).tolist()])
        chord = line[-1] - line[0]
        size = float(np.linalg.norm(chord))
        if size < SHORTEST_MM:
            return float(np.inf)
        away = np.cross(line - line[0], chord / size)
        worst = max(worst, float(np.linalg.norm(away, axis=1).max()))
    return worst


def _steeper(at: At, low: Floats, high: Floats, up: Floats) -> int:
    """Which of two straight families rises more steeply along `up`."""
    steep = []
    for axis in (0, 1):
        ends = [0.5 * (low + high), 0.5 * (low + high)]
        ends[0][axis], ends[1][axis] = low[axis], high[axis]
        steep.append(abs(float(unit(at(*ends[1])[0] - at(*ends[0])[0]) @ up)))
    return int(np.argmax(steep))


def _between(surface: _Surface, s: Floats, t: float, points: Floats) -> float:
    """How far, mm, the surface lies from a spline through `points` at s (n,), halfway between them."""
    middle = 0.5 * (s[1:] + s[:-1])
    there = np.array([surface.at(a, t)[0] for a in middle])
    return float(np.linalg.norm(CubicSpline(s, points)(middle) - there, axis=1).max())


def _rail(surface: _Surface, below: bool) -> list[Floats]:
    """The pieces (m, 2: s, t) of the border that lie across the rulings `below` the face, or above it."""
    out = []
    for edge in surface.border:
        for piece in _across(surface, edge):
            s, t = piece[len(piece) // 2].tolist()
            crossings = np.concatenate([_crossings(e, s) for e in surface.border])
            nearest = crossings.min() if below else crossings.max()
            if abs(nearest - t) <= 1e-6 * max(1.0, float(np.ptp(crossings))):
                out.append(piece)
    if not out:
        raise _not_ruled("has no edge across its straight lines on one side")
    return sorted(out, key=lambda piece: float(piece[0, 0]))


def _across(surface: _Surface, edge: Floats) -> list[Floats]:
    """The stretches (m, 2) of an edge that go across the rulings, in the order of s."""
    points = np.array([surface.at(s, t)[0] for s, t in edge])
    ways, middles = np.diff(points, axis=0), 0.5 * (edge[1:] + edge[:-1])
    step = 1e-3 * float(np.ptp(np.concatenate(surface.border)[:, 1]))
    lines = np.array([surface.at(s, t + step)[0] - surface.at(s, t - step)[0] for s, t in middles])
    sizes = np.linalg.norm(ways, axis=1) * np.linalg.norm(lines, axis=1)
    cosine = np.abs(np.einsum("ij,ij->i", ways, lines)) / np.maximum(sizes, 1e-18)
    wanted = (cosine < END_COSINE) & (sizes > 1e-15)
    changes = np.flatnonzero(np.diff(np.concatenate([[False], wanted, [False]]).astype(np.int8)))
    pieces = [edge[a : b + 1] for a, b in zip(changes[::2], changes[1::2], strict=True)]
    return [piece if piece[-1, 0] >= piece[0, 0] else piece[::-1] for piece in pieces]


def _crossings(edge: Floats, s: float) -> Floats:
    """The t (k,) at which an edge crosses s."""
    a, b = edge[:-1], edge[1:]
    hit = ((a[:, 0] <= s) & (s <= b[:, 0])) | ((b[:, 0] <= s) & (s <= a[:, 0]))
    way = b[hit, 0] - a[hit, 0]
    share = np.divide(s - a[hit, 0], way, out=np.zeros_like(way), where=way != 0)
    return np.asarray(a[hit, 1] + share * (b[hit, 1] - a[hit, 1]))


def _rail_at(pieces: list[Floats], s: Floats) -> Floats:
    """t (n,) of a rail at s (n,); before, after and between its pieces it goes on straight."""
    whole = np.concatenate(pieces)
    whole = whole[np.concatenate([[True], np.diff(whole[:, 0]) > 1e-12])]
    out = np.interp(s, whole[:, 0], whole[:, 1])
    for beyond, a, b in ((s < whole[0, 0], 0, 1), (s > whole[-1, 0], -1, -2)):
        slope = (whole[a, 1] - whole[b, 1]) / (whole[a, 0] - whole[b, 0])
        out[beyond] = whole[a, 1] + slope * (s[beyond] - whole[a, 0])
    return np.asarray(out)
