"""A path made again at other places of its plan view: turned, shifted, mirrored, and joined to one."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion import planes, table
from fenrik.core.motion.moves import Moves
from fenrik.core.motion.notes import moved_note
from fenrik.core.motion.planes import Plane
from fenrik.core.motion.toolpath import Compensated, Cycle, Toolpath, no_path, shifted

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Place:
    """Where a path is made again: p -> `turn` p + `shift` in plan view, mm. `turn` (2, 2) is orthogonal; a
    mirror has determinant -1."""

    turn: tuple[tuple[float, float], tuple[float, float]]
    shift: tuple[float, float]

    @property
    def mirrored(self) -> bool:
        """Whether left and right change places."""
        (a, b), (c, d) = self.turn
        return a * d - b * c < 0

    @property
    def turned(self) -> bool:
        """Whether directions change."""
        return self.turn != ((1.0, 0.0), (0.0, 1.0))

    def points(self, xy: Floats) -> Floats:
        """Points (n, 2) at the place."""
        return np.asarray(xy @ np.array(self.turn).T + self.shift)


def turned_about(
    centre: tuple[float, float], degrees: float, shift: tuple[float, float] = (0.0, 0.0)
) -> Place:
    """A turn about a point, counter-clockwise, then a shift."""
    quarter = round(degrees / 90.0)
    if abs(degrees - 90.0 * quarter) < 1e-9:  # exact, so that nothing is a hair's breadth off the axes
        c, s = ((1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0))[quarter % 4]
    else:
        c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    x, y = centre
    return Place(((c, -s), (s, c)), (x - c * x + s * y + shift[0], y - s * x - c * y + shift[1]))


def mirrored_over(point: tuple[float, float], degrees: float) -> Place:
    """A mirror in a line through a point at an angle to X."""
    turn = turned_about((0.0, 0.0), 2.0 * degrees).turn
    (c, _), (s, _) = turn
    x, y = point
    return Place(((c, s), (s, -c)), (x - c * x - s * y, y - s * x + c * y))


def placed(path: Toolpath, place: Place, chord: float) -> Toolpath:
    """The path at a place. Arcs in upright planes that are turned out of them become chords within `chord`
    mm."""
    if place.turned:
        path = _without_upright_arcs(path, chord)
    tip = path.tip.copy()
    tip[:, :2] = place.points(tip[:, :2])
    level = path.plane == Plane.XY
    centre = path.centre.copy()
    centre[level] = place.points(centre[level])
    if not place.turned:
        x, y = place.shift
        shift = np.array([x, y, 0.0])
        centre[~level] += shift[planes.AXES[path.plane[~level]][:, :2]]
    turn = np.where(level, -path.turn, path.turn) if place.mirrored else path.turn
    notes = [moved_note(n, place.points) for n in path.notes]
    corrected = [replace(c, side=-c.side) if place.mirrored else c for c in path.compensated]
    axis = path.moves.axis.copy()
    axis[:, :2] = axis[:, :2] @ np.array(place.turn).T
    moved = path.with_moves(tip=tip, centre=centre, turn=turn.astype(np.int8), axis=axis)
    return replace(moved, notes=notes, compensated=corrected)


def joined(paths: list[Toolpath]) -> Toolpath:
    """Paths one after the other; between them up to the higher of both ends, over, and down, at rapid."""
    paths = [p for p in paths if len(p) > 1]
    if not paths:
        return no_path()
    parts: list[Toolpath] = []
    cycles: list[Cycle] = []
    corrected: list[Compensated] = []
    at = 0
    here: Floats | None = None
    for path in paths:
        led = path if here is None else _led(path, _over(here, path.tip[0]))
        more = at + len(led) - len(path)
        cycles += shifted(path.cycles, more)
        corrected += shifted(path.compensated, more)
        parts.append(led)
        at += len(led)
        here = path.tip[-1]
    notes = [n for p in paths for n in p.notes]
    return replace(table.concat(parts), notes=notes, cycles=cycles, compensated=corrected)


def _over(here: Floats, first: Floats) -> Floats:
    """The points (n, 3) between two places: up to the higher of both, and over."""
    top = max(here[2], first[2])
    way = [np.array([here[0], here[1], top]), np.array([first[0], first[1], top])]
    way = [p for i, p in enumerate(way) if np.abs(p - (here if i == 0 else way[0])).max() > 1e-6]
    return np.array(way).reshape(-1, 3)


def _led(path: Toolpath, way: Floats) -> Toolpath:
    """The path with rapid moves through points (n, 3) before it; its own first row becomes one too."""
    n = len(way)
    if not n:
        return path
    marks = (np.full(n, path.level[0], dtype=np.int32), np.full(n, path.run[0], dtype=np.int32))
    return table.concat([Toolpath(Moves.straight(way), *marks), path])


def _without_upright_arcs(path: Toolpath, chord: float) -> Toolpath:
    upright = (path.turn != 0) & (path.plane != Plane.XY)
    if not upright.any():
        return path
    counts = np.where(upright, path.moves.chords(chord), 1)
    parts, owner = path.divided(counts)
    return replace(parts, moves=parts.moves.without_arcs(upright[owner]))
