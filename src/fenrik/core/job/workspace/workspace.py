"""A job's part and other models: read once, with what is found on them and their triangles."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

from fenrik.core.errors import DocumentError
from fenrik.core.features.feature import Feature, features_from_bytes, features_to_bytes
from fenrik.core.features.holes import Hole, find_holes, holes_from_bytes, holes_to_bytes
from fenrik.core.features.shapes import find_features
from fenrik.core.job.document.job import Job, PartDoc
from fenrik.core.job.workspace.artefacts import Store, key_of
from fenrik.core.job.workspace.files import FolderFiles, JobFiles
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.model.reading import read_model, working_mesh

ReadModel = Callable[[Path, str, int | None, float, bool, bool], PartModel]


class Workspace:
    """Reads a job's models; results are taken from the store where they exist.

    `files` finds what the document names (a folder: relative to it); `read` reads models (replaced where
    untrusted files must be read in a process of their own).
    """

    def __init__(self, job: Job, files: Path | JobFiles, store: Store, read: ReadModel | None = None) -> None:
        self.files = FolderFiles(files) if isinstance(files, Path) else files
        self.job, self.store, self._read = job, store, read or read_model
        self._parts: dict[tuple[str, str], PartModel] = {}
        self._holes: dict[str, list[Hole]] = {}
        self._features: dict[str, list[Feature]] = {}
        self._meshes: dict[str, TriangleMesh] = {}

    def part(self) -> PartModel:
        """The job's part. Raises DocumentError or FileError."""
        if self.job.part is None:
            raise DocumentError(
                "The job has no part yet.", remedy="Give it a STEP or STL file.", where="part"
            )
        return self.model(self.job.part, "part.file")

    def holes(self) -> list[Hole]:
        """The part's round holes, found once."""
        key = key_of("holes", [self.part_key()])
        if key not in self._holes:
            blob = self.store.get(key)
            if blob is None:
                found = find_holes(self.part())
                self.store.put(key, "holes", holes_to_bytes(found))
            else:
                found = holes_from_bytes(blob)
            self._holes[key] = found
        return self._holes[key]

    def features(self) -> list[Feature]:
        """The part's pockets, slots, bosses, tops and broken edges, found once."""
        key = key_of("features", [self.part_key()])
        if key not in self._features:
            blob = self.store.get(key)
            if blob is None:
                found = find_features(self.part(), self.holes())
                self.store.put(key, "features", features_to_bytes(found))
            else:
                found = features_from_bytes(blob)
            self._features[key] = found
        return self._features[key]

    def part_key(self) -> str:
        """Key of the part's artefact; nothing is read for it."""
        assert self.job.part is not None
        return self.model_key(self.job.part, "part.file")

    def model_key(self, doc: PartDoc, where: str) -> str:
        """Key of a model that the document names at `where`; nothing is read for it."""
        return key_of(
            "part", [self.files.digest(doc.file, where), doc.solid, doc.scale, doc.heal, doc.round_facets]
        )

    def model(self, doc: PartDoc, where: str) -> PartModel:
        """A model that the document names at `where`. Raises DocumentError or FileError."""
        key, name = self.model_key(doc, where), Path(doc.file).name
        if (key, name) not in self._parts:
            blob = self.store.get(key)
            if blob is None:
                path = self.files.path(doc.file, where)
                part = self._read(path, name, doc.solid, doc.scale, doc.heal, doc.round_facets)
                self.store.put(key, "part", part.to_bytes())
            else:  # it may have been read from a file of another name
                part = replace(PartModel.from_bytes(blob), name=name)
            self._parts[key, name] = part
        return self._parts[key, name]

    def mesh(self, deflection: float) -> TriangleMesh:
        """The part's triangles in the part frame within `deflection` mm."""
        key = key_of("mesh", [self.part_key(), deflection])
        if key not in self._meshes:
            blob = self.store.get(key)
            if blob is None:
                mesh = working_mesh(self.part(), deflection)
                self.store.put(key, "mesh", mesh_bytes(mesh))
            else:
                mesh = mesh_from(blob)
            self._meshes[key] = mesh
        return self._meshes[key]


def mesh_bytes(mesh: TriangleMesh) -> bytes:
    """A mesh for the store."""
    out = io.BytesIO()
    np.savez(
        out,
        vertices=mesh.vertices,
        triangles=mesh.triangles,
        face_ids=mesh.face_ids,
        deviation=np.array(mesh.deviation),
    )
    return out.getvalue()


def mesh_from(blob: bytes) -> TriangleMesh:
    """A mesh out of the store."""
    with np.load(io.BytesIO(blob)) as data:
        return TriangleMesh(data["vertices"], data["triangles"], data["face_ids"], float(data["deviation"]))
