"""Measuring between picks: points and what is known of their faces. Part frame, mm."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenrik.core.model.part_model import FaceFacts, PartModel


@dataclass(frozen=True)
class Pick:
    """A point (3,) on a face."""

    point: tuple[float, float, float]
    face: int


def measure(part: PartModel, picks: list[Pick]) -> list[dict[str, Any]]:
    """Rows of label, value and unit: facts of one pick's face; with two, distances and the angle.

    Distances between parallel planes, parallel axes, and axis and plane are exact (from the B-rep's
    numbers); the distance of the picked points is that of the shown mesh.
    """
    faces = [part.face(p.face) for p in picks[:2]]
    rows: list[dict[str, Any]] = []
    for face in faces:
        rows.append(_row(f"Face {face.id}: {face.kind}, area", face.area, "mm²"))
        if face.radius is not None:
            rows.append(_row(f"Face {face.id}: radius", face.radius, "mm"))
            if face.kind == "cylinder":
                rows.append(_row(f"Face {face.id}: diameter", 2 * face.radius, "mm"))
    if len(picks) < 2:
        return rows
    a, b = np.array(picks[0].point), np.array(picks[1].point)
    rows.append(_row("Distance of the points", float(np.linalg.norm(b - a)), "mm"))
    for axis, value in zip("XYZ", b - a, strict=True):
        rows.append(_row(f"along {axis}", abs(float(value)), "mm"))
    return rows + _between(faces[0], faces[1])


def _row(label: str, value: float, unit: str) -> dict[str, Any]:
    return {"label": label, "value": value, "unit": unit}


def _direction(face: FaceFacts) -> np.ndarray | None:
    vector = face.normal if face.kind == "plane" else face.axis if face.kind in ("cylinder", "cone") else None
    return None if vector is None else np.array(vector)


def _between(a: FaceFacts, b: FaceFacts) -> list[dict[str, Any]]:
    da, db = _direction(a), _direction(b)
    if da is None or db is None or a.origin is None or b.origin is None:
        return []
    cosine = min(1.0, abs(float(da @ db)))
    apart = np.array(b.origin) - np.array(a.origin)
    planes = (a.kind == "plane", b.kind == "plane")
    angle = math.degrees(math.acos(cosine))
    if planes[0] != planes[1]:
        angle = 90.0 - angle  # of an axis to a plane
    rows = [_row("Angle", angle, "°")]
    if planes == (True, True) and cosine > 1 - 1e-9:
        rows.append(_row("Distance of the planes", abs(float(apart @ da)), "mm"))
    elif planes == (False, False) and cosine > 1 - 1e-9:
        rows.append(_row("Distance of the axes", float(np.linalg.norm(apart - (apart @ da) * da)), "mm"))
    elif planes[0] != planes[1] and cosine < 1e-9:
        normal = da if planes[0] else db
        rows.append(_row("Distance of axis and plane", abs(float(apart @ normal)), "mm"))
    return rows
