"""Edges of the part on a mesh of it: the pieces at which a face ends, and those of one edge."""

from __future__ import annotations

from collections import Counter

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.model.part_model import PartModel, TriangleMesh

Floats = NDArray[np.float64]
BESIDE_MM = 1e-3


def pieces_of_edge(edge: int, part: PartModel, mesh: TriangleMesh, places: list[Floats]) -> Floats:
    """The pieces (n, 2, 3) of an edge on a mesh that shows the part at places, (4, 4) from the part frame to
    the mesh's; none where the mesh does not end there."""
    segments = border(mesh, part.edges[edge - 1].faces)
    # two faces may meet in several edges: those of this one lie on its coarse line
    lines = [apply(place, part.edge_lines[edge - 1]) for place in places]
    middles = 0.5 * (segments[:, 0] + segments[:, 1])
    off = [min(_off(line, m) for line in lines) for m in middles]
    return segments[np.array(off, dtype=np.float64) <= 2.0 * part.mesh.deviation + BESIDE_MM]


def border(mesh: TriangleMesh, faces: list[int]) -> Floats:
    """The pieces (n, 2, 3) of the mesh's edges at which a face ends, of several those that all of them
    share."""
    shared: set[tuple[tuple[float, ...], tuple[float, ...]]] | None = None
    for face in set(faces):
        count: Counter[tuple[tuple[float, ...], tuple[float, ...]]] = Counter()
        for corners in np.round(mesh.vertices[mesh.triangles[mesh.face_ids == face]], 6).tolist():
            for a, b in ((0, 1), (1, 2), (2, 0)):
                p, q = tuple(corners[a]), tuple(corners[b])
                count[(min(p, q), max(p, q))] += 1
        own = {edge for edge, times in count.items() if times == 1}
        shared = own if shared is None else shared & own
    return np.array(sorted(shared or ()), dtype=np.float64).reshape(-1, 2, 3)


def _off(line: Floats, point: Floats) -> float:
    """How far a point (3,) lies off a line of points (n, 3)."""
    a, b = line[:-1], line[1:]
    along = b - a
    share = np.clip(
        np.einsum("ij,ij->i", point - a, along) / np.maximum(np.einsum("ij,ij->i", along, along), 1e-18), 0, 1
    )
    return float(np.linalg.norm(a + share[:, None] * along - point, axis=1).min())
