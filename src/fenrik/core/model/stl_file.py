"""Reading STL into a checked part; faces are planes, round ones, and patches between sharp edges."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from numpy.typing import NDArray

from fenrik.core.errors import FileError
from fenrik.core.model.bodies import body, chosen
from fenrik.core.model.grown_faces import SHARP, GrownFaces, grown_faces, tolerance_of
from fenrik.core.model.mesh_edges import edges_between
from fenrik.core.model.part_model import FaceFacts, PartModel, Problem, TriangleMesh
from fenrik.core.model.round_meshes import rounded
from fenrik.core.model.scale import display_deflection, scale_problems


def read_stl(path: Path, name: str, solid: int | None, scale: float, round_facets: bool = True) -> PartModel:
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
    meshes = loaded.split(only_watertight=False, repair=False)
    bodies = [body(i, m.bounds[0].tolist(), m.bounds[1].tolist(), scale) for i, m in enumerate(meshes, 1)]
    number = chosen(name, bodies, solid, "separate bodies")
    mine = meshes[number - 1]
    if not mine.is_watertight:
        raise FileError(
            f"The STL body in '{name}' is open: some edges belong to one triangle only.",
            remedy="Close it where it was made, or hand over a STEP file.",
        )
    problems: list[Problem] = []
    if not mine.is_winding_consistent or mine.volume < 0:
        mine.fix_normals()
        problems.append(Problem("note", "Triangles were turned so that they face outward.", "Nothing to do."))
    vertices = np.asarray(mine.vertices, dtype=np.float64) * scale
    part = part_from_triangles(
        vertices, np.asarray(mine.faces, dtype=np.int32), name, len(meshes), number, problems, round_facets
    )
    return replace(part, bodies=bodies)


def part_from_triangles(
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    name: str,
    solids: int,
    number: int,
    problems: list[Problem],
    round_facets: bool = True,
) -> PartModel:
    """A mesh part from closed triangles: flat and round faces where facets lie on such, patches between sharp
    edges elsewhere. Where `round_facets` are wanted, the triangles of round faces are divided until they are
    as round as a picture needs; `rounded` goes on from there."""
    body = trimesh.Trimesh(vertices, triangles, process=False)
    pairs = np.asarray(body.face_adjacency, dtype=np.int64)
    grown = grown_faces(vertices, triangles, pairs, round_facets)
    face_ids = (grown.label + 1).astype(np.int32)
    order = np.argsort(grown.label, kind="stable")
    facets = np.split(order, np.searchsorted(grown.label[order], np.arange(1, int(grown.label.max()) + 1)))
    faces = [_facts(body, i, mine, grown) for i, mine in enumerate(facets)]
    sharp = np.asarray(body.face_adjacency_angles) > SHARP
    edges, lines = edges_between(
        vertices, np.asarray(body.face_adjacency_edges), face_ids[pairs], sharp, tolerance_of(vertices)
    )
    problems = problems + scale_problems(float(np.ptp(vertices, axis=0).max()))
    mesh = TriangleMesh(vertices, triangles, face_ids, 0.0)
    if grown.round_of:
        low, high = mesh.bounds
        mesh = rounded(mesh, faces, display_deflection(low.tolist(), high.tolist()))
        problems = [*problems, _rounded_note(body, grown)]
    whole = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    return PartModel(
        name,
        "mesh",
        solids,
        number,
        float(whole.volume),
        float(whole.area),
        mesh,
        faces,
        edges,
        lines,
        "mm",
        problems,
    )


def _facts(body: trimesh.Trimesh, label: int, index: NDArray[np.int64], grown: GrownFaces) -> FaceFacts:
    points = body.vertices[body.faces[index].ravel()]
    facts: dict[str, Any] = {}
    kind, low, high = "free-form", points.min(axis=0), points.max(axis=0)
    if label in grown.planes:
        kind = "plane"
        normal = (body.face_normals[index] * body.area_faces[index, None]).sum(axis=0)
        facts = {
            "normal": (normal / np.linalg.norm(normal) + 0.0).tolist(),
            "origin": points.mean(axis=0).tolist(),
        }
    elif label in grown.round_of:
        surface = grown.round_of[label]
        largest = index[np.argmax(body.area_faces[index])]
        middle = body.vertices[body.faces[largest]].mean(axis=0)
        kind, (low, high) = surface.kind, surface.box(points)
        facts = {
            "origin": surface.origin.tolist(),
            "axis": surface.axis.tolist(),
            "radius": surface.radius,
            "hollow": bool(body.face_normals[largest] @ surface.outward(middle[None])[0] < 0),
        }
    return FaceFacts(
        label + 1, kind, float(body.area_faces[index].sum()), low.tolist(), high.tolist(), **facts
    )


def _rounded_note(body: trimesh.Trimesh, grown: GrownFaces) -> Problem:
    """How many faces are taken as round, and how far their facets lie beside them."""
    most = 0.0
    for label, surface in grown.round_of.items():
        tri = body.faces[grown.label == label]
        middles = 0.5 * (body.vertices[tri] + body.vertices[np.roll(tri, 1, axis=1)])
        most = max(most, float(np.abs(surface.distance(middles.reshape(-1, 3))).max()))
    count = len(grown.round_of)
    kind = next(iter(grown.round_of.values())).kind
    whose = f"{count} faces are taken as round" if count > 1 else f"1 face is taken as a {kind}"
    return Problem(
        "note",
        f"{whose}; the triangles of the file lie up to {most:.3g} mm beside {'them' if count > 1 else 'it'}.",
        "If the facets are meant, set part.round_facets to false.",
    )
