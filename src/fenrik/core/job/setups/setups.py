"""A job's setups: how the part stands in each, in what stock and fixture, and what its sides see."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.topology import Topology, prepare
from fenrik.core.errors import DocumentError, NotYet
from fenrik.core.frames import transform
from fenrik.core.job.document.job import OperationDoc, PartDoc, SetupDoc
from fenrik.core.job.document.repeats import Rotary
from fenrik.core.job.setups.earlier import EarlierStock
from fenrik.core.job.setups.holding import with_fixture
from fenrik.core.job.setups.raw import raw_stock
from fenrik.core.job.setups.repetition import Repetition
from fenrik.core.job.setups.safe_body import SafeBody, safe_body
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.core.job.workspace.workspace import Workspace, mesh_bytes, mesh_from
from fenrik.core.machines.bodies import FileBody
from fenrik.core.machines.library import machine
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.model.outline import projected
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.model.simple_solids import joined_meshes
from fenrik.core.progress import SILENT, Progress
from fenrik.core.setups.round_stock import RoundStock
from fenrik.core.setups.setup import CarriedStock, Clamped, SolidStock, clamp
from fenrik.core.setups.side import SideDoc, seen_from, setup_from_side
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.tolerances import MESH_SHARE
from fenrik.core.tooling.materials import Material, material


class Setups:
    """Places a job's part in its setups; what takes long is kept in the store.

    Where nothing `may_cut`, the stocks that setups leave come from the store only, so that a question about
    the job never cuts anything. `earlier` has to be set before a setup with a carried stock is asked for.
    """

    earlier: EarlierStock

    def __init__(self, workspace: Workspace, may_cut: bool = True) -> None:
        self.workspace, self.job, self.store = workspace, workspace.job, workspace.store
        self._may_cut = may_cut
        self._topologies: dict[str, Topology] = {}
        self._outlines: dict[str, BaseGeometry] = {}
        self._face_outlines: dict[tuple[int, ...], BaseGeometry] = {}
        # the document is frozen, so what follows from it alone is worked out once; by identity, since lists
        # have no hash
        self._clampings: dict[int, tuple[SetupDoc, Clamped]] = {}
        self._seen: dict[tuple[int, str], tuple[SetupDoc, Clamped]] = {}

    def where(self, setup: SetupDoc) -> str:
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
            matrix = self.frame_of_side(setup, setup.sides[number], f"{self.where(setup)}.sides[{number}]")
            clamped, part = self.clamped(setup), self.workspace.part()
            known = self._seen[id(setup), side] = (setup, seen_from(clamped, matrix, part, side))
        return known[1]

    def frame_of_side(self, setup: SetupDoc, side: SideDoc, where: str) -> NDArray[np.float64]:
        """The frame (4, 4) in its setup of a side that the setup has, or may get. Raises DocumentError for
        one that has no direction."""

        def axis_at(given: dict[str, float]) -> NDArray[np.float64]:
            on = self.on_machine(setup)
            return on.axis(on.machine.rotary_at(given, f"{where}.up.rotary"))

        return setup_from_side(side, self.workspace.part(), self.clamped(setup), axis_at, where)

    def held(self, setup: SetupDoc, side: str | None) -> NDArray[np.float64] | None:
        """Positions (r,) degrees at which a side that is given by them holds the rotary joints, else None."""
        given = next((s.up.rotary for s in setup.sides if s.name == side), None)
        return None if given is None else self.machine(setup).rotary_at(given)

    def repetitions(self, setup: SetupDoc, operation: OperationDoc) -> list[Repetition]:
        """The times that an operation is done; one, without a turn, of most.

        Raises DocumentError where the joint of its repeat is not the one that carries the work.
        """
        frame = self.seen(setup, operation.side).setup_from_side
        repeat = setup.repeat_of(operation)
        if repeat is None or not isinstance(repeat.how, Rotary):
            return [Repetition(frame)]
        on, letter = self.on_machine(setup), repeat.how.joint
        number = next(i for i, r in enumerate(setup.repeats) if r is repeat)
        where = f"{self.where(setup)}.repeats[{number}].how.joint"
        return [Repetition(on.turned_on(letter, v, where) @ frame, letter, v) for v in repeat.turns()]

    def safe_body(self, setup: SetupDoc) -> SafeBody | None:
        """The body over which the way from side to side goes; None where it goes at the machine's upper end.
        Raises DocumentError where there can be none."""
        if setup.between_sides.over == "upper_end":
            return None
        where = f"{self.where(setup)}.between_sides"
        return safe_body(setup.between_sides, self.clamped(setup), self.on_machine(setup), where)

    def on_machine(self, setup: SetupDoc) -> OnMachine:
        """Where the setup stands on its machine."""
        return OnMachine(self.machine(setup), transform(np.eye(3), self.clamped(setup).table_from_setup))

    def _clamp(self, setup: SetupDoc) -> Clamped:
        where = self.where(setup)
        delivered: PartModel | TriangleMesh | None = None
        if isinstance(setup.stock, SolidStock):
            doc = PartDoc(file=setup.stock.file, solid=setup.stock.solid, scale=setup.stock.scale)
            delivered = self.workspace.model(doc, f"{where}.stock.file")
        elif isinstance(setup.stock, CarriedStock):
            delivered = self.carried(setup)
        part, zero, placement = self.workspace.part(), setup.zero, setup.placement
        clamped = clamp(
            part, setup.up, setup.turn_deg, setup.stock, delivered, zero, placement, where, setup.array
        )
        return with_fixture(self.workspace, setup, clamped, where)

    def carried(self, setup: SetupDoc, progress: Progress = SILENT) -> TriangleMesh:
        """What the setup before leaves for one with a carried stock, in the part frame; cut when it is not in
        the store. Raises NotYet where nothing may be cut."""
        assert isinstance(setup.stock, CarriedStock)
        source = self.job.setup(setup.stock.setup)
        key = self.earlier.key(source)
        blob = self.store.get(key)
        if blob is not None:
            return mesh_from(blob)
        if not self._may_cut:
            raise NotYet(
                f"The stock of '{setup.name}' is what '{source.name}' leaves, which has not been cut yet.",
                remedy="Compute the plan.",
                where=f"{self.where(setup)}.stock",
            )
        mesh = self.earlier.surface(source, progress)
        self.store.put(key, "mesh", mesh_bytes(mesh))
        return mesh

    def raw_dexels(self, setup: SetupDoc, cell: float, progress: Progress = SILENT) -> Stock:
        """The stock before the first operation of a setup as dexels of a cell, mm; a carried one is kept."""
        clamped = self.clamped(setup)
        if not isinstance(setup.stock, CarriedStock):
            return raw_stock(clamped, cell)
        key = key_of("carried_stock", [self.stock_key(setup), self.frame_of(setup), cell])
        blob = self.store.get(key)
        if blob is not None:
            lattice = Snapshot.of(Stock.of_box(clamped.stock_low, clamped.stock_high, cell))
            return lattice.changed(blob).delivered_as_solid().stock()
        stock = self.earlier.dexels(setup, cell, progress)
        self.store.put(key, "stock", Snapshot.of(stock).changes(None))
        return stock

    def stock_key(self, setup: SetupDoc) -> Any:
        """What tells the stock of a setup from others beside its box."""
        if isinstance(setup.stock, (RoundStock, SolidStock)):
            return setup.stock.model_dump()
        if isinstance(setup.stock, CarriedStock):
            return self.earlier.key(self.job.setup(setup.stock.setup))
        return None

    def stock_shape(self, setup: SetupDoc) -> str | None:
        """A name for the shape of a stock that is no box, as it stands in the setup; None for a box."""
        key = self.stock_key(setup)
        return None if key is None else key_of("shape", [key, self.frame_of(setup)])

    def fixture_shape(self, setup: SetupDoc) -> str | None:
        """A name for the fixture as it stands in the setup; None where nothing is drawn."""
        return key_of("shape", ["fixture", self.frame_of(setup)]) if setup.fixture or setup.held_in else None

    def frame_of(self, setup: SetupDoc, side: str | None = None) -> list[Any]:
        """Where part and stock stand as a side sees them, as plain numbers."""
        c = self.seen(setup, side)
        frame = [c.setup_from_part.tolist(), c.copies.tolist(), c.stock_low.tolist(), c.stock_high.tolist()]
        return frame if c.fixture_key is None else [*frame, c.fixture_key]

    def machine(self, setup: SetupDoc) -> Machine:
        """The setup's machine: one of the job's own, or of the library. Raises DocumentError for one that is
        not there and for one that nothing can drive."""
        where = f"{self.where(setup)}.machine"
        own = next((m for m in self.job.machines if m.id == setup.machine), None)
        found = own or machine(setup.machine, where, [m.id for m in self.job.machines])
        if lack := found.lack:
            raise DocumentError(
                f"The machine '{found.name}' cannot run this job: {lack}.",
                remedy="Choose a machine with three linear joints X, Y and Z and at most two rotary ones, or "
                "an arm of six joints with a spherical wrist and at most one rotary table.",
                where=where,
            )
        return found

    def machine_shape(self, setup: SetupDoc) -> str | None:
        """A name for the bodies of the setup's machine; None where it has none."""
        found = self.machine(setup)
        files = [b.file for b in found.bodies if isinstance(b, FileBody)]
        digests = [self.workspace.files.digest(f, "machines") for f in files]
        return key_of("shape", [found.model_dump(), digests]) if found.bodies else None

    def machine_files(self, machine: Machine) -> dict[str, TriangleMesh]:
        """The meshes of the files that bodies of a machine name, by `FileBody.key`."""
        own = [m.id for m in self.job.machines]
        where = f"machines[{own.index(machine.id) if machine.id in own else 0}].bodies"
        return {
            body.key: self.workspace.model(
                PartDoc(file=body.file, solid=body.solid, scale=body.scale), f"{where}[{i}].file"
            ).mesh
            for i, body in enumerate(machine.bodies)
            if isinstance(body, FileBody)
        }

    def material(self, setup: SetupDoc) -> Material:
        """The setup's material."""
        return material(setup.material, f"{self.where(setup)}.material")

    def mesh(self, setup: SetupDoc, tolerance: float, side: str | None = None) -> TriangleMesh:
        """The working mesh for a chord tolerance, in the frame of the setup or one of its sides."""
        return self.seen(setup, side).parts(self.workspace.mesh(round(tolerance * MESH_SHARE, 6)))

    def topology(
        self, setup: SetupDoc, tolerance: float, side: str | None = None
    ) -> tuple[Topology, BaseGeometry]:
        """The contact primitives of part and fixture in the frame of the setup or one of its sides and the
        part's outline in plan view, prepared once."""
        clamped = self.seen(setup, side)
        key = key_of("frame", [self.workspace.part_key(), self.frame_of(setup, side), tolerance])
        if key not in self._topologies:
            solid = self.mesh(setup, tolerance, side)
            if clamped.keep_clear is not None:
                solid = joined_meshes([solid, clamped.keep_clear])
            self._topologies[key] = prepare(solid)
            one = projected(
                self.workspace.mesh(round(tolerance * MESH_SHARE, 6)).moved(clamped.setup_from_part)
            )
            self._outlines[key] = shapely.union_all([translate(one, x, y) for x, y, _ in clamped.copies])
        return self._topologies[key], self._outlines[key]

    def outline_of(
        self, setup: SetupDoc, tolerance: float, side: str | None, faces: list[int]
    ) -> BaseGeometry:
        """Some faces seen from above in the frame of the setup or one of its sides, worked out once."""
        key = (id(self.topology(setup, tolerance, side)[0]), *sorted(faces))
        if key not in self._face_outlines:
            self._face_outlines[key] = projected(self.mesh(setup, tolerance, side), faces)
        return self._face_outlines[key]

    def flats(self, clamped: Clamped) -> list[float]:
        """Heights of the part's upward planar faces in the setup frame."""
        out = set()
        for face in self.workspace.part().faces:
            if face.kind == "plane" and face.normal is not None and face.origin is not None:
                normal = clamped.setup_from_part[:3, :3] @ np.array(face.normal)
                if normal[2] > 1.0 - 1e-9:
                    point = (
                        clamped.setup_from_part[:3, :3] @ np.array(face.origin)
                        + clamped.setup_from_part[:3, 3]
                    )
                    out.add(round(float(point[2]), 6))
        return sorted(out)
