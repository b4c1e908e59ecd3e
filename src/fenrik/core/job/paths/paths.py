"""The toolpaths of a job's operations, each kept under its inputs' hash."""

from __future__ import annotations

import json
import time
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.clearance import kept_clear
from fenrik.core.errors import ComputeError, FenrikError
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.paths.failing import KEPT, keep_failure, kept_failure
from fenrik.core.job.paths.keys import Keys
from fenrik.core.job.paths.side_stocks import SideStocks, turns
from fenrik.core.job.paths.standing import thinning_on_parts
from fenrik.core.job.paths.whole import check_not_empty, check_not_trimmed_away, missing_holes
from fenrik.core.job.setups.raw import raw_map
from fenrik.core.job.tasks.task import Task
from fenrik.core.job.tasks.tasks import Tasks
from fenrik.core.motion.notes import Empty, FeedAdapted, Note, Repeated, Short
from fenrik.core.motion.repeating import joined, placed
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import SILENT, Progress
from fenrik.core.proof.adapting import adapted, divided, follows, side_milling
from fenrik.core.proof.simulate import PART
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.strategies.base import CLEARING, Inputs
from fenrik.core.tooling.assembly import THREADING
from fenrik.core.tooling.cutting_data import engagement_angle

Floats = NDArray[np.float64]


class Paths:
    """Computes the paths of a job's operations; results are taken from the store where they exist."""

    def __init__(self, tasks: Tasks) -> None:
        self.tasks, self.setups, self.workspace = tasks, tasks.setups, tasks.workspace
        self.job, self.store = tasks.job, tasks.workspace.store
        self.keys = Keys(tasks)
        self._stocks: dict[str, tuple[list[str], HeightMap | None]] = {}
        self._side_stocks = SideStocks(self.setups, self.path_or_none)

    def path(self, setup: SetupDoc, operation: OperationDoc, progress: Progress = SILENT) -> Toolpath:
        """The operation's toolpath with shank and holder clear of the part, computed when it is not in the
        store. Raises with the operation's path in the document; what follows from the inputs is kept and
        raised again."""
        key, where = self.keys.path(setup, operation), self.tasks.where(setup, operation)
        blob = self.store.get(key)
        if blob is not None:
            return Toolpath.from_bytes(blob)
        if failed := self.failure(setup, operation):
            raise failed
        try:
            path = self._path(self.tasks.task(setup, operation), progress)
        except FenrikError as error:
            error.where = error.where or where
            keep_failure(self.store, key, error, where)
            raise
        self.store.put(key, "path", path.to_bytes())
        self.store.put(self.keys.made(setup, operation), "made", b"1")
        return path

    def failure(self, setup: SetupDoc, operation: OperationDoc) -> FenrikError | None:
        """Why an operation could not be computed when it was tried last."""
        where = self.tasks.where(setup, operation)
        return kept_failure(self.store, self.keys.path(setup, operation), where)

    def computed_before(self, setup: SetupDoc, operation: OperationDoc) -> bool:
        """Whether the operation was computed once, be it with other inputs."""
        return self.store.has(self.keys.made(setup, operation))

    def path_or_none(self, setup: SetupDoc, operation: OperationDoc) -> Toolpath | None:
        """The operation's toolpath, or None where it fails: then it cuts nothing, and others go on without
        it."""
        try:
            return self.path(setup, operation)
        except tuple(KEPT.values()):
            return None

    def compute_seconds(self, setup: SetupDoc, operation: OperationDoc) -> float:
        """How long the path took when it was computed."""
        blob = self.store.get(f"{self.keys.track(setup, operation)}-time")
        return float(json.loads(blob)["compute_s"]) if blob else 0.0

    def stock_before(self, setup: SetupDoc, operation: OperationDoc) -> HeightMap:
        """The planning stock before an operation: the raw stock less what earlier paths surely cut; one that
        fails cuts nothing. A copy."""
        earlier = self.tasks.before(setup, operation)
        keys = [self.keys.path(setup, o) for o in earlier]
        if setup.sides or any(turns(o) or setup.turns_of(o) for o in earlier):
            return self._side_stocks.before(setup, operation.side, list(zip(earlier, keys, strict=True)))
        done, stock = self._stocks.get(setup.name, ([], None))
        if stock is None or done != keys[: len(done)]:
            done, stock = [], raw_map(self.setups.clamped(setup))
        for other in earlier[len(done) :]:
            path = self.path_or_none(setup, other)
            if path is not None:
                stock.cut(path, self.job.tool(other.tool).cleared)
        self._stocks[setup.name] = (keys, stock)
        return stock.copy()

    def planned_thinning(self, task: Task, measured: Floats) -> float:
        """The mean chip over the feed per tooth for which the feed was planned: that of the stepover, or else
        what nine tenths of what was measured (n,) do not exceed."""
        stepover = getattr(task.parameters, "stepover", None)
        if stepover and task.strategy.kinds == CLEARING:
            return side_milling(engagement_angle(min(stepover, task.tool.diameter), task.tool.diameter))
        cuts = measured[measured > 0]
        return float(np.quantile(cuts, 0.9)) if len(cuts) else 1.0

    def _path(self, task: Task, progress: Progress) -> Toolpath:
        setup, operation, tool = task.setup, task.operation, task.tool
        tracked = self._track(task, progress.stage(0.0, 0.95))
        if task.strategy.axis == "moving":
            if operation.feed_follows == "engagement":
                raise ComputeError(
                    f"The feed of '{operation.name}' goes with the tool's contact along the wall; it does "
                    "not follow a measured engagement as well.",
                    remedy="Let the feed follow the plan.",
                )
            return tracked  # what its shank and holder touch the proof says
        progress.step(0.95, "keeping shank and holder clear")
        clearance = self.tasks.heights(task).clearance
        topology = self.setups.topology(setup, operation.tolerance_mm, operation.side)[0]
        stock = self.stock_before(setup, operation)
        path = kept_clear(tracked, topology, tool, operation.when_short, clearance, stock)
        check_not_trimmed_away(path, tracked, task, self.tasks.where(setup, operation))
        if path is not tracked and operation.holes and setup.repeat_of(operation) is None:
            made = missing_holes(path, tracked, self.tasks.spots(task), tool.radius)
            path = replace(path, notes=[*path.notes, *made])
        if self.setups.seen(setup, operation.side).keep_clear is not None:
            path = replace(path, notes=[_with_fixture(n) for n in path.notes])
        if operation.feed_follows == "engagement" and len(path) > 1 and tool.kind != "tap":
            progress.step(0.97, "measuring the engagement")
            path = self._feed_adapted(task, path)
        return path

    def _feed_adapted(self, task: Task, path: Toolpath) -> Toolpath:
        longest, planned = PART * task.tool.radius, task.feed
        parts, owner = divided(path, longest)
        before = [
            (o, p)
            for o in self.tasks.before(task.setup, task.operation)
            if (p := self.path_or_none(task.setup, o)) is not None
        ]
        thinning = thinning_on_parts(self.setups, task, before, path, owner, longest)
        wanted = self.planned_thinning(task, thinning[follows(parts, planned)])
        out = adapted(parts, owner, thinning, wanted, planned, task.feed_limit)
        times = (p.moves.lengths() / np.maximum(p.feed, 1e-9) for p in (parts, out))
        whole = (float(t[follows(p, None)].sum() * 60.0) for t, p in zip(times, (parts, out), strict=True))
        before_s, after_s = whole
        feeds = out.feed[follows(out, None)]
        slowest, fastest = float(feeds.min(initial=planned)), float(feeds.max(initial=planned))
        return replace(out, notes=[*path.notes, FeedAdapted(before_s, after_s, slowest, fastest)])

    def _track(self, task: Task, progress: Progress) -> Toolpath:
        """The path of the cutter alone: another stick-out or holder needs no new one."""
        key = self.keys.track(task.setup, task.operation)
        blob = self.store.get(key)
        if blob is not None:
            return Toolpath.from_bytes(blob)
        inputs = self.tasks.inputs(task, self.stock_before(task.setup, task.operation))
        started = time.perf_counter()
        path = self._computed(task, inputs, progress)
        check_not_empty(path, task, self.tasks.where(task.setup, task.operation))
        if len(path) < 2:
            path.notes.append(Empty())
        taken = time.perf_counter() - started
        self.store.put(f"{key}-time", "timing", json.dumps({"compute_s": taken}).encode())
        self.store.put(key, "track", path.to_bytes())
        return path

    def _computed(self, task: Task, inputs: Inputs, progress: Progress) -> Toolpath:
        """The strategy's path, at every place of its repeat. A mirrored one is the mirror of the path for a
        spindle that turns the other way, so that climb stays climb."""
        compute, operation = task.strategy.compute, task.operation
        repeat = task.setup.repeat_of(operation)
        if repeat is None or repeat.turns():
            return compute(inputs, progress)
        places = repeat.places()
        mirrored = any(p.mirrored for p in places)
        if mirrored and task.tool.kind in THREADING:
            raise ComputeError(
                f"'{repeat.name}' mirrors '{operation.name}', and a mirrored thread has the other hand.",
                remedy="Take the operation out of the repeat and add the other holes to it.",
            )
        path = compute(inputs, progress.stage(0.0, 0.5 if mirrored else 1.0))
        other = path
        if mirrored:
            turned = replace(
                inputs,
                spindle_clockwise=not inputs.spindle_clockwise,
                stock=self.stock_before(task.setup, operation),
            )
            other = compute(turned, progress.stage(0.5, 1.0))
        chord = 0.1 * operation.tolerance_mm
        whole = joined([placed(other if p.mirrored else path, p, chord) for p in places])
        return replace(whole, notes=[*whole.notes, Repeated(len(places), repeat.how.kind, mirrored)])


def _with_fixture(note: Note) -> Note:
    """The fixture is looked at as if it were part."""
    if isinstance(note, Short) and note.against == "part":
        return replace(note, against="part or the fixture")
    return note
