"""Bands: cylinders and cones about one line that go all the way round, in one face or several."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.part_model import FaceFacts, PartModel

Floats = NDArray[np.float64]
SAME_MM = 0.01
"""Lines and ends nearer than this are the same: files round their numbers."""
SAME_RAD = 1e-4
OPEN_RAD = 0.8
"""A band with a greater gap around is no piece of a hole or boss but a rounded corner or a slot's end."""


@dataclass
class Band:
    """A face or several about one line; places along it and radii there."""

    faces: set[int]
    low: float
    high: float
    radius_low: float
    radius_high: float
    angles: Floats


def bands_of(
    part: PartModel, wanted: Callable[[FaceFacts], bool]
) -> Iterator[tuple[Floats, Floats, list[Band]]]:
    """Of the wanted round faces, line by line: its direction (3,), its point (3,) nearest to the origin, and
    the bands about it."""
    rows = defaultdict(list)
    for face in part.faces:
        if face.axis is not None and wanted(face):
            rows[_line_of(face)].append(face)
    order = np.argsort(part.mesh.face_ids, kind="stable")
    first = np.searchsorted(part.mesh.face_ids[order], np.arange(1, len(part.faces) + 2))
    triangles = [order[a:b] for a, b in pairwise(first)]
    for (axis, foot), faces in _joined_lines(rows):
        line = np.array(axis), np.array(foot)
        yield *line, _joined_faces(part, faces, triangles, *line)


def _line_of(face: FaceFacts) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """A face's axis with its sense chosen and the point on it nearest to the origin, rounded."""
    axis = np.array(face.axis) / np.linalg.norm(face.axis or [1.0])
    lead = next(v for v in axis[[2, 1, 0]] if abs(v) > SAME_RAD)
    axis = axis if lead > 0 else -axis
    origin = np.array(face.origin)
    foot = origin - (origin @ axis) * axis
    return tuple(np.round(axis, 6) + 0.0), tuple(np.round(foot, 4) + 0.0)


def _joined_lines(
    rows: dict[tuple[tuple[float, ...], tuple[float, ...]], list[FaceFacts]],
) -> list[tuple[tuple[tuple[float, ...], tuple[float, ...]], list[FaceFacts]]]:
    """Lines that differ by the rounding of the file are one."""
    out: list[tuple[tuple[tuple[float, ...], tuple[float, ...]], list[FaceFacts]]] = []
    for line, faces in sorted(rows.items()):
        for other, known in out:
            near = np.abs(np.subtract(line[1], other[1])).max() < SAME_MM
            if near and np.abs(np.subtract(line[0], other[0])).max() < SAME_RAD:
                known += faces
                break
        else:
            out.append((line, list(faces)))
    return out


def _joined_faces(
    part: PartModel, faces: list[FaceFacts], rows: list[NDArray[np.int64]], axis: Floats, foot: Floats
) -> list[Band]:
    """The faces about a line, those of the same stretch and radii as one; `rows` are the triangles of every
    face."""
    side = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    side /= np.linalg.norm(side)
    other = np.cross(axis, side)
    bands: list[Band] = []
    for face in faces:
        used = np.unique(part.mesh.triangles[rows[face.id - 1]])
        points = part.mesh.vertices[used] - foot
        along = points @ axis
        away = np.hypot(points @ side, points @ other)
        low, high = float(along.min()), float(along.max())
        ends = [float(np.median(away[np.abs(along - t) < SAME_MM])) for t in (low, high)]
        if face.kind == "cylinder" and face.radius is not None:
            ends = [face.radius, face.radius]
        angles = np.arctan2(points @ other, points @ side)[away > 1e-6]
        new = Band({face.id}, low, high, ends[0], ends[1], angles)
        same = next((b for b in bands if _same_band(b, new)), None)
        if same is None:
            bands.append(new)
        else:
            same.faces |= new.faces
            same.low, same.high = min(same.low, new.low), max(same.high, new.high)
            same.angles = np.concatenate([same.angles, new.angles])
    return [b for b in bands if _gap(b.angles) < OPEN_RAD]


def _same_band(a: Band, b: Band) -> bool:
    straight = a.radius_low == a.radius_high and b.radius_low == b.radius_high
    if straight:  # halves may end at different heights, where a slanted face cuts them
        overlap = min(a.high, b.high) - max(a.low, b.low)
        return abs(a.radius_low - b.radius_low) < SAME_MM and overlap > 0.5 * min(
            a.high - a.low, b.high - b.low
        )
    pairs = ((a.low, b.low), (a.high, b.high), (a.radius_low, b.radius_low), (a.radius_high, b.radius_high))
    return all(abs(p - q) < SAME_MM for p, q in pairs)


def _gap(angles: Floats) -> float:
    """The greatest angle rad around without a point."""
    if len(angles) < 3:
        return 2 * np.pi
    ordered = np.sort(angles)
    return float(max(np.diff(ordered).max(), ordered[0] + 2 * np.pi - ordered[-1]))
