"""Where a tool lies along a ruled wall: the axis for which a straight flank and the wall differ least.

The flank of a cylinder or cone is what balls on its axis touch. Along a twisted ruling no straight line keeps
its distance from the wall: an axis held parallel to the ruling, square to the wall halfway, cuts
R (1 - cos(twist/2)) too deep at both ends. The axis is corrected in its four parameters by damped
Gauss-Newton on the distance from axis to surface, re-weighted towards the least greatest difference (after
Bedi, Mann and Menzel 2003; Lawson 1961 for the weights), and then moved square to the wall so that it cuts in
by no more than it may. On planes, cylinders and cones every ruling has one normal, and the first guess is
exact.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import CubicSpline

from fenrik.core.model.ruled import Rulings

Floats = NDArray[np.float64]
ALONG = 13
"""Points of the axis that are held against the wall while it is corrected."""
SEEN = 33
"""Points at which the difference is told."""
FITS, PLAIN_FITS = 14, 4
"""Steps of the correction, and how many of them weigh all points alike."""
NEWTONS = 6
"""Steps to the nearest place of the wall, from one near it."""
HOLD = 1e-4
"""Weight that keeps the axis from wandering along the wall, where nothing tells it where to be."""


@dataclass(frozen=True)
class Flank:
    """A tool's straight side: its radius mm square to the axis at the height `low` mm over the tip, where it
    begins, and the angle rad by which it opens upwards from the axis (the taper).

    A ball about the axis that touches the side where it begins has the radius `ball` and its middle at the
    height `middle`; up the axis balls grow by `sine` a mm.
    """

    radius: float
    taper: float
    low: float

    @property
    def ball(self) -> float:
        """Radius mm of the lowest ball."""
        return self.radius / math.cos(self.taper)

    @property
    def middle(self) -> float:
        """Height mm of its middle over the tip."""
        return self.low + self.radius * math.tan(self.taper)

    @property
    def sine(self) -> float:
        """How much the balls grow a mm."""
        return math.sin(self.taper)


@dataclass(frozen=True)
class Lying:
    """How a tool lies along a wall: `tip` and `axis` (n, 3) at every ruling, the middles of the lowest and of
    the highest ball that touch the wall there (n, 2, 3), and how far the tool cuts into the wall (n,) and
    leaves of it (n,) at most, allowance apart, mm."""

    tip: Floats
    axis: Floats
    ends: Floats
    overcut: Floats
    left: Floats


class Wall:
    """A ruled wall as a smooth surface over ruling number s (0 to n - 1) and share t from low to high."""

    def __init__(self, rulings: Rulings) -> None:
        self.count = len(rulings)
        stations = np.arange(self.count)
        self._low = CubicSpline(stations, rulings.low)
        self._way = CubicSpline(stations, rulings.high - rulings.low)
        s, t = stations.astype(np.float64), np.full(self.count, 0.5)
        normal = self.at(s, t)[3]
        self.sign = float(np.sign(np.einsum("ij,ij->i", normal, rulings.out_low).mean()))

    def at(self, s: Floats, t: Floats) -> tuple[Floats, Floats, Floats, Floats]:
        """Point, derivatives by s and t, and the normal, each (..., 3); beyond its ends it goes on
        straight."""
        inside = np.clip(s, 0.0, self.count - 1.0)
        beyond = (s - inside)[..., None]
        low_s, way_s = self._low(inside, 1), self._way(inside, 1)
        low, way = self._low(inside) + beyond * low_s, self._way(inside) + beyond * way_s
        along = low_s + t[..., None] * way_s
        normal = np.cross(along, way)
        normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
        return low + t[..., None] * way, along, way, normal

    def out(self, s: Floats, t: Floats) -> Floats:
        """The normal (..., 3) out of the material."""
        return np.asarray(self.sign * self.at(s, t)[3])

    def distances(self, points: Floats, s: Floats, t: Floats) -> tuple[Floats, Floats, Floats, Floats]:
        """Signed distance of points (..., 3), positive outside, from the wall; where it is nearest, near a
        guess s and t; and the normal there."""
        s, t = s.copy(), t.copy()
        for _ in range(NEWTONS):
            at, along, way, _ = self.at(s, t)
            gap = points - at
            a, b, c = (along * along).sum(-1), (along * way).sum(-1), (way * way).sum(-1)
            p, q = (gap * along).sum(-1), (gap * way).sum(-1)
            bent, mixed = self._second(s, t, gap)
            a, b = a - bent, b - mixed
            size = a * c - b * b
            good = size > 1e-12 * np.maximum(a * c, 1e-30)
            size = np.where(good, size, 1.0)
            s = s + np.where(good, np.clip((c * p - b * q) / size, -3.0, 3.0), 0.0)
            t = t + np.where(good, np.clip((a * q - b * p) / size, -0.5, 0.5), 0.0)
        at, _, _, normal = self.at(s, t)
        out = self.sign * normal
        return ((points - at) * out).sum(-1), s, t, out

    def _second(self, s: Floats, t: Floats, gap: Floats) -> tuple[Floats, Floats]:
        """The second derivative along the wall, and the mixed one, in the direction of a gap (..., 3)."""
        inside = np.clip(s, 0.0, self.count - 1.0)
        bent = self._low(inside, 2) + t[..., None] * self._way(inside, 2)
        mixed = (self._way(inside, 1) * gap).sum(-1)
        return np.where(inside == s, (bent * gap).sum(-1), 0.0), mixed


@dataclass
class _Fit:
    """Axes on their way to lie along a wall.

    `ends` (m, 2, 3) are the middles of the lowest ball and of that at the upper end; `s` and `t` (m, k) where
    the wall is nearest to points of the axis; `normal` and `along` (m, 3) square to the wall halfway and
    along it.
    """

    wall: Wall
    flank: Flank
    allowance: float
    ends: Floats
    s: Floats
    t: Floats
    normal: Floats
    along: Floats

    def differences(self) -> tuple[Floats, Floats]:
        """How far (m, k) the side is off the wall with its allowance, negative where it cuts in, and the
        normals (m, k, 3) there."""
        share = np.linspace(0.0, 1.0, self.s.shape[1])
        way = self.ends[:, 1] - self.ends[:, 0]
        points = self.ends[:, None, 0] + share[None, :, None] * way[:, None]
        away, self.s, self.t, out = self.wall.distances(points, self.s, self.t)
        balls = self.flank.ball + self.flank.sine * np.linalg.norm(way, axis=1)[:, None] * share
        return away - balls - self.allowance, out

    def correct(self, residual: Floats, out: Floats, weights: Floats) -> Floats:
        """The ends after one step of weighted least squares."""
        share = np.linspace(0.0, 1.0, self.s.shape[1])
        on = [(out * d[:, None]).sum(-1) for d in (self.normal, self.along)]
        columns = [f * d for f in (1.0 - share, share) for d in on]
        jacobian = np.stack(columns, axis=2)
        weighted = weights[..., None] * jacobian
        matrix = np.einsum("mki,mkj->mij", weighted, jacobian)
        matrix += np.diag([1e-9, HOLD, 1e-9, HOLD])
        moved = np.linalg.solve(matrix, -np.einsum("mki,mk->mi", weighted, residual)[..., None])[..., 0]
        moved = np.clip(moved, -self.flank.ball, self.flank.ball)
        steps = [moved[:, [k]] * self.normal + moved[:, [k + 1]] * self.along for k in (0, 2)]
        return self.ends + np.stack(steps, axis=1)


def lying_along(
    wall: Wall,
    s: Floats,
    between: tuple[Floats, Floats],
    flank: Flank,
    allowance: float,
    overcut: float = 0.0,
    corrected: bool = True,
) -> Lying:
    """How a tool lies along a wall at rulings s (m,), its side touching it `between` two shares (m,) each of
    the way from low to high, `allowance` mm off it.

    Where the wall is twisted it may cut in by `overcut` mm, at most half the difference; the rest is left on.
    Not `corrected`, the axis is parallel to the rulings and square to the wall halfway.
    """
    fit = _parallel(wall, s, between, flank, allowance)
    if corrected:
        _fitted(fit)
        fit.s = np.repeat(fit.s[:, :1], SEEN, axis=1)
        fit.t = np.linspace(*between, SEEN, axis=1)
        for _ in range(3):
            residual = fit.differences()[0]
            low, high = residual.min(axis=1), residual.max(axis=1)
            shift = -low - np.minimum(overcut, 0.5 * (high - low))
            fit.ends = fit.ends + (shift[:, None] * fit.normal)[:, None]
    residual = fit.differences()[0]
    way = fit.ends[:, 1] - fit.ends[:, 0]
    axis = way / np.linalg.norm(way, axis=1, keepdims=True)
    return Lying(
        fit.ends[:, 0] - flank.middle * axis,
        axis,
        fit.ends,
        np.maximum(0.0, -residual.min(axis=1)),
        np.maximum(0.0, residual.max(axis=1)),
    )


def _parallel(wall: Wall, s: Floats, between: tuple[Floats, Floats], flank: Flank, allowance: float) -> _Fit:
    """Axes parallel to the rulings, or leaning from them by the taper, square to the wall halfway."""
    lowest, top = between
    t = np.linspace(lowest, top, ALONG, axis=1)
    where = np.tile(s[:, None], (1, ALONG))
    middle = 0.5 * (lowest + top)
    normal, along = wall.out(s, middle), wall.at(s, middle)[1]
    along = along / np.linalg.norm(along, axis=1, keepdims=True)
    feet, tops = wall.at(s, lowest)[0], wall.at(s, top)[0]
    away = flank.ball + allowance
    grown = np.linalg.norm(tops - feet, axis=1)[:, None] * math.tan(flank.taper)
    ends = np.stack([feet + away * normal, tops + (away + grown) * normal], axis=1)
    return _Fit(wall, flank, allowance, ends, where, t, normal, along)


def _fitted(fit: _Fit) -> None:
    """Corrects axes until the side and the wall differ least."""
    weights = np.ones(fit.s.shape)
    best, least = fit.ends, np.full(len(fit.ends), np.inf)
    for turn in range(FITS):
        residual, out = fit.differences()
        spread = np.ptp(residual, axis=1)
        better = spread < least
        best, least = np.where(better[:, None, None], fit.ends, best), np.where(better, spread, least)
        if turn >= PLAIN_FITS:
            size = np.abs(residual - 0.5 * (residual.max(axis=1) + residual.min(axis=1))[:, None])
            weights = weights * np.maximum(size / np.maximum(size.max(axis=1), 1e-12)[:, None], 0.05)
            weights /= weights.mean(axis=1, keepdims=True)
        fit.ends = fit.correct(residual, out, weights)
    fit.ends = best
