"""Triangles of round faces divided until they are as round as asked for.

Facets that stand for a cylinder, cone or sphere leave it by their sagitta. Their edges are halved where they
do, the new corners put on the surface, on both where two meet; the mesh stays closed, and what was flat stays
flat."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.distinct import distinct_edges
from fenrik.core.model.part_model import FaceFacts, TriangleMesh
from fenrik.core.model.round_surface import Kind, RoundSurface

Floats = NDArray[np.float64]
MOST_ROUNDS = 12
MOST_TRIANGLES = 4_000_000
FARTHEST = 0.15
"""Sagitta over chord from which an edge is no chord of its surface: a tenth of a circle has 0.08."""
BOTH = 12
"""Times that a point goes from one surface to the other where two meet."""


def surface_of(face: FaceFacts, points: Floats) -> RoundSurface | None:
    """The round surface of a face from its facts and some of its points (n, 3); None for others."""
    if face.kind not in ("cylinder", "cone", "sphere") or face.origin is None or face.radius is None:
        return None
    kind: Kind = face.kind  # type: ignore[assignment]
    origin, axis = np.array(face.origin), np.array(face.axis or [0.0, 0.0, 1.0])
    slope = 0.0
    if kind == "cone":
        off = points - origin
        along = off @ axis
        away = np.linalg.norm(off - along[:, None] * axis, axis=1) - face.radius
        slope = float(away @ along / max(float(along @ along), 1e-12))
    return RoundSurface(kind, origin, axis, face.radius, slope)


def rounded(mesh: TriangleMesh, faces: list[FaceFacts], deflection: float) -> TriangleMesh:
    """A closed mesh within `deflection` mm of the round surfaces that its faces stand for. Vertices (n, 3)
    stay in their places and order; new ones follow."""
    surfaces: dict[int, RoundSurface] = {}
    for face in faces:
        used = (
            mesh.vertices[np.unique(mesh.triangles[mesh.face_ids == face.id])]
            if face.radius
            else mesh.vertices
        )
        found = surface_of(face, used)
        if found is not None:
            surfaces[face.id] = found
    flat = {f.id: (np.array(f.origin), np.array(f.normal)) for f in faces if f.normal is not None}
    left = 0.0
    for _ in range(MOST_ROUNDS if surfaces else 0):
        before = len(mesh.vertices)
        mesh, left = _halved(mesh, surfaces, flat, deflection)
        if len(mesh.vertices) == before or len(mesh.triangles) > MOST_TRIANGLES:
            break
    return TriangleMesh(mesh.vertices, mesh.triangles, mesh.face_ids, left)


def _halved(
    mesh: TriangleMesh,
    surfaces: Mapping[int, RoundSurface],
    flat: Mapping[int, tuple[Floats, Floats]],
    deflection: float,
) -> tuple[TriangleMesh, float]:
    """The mesh with every edge halved that left its surfaces by more than asked for, and how far edges left
    them, mm."""
    points, tri, ids = mesh.vertices, mesh.triangles.astype(np.int64), mesh.face_ids
    sides = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    owner = np.tile(ids, 3)
    edges, edge_of, _ = distinct_edges(sides, len(points))
    low, high = np.full(len(edges), np.iinfo(np.int32).max), np.zeros(len(edges), dtype=np.int64)
    np.minimum.at(low, edge_of, owner)
    np.maximum.at(high, edge_of, owner)
    middle = 0.5 * (points[edges[:, 0]] + points[edges[:, 1]])
    target = middle.copy()
    for a, b in np.unique(np.column_stack([low, high]), axis=0):
        if a in surfaces or b in surfaces:
            mine = np.flatnonzero((low == a) & (high == b))
            target[mine] = _on_both(middle[mine], int(a), int(b), surfaces, flat)
    off = np.linalg.norm(target - middle, axis=1)
    long = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
    off[off > FARTHEST * long] = 0.0  # where surfaces touch along an edge, there is no such place
    half = off > deflection
    if not half.any():
        return mesh, float(off.max(initial=0.0))
    new = np.full(len(edges), -1, dtype=np.int64)
    new[half] = len(points) + np.arange(int(half.sum()))
    pieces, faces = _divided(tri, ids, new[edge_of].reshape(3, -1).T)
    vertices = np.concatenate([points, target[half]])
    return TriangleMesh(vertices, pieces.astype(np.int32), faces), float(off.max())


def _on_both(
    points: Floats,
    a: int,
    b: int,
    surfaces: Mapping[int, RoundSurface],
    flat: Mapping[int, tuple[Floats, Floats]],
) -> Floats:
    """Points (n, 3) brought to the surfaces of two faces, in turn."""
    for _ in range(BOTH if a != b else 1):
        for face in {a, b}:
            if face in surfaces:
                points = surfaces[face].nearest(points)
            elif face in flat:
                origin, normal = flat[face]
                points = points - ((points - origin) @ normal)[:, None] * normal
    return points


def _divided(
    tri: NDArray[np.int64], ids: NDArray[np.int32], mid: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """Triangles (m, 3) with the new corners `mid` (m, 3) on their edges 01, 12, 20, -1 where there is
    none."""
    has = mid >= 0
    count = has.sum(axis=1)
    out, faces = [tri[count == 0]], [ids[count == 0]]

    def add(rows: NDArray[np.int64], *corners: NDArray[np.int64]) -> None:
        out.append(np.stack(corners, axis=1))
        faces.append(ids[rows])

    for k in range(3):  # one edge, or two beside the edge k
        a, b, c = tri[:, k], tri[:, (k + 1) % 3], tri[:, (k + 2) % 3]
        ab, bc, ca = mid[:, k], mid[:, (k + 1) % 3], mid[:, (k + 2) % 3]
        r = np.flatnonzero((count == 1) & has[:, k])
        add(r, a[r], ab[r], c[r])
        add(r, ab[r], b[r], c[r])
        r = np.flatnonzero((count == 2) & ~has[:, k])
        add(r, c[r], ca[r], bc[r])
        add(r, a[r], b[r], bc[r])
        add(r, a[r], bc[r], ca[r])
    r = np.flatnonzero(count == 3)
    a, b, c = tri[r].T
    ab, bc, ca = mid[r].T
    add(r, a, ab, ca)
    add(r, ab, b, bc)
    add(r, ca, bc, c)
    add(r, ab, bc, ca)
    return np.concatenate(out), np.concatenate(faces)
