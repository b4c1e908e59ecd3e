"""The bodies of a machine as triangles, in machine coordinates with all joints at zero."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from shapely.geometry import Polygon
from shapely.geometry.polygon import orient

from fenrik.core.frames import rotation_up, transform
from fenrik.core.machines.bodies import Body, Box, Extruded, FileBody, Plate, Revolved, Round
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh, extruded, plate_mesh, revolved


def solid_of(body: Body, files: dict[str, TriangleMesh] | None = None) -> TriangleMesh:
    """A body as triangles, outward. `files` are the meshes of the files that bodies name, by
    `FileBody.key`."""
    return (files or {})[body.key] if isinstance(body, FileBody) else _drawn(body)


@lru_cache(maxsize=1000)
def _drawn(body: Body) -> TriangleMesh:
    if isinstance(body, Plate):
        low, high = np.array(body.low), np.array(body.high)
        return plate_mesh(low, high, body.grid, body.pitch, body.width, body.depth)
    if isinstance(body, Box):
        return box_mesh(np.array(body.low), np.array(body.high))
    if isinstance(body, Round):
        begin, end = np.array(body.begin), np.array(body.end)
        length = float(np.linalg.norm(end - begin))
        last = body.radius if body.radius_end is None else body.radius_end
        outline = np.array([[0.0, 0.0], [body.radius, 0.0], [last, length], [0.0, length]])
        return revolved(outline).moved(transform(rotation_up((end - begin) / length).T, body.begin))
    if isinstance(body, Revolved):
        ring = orient(Polygon(body.outline)).exterior.coords[:-1]
        return revolved(np.array(ring)).moved(body.frame)
    assert isinstance(body, Extruded)
    return extruded(Polygon(body.outline), body.bottom, body.top).moved(body.frame)
