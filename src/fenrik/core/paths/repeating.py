"""A path made again at other places of its plan view: turned, shifted, mirrored, and joined to one."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from fenrik.core import planes
from fenrik.core.paths.toolpath import Compensated, Cycle, Motion, Toolpath
from fenrik.core.planes import Plane

Floats = NDArray[np.float64]
Rows = TypeVar("Rows", Cycle, Compensated)


@dataclass(frozen=True)
class Place:
    """Where a path is made again: p -> `turn` p + `shift` in plan view, mm. `turn` (2, 2) is orthogonal; a mirror has
    determinant -1."""

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
    """The path at a place. Arcs in upright planes that are turned out of them become chords within `chord` mm."""
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
    notes = [_note_at(n, place) for n in path.notes]
    corrected = [replace(c, side=-c.side) if place.mirrored else c for c in path.compensated]
    return replace(
        path, tip=tip, centre=centre, turn=turn.astype(np.int8), notes=notes, compensated=corrected
    )


def joined(paths: list[Toolpath]) -> Toolpath:
    """Paths one after the other; between them up to the higher of both ends, over, and down, at rapid."""
    paths = [p for p in paths if len(p) > 1]
    if not paths:
        return Toolpath(*_nothing())
    parts, notes, at = [], [n for p in paths for n in p.notes], 0
    cycles: list[Cycle] = []
    corrected: list[Compensated] = []
    here: Floats | None = None
    for path in paths:
        first = path.tip[0]
        way: list[Floats] = []
        if here is not None:
            top = max(here[2], first[2])
            way = [np.array([here[0], here[1], top]), np.array([first[0], first[1], top])]
            way = [p for i, p in enumerate(way) if np.abs(p - (here if i == 0 else way[0])).max() > 1e-6]
        parts.append(_led(path, way))
        cycles += [_moved(c, at + len(way)) for c in path.cycles]
        corrected += [_moved(c, at + len(way)) for c in path.compensated]
        at += len(path) + len(way)
        here = path.tip[-1]
    return Toolpath(
        np.concatenate([p.tip for p in parts]),
        np.concatenate([p.kind for p in parts]),
        np.concatenate([p.turn for p in parts]),
        np.concatenate([p.plane for p in parts]),
        np.concatenate([p.centre for p in parts]),
        np.concatenate([p.feed for p in parts]),
        np.concatenate([p.level for p in parts]),
        np.concatenate([p.run for p in parts]),
        notes,
        cycles,
        corrected,
    )


def _led(path: Toolpath, way: list[Floats]) -> Toolpath:
    """The path with rapid moves before it; its own first row becomes one too."""
    if not way:
        return path
    n = len(way)
    whole = (np.zeros(n, dtype=np.int8), np.zeros(n, dtype=np.int8), np.zeros(n, dtype=np.int8))
    return Toolpath(
        np.vstack([np.array(way), path.tip]),
        np.concatenate([np.full(n, Motion.RAPID, dtype=np.int8), path.kind]),
        np.concatenate([whole[0], path.turn]),
        np.concatenate([whole[1], path.plane]),
        np.vstack([np.full((n, 2), np.nan), path.centre]),
        np.concatenate([np.zeros(n), path.feed]),
        np.concatenate([np.full(n, path.level[0], dtype=np.int32), path.level]),
        np.concatenate([np.full(n, path.run[0], dtype=np.int32), path.run]),
    )


def _moved(rows: Rows, by: int) -> Rows:
    return replace(rows, first=rows.first + by, last=rows.last + by)


def _nothing() -> tuple[Any, ...]:
    none, marks = np.zeros(0, dtype=np.int8), np.zeros(0, dtype=np.int32)
    return np.zeros((0, 3)), none, none, none, np.zeros((0, 2)), np.zeros(0), marks, marks


def _note_at(note: dict[str, object], place: Place) -> dict[str, object]:
    """A note about a place or along lines, at the other place."""
    out = dict(note)
    if "x" in note and "y" in note:
        x, y = place.points(np.array([[note["x"], note["y"]]], dtype=np.float64))[0]
        out |= {"x": float(x), "y": float(y)}
    lines = note.get("lines")
    if isinstance(lines, list):
        out["lines"] = [place.points(np.array(line, dtype=np.float64)[:, :2]).tolist() for line in lines]
    return out


def _without_upright_arcs(path: Toolpath, chord: float) -> Toolpath:
    upright = (path.turn != 0) & (path.plane != Plane.XY)
    if not upright.any():
        return path
    arc = np.flatnonzero(upright)
    counts = np.ones(len(path), dtype=np.int64)
    ends = (path.tip[arc - 1], path.tip[arc], path.centre[arc], path.turn[arc], path.plane[arc])
    radius = np.maximum(planes.radii(ends[0], ends[2], ends[4]), chord)
    angle = np.maximum(2.0 * np.arccos(1.0 - chord / radius), 1e-3)
    counts[arc] = np.ceil(planes.sweeps(*ends) / angle).astype(np.int64)
    owner, points = path.divided(counts)
    straight = upright[owner]
    last = np.cumsum(counts) - 1
    cycles = [replace(c, first=int(last[c.first]), last=int(last[c.last])) for c in path.cycles]
    corrected = [replace(c, first=int(last[c.first]), last=int(last[c.last])) for c in path.compensated]
    return Toolpath(
        points,
        path.kind[owner],
        np.where(straight, 0, path.turn[owner]).astype(np.int8),
        np.where(straight, 0, path.plane[owner]).astype(np.int8),
        np.where(straight[:, None], np.nan, path.centre[owner]),
        path.feed[owner],
        path.level[owner],
        path.run[owner],
        path.notes,
        cycles,
        corrected,
    )
