"""The bodies of the machine along a posted program: step by step, each kept, so that a change of an operation
looks at its own motion anew."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply, invert
from fenrik.core.job.cutting.cutting import Cutting
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.proving.apart import NOWHERE, apart_along
from fenrik.core.job.proving.tool_changes import near_on_way, way_of
from fenrik.core.job.proving.world import FIXTURE, STOCK, World
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.core.machines.changing import SHARES
from fenrik.core.machines.collision import Motion, Near, nearest, pairs_of
from fenrik.core.machines.solids import tool_solids
from fenrik.core.progress import Progress
from fenrik.core.proof.bodies import Meeting
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
Tick = Callable[[], None]
LIFTED = {"holder", "spindle nose", "head"}
"""Bodies that a longer stick-out takes away from the work."""
LONGER_MM = (5.0, 10.0, 15.0, 20.0, 30.0, 40.0, 60.0, 80.0)
"""What is tried."""


@dataclass(frozen=True)
class Bodies:
    """What was seen of the machine's bodies along a program: those that `met` or came nearer than the job's
    proof asks for, in the order of its steps; all `pairs` that move against each other, as plain data, with
    whether they are looked at; and how far the nearest are `apart` now and then (n, 2): seconds, mm."""

    met: list[Meeting]
    pairs: list[dict[str, Any]]
    apart: Floats


def look_at_bodies(paths: Paths, posted: Posted, cutting: Cutting, progress: Progress) -> Bodies:
    """Looks at all bodies along a posted program."""
    setups, setup = paths.setups, posted.setup
    on = setups.on_machine(setup)
    if not on.machine.bodies:
        return Bodies([], [], NOWHERE)
    files = setups.machine_files(on.machine)
    world = _Looked(on, setups.clamped(setup), cutting, paths.job.proof, paths.store, files)
    met: list[Meeting] = []
    apart = [NOWHERE]
    count = 0 if world.asked.bodies == "none" else len(cutting.run.names)
    for step in range(count):
        tick = partial(progress.step, step / count, "looking at the machine's bodies")
        met += world.step(step, tick)
        apart.append(apart_along(world, step, tick))
    return Bodies(met, _pairs(world), np.concatenate(apart))


def _pairs(world: World) -> list[dict[str, Any]]:
    """All pairs of bodies that move against each other, what goes with the tool first where one does, and
    whether they are looked at."""
    tools = world.used(np.arange(len(world.run)))[:1]
    solids = [*world.standing, world.stock_box, *(part for tool in tools for part in world.tool(tool))]
    changing = world.changing(world.stock_box)
    asked = {frozenset((p.first.name, p.second.name)) for p in (*world.asked_of(solids), *changing)}
    out = []
    for pair in (*pairs_of(world.tree, solids), *changing):
        one, two = world.names(pair)
        if STOCK in (one, two) and {one, two} & world.cut_by:
            continue  # the cutting proof's
        switched = frozenset((one, two)) in asked and world.asked.bodies != "none"
        out.append({"first": one, "second": two, "asked": switched})
    return out


class _Looked(World):
    """Looks at its steps."""

    def step(self, step: int, tick: Tick) -> list[Meeting]:
        """The meetings of one step, from the store where it has them; `tick` is called now and then, and may
        raise to stop."""
        tick()
        moves = np.flatnonzero(self.run.step_of == step)
        tools = self.used(moves)
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
        found = found + self._about_the_change(step, moves, asked, tick)
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

    def _about_the_change(
        self, step: int, moves: NDArray[np.int64], asked: dict[str, Any], tick: Tick
    ) -> list[dict[str, Any]]:
        """What comes near where a step begins with a change of the tool: each pair once, where it is
        nearest."""
        way = way_of(self, moves)
        if way is None:
            return []
        first, number = int(moves[0]), self.run.motion.tool
        numbers = int(number[max(0, first - 1)]), int(number[first])
        tools = [self.run.tools[n].facts() for n in numbers if n in self.run.tools]
        pause = self.on.machine.tool_change_s
        key = key_of("change", [self.digest, pause, way.tolist(), tools, asked, self._stock_key(step)])
        kept = self.store.get(key)
        if kept is None:
            rows: dict[frozenset[str], dict[str, Any]] = {}
            for near, motion, leg in near_on_way(self, step, way, numbers, tick):
                share = float(SHARES[leg] + near.share * (SHARES[leg + 1] - SHARES[leg]))
                row = self._row(near, motion, np.zeros(1, dtype=np.int32))
                row |= {"longer": None, "ahead_s": pause * (1.0 - share)}
                before = rows.setdefault(frozenset(row["bodies"]), row)
                if row["distance"] < before["distance"]:
                    rows[frozenset(row["bodies"])] = row
            kept = json.dumps(list(rows.values())).encode()
            self.store.put(key, "tool change", kept)
        return list(json.loads(kept))

    def _stock_key(self, step: int) -> str:
        """Key of the stock as it stands before a step."""
        return self.cutting.keep.keys[step - 1] if step else self.cutting.keep.raw

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
        key = key_of("bodies", [key, self._stock_key(step)])
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

    def _row(self, near: Near, motion: Motion, owner: NDArray[np.int32]) -> dict[str, Any]:
        """A meeting as plain data; `owner` (m,) is the place of every piece's move in its step."""
        values = motion.start[near.piece] + near.share * (motion.end[near.piece] - motion.start[near.piece])
        mount = self.on.machine.work
        at = self.tree.poses_on(near.pair.first.joint, values[None])[0]
        work = self.tree.poses_on(mount.joint, values[None])[0] @ mount.frame
        place = apply(invert(work @ self.on.work_from_setup) @ at, near.places[:1])[0]
        mine = np.flatnonzero(owner == owner[near.piece])
        piece = ""
        for k, solid in enumerate((near.pair.first, near.pair.second)):
            if solid.name == FIXTURE:
                drawn_at = mount.frame @ self.on.work_from_setup
                piece = self.fixture_pieces.at(apply(invert(drawn_at), near.places[k : k + 1])[0])
        return {
            "piece": piece,
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
        step,
        (one, two),
        row["distance"],
        int(moves[row["move"]]),
        row["share"],
        (x, y, z),
        row.get("longer"),
        row.get("ahead_s"),
        row["piece"],
    )
