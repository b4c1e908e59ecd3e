"""Which faces of a part have no stock on them any more, where the stock is not a box."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.setups.setup import Clamped

Floats = NDArray[np.float64]
ON_SIZE_MM = 0.05
"""A face with less stock than this on it is as good as finished."""
COVERED = 0.02
"""Share of a face's area that may still be covered: where edges of the stock's surface are broken."""
SPOTS = 200


def made_already(part: PartModel, mesh: TriangleMesh, clamped: Clamped) -> set[int]:
    """Ids of the faces on which the stock, a mesh, lies no higher than 0.05 mm; none for a box. `mesh` is the
    part's in the setup frame."""
    if clamped.stock_mesh is None:
        return set()
    field = DistanceField(clamped.stock_mesh)
    corners = mesh.vertices[mesh.triangles]
    area = 0.5 * np.linalg.norm(
        np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1
    )
    random = np.random.default_rng(1)
    out = set()
    for face in part.faces:
        mine = np.flatnonzero((mesh.face_ids == face.id) & (area > 1e-9))
        if not len(mine):
            continue
        points = _spread(corners[mine], area[mine], random)
        depth = -field.signed(points)[0]  # how far under the stock's surface
        if np.mean(depth > ON_SIZE_MM) <= COVERED:
            out.add(face.id)
    return out


def _spread(corners: Floats, area: Floats, random: np.random.Generator) -> Floats:
    """Points (n, 3) evenly over triangles (m, 3, 3)."""
    chosen = corners[random.choice(len(corners), SPOTS, p=area / area.sum())]
    u, v = random.random((2, SPOTS, 1))
    over = u + v > 1
    u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
    return np.asarray(chosen[:, 0] + u * (chosen[:, 1] - chosen[:, 0]) + v * (chosen[:, 2] - chosen[:, 0]))
