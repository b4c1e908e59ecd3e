"""The part as it was read: faces and edges with ids, a display mesh, and what was noticed.

Ids of faces and edges count from 1 in the order of the file; they are what a job document names.
"""

from __future__ import annotations

import io
import json
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import InputError
from fenrik.core.model.bodies import Body


@dataclass(frozen=True)
class TriangleMesh:
    """A triangle mesh: vertices (n, 3) float64 mm, triangles (m, 3) int32 counter-clockwise seen from
    outside, face_ids (m,) int32 of the face each triangle lies on, and the largest distance between
    mesh and exact surface that was measured (mm, 0 where the mesh is the design itself)."""

    vertices: NDArray[np.float64]
    triangles: NDArray[np.int32]
    face_ids: NDArray[np.int32]
    deviation: float = 0.0

    def moved(self, matrix: NDArray[np.float64]) -> TriangleMesh:
        """The mesh taken through a rigid 4 x 4 transform."""
        vertices = self.vertices @ matrix[:3, :3].T + matrix[:3, 3]
        return TriangleMesh(np.ascontiguousarray(vertices), self.triangles, self.face_ids, self.deviation)

    @property
    def bounds(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Smallest and largest corner, (3,) each, mm."""
        return self.vertices.min(axis=0), self.vertices.max(axis=0)


@dataclass(frozen=True)
class FaceFacts:
    """What is known of one face. `normal` is outward (planes), `axis`, `origin`, `radius` belong to
    cylinders, cones, spheres and tori; `hollow` says that the material lies outside (a bore)."""

    id: int
    kind: str
    area: float
    low: list[float]
    high: list[float]
    normal: list[float] | None = None
    origin: list[float] | None = None
    axis: list[float] | None = None
    radius: float | None = None
    hollow: bool | None = None


@dataclass(frozen=True)
class EdgeFacts:
    """What is known of one edge: kind ("line", "circle", "curve"), length mm, ends, and for circles
    the centre, axis and radius. `faces` are the ids of the faces that meet in it."""

    id: int
    kind: str
    length: float
    faces: list[int]
    start: list[float]
    end: list[float]
    centre: list[float] | None = None
    axis: list[float] | None = None
    radius: float | None = None


@dataclass(frozen=True)
class Problem:
    """Something that is wrong or doubtful with a model: how grave, what, and what to do."""

    severity: str
    what: str
    remedy: str


@dataclass(frozen=True)
class PartModel:
    """A readable part. `kind` is "brep" (exact surfaces, `brep` holds them) or "mesh" (STL); `bodies` are all
    that its file holds."""

    name: str
    kind: str
    solids: int
    solid: int
    volume: float
    area: float
    mesh: TriangleMesh
    faces: list[FaceFacts]
    edges: list[EdgeFacts]
    edge_lines: list[NDArray[np.float64]]
    file_unit: str
    problems: list[Problem] = field(default_factory=list)
    brep: bytes | None = None
    bodies: list[Body] = field(default_factory=list)

    @property
    def box(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Lowest and highest X, Y and Z (3,) of the part frame, mm: of exact faces, where there are any."""
        low, high = (np.array([getattr(f, end) for f in self.faces]) for end in ("low", "high"))
        if self.brep is None:  # patches of triangles end where these do
            mesh = self.mesh.bounds
            low, high = np.vstack([low, mesh[0]]), np.vstack([high, mesh[1]])
        return low.min(axis=0), high.max(axis=0)

    @property
    def size(self) -> NDArray[np.float64]:
        """Extent along X, Y and Z of the part frame, (3,) mm."""
        low, high = self.box
        return np.asarray(high - low)

    def face(self, face_id: int) -> FaceFacts:
        """The face with this id. Raises InputError naming the id and the range."""
        if not 1 <= face_id <= len(self.faces):
            raise InputError(
                f"Face {face_id} does not exist in '{self.name}'.",
                remedy=f"Use a face from 1 to {len(self.faces)}.",
            )
        return self.faces[face_id - 1]

    def summary(self) -> dict[str, Any]:
        """The facts a person or a report wants, as plain data."""
        low, high = self.box
        return {
            "name": self.name,
            "kind": self.kind,
            "solids": self.solids,
            "solid": self.solid,
            "faces": len(self.faces),
            "edges": len(self.edges),
            "volume_mm3": self.volume,
            "area_mm2": self.area,
            "min": low.tolist(),
            "max": high.tolist(),
            "size": self.size.tolist(),
            "file_unit": self.file_unit,
            "problems": [asdict(p) for p in self.problems],
            "bodies": [asdict(b) for b in self.bodies] if len(self.bodies) > 1 else [],
        }

    def to_bytes(self) -> bytes:
        """The part as one compressed archive (numpy arrays and JSON)."""
        counts = np.array([len(line) for line in self.edge_lines], dtype=np.int64)
        points = np.concatenate(self.edge_lines) if self.edge_lines else np.zeros((0, 3))
        head = {
            "name": self.name,
            "kind": self.kind,
            "solids": self.solids,
            "solid": self.solid,
            "volume": self.volume,
            "area": self.area,
            "deviation": self.mesh.deviation,
            "file_unit": self.file_unit,
            "faces": [asdict(f) for f in self.faces],
            "edges": [asdict(e) for e in self.edges],
            "problems": [asdict(p) for p in self.problems],
            "bodies": [asdict(b) for b in self.bodies],
        }
        out = io.BytesIO()
        np.savez_compressed(
            out,
            head=np.frombuffer(json.dumps(head).encode(), dtype=np.uint8),
            vertices=self.mesh.vertices,
            triangles=self.mesh.triangles,
            face_ids=self.mesh.face_ids,
            edge_points=points,
            edge_counts=counts,
            brep=np.frombuffer(self.brep or b"", dtype=np.uint8),
        )
        return out.getvalue()

    @staticmethod
    def from_bytes(blob: bytes) -> PartModel:
        """The inverse of `to_bytes`."""
        with np.load(io.BytesIO(blob)) as data:
            head = json.loads(data["head"].tobytes())
            mesh = TriangleMesh(data["vertices"], data["triangles"], data["face_ids"], head.pop("deviation"))
            counts = data["edge_counts"]
            lines = np.split(data["edge_points"], np.cumsum(counts)[:-1]) if len(counts) else []
            brep = data["brep"].tobytes() or None
        head["faces"] = [FaceFacts(**f) for f in head["faces"]]
        head["edges"] = [EdgeFacts(**e) for e in head["edges"]]
        head["problems"] = [Problem(**p) for p in head["problems"]]
        head["bodies"] = [Body(**b) for b in head["bodies"]]
        return PartModel(mesh=mesh, edge_lines=lines, brep=brep, **head)
