"""The part's mesh prepared for cutter location: facets, convex edges and vertices with the normals
that a contact there can have. One topology serves every tool.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
FLAT_RAD = 1e-13
"""Edges that bend by less are flat. Between the contacts of their facets a cutter of radius R has a gap of at
most R times this, which the kernels' facets overlap (their slack is 1e-11 mm)."""


@dataclass(frozen=True, eq=False)
class Topology:
    """Contact primitives of a closed mesh in the setup frame, mm.

    `facets` (f, 3, 3) corners and `facet_normals` (f, 3), upward ones only; `edges` (e, 2, 3) with
    `edge_normals` (e, 2, 3), convex ones; `vertices` (v, 3) with the mean direction `vertex_axis`
    (v, 3) of the normals around and the largest angle `vertex_spread` (v,) rad from it.
    """

    facets: Floats
    facet_normals: Floats
    edges: Floats
    edge_normals: Floats
    vertices: Floats
    vertex_axis: Floats
    vertex_spread: Floats
    low: Floats
    high: Floats
    deviation: float


def prepare(mesh: TriangleMesh) -> Topology:
    """The contact primitives of a mesh. Concave and flat edges, and vertices without a convex edge,
    can never be the only contact of a cutter and are left out."""
    points, tri = mesh.vertices, mesh.triangles
    a, b, c = points[tri[:, 0]], points[tri[:, 1]], points[tri[:, 2]]
    cross = np.cross(b - a, c - a)
    length = np.linalg.norm(cross, axis=1)
    good = length > 1e-14
    tri, cross, length = tri[good], cross[good], length[good]
    a, b, c = a[good], b[good], c[good]
    normal = cross / length[:, None]

    sides = np.concatenate([tri[:, [0, 1]], tri[:, [1, 2]], tri[:, [2, 0]]])
    owner = np.tile(np.arange(len(tri)), 3)
    opposite = np.concatenate([tri[:, 2], tri[:, 0], tri[:, 1]])
    keys = np.sort(sides, axis=1)
    order = np.argsort(keys[:, 0].astype(np.int64) * len(points) + keys[:, 1], kind="stable")
    keys, owner, opposite = keys[order], owner[order], opposite[order]
    fresh = np.ones(len(keys), dtype=bool)
    fresh[1:] = (keys[1:] != keys[:-1]).any(axis=1)
    start = np.flatnonzero(fresh)
    count = np.diff(np.append(start, len(keys)))
    pair = start[count == 2]
    n1, n2 = normal[owner[pair]], normal[owner[pair + 1]]
    edge_point = points[keys[pair, 0]]
    below = np.einsum("ij,ij->i", n1, points[opposite[pair + 1]] - edge_point)
    bend = np.linalg.norm(np.cross(n1, n2), axis=1)
    flat = (bend < FLAT_RAD) & (np.einsum("ij,ij->i", n1, n2) > 0.0)
    convex = (below < 0.0) & ~flat & ((n1[:, 2] > 0.0) | (n2[:, 2] > 0.0))
    open_edges = start[count != 2]  # borders and edges of more than two facets: any contact
    edge_ids = np.concatenate([keys[pair[convex]], keys[open_edges]])
    free = np.full((len(open_edges), 2, 3), np.nan)
    edge_normals = np.concatenate([np.stack([n1[convex], n2[convex]], axis=1), free])

    axis, spread = _vertex_cones(len(points), tri, normal)
    touched = np.unique(edge_ids)
    axis_z = axis[touched, 2]
    upward = axis_z > -np.sin(np.minimum(spread[touched], 1.5)) - 1e-9
    kept = touched[upward | (spread[touched] > 1.2)]
    up = normal[:, 2] > 1e-12
    low, high = mesh.bounds
    return Topology(
        np.stack([a[up], b[up], c[up]], axis=1),
        normal[up],
        points[edge_ids],
        edge_normals,
        points[kept],
        axis[kept],
        spread[kept],
        low,
        high,
        mesh.deviation,
    )


def _vertex_cones(count: int, tri: NDArray[np.int32], normal: Floats) -> tuple[Floats, Floats]:
    """Mean direction (n, 3) and largest angle from it (n,) of the facet normals at every vertex."""
    total = np.zeros((count, 3))
    for k in range(3):
        np.add.at(total, tri[:, k], normal)
    length = np.linalg.norm(total, axis=1, keepdims=True)
    axis = np.divide(total, length, out=np.zeros_like(total), where=length > 1e-9)
    cosine = np.ones(count)
    for k in range(3):
        np.minimum.at(cosine, tri[:, k], np.einsum("ij,ij->i", axis[tri[:, k]], normal))
    spread = np.arccos(np.clip(cosine, -1.0, 1.0)) + 1e-9
    spread[length[:, 0] <= 1e-9] = np.pi
    return axis, spread
