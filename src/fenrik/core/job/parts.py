"""A job's part and its setups: the solid, what is found on it, its triangles, and how it stands in each setup."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.topology import Topology, prepare
from fenrik.core.errors import DocumentError
from fenrik.core.features.feature import Feature, features_from_bytes, features_to_bytes
from fenrik.core.features.holes import Hole, find_holes, holes_from_bytes, holes_to_bytes
from fenrik.core.features.shapes import find_features
from fenrik.core.frames import transform
from fenrik.core.job.artefacts import Store, key_of
from fenrik.core.job.document import Job, PartDoc, SetupDoc
from fenrik.core.job.files import FolderFiles, JobFiles
from fenrik.core.machines.library import machine
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.model.outline import projected
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.model.reading import read_model, working_mesh
from fenrik.core.progress import SILENT, Progress
from fenrik.core.setups.fixture import GAP_MM, FixtureSolid, check_blocks, fixture_mesh, joined_meshes
from fenrik.core.setups.setup import CarriedStock, Clamped, SolidStock, clamp
from fenrik.core.setups.side import seen_from, setup_from_side
from fenrik.core.tolerances import MESH_SHARE
from fenrik.core.tooling.materials import Material, material

ReadModel = Callable[[Path, str, int | None, float, bool], PartModel]


class Parts:
    """Reads a job's models and places them; results are taken from the store where they exist.

    `files` finds what the document names (a folder: relative to it); `read` reads models (replaced where untrusted files must be
    read in a process of their own).
    """

    def __init__(self, job: Job, files: Path | JobFiles, store: Store, read: ReadModel = read_model) -> None:
        self.files = FolderFiles(files) if isinstance(files, Path) else files
        self.job, self.store, self._read = job, store, read
        self._parts: dict[str, PartModel] = {}
        self._holes: dict[str, list[Hole]] = {}
        self._features: dict[str, list[Feature]] = {}
        self._meshes: dict[str, TriangleMesh] = {}
        self._topologies: dict[str, Topology] = {}
        self._outlines: dict[str, BaseGeometry] = {}
        self._face_outlines: dict[tuple[int, ...], BaseGeometry] = {}
        # the document is frozen, so what follows from it alone is worked out once; by identity, since lists have no hash
        self._clampings: dict[int, tuple[SetupDoc, Clamped]] = {}
        self._seen: dict[tuple[int, str], tuple[SetupDoc, Clamped]] = {}

    # part ------------------------------------------------------------------------------------

    def part(self) -> PartModel:
        """The job's part. Raises DocumentError or FileError."""
        if self.job.part is None:
            raise DocumentError(
                "The job has no part yet.", remedy="Give it a STEP or STL file.", where="part"
            )
        return self._model(self.job.part, "part.file")

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
        return self._model_key(self.job.part, "part.file")

    def _model_key(self, doc: PartDoc, where: str) -> str:
        return key_of("part", [self.files.digest(doc.file, where), doc.solid, doc.scale, doc.heal])

    def _model(self, doc: PartDoc, where: str) -> PartModel:
        key = self._model_key(doc, where)
        if key not in self._parts:
            blob = self.store.get(key)
            if blob is None:
                path = self.files.path(doc.file, where)
                part = self._read(path, Path(doc.file).name, doc.solid, doc.scale, doc.heal)
                self.store.put(key, "part", part.to_bytes())
            else:
                part = PartModel.from_bytes(blob)
            self._parts[key] = part
        return self._parts[key]

    # setup -----------------------------------------------------------------------------------

    def where_setup(self, setup: SetupDoc) -> str:
        """The setup's path in the document; by identity, since comparing documents takes long."""
        return f"setups[{next(i for i, s in enumerate(self.job.setups) if s is setup)}]"

    def clamped(self, setup: SetupDoc) -> Clamped:
        """Frame and stock of a setup. Raises DocumentError with the path in the document."""
        known = self._clampings.get(id(setup))
        if known is None or known[0] is not setup:
            known = self._clampings[id(setup)] = (setup, self._clamp(setup))
        return known[1]

    def seen(self, setup: SetupDoc, side: str | None) -> Clamped:
        """What is clamped as one of the setup's sides sees it, in the side's frame; open: the setup's own."""
        if side is None:
            return self.clamped(setup)
        known = self._seen.get((id(setup), side))
        if known is None or known[0] is not setup:
            number = next(i for i, s in enumerate(setup.sides) if s.name == side)
            where = f"{self.where_setup(setup)}.sides[{number}]"
            clamped = self.clamped(setup)
            matrix = setup_from_side(setup.sides[number], self.part(), clamped, where)
            known = self._seen[id(setup), side] = (setup, seen_from(clamped, matrix, self.part(), side))
        return known[1]

    def on_machine(self, setup: SetupDoc) -> OnMachine:
        """Where the setup stands on its machine."""
        return OnMachine(self.machine(setup), transform(np.eye(3), self.clamped(setup).table_from_setup))

    def _clamp(self, setup: SetupDoc) -> Clamped:
        where = self.where_setup(setup)
        delivered: PartModel | TriangleMesh | None = None
        if isinstance(setup.stock, SolidStock):
            doc = PartDoc(file=setup.stock.file, solid=setup.stock.solid, scale=setup.stock.scale)
            delivered = self._model(doc, f"{where}.stock.file")
        elif isinstance(setup.stock, CarriedStock):
            delivered = self.carried(setup)
        part, zero, placement = self.part(), setup.zero, setup.placement
        clamped = clamp(
            part, setup.up, setup.turn_deg, setup.stock, delivered, zero, placement, where, setup.array
        )
        if not setup.fixture:
            return clamped
        low, high = clamped.stock_low, clamped.stock_high
        if clamped.stock_mesh is None:
            check_blocks(setup.fixture, low, high, f"{where}.fixture")
        solids = {
            f.name: self._model(
                PartDoc(file=f.file, solid=f.solid, scale=f.scale), f"{where}.fixture[{i}].file"
            ).mesh
            for i, f in enumerate(setup.fixture)
            if isinstance(f, FixtureSolid)
        }
        drawn = fixture_mesh(setup.fixture, solids, low, high)
        shunned = fixture_mesh(setup.fixture, solids, low, high, GAP_MM)
        assert drawn is not None
        key = hashlib.sha256(drawn.vertices.tobytes() + drawn.triangles.tobytes()).hexdigest()
        return replace(clamped, fixture=drawn, shunned=shunned, fixture_key=key)

    def carried(self, setup: SetupDoc, progress: Progress = SILENT) -> TriangleMesh:
        """What the setup before leaves for one with a carried stock, in the part frame: for who plans its paths to say."""
        raise NotImplementedError

    def frame_of(self, setup: SetupDoc, side: str | None = None) -> list[Any]:
        """Where part and stock stand as a side sees them, as plain numbers."""
        c = self.seen(setup, side)
        frame = [c.setup_from_part.tolist(), c.copies.tolist(), c.stock_low.tolist(), c.stock_high.tolist()]
        return frame if c.fixture_key is None else [*frame, c.fixture_key]

    def machine(self, setup: SetupDoc) -> Machine:
        """The setup's machine."""
        return machine(setup.machine, f"{self.where_setup(setup)}.machine")

    def material(self, setup: SetupDoc) -> Material:
        """The setup's material."""
        return material(setup.material, f"{self.where_setup(setup)}.material")

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

    def setup_mesh(self, setup: SetupDoc, tolerance: float, side: str | None = None) -> TriangleMesh:
        """The working mesh for a chord tolerance, in the frame of the setup or one of its sides."""
        return self.seen(setup, side).parts(self.mesh(round(tolerance * MESH_SHARE, 6)))

    def topology(
        self, setup: SetupDoc, tolerance: float, side: str | None = None
    ) -> tuple[Topology, BaseGeometry]:
        """The contact primitives of part and fixture in the frame of the setup or one of its sides and the part's outline in
        plan view, prepared once."""
        clamped = self.seen(setup, side)
        key = key_of("frame", [self.part_key(), self.frame_of(setup, side), tolerance])
        if key not in self._topologies:
            solid = self.setup_mesh(setup, tolerance, side)
            if clamped.shunned is not None:
                solid = joined_meshes([solid, clamped.shunned])
            self._topologies[key] = prepare(solid)
            one = projected(self.mesh(round(tolerance * MESH_SHARE, 6)).moved(clamped.setup_from_part))
            self._outlines[key] = shapely.union_all([translate(one, x, y) for x, y, _ in clamped.copies])
        return self._topologies[key], self._outlines[key]

    def _outline_of(
        self, setup: SetupDoc, tolerance: float, side: str | None, faces: list[int]
    ) -> BaseGeometry:
        """Some faces seen from above in the frame of the setup or one of its sides, worked out once."""
        key = (id(self.topology(setup, tolerance, side)[0]), *sorted(faces))
        if key not in self._face_outlines:
            self._face_outlines[key] = projected(self.setup_mesh(setup, tolerance, side), faces)
        return self._face_outlines[key]

    def _flats(self, clamped: Clamped) -> list[float]:
        """Heights of the part's upward planar faces in the setup frame."""
        out = set()
        for face in self.part().faces:
            if face.kind == "plane" and face.normal is not None and face.origin is not None:
                normal = clamped.setup_from_part[:3, :3] @ np.array(face.normal)
                if normal[2] > 1.0 - 1e-9:
                    point = (
                        clamped.setup_from_part[:3, :3] @ np.array(face.origin)
                        + clamped.setup_from_part[:3, 3]
                    )
                    out.add(round(float(point[2]), 6))
        return sorted(out)


def mesh_bytes(mesh: TriangleMesh) -> bytes:
    """A mesh for the store."""
    out = io.BytesIO()
    np.savez(
        out, vertices=mesh.vertices, triangles=mesh.triangles, face_ids=mesh.face_ids, deviation=np.array(mesh.deviation)
    )  # fmt: skip
    return out.getvalue()


def mesh_from(blob: bytes) -> TriangleMesh:
    """A mesh out of the store."""
    with np.load(io.BytesIO(blob)) as data:
        return TriangleMesh(data["vertices"], data["triangles"], data["face_ids"], float(data["deviation"]))
