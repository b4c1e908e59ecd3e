"""Signed distance from points to the design, by true nearest surface."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model import _distance_kernels as k
from fenrik.core.model.distinct import distinct_edges
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]


class DistanceField:
    """Exact distance to a closed mesh through a tree of boxes; sign by angle-weighted normals (Bærentzen and
    Aanæs 2005). Same frame as the mesh, mm. Triangles without area bound nothing and are left out."""

    def __init__(self, mesh: TriangleMesh) -> None:
        mesh = _with_area(mesh)
        corners = mesh.vertices[mesh.triangles]
        boxes = np.hstack([corners.min(axis=1), corners.max(axis=1)])
        self._boxes, self._child, order = k.build(boxes, 4)
        self._corners = np.ascontiguousarray(corners[order].reshape(-1, 9))
        self._normals = np.ascontiguousarray(_feature_normals(mesh)[order])
        self.face_ids = mesh.face_ids[order]

    def signed(self, points: Floats) -> tuple[Floats, NDArray[np.int32], Floats]:
        """Distance (n,) mm of points (n, 3), positive outside the part, with the id of the nearest
        face (n,) and the normal (n, 3) of the nearest triangle."""
        xyz = np.ascontiguousarray(points, dtype=np.float64)
        distance, triangle = k.signed(xyz, self._boxes, self._child, self._corners, self._normals)
        return distance, self.face_ids[triangle], self._normals[triangle, 0]


def _with_area(mesh: TriangleMesh) -> TriangleMesh:
    corners = mesh.vertices[mesh.triangles]
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    has = np.einsum("ij,ij->i", square, square) > 1e-24
    return (
        mesh
        if has.all()
        else TriangleMesh(mesh.vertices, mesh.triangles[has], mesh.face_ids[has], mesh.deviation)
    )


def _feature_normals(mesh: TriangleMesh) -> Floats:
    """Normals (t, 7, 3) of each triangle's face, edges ab, bc, ca and vertices a, b, c."""
    points, tri = mesh.vertices, mesh.triangles
    corners = points[tri]
    face = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(face, axis=1, keepdims=True)
    face = np.divide(face, length, out=np.zeros_like(face), where=length > 1e-14)
    at_vertex = np.zeros((len(points), 3))
    for j in range(3):
        a = corners[:, (j + 1) % 3] - corners[:, j]
        b = corners[:, (j + 2) % 3] - corners[:, j]
        scale = np.maximum(np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1), 1e-300)
        angle = np.arccos(np.clip(np.einsum("ij,ij->i", a, b) / scale, -1, 1))
        np.add.at(at_vertex, tri[:, j], angle[:, None] * face)
    sides = tri[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
    inverse = distinct_edges(sides, len(points)).of_side.reshape(-1, 3)
    at_edge = np.zeros((int(inverse.max()) + 1, 3))
    for j in range(3):
        np.add.at(at_edge, inverse[:, j], face)
    return np.concatenate([face[:, None], at_edge[inverse], at_vertex[tri]], axis=1)
