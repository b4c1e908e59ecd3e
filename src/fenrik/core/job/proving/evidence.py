"""All that is known of a posted program when its checks are asked."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.topology import Topology, prepare
from fenrik.core.features.holes import Hole
from fenrik.core.frames import invert
from fenrik.core.job.cutting.cutting import Cutting
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.proving.machine_bodies import Bodies, look_at_bodies
from fenrik.core.job.tasks.task import Task
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import joined_meshes
from fenrik.core.posting.program import Step
from fenrik.core.progress import Progress
from fenrik.core.proof import edges, engravings, threads
from fenrik.core.proof.deviation import Deviation, OwnZone, SideZone, Zone, measure
from fenrik.core.proof.left import Reaches, SideReach, left_on
from fenrik.core.proof.numbers import Left, Worst
from fenrik.core.proof.run import Run
from fenrik.core.setups.setup import Clamped
from fenrik.core.tolerances import BENDING_SHARE, MESH_SHARE
from fenrik.core.tooling.assembly import POINTED, Assembly
from fenrik.core.tooling.library import starting_library
from fenrik.core.tooling.materials import Material
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
TOLERANCE_MM = 0.01
"""How deep a program from elsewhere may cut into the part: what an operation may that says nothing else."""


@dataclass(frozen=True)
class Worked:
    """A step of a proved program: its tool, how deep it may cut into the part, the side that it works, what
    its tool may bend (see `Task.may_bend`), and the operation that it stands for, None in a program from
    elsewhere."""

    name: str
    tool: Assembly
    tolerance_mm: float
    side: str | None
    may_bend: tuple[float | None, float]
    task: Task | None


@dataclass(frozen=True)
class Evidence:
    """What the checks of a proof look at: the posted program, how it cut the stock of its setup, and the
    design.

    `band` mm is the half band of "on size", `area` mm² the design's surface, `release_setups` the setups of
    the whole release, `holes` the part's where one of them has an unconfirmed use, `bodies` what was seen of
    those of the machine, which may pass no nearer than `near` mm.
    """

    posted: Posted
    cutting: Cutting
    clamped: Clamped
    release_setups: Sequence[tuple[SetupDoc, Clamped]]
    on: OnMachine
    material: Material
    worked: Sequence[Worked]
    tools: Sequence[Assembly]
    mesh: TriangleMesh
    area: float
    band: float
    holes: Sequence[Hole]
    bodies: Bodies
    near: float
    progress: Progress

    @property
    def run(self) -> Run:
        """The program as it runs, rapids at their feed taken for rapids."""
        return self.cutting.run

    @property
    def tasks(self) -> list[Task]:
        """The operations that its steps stand for."""
        return [w.task for w in self.worked if w.task is not None]

    @cached_property
    def design(self) -> DistanceField:
        """Distances from the part."""
        return DistanceField(self.mesh)

    @cached_property
    def zones(self) -> list[Zone]:
        """Threads, broken edges and engravings, which the design does not show."""
        return [zone for step in self.posted.program.steps for zone in _zones(step)]

    @cached_property
    def deviation(self) -> Deviation:
        """How far the cut stock is from the design."""
        self.progress.step(0.0, "measuring the deviation")
        cut = self.cutting.done
        return measure(cut.last, self.design, self.area, self.band, cut.cuts, cut.skin, self.zones)

    @cached_property
    def limits(self) -> list[float]:
        """How deep, mm, each operation may cut into the part."""
        tolerance = min(w.tolerance_mm for w in self.worked)
        slack = self.posted.dialect.resolution_mm + max(0.0, self.mesh.deviation - tolerance * MESH_SHARE)
        return [w.tolerance_mm + slack for w in self.worked]

    @cached_property
    def reach(self) -> Reaches:
        """What gets to places of the design from the sides that were worked."""
        seen = [(w.side, s.turned) for w, s in zip(self.worked, self.posted.program.steps, strict=True)]
        frames = {name: np.eye(4) for name in seen}
        for step, name in zip(self.posted.program.steps, seen, strict=True):
            if step.side is not None:
                frames[name] = step.side.setup_from_side
        sides = []
        for name, matrix in frames.items():
            cutters = {w.tool.profile for w, own in zip(self.worked, seen, strict=True) if own == name}
            free = None if self.clamped.keep_clear is None else prepare(self.mesh.moved(invert(matrix)))
            sides.append(SideReach(invert(matrix), self._solid(matrix), cutters, free))
        # paths keep a gap off the fixture: what holds the stock is that much larger for them
        held = None if self.clamped.keep_clear is None else DistanceField(self.clamped.keep_clear)
        return Reaches(sides, smallest_cutters(self.tools), 0.5 * self.band, held)

    @cached_property
    def left(self) -> Left:
        """How much of the design in reach of the sides is on size, what is left, and why."""
        return left_on(self.mesh, self.deviation, self.reach, self.band, self.cutting.stock.cell)

    @cached_property
    def worst(self) -> list[Worst]:
        """The places farthest off, with what gets to each."""
        found = self.deviation.facts.worst
        if not found:
            return []
        points = np.array([w.place for w in found])
        off, _, normals = self.design.signed(points)
        reached = self.reach.of(points - off[:, None] * normals, normals)
        return [replace(w, reached=by) for w, by in zip(found, reached, strict=True)]

    def _solid(self, setup_from_side: Floats) -> Topology:
        """Part and fixture as a side sees them."""
        fixture = self.clamped.keep_clear
        solid = self.mesh if fixture is None else joined_meshes([self.mesh, fixture])
        return prepare(solid.moved(invert(setup_from_side)))


def smallest_cutters(tools: Sequence[Assembly]) -> list[Profile]:
    """The smallest ball and the smallest square end mill of the starting library and the job's own tools."""
    out = []
    for kind in ("ball", "flat"):
        found = [t for t in (*starting_library(), *tools) if t.kind == kind]
        if found:
            out.append(min(found, key=lambda t: t.diameter).profile)
    return out


def gather(paths: Paths, posted: Posted, cutting: Cutting, progress: Progress) -> Evidence:
    """What is known of a posted program and its cutting."""
    setup, setups, job = posted.setup, paths.setups, paths.job
    clamped = setups.clamped(setup)
    worked = _worked(paths, posted)
    unconfirmed = any(o.unconfirmed for s in map(job.setup, posted.release.setups) for o in s.operations)
    bodies = look_at_bodies(paths, posted, cutting, progress.stage(0.0, 0.3))
    return Evidence(
        posted=posted,
        cutting=cutting,
        clamped=clamped,
        release_setups=[(s, setups.clamped(s)) for s in map(job.setup, posted.release.setups)],
        on=setups.on_machine(setup),
        material=setups.material(setup),
        worked=worked,
        tools=job.tools,
        mesh=setups.mesh(setup, min(w.tolerance_mm for w in worked)),
        area=paths.workspace.part().area * len(clamped.copies),
        band=job.proof.tolerance_mm,
        holes=paths.workspace.holes() if unconfirmed else [],
        bodies=bodies,
        near=job.proof.near_mm,
        progress=progress.stage(0.3, 1.0),
    )


def _worked(paths: Paths, posted: Posted) -> list[Worked]:
    """The steps of a program with what is known of each."""
    band = paths.job.proof.tolerance_mm
    if posted.release.file is None:
        tasks = [paths.tasks.task(posted.setup, o) for o in posted.operations]
        return [
            Worked(t.operation.name, t.tool, t.operation.tolerance_mm, t.operation.side, t.may_bend(band), t)
            for t in tasks
        ]
    out = []
    for step in posted.program.steps:
        # what its steps should leave on the part nobody knows: a tool that bends far is a caution
        share = None if step.tool.kind in POINTED else BENDING_SHARE * 2.0 * band
        out.append(Worked(step.name, step.tool, TOLERANCE_MM, None, (share, math.inf), None))
    return out


def _zones(step: Step) -> list[Zone]:
    """Threads, broken edges and engravings of a step, as it noted them."""
    noted = step.path.notes
    own: list[OwnZone] = [*threads.zones_of(noted), *edges.zones_of(noted), *engravings.zones_of(noted)]
    matrix = None if step.side is None else invert(step.side.setup_from_side)
    return [zone if matrix is None else SideZone(zone, matrix) for zone in own]
