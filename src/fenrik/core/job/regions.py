"""Areas in plan view from the document's boundaries, and the part seen from above."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import DocumentError
from fenrik.core.job.document import Boundary
from fenrik.core.model.part_model import TriangleMesh


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
    shape = shapely.union_all(shapely.set_precision(shapely.polygons(corners[keep]), 1e-7))
    return shape.buffer(1e-4).buffer(-1e-4)


def area_of(
    boundaries: list[Boundary],
    mesh: TriangleMesh,
    low: NDArray[np.float64],
    high: NDArray[np.float64],
    where: str,
) -> BaseGeometry | None:
    """The union of boundaries in program coordinates, None where there are none.

    Raises DocumentError for a face that does not exist or has no extent in plan view.
    """
    if not boundaries:
        return None
    parts = []
    known = int(mesh.face_ids.max())
    for i, boundary in enumerate(boundaries):
        if boundary.faces:
            for face in boundary.faces:
                if face > known:
                    raise DocumentError(
                        f"Face {face} does not exist.",
                        remedy=f"Use a face from 1 to {known}.",
                        where=f"{where}[{i}].faces",
                    )
            shape = projected(mesh, boundary.faces)
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
