"""Areas in plan view from the document's boundaries."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import Polygon
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import DocumentError
from fenrik.core.job.document.picks import Boundary


def area_of(
    boundaries: list[Boundary],
    outline: Callable[[list[int]], BaseGeometry],
    known: int,
    low: NDArray[np.float64],
    high: NDArray[np.float64],
    where: str,
) -> BaseGeometry | None:
    """The union of boundaries in program coordinates, None where there are none; `outline` tells that of
    faces, of which there are `known`.

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
