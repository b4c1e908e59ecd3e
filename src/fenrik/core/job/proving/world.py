"""All that moves or stands on a machine while one setup's program runs, as bodies on its joints."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.cutting.cutting import Cutting
from fenrik.core.job.document.job import ProofDoc
from fenrik.core.job.workspace.artefacts import Store
from fenrik.core.machines.bodies import ROLES
from fenrik.core.machines.collision import Pair, pairs_of
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.machines.solids import TOOL, Solid, machine_solids, nose_of, on_work, tool_solids
from fenrik.core.machines.tree import Tree
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh
from fenrik.core.proof.fixture_pieces import FixturePieces
from fenrik.core.proof.run import Run
from fenrik.core.setups.setup import Clamped
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
CHORD_MM = 0.02
"""How far the straight pieces looked at may lie beside arcs."""
STOCK, FIXTURE, CHANGER = "stock", "fixture", "changer"


@dataclass(frozen=True)
class World:
    """All that moves or stands while one setup's program runs."""

    on: OnMachine
    clamped: Clamped
    cutting: Cutting
    asked: ProofDoc
    store: Store
    files: dict[str, TriangleMesh]
    tools: dict[int, list[Solid]] = field(default_factory=dict)

    @cached_property
    def tree(self) -> Tree:
        """The machine's joints."""
        return Tree(self.on.machine)

    @cached_property
    def cut_by(self) -> set[str]:
        """Bodies whose contact with the stock the proof of cutting sees."""
        return {*TOOL, ROLES["spindle"]} if nose_of(self.on.machine) else set(TOOL)

    @property
    def run(self) -> Run:
        """The program as it runs."""
        return self.cutting.run

    def driven(
        self, rows: NDArray[np.int64], longer: float = 0.0
    ) -> tuple[Floats, Floats, NDArray[np.int32]]:
        """Values of all joints of the machine, in its order, at both ends of straight pieces (m, n) of some
        moves of the run, and the place (m,) of each among these; with tools `longer` by so much mm."""
        start, end, owner = self.in_chain(rows, longer)
        return self.tree.every(start), self.tree.every(end), owner

    def in_chain(
        self, rows: NDArray[np.int64], longer: float = 0.0
    ) -> tuple[Floats, Floats, NDArray[np.int32]]:
        """As `driven`, the joints between work and tool alone, in the chain's order."""
        lengths = {number: tool.gauge_length + longer for number, tool in self.run.tools.items()}
        start, end, owner, _ = self.on.driven(self.run.motion.rows(rows), lengths, CHORD_MM)
        return start, end, owner

    @cached_property
    def standing(self) -> list[Solid]:
        """The machine and the fixture."""
        out = [s for s in machine_solids(self.on.machine, self.files) if s.role != CHANGER]
        if self.clamped.fixture is not None:
            out.append(on_work(self.on.machine, FIXTURE, self.clamped.fixture, self.on.work_from_setup))
        return out

    @cached_property
    def fixture_pieces(self) -> FixturePieces:
        """The pieces of the fixture by their names."""
        assert self.clamped.fixture is not None
        return FixturePieces(self.clamped.fixture, self.clamped.fixture_pieces)

    @cached_property
    def changers(self) -> list[Solid]:
        """The room that the magazine's arm takes while a tool is changed."""
        return [s for s in machine_solids(self.on.machine, self.files) if s.role == CHANGER]

    @cached_property
    def stock_box(self) -> Solid:
        """A box about the stock."""
        box = box_mesh(self.clamped.stock_low, self.clamped.stock_high)
        return on_work(self.on.machine, STOCK, box, self.on.work_from_setup)

    def used(self, moves: NDArray[np.int64]) -> list[Assembly]:
        """The tools of some moves of the run."""
        numbers = np.unique(self.run.motion.tool[moves]).tolist()
        return [self.run.tools[n] for n in numbers if n in self.run.tools]

    def tool(self, tool: Assembly) -> list[Solid]:
        """The parts of a tool."""
        if tool.number not in self.tools:
            self.tools[tool.number] = tool_solids(self.on.machine, tool)
        return self.tools[tool.number]

    def stock_before(self, step: int) -> Solid:
        """The stock as it stands before a step."""
        if step > 0:
            skin = self.cutting.done.skin_after(step - 1)
            sides = skin.triangles()
            ids = np.ones(len(sides), dtype=np.int32)
            mesh = TriangleMesh(skin.vertices, sides, ids)
        elif self.clamped.stock_mesh is not None:
            mesh = self.clamped.stock_mesh
        else:
            return self.stock_box
        placed = mesh.moved(self.on.machine.work.frame @ self.on.work_from_setup)
        return Solid(STOCK, self.on.machine.work.joint, [placed], held=True)

    @cached_property
    def digest(self) -> str:
        """Hash of all that stands."""
        digest = hashlib.sha256()
        for solid in (*self.standing, *self.changers, self.stock_box):
            digest.update(f"{solid.name} {solid.joint}".encode())
            for part in solid.parts:
                digest.update(part.vertices.tobytes() + part.triangles.tobytes())
        joints = [j.model_dump() for j in self.on.machine.joints]
        mount, pieces = self.on.machine.tool.model_dump(), self.clamped.fixture_pieces
        digest.update(json.dumps([joints, mount, pieces]).encode())
        return digest.hexdigest()

    def names(self, pair: Pair) -> tuple[str, str]:
        """The names of two bodies, first that of the one that goes with the tool, where one does."""
        machine = self.on.machine
        carried = machine.chain.names[machine.carrying_work :]
        one, two = pair.first, pair.second
        if two.joint in carried and (one.joint not in carried or (two.held and not one.held)):
            one, two = two, one
        return one.name, two.name

    def changing(self, stock: Solid) -> list[Pair]:
        """The pairs that are asked of the room of the magazine's arm: with what carries the work, with what
        holds it, and with a stock."""
        machine = self.on.machine
        joints = machine.chain.names[: machine.carrying_work]
        carried = {STOCK, FIXTURE, *(s.name for s in self.standing if s.joint in joints)}
        names = {s.name for s in self.changers}
        pairs = self.asked_of([*self.changers, *self.standing, stock]) if names else []
        return [p for p in pairs if p.names & names and p.names & carried]

    def switched_on(self, solids: Sequence[Solid]) -> list[Pair]:
        """The pairs that nobody has switched off."""
        off = {frozenset(pair) for pair in self.asked.bodies_off}
        return [p for p in pairs_of(self.tree, solids) if p.names not in off]

    def asked_of(self, solids: Sequence[Solid]) -> list[Pair]:
        """Of these what the proof of cutting does not look at already."""
        out = []
        for pair in self.switched_on(solids):
            cutting = (STOCK in pair.names and pair.names & self.cut_by) or (
                FIXTURE in pair.names and pair.names & set(TOOL) and self.asked.bodies == "machine"
            )
            if not cutting:
                out.append(pair)
        return out
