"""The bodies of the machine along a posted program: step by step, each kept, so that a change of an operation
looks at its own motion anew."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property, partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply, invert
from fenrik.core.job.cutting.cutting import Cutting
from fenrik.core.job.document.job import ProofDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.workspace.artefacts import Store, key_of
from fenrik.core.machines.bodies import ROLES
from fenrik.core.machines.collision import Motion, Near, Pair, nearest, pairs_of
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.machines.solids import TOOL, Solid, machine_solids, nose_of, on_work, tool_solids
from fenrik.core.machines.tree import Tree
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh
from fenrik.core.progress import Progress
from fenrik.core.proof.bodies import Meeting
from fenrik.core.proof.run import Run
from fenrik.core.setups.setup import Clamped
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
Tick = Callable[[], None]
CHORD_MM = 0.02
"""How far the straight pieces looked at may lie beside arcs."""
STOCK, FIXTURE = "stock", "fixture"
LIFTED = {"holder", "spindle nose", "head"}
"""Bodies that a longer stick-out takes away from the work."""
LONGER_MM = (5.0, 10.0, 15.0, 20.0, 30.0, 40.0, 60.0, 80.0)
"""What is tried."""


def look_at_bodies(
    paths: Paths, posted: Posted, cutting: Cutting, progress: Progress
) -> tuple[list[Meeting], list[dict[str, Any]]]:
    """Bodies that come nearer than the job's proof asks for, in the order of the program's steps; and all
    pairs that move against each other, as plain data, with whether they are looked at."""
    setups, setup = paths.setups, posted.setup
    on = setups.on_machine(setup)
    if not on.machine.bodies:
        return [], []
    files = setups.machine_files(on.machine)
    world = _World(on, setups.clamped(setup), cutting, paths.job.proof, paths.store, files)
    met: list[Meeting] = []
    count = 0 if world.asked.bodies == "none" else len(cutting.run.names)
    for step in range(count):
        met += world.step(step, partial(progress.step, step / count, "looking at the machine's bodies"))
    return met, _pairs(world)


def _pairs(world: _World) -> list[dict[str, Any]]:
    """All pairs of bodies that move against each other, what goes with the tool first where one does, and
    whether they are looked at."""
    used = np.unique(world.run.motion.tool).tolist()
    tool = next((world.run.tools[n] for n in used if n in world.run.tools), None)
    solids = [*world.standing, world.stock_box, *(world.tool(tool) if tool else [])]
    asked = {frozenset((p.first.name, p.second.name)) for p in world.asked_of(solids)}
    out = []
    for pair in pairs_of(world.tree, solids):
        one, two = world.names(pair)
        if STOCK in (one, two) and {one, two} & world.cut_by:
            continue  # the cutting proof's
        switched = frozenset((one, two)) in asked and world.asked.bodies != "none"
        out.append({"first": one, "second": two, "asked": switched})
    return out


@dataclass(frozen=True)
class _World:
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
        lengths = {number: tool.gauge_length + longer for number, tool in self.run.tools.items()}
        start, end, owner, _ = self.on.driven(self.run.motion.rows(rows), lengths, CHORD_MM)
        return self.tree.every(start), self.tree.every(end), owner

    @cached_property
    def standing(self) -> list[Solid]:
        """The machine and the fixture."""
        out = machine_solids(self.on.machine, self.files)
        if self.clamped.fixture is not None:
            out.append(on_work(self.on.machine, FIXTURE, self.clamped.fixture, self.on.work_from_setup))
        return out

    @cached_property
    def stock_box(self) -> Solid:
        """A box about the stock."""
        box = box_mesh(self.clamped.stock_low, self.clamped.stock_high)
        return on_work(self.on.machine, STOCK, box, self.on.work_from_setup)

    def tool(self, tool: Assembly) -> list[Solid]:
        """The parts of a tool."""
        if tool.number not in self.tools:
            self.tools[tool.number] = tool_solids(self.on.machine, tool)
        return self.tools[tool.number]

    def stock_before(self, step: int) -> Solid:
        """The stock as it stands before a step."""
        if step > 0:
            cut = self.cutting.done.steps[step - 1]
            quads = cut.quads
            sides = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]]]).astype(np.int32)
            ids = np.ones(len(sides), dtype=np.int32)
            mesh = TriangleMesh(cut.vertices.astype(np.float64), sides, ids)
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
        for solid in (*self.standing, self.stock_box):
            digest.update(f"{solid.name} {solid.joint}".encode())
            for part in solid.parts:
                digest.update(part.vertices.tobytes() + part.triangles.tobytes())
        joints = [j.model_dump() for j in self.on.machine.joints]
        digest.update(json.dumps([joints, self.on.machine.tool.model_dump()]).encode())
        return digest.hexdigest()

    def step(self, step: int, tick: Tick) -> list[Meeting]:
        """The meetings of one step, from the store where it has them; `tick` is called now and then, and may
        raise to stop."""
        tick()
        moves = np.flatnonzero(self.run.step_of == step)
        used = np.unique(self.run.motion.tool[moves]).tolist()
        tools = [self.run.tools[n] for n in used if n in self.run.tools]
        asked = self.asked.model_dump(include={"near_mm", "bodies", "bodies_off"})
        own = self.cutting.keep.motions[step]
        key = key_of("bodies", [self.digest, own, [t.facts() for t in tools], asked])
        kept = self.store.get(key)
        if kept is None:
            found, doubtful = self._look(moves, tools, tick)
            kept = json.dumps([found, doubtful]).encode()
            self.store.put(key, "bodies", kept)
        found, doubtful = json.loads(kept)
        if doubtful:
            found = found + self._against_stock(step, moves, doubtful, key, tick)
        return [_meeting(step, moves, row) for row in found]

    def _look(
        self, moves: NDArray[np.int64], tools: Sequence[Assembly], tick: Tick
    ) -> tuple[list[dict[str, Any]], list[str]]:
        """What comes near in moves of the run, and the bodies that a box about the stock does not clear."""
        found: list[dict[str, Any]] = []
        doubtful: list[str] = []
        start, end, owner = self.driven(moves)
        number = self.run.motion.tool[moves[owner]]
        for tool in tools:
            mine = np.flatnonzero(number == tool.number)
            if not len(mine):
                continue
            motion, own = Motion(start[mine], end[mine]), list[dict[str, Any]]()
            solids = [*self.standing, self.stock_box, *self.tool(tool)]
            for pair in self.asked_of(solids):
                tick()
                names = (pair.first.name, pair.second.name)
                near = nearest(pair, motion, self.asked.near_mm, tick)
                if near is None:
                    continue
                if STOCK in names:
                    doubtful.append(names[0] if names[1] == STOCK else names[1])
                else:
                    own.append(self._row(near, motion, owner[mine]) | {"longer": None})
            by = [row for row in own if LIFTED & {n.split(" on ")[0] for n in row["bodies"]}]
            if by and (longer := self._longer(moves, tool, [row["bodies"] for row in by], tick)):
                for row in by:
                    row["longer"] = longer
            found += own
        return found, doubtful

    def _longer(
        self, moves: NDArray[np.int64], tool: Assembly, apart: list[list[str]], tick: Tick
    ) -> float | None:
        """By how much mm longer a stick-out parts pairs of bodies in moves of the run and brings no others
        together; None where none of those tried does, or where joints turn while the tool cuts."""
        turning = self.run.motion.turning
        if turning is not None and (turning.turns & ~turning.aside)[moves].any():
            return None
        wanted = {frozenset(pair) for pair in apart}
        for longer in LONGER_MM:
            start, end, owner = self.driven(moves, longer)
            mine = self.run.motion.tool[moves[owner]] == tool.number
            motion = Motion(start[mine], end[mine])
            other = tool.model_copy(update={"stick_out": tool.stick_out + longer})
            solids = [*self.standing, *tool_solids(self.on.machine, other)]
            for pair in self.asked_of(solids):
                near = nearest(pair, motion, self.asked.near_mm, tick)
                if near is None:
                    continue
                if near.distance == 0.0 or frozenset((pair.first.name, pair.second.name)) in wanted:
                    break
            else:
                return longer
        return None

    def _against_stock(
        self, step: int, moves: NDArray[np.int64], names: list[str], key: str, tick: Tick
    ) -> list[dict[str, Any]]:
        """What comes near the stock as it stands before a step."""
        before = self.cutting.keep.keys[step - 1] if step else self.cutting.keep.raw
        key = key_of("bodies", [key, before])
        kept = self.store.get(key)
        if kept is None:
            start, end, owner = self.driven(moves)
            motion = Motion(start, end)
            solids = [self.stock_before(step), *(s for s in self.standing if s.name in names)]
            out = []
            for pair in pairs_of(self.tree, solids):
                if STOCK in (pair.first.name, pair.second.name):
                    near = nearest(pair, motion, self.asked.near_mm, tick)
                    if near is not None:
                        out.append(self._row(near, motion, owner))
            kept = json.dumps(out).encode()
            self.store.put(key, "bodies", kept)
        return list(json.loads(kept))

    def names(self, pair: Pair) -> tuple[str, str]:
        """The names of two bodies, first that of the one that goes with the tool, where one does."""
        machine = self.on.machine
        carried = machine.chain.names[machine.carrying_work :]
        one, two = pair.first, pair.second
        if two.joint in carried and (one.joint not in carried or (two.held and not one.held)):
            one, two = two, one
        return one.name, two.name

    def asked_of(self, solids: Sequence[Solid]) -> list[Pair]:
        """The pairs that are asked."""
        off = {frozenset(pair) for pair in self.asked.bodies_off}
        out = []
        for pair in pairs_of(self.tree, solids):
            names = frozenset((pair.first.name, pair.second.name))
            cutting = (STOCK in names and names & self.cut_by) or (
                FIXTURE in names and names & set(TOOL) and self.asked.bodies == "machine"
            )
            if names not in off and not cutting:
                out.append(pair)
        return out

    def _row(self, near: Near, motion: Motion, owner: NDArray[np.int32]) -> dict[str, Any]:
        """A meeting as plain data; `owner` (m,) is the place of every piece's move in its step."""
        values = motion.start[near.piece] + near.share * (motion.end[near.piece] - motion.start[near.piece])
        mount = self.on.machine.work
        at = self.tree.poses_on(near.pair.first.joint, values[None])[0]
        work = self.tree.poses_on(mount.joint, values[None])[0] @ mount.frame
        place = apply(invert(work @ self.on.work_from_setup) @ at, near.places[:1])[0]
        mine = np.flatnonzero(owner == owner[near.piece])
        return {
            "bodies": list(self.names(near.pair)),
            "distance": near.distance,
            "move": int(owner[near.piece]),
            "share": (near.piece - int(mine[0]) + near.share) / len(mine),
            "place": [round(float(v), 4) for v in place],
        }


def _meeting(step: int, moves: NDArray[np.int64], row: dict[str, Any]) -> Meeting:
    one, two = row["bodies"]
    x, y, z = row["place"]
    return Meeting(
        step, (one, two), row["distance"], int(moves[row["move"]]), row["share"], (x, y, z), row.get("longer")
    )
