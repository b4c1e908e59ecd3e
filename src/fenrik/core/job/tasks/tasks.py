"""A job's operations as tasks, and all that a strategy may know of one."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.errors import DocumentError
from fenrik.core.features.bosses import find_bosses
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.setups.setups import Setups
from fenrik.core.job.tasks.drawn_lines import drawn_lines
from fenrik.core.job.tasks.heights import heights_of
from fenrik.core.job.tasks.hole_spots import hole_spots
from fenrik.core.job.tasks.regions import area_of
from fenrik.core.job.tasks.ruled_faces import ruled_faces
from fenrik.core.job.tasks.task import Task, resolve
from fenrik.core.job.tasks.wall_lines import rims, wall_lines
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.setups.setup import Clamped
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.strategies.base import Heights, HoleSpot, Inputs, Parameters
from fenrik.core.strategies.kit.touching import ChosenFaces
from fenrik.core.tolerances import MESH_SHARE
from fenrik.core.tooling.profile import Profile

COARSE = 2e-3
"""Chord tolerance of a part that is not followed itself, as a share of its size."""


class Tasks:
    """Resolves a job's operations, each once."""

    def __init__(self, setups: Setups) -> None:
        self.setups, self.workspace, self.job = setups, setups.workspace, setups.job
        self._cutters: dict[tuple[int, Profile], dict[tuple[float, float], DropCutter]] = {}
        # by identity: documents are frozen and have no hash
        self._places: dict[int, tuple[SetupDoc, dict[int, int]]] = {}
        self._tasks: dict[int, tuple[OperationDoc, Task]] = {}

    def task(self, setup: SetupDoc, operation: OperationDoc) -> Task:
        """The operation with proposals in place of what was left open."""
        known = self._tasks.get(id(operation))
        if known is None or known[0] is not operation:
            tool = self.job.tool(operation.tool)
            found = resolve(setup, operation, tool, self.setups.machine(setup), self.setups.material(setup))
            known = self._tasks[id(operation)] = (operation, found)
        return known[1]

    def where(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """The operation's path in the document."""
        return f"{self.setups.where(setup)}.operations[{self.place(setup, operation)}]"

    def place(self, setup: SetupDoc, operation: OperationDoc) -> int:
        """The operation's place in its setup; by identity, since comparing documents takes long."""
        known = self._places.get(id(setup))
        if known is None or known[0] is not setup:
            known = self._places[id(setup)] = (setup, {id(o): i for i, o in enumerate(setup.operations)})
        return known[1][id(operation)]

    def before(self, setup: SetupDoc, operation: OperationDoc) -> list[OperationDoc]:
        """The switched-on operations that cut before this one in its setup."""
        return [o for o in setup.operations[: self.place(setup, operation)] if o.enabled]

    def heights(self, task: Task) -> Heights:
        """The task's heights in its side's frame. Raises DocumentError."""
        seen = self.setups.seen(task.setup, task.operation.side)
        return heights_of(task.operation, seen, self.where(task.setup, task.operation))

    def inputs(self, task: Task, stock: HeightMap) -> Inputs:
        """All that the strategy may know of a task, in its side's frame; `stock` is the one before it.

        Raises DocumentError or ComputeError with the place in the document for what cannot be found or does
        not fit.
        """
        setup, operation, tool = task.setup, task.operation, task.tool
        where = self.where(setup, operation)
        task.check_kind(where)
        side, tolerance = operation.side, operation.tolerance_mm
        seen = self.setups.seen(setup, side)
        # a ruled face is followed on its exact surface: the rest of the part need not be as fine
        ruled = task.strategy.target == "ruled"
        size = float((seen.part_high - seen.part_low).max())
        fine = max(tolerance, round(COARSE * size, 3)) if ruled else tolerance
        mesh = self.setups.mesh(setup, fine, side)
        topology, outline = self.setups.topology(setup, fine, side)
        low, high = seen.stock_low, seen.stock_high
        outline_of, faces = partial(self.setups.outline_of, setup, fine, side), int(mesh.face_ids.max())
        keep_in = area_of(setup.plain(operation.keep_in), outline_of, faces, low, high, f"{where}.keep_in")
        keep_out = area_of(setup.plain(operation.keep_out), outline_of, faces, low, high, f"{where}.keep_out")
        return Inputs(
            topology=topology,
            cutters=self._cutters.setdefault((id(topology), tool.profile), {}),
            assembly=tool,
            parameters=_with_excess(
                task.parameters, 0.0 if ruled else max(0.0, mesh.deviation - tolerance * MESH_SHARE)
            ),
            stock=stock,
            stock_low=low,
            stock_high=high,
            part_low=seen.part_low,
            part_high=seen.part_high,
            flats=self.setups.flats(seen),
            tops=seen.tops,
            outline=outline,
            keep_in=keep_in,
            # bounds the whole cutter, so its middle stays a radius away
            keep_out=None if keep_out is None else shapely.buffer(keep_out, tool.radius),
            heights=heights_of(operation, seen, where),
            feed=task.feed,
            entry_feed=task.entry_feed,
            tolerance=tolerance,
            spindle_clockwise=operation.spindle == "clockwise",
            holes=self._spots(task, seen, where),
            lines=self._lines(task, seen, where),
            faces=self._faces(task, mesh, fine, where),
            **self._walls(task, mesh, outline, where),
        )

    def _faces(self, task: Task, mesh: TriangleMesh, fine: float, where: str) -> ChosenFaces | None:
        """The chosen faces of a surface strategy, None where all are meant. Raises DocumentError for one that
        does not exist."""
        wanted = task.operation.faces
        if not wanted:
            return None
        known = int(mesh.face_ids.max())
        if missing := [f for f in wanted if f > known]:
            raise DocumentError(
                f"Face {missing[0]} does not exist.",
                remedy=f"Use a face from 1 to {known}.",
                where=f"{where}.faces",
            )
        mine = np.isin(mesh.face_ids, wanted)
        own = TriangleMesh(mesh.vertices, mesh.triangles[mine], mesh.face_ids[mine], mesh.deviation)
        outline = self.setups.outline_of(task.setup, fine, task.operation.side, wanted)
        return ChosenFaces(own, outline)

    def spots(self, task: Task) -> list[HoleSpot]:
        """The round holes or bosses of a task, in its side's frame. Raises DocumentError."""
        seen = self.setups.seen(task.setup, task.operation.side)
        return self._spots(task, seen, self.where(task.setup, task.operation))

    def _spots(self, task: Task, seen: Clamped, where: str) -> list[HoleSpot]:
        """The round holes or bosses of a task."""
        picks = task.operation.holes
        if not picks:
            return []
        places = task.strategy.target if task.strategy.round else "holes"
        bosses = [] if places == "holes" else find_bosses(self.workspace.part())
        return hole_spots(picks, self.workspace.holes(), bosses, seen, f"{where}.holes", places)

    def _lines(self, task: Task, seen: Clamped, where: str) -> list[tuple[str, Any]]:
        """The lines that a task follows."""
        tolerance = task.operation.tolerance_mm
        mesh = self.workspace.mesh(round(tolerance * MESH_SHARE, 6))
        return drawn_lines(
            task.operation.lines, self.workspace.part(), mesh, seen, 0.1 * tolerance, f"{where}.lines"
        )

    def _walls(self, task: Task, mesh: TriangleMesh, outline: BaseGeometry, where: str) -> dict[str, Any]:
        """The chosen walls, or what their upper edges are, as the strategy needs them."""
        operation = task.operation
        if not operation.walls:
            return {}
        seen = self.setups.seen(task.setup, operation.side)
        if task.strategy.target == "ruled":
            return {"ruled": ruled_faces(operation.walls, self.workspace.part(), seen, f"{where}.walls")}
        given = (operation.walls, self.workspace.part(), mesh, outline, seen, f"{where}.walls")
        return {"rims": rims(*given)} if task.strategy.target == "rims" else {"walls": wall_lines(*given)}


def _with_excess(parameters: Parameters, excess: float) -> Parameters:
    """Where a file's own gaps keep the mesh from its deflection, the path keeps off by the rest."""
    if excess <= 0:
        return parameters
    names = [n for n in ("allowance", "allowance_radial", "allowance_axial") if hasattr(parameters, n)]
    return parameters.model_copy(update={n: getattr(parameters, n) + excess for n in names})
