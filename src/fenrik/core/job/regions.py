"""Areas in plan view from the document's boundaries, and the part seen from above."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.errors import GEOSException
from shapely.geometry import Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import DocumentError
from fenrik.core.job.picks import Boundary
from fenrik.core.model.part_model import TriangleMesh

PRECISION_MM, GAP_MM, SAME_SHARE, FEW = 1e-7, 1e-4, 1e-7, 32
"""Grid on which outlines are joined, gaps that are closed, the share by which areas may differ by rounding, and how many
triangles are joined without looking for shared edges."""


def projected(mesh: TriangleMesh, faces: list[int] | None = None) -> BaseGeometry:
    """The outline of upward triangles (of `faces` only, if given) in plan view."""
    corners = mesh.vertices[mesh.triangles][:, :, :2]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    double_area = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    keep = np.abs(double_area) > 1e-9
    if faces is None:
        keep &= double_area > 0
    else:
        keep &= np.isin(mesh.face_ids, faces)
    if not keep.any():
        return Polygon()
    order = np.argsort(mesh.face_ids[keep], kind="stable")
    last = np.flatnonzero(np.diff(mesh.face_ids[keep][order])) + 1
    faces_apart = [_joined(flat, np.abs(twice)) for flat, twice in zip(
        np.split(corners[keep][order], last), np.split(double_area[keep][order], last), strict=True
    )]  # fmt: skip
    return _union(faces_apart).buffer(GAP_MM).buffer(-GAP_MM)


def _joined(corners: NDArray[np.float64], double_area: NDArray[np.float64]) -> BaseGeometry:
    """The union of one face's triangles (n, 3, 2). They share their edges, so that their border is what is left of those,
    unless the face is folded seen from above: then edges cross, or the areas differ, and each half is joined alone."""
    triangles = np.asarray(shapely.polygons(corners))
    if len(corners) <= FEW:
        return _union(triangles)
    try:
        joined: BaseGeometry = shapely.coverage_union_all(triangles)
    except GEOSException:
        joined = Polygon()
    area = 0.5 * float(double_area.sum())
    if joined.is_valid and abs(joined.area - area) <= SAME_SHARE * max(1.0, area):
        return joined
    middle = corners.mean(axis=1)
    along = middle[:, int(np.argmax(np.ptp(middle, axis=0)))]
    half = np.argsort(along, kind="stable")
    parts = np.split(half, [len(half) // 2])
    return _union([_joined(corners[rows], double_area[rows]) for rows in parts])


def _union(shapes: list[BaseGeometry] | NDArray[np.object_]) -> BaseGeometry:
    union: BaseGeometry = shapely.union_all(shapely.set_precision(shapes, PRECISION_MM))
    return union


def area_of(
    boundaries: list[Boundary],
    outline: Callable[[list[int]], BaseGeometry],
    known: int,
    low: NDArray[np.float64],
    high: NDArray[np.float64],
    where: str,
) -> BaseGeometry | None:
    """The union of boundaries in program coordinates, None where there are none; `outline` tells that of faces, of which there
    are `known`.

    Raises DocumentError for a face that does not exist or has no extent in plan view.
    """
    if not boundaries:
        return None
    parts = []
    for i, boundary in enumerate(boundaries):
        if boundary.faces:
            for face in boundary.faces:
                if face > known:
                    raise DocumentError(
                        f"Face {face} does not exist.",
                        remedy=f"Use a face from 1 to {known}.",
                        where=f"{where}[{i}].faces",
                    )
            shape = outline(boundary.faces)
            if shape.is_empty:
                raise DocumentError(
                    f"The faces {boundary.faces} stand upright and bound no area seen from above.",
                    remedy="Pick faces that can be seen from above.",
                    where=f"{where}[{i}].faces",
                )
        elif boundary.stock:
            shape = shapely.box(low[0], low[1], high[0], high[1])
        else:
            shape = shapely.make_valid(Polygon(boundary.polygon))
        parts.append(shape.buffer(boundary.offset) if boundary.offset else shape)
    return shapely.union_all(parts)
