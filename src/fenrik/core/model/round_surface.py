"""Cylinders, cones and spheres through points: fitted, measured against, projected on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Kind = Literal["cylinder", "cone", "sphere"]
ROUNDS = 12
"""Steps of the fit at most; it ends when a step no longer matters."""
HOPELESS = 0.5
"""Share of the points' extent from which a fit that has not come nearer by its fourth step is given up."""
STEEPEST = 20.0
"""Slope of a cone (radius per length) from which it is taken for no cone."""


@dataclass(frozen=True)
class RoundSurface:
    """A round surface: `origin` (3,) on the axis or the centre, unit `axis` (3,), `radius` mm at the origin,
    and for a cone its `slope`, mm of radius per mm along the axis."""

    kind: Kind
    origin: Floats
    axis: Floats
    radius: float
    slope: float = 0.0

    def _parts(self, points: Floats) -> tuple[Floats, Floats, Floats]:
        """Distance from the axis or centre (n,), unit vectors (n, 3) away from it, places along the axis
        (n,)."""
        off = points - self.origin
        along = np.zeros(len(off)) if self.kind == "sphere" else off @ self.axis
        away = off - along[:, None] * self.axis
        long = np.linalg.norm(away, axis=1)
        return long, away / np.maximum(long, 1e-300)[:, None], along

    def distance(self, points: Floats) -> Floats:
        """How far points (n, 3) are outside (positive) or inside of the surface, mm (n,)."""
        long, _, along = self._parts(points)
        return np.asarray((long - self.radius - self.slope * along) / np.hypot(1.0, self.slope))

    def outward(self, points: Floats) -> Floats:
        """Unit normals (n, 3) of the surface nearest to points, away from axis or centre."""
        _, away, _ = self._parts(points)
        return np.asarray((away - self.slope * self.axis) / np.hypot(1.0, self.slope))

    def nearest(self, points: Floats) -> Floats:
        """The points (n, 3) of the surface nearest to points."""
        return np.asarray(points - self.distance(points)[:, None] * self.outward(points))

    def box(self, points: Floats) -> tuple[Floats, Floats]:
        """Lowest and highest X, Y and Z (3,) of the face that ends where points (n, 3) on it do. One that
        goes all round reaches beyond the corners of its facets."""
        low, high = points.min(axis=0), points.max(axis=0)
        if self.kind == "sphere" or self.turn(points) < 2 * np.pi:
            return low, high
        along = (points - self.origin) @ self.axis
        for z in (float(along.min()), float(along.max())):
            reach = (self.radius + self.slope * z) * np.sqrt(np.maximum(0.0, 1.0 - self.axis**2))
            centre = self.origin + z * self.axis
            low, high = np.minimum(low, centre - reach), np.maximum(high, centre + reach)
        return low, high

    def turn(self, points: Floats) -> float:
        """The angle rad about the axis that points (n, 3) span, 2 pi all round; that of their directions from
        a centre for a sphere."""
        _, away, _ = self._parts(points)
        if self.kind == "sphere":
            mean = away.mean(axis=0)
            long = float(np.linalg.norm(mean))
            return float(2 * np.arccos(np.clip((away @ mean).min() / max(long, 1e-12), -1, 1)))
        side, other = square_to(self.axis)
        angles = np.sort(np.arctan2(away @ other, away @ side))
        gaps = np.diff(np.append(angles, angles[0] + 2 * np.pi))
        largest = float(gaps.max())
        # all round, the gap between neighbours is one step of the facets
        return 2 * np.pi if largest < 0.8 else 2 * np.pi - largest


def square_to(axis: Floats) -> tuple[Floats, Floats]:
    """Two unit vectors (3,) square to a unit axis and to one another."""
    x, y, z = (float(v) for v in axis)
    side = np.array([0.0, z, -y]) if abs(x) < 0.6 else np.array([-z, 0.0, x])
    side /= np.sqrt(side @ side)
    u, v, w = (float(s) for s in side)
    return side, np.array([y * w - z * v, z * u - x * w, x * v - y * u])


def about_axis(
    kind: Kind, points: Floats, axis: Floats, centre: Floats, radius: float, slope: float = 0.0
) -> RoundSurface | None:
    """The cylinder or cone nearest to points (n, 3) in the sense of least squares, from a guess of its axis,
    a point on it and its radius; None where it runs away. Method: Gauss and Newton."""
    middle = points.mean(axis=0)
    origin = centre + ((middle - centre) @ axis) * axis
    scale = max(float(np.ptp(points, axis=0).max()), 1e-9)
    for number in range(ROUNDS):
        side, other = square_to(axis)
        off = points - origin
        z, x, y = off @ axis, off @ side, off @ other
        rho = np.maximum(np.hypot(x, y), 1e-12)
        tilted = z / rho + slope  # places along the axis change, too
        columns = [-x / rho, -y / rho, -tilted * x, -tilted * y, -np.ones(len(z))]
        columns += [-z] if kind == "cone" else []
        step = np.linalg.lstsq(np.column_stack(columns), -(rho - radius - slope * z), rcond=1e-9)[0]
        origin = origin + step[0] * side + step[1] * other
        axis = axis + step[2] * side + step[3] * other
        axis /= np.linalg.norm(axis)
        radius += float(step[4])
        slope += float(step[5]) if kind == "cone" else 0.0
        if not np.isfinite(radius) or radius <= 0 or radius > 1e3 * scale or abs(slope) > STEEPEST:
            return None
        if number == 3 and np.abs(rho - radius - slope * z).max() > HOPELESS * scale:
            return None
        if np.abs(step * [1, 1, scale, scale, 1, scale][: len(step)]).max() < 1e-9 * scale:
            break
    return RoundSurface(kind, origin, axis, radius, slope)


def guessed_axis(kind: Kind, normals: Floats) -> Floats:
    """The direction (3,) to which unit normals (n, 3) are square (a cylinder), or with which they make the
    same angle (a cone)."""
    around = normals - normals.mean(axis=0) if kind == "cone" else normals
    return np.asarray(np.linalg.svd(around, full_matrices=False)[2][2])


def fitted(kind: Kind, points: Floats, places: Floats, normals: Floats) -> RoundSurface | None:
    """A round surface through points (n, 3) whose facets lie at places (m, 3) and have unit normals (m, 3);
    None where there is none. How well it fits is for the caller to ask."""
    if kind == "sphere":
        return _sphere(points)
    axis = guessed_axis(kind, normals)
    if kind == "cone":  # all facets of a cone meet in its point
        point, _, rank, _ = np.linalg.lstsq(normals, np.einsum("ij,ij->i", normals, places), rcond=1e-6)
        lean = float(np.clip((normals @ axis).mean(), -1 + 1e-9, 1 - 1e-9))
        slope = -lean / (1.0 - lean * lean) ** 0.5
        along = float((points.mean(axis=0) - point) @ axis)
        if rank < 3 or abs(slope * along) < 1e-9:
            return None
        slope = abs(slope) if along > 0 else -abs(slope)
        return about_axis(kind, points, axis, point + along * axis, slope * along, slope)
    flat = points - (points @ axis)[:, None] * axis
    middle = flat.mean(axis=0)
    solved = _through(flat - middle)
    centre = middle + solved[:3] - (solved[:3] @ axis) * axis
    radius = float(max(solved[3] + solved[:3] @ solved[:3], 1e-18)) ** 0.5
    return about_axis(kind, points, axis, centre + (points.mean(axis=0) @ axis) * axis, radius)


def _through(off: Floats) -> Floats:
    """Centre (3,) and radius² less centre² of the circle or sphere through points (n, 3) about their mean
    (Kåsa 1976)."""
    rows = np.column_stack([2.0 * off, np.ones(len(off))])
    return np.asarray(np.linalg.lstsq(rows, np.einsum("ij,ij->i", off, off), rcond=1e-9)[0])


def _sphere(points: Floats) -> RoundSurface | None:
    middle = points.mean(axis=0)
    off = points - middle
    if np.linalg.matrix_rank(off, tol=1e-6 * float(np.abs(off).max())) < 3:
        return None
    solved = _through(off)
    square = float(solved[3] + solved[:3] @ solved[:3])
    if square <= 0:
        return None
    return RoundSurface("sphere", middle + solved[:3], np.array([0.0, 0.0, 1.0]), square**0.5)
