"""Reading STL into a checked part; faces are patches between sharp edges."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import trimesh
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from fenrik.core.errors import FileError
from fenrik.core.model.part_model import EdgeFacts, FaceFacts, PartModel, Problem, TriangleMesh
from fenrik.core.model.scale import scale_problems

SHARP = math.radians(25.0)
"""Two triangles that meet at more than this belong to different faces."""


def read_stl(path: Path, name: str, solid: int | None, scale: float) -> PartModel:
    """The chosen closed body of an STL file (text or binary) as a part; numbers are taken as mm.

    Raises FileError that names the file, what is wrong (no triangle, open, several bodies) and what to do.
    """
    try:
        loaded = trimesh.load(path, file_type="stl", force="mesh", process=False)
    except Exception as error:
        raise FileError(f"The STL file '{name}' is damaged or cut off.", remedy="Export it again.") from error
    if not isinstance(loaded, trimesh.Trimesh) or len(loaded.faces) == 0:
        raise FileError(f"The STL file '{name}' holds no triangle.", remedy="Export it again.")
    if not np.isfinite(loaded.vertices).all():
        raise FileError(
            f"The STL file '{name}' holds coordinates that are no numbers.", remedy="Export it again."
        )
    loaded.merge_vertices(digits_vertex=6)
    loaded.update_faces(loaded.nondegenerate_faces())
    body, number, count = _choose(loaded, name, solid)
    if not body.is_watertight:
        raise FileError(
            f"The STL body in '{name}' is open: some edges belong to one triangle only.",
            remedy="Close it where it was made, or hand over a STEP file.",
        )
    problems: list[Problem] = []
    if not body.is_winding_consistent or body.volume < 0:
        body.fix_normals()
        problems.append(Problem("note", "Triangles were turned so that they face outward.", "Nothing to do."))
    vertices = np.asarray(body.vertices, dtype=np.float64) * scale
    return part_from_triangles(
        vertices, np.asarray(body.faces, dtype=np.int32), name, count, number, problems
    )


def _choose(mesh: trimesh.Trimesh, name: str, solid: int | None) -> tuple[trimesh.Trimesh, int, int]:
    bodies = mesh.split(only_watertight=False, repair=False)
    if len(bodies) == 1:
        return bodies[0], 1, 1
    if solid is None:
        sizes = "; ".join(
            f"{i}: {' x '.join(f'{e:.4g}' for e in b.extents)} mm" for i, b in enumerate(bodies[:12], 1)
        )
        raise FileError(
            f"The STL file '{name}' holds {len(bodies)} separate bodies ({sizes}).",
            remedy=f"Choose one: set part.solid to a number from 1 to {len(bodies)}.",
        )
    if not 1 <= solid <= len(bodies):
        raise FileError(
            f"Body {solid} does not exist in '{name}'.", remedy=f"Choose one from 1 to {len(bodies)}."
        )
    return bodies[solid - 1], solid, len(bodies)


def part_from_triangles(
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    name: str,
    solids: int,
    number: int,
    problems: list[Problem],
) -> PartModel:
    """A mesh part from closed triangles: patches as faces, sharp edges as edges."""
    body = trimesh.Trimesh(vertices, triangles, process=False)
    pairs, angles = body.face_adjacency, body.face_adjacency_angles
    smooth = angles <= SHARP
    count = len(triangles)
    links = coo_matrix(
        (np.ones(int(smooth.sum())), (pairs[smooth, 0], pairs[smooth, 1])), shape=(count, count)
    )
    patches, label = connected_components(links, directed=False)
    face_ids = (label + 1).astype(np.int32)
    faces = [_patch_facts(body, i + 1, np.flatnonzero(label == i)) for i in range(patches)]
    lines = [vertices[e] for e in body.face_adjacency_edges[~smooth]]
    edges = [
        EdgeFacts(
            i,
            "line",
            float(np.linalg.norm(line[1] - line[0])),
            sorted({int(face_ids[a]), int(face_ids[b])}),
            line[0].tolist(),
            line[1].tolist(),
        )
        for i, (line, (a, b)) in enumerate(zip(lines, pairs[~smooth], strict=True), 1)
    ]
    problems = problems + scale_problems(float(np.ptp(vertices, axis=0).max()))
    mesh = TriangleMesh(vertices, triangles, face_ids, 0.0)
    return PartModel(
        name,
        "mesh",
        solids,
        number,
        float(body.volume),
        float(body.area),
        mesh,
        faces,
        edges,
        lines,
        "mm",
        problems,
    )


def _patch_facts(body: trimesh.Trimesh, face_id: int, index: NDArray[np.int64]) -> FaceFacts:
    points = body.vertices[body.faces[index].ravel()]
    normals = body.face_normals[index]
    flat = bool((normals @ normals[0] > 1.0 - 1e-9).all())
    return FaceFacts(
        face_id,
        "plane" if flat else "free-form",
        float(body.area_faces[index].sum()),
        points.min(axis=0).tolist(),
        points.max(axis=0).tolist(),
        normal=normals[0].tolist() if flat else None,
        origin=points[0].tolist() if flat else None,
    )
