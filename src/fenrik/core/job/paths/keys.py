"""Keys of paths: a hash of all that shapes them. Nothing is computed for one."""

from __future__ import annotations

from typing import Any

from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.tasks.task import Task
from fenrik.core.job.tasks.tasks import Tasks
from fenrik.core.job.workspace.artefacts import key_of


class Keys:
    """Keys of a job's paths, each worked out once. One stands on what the operation before it in its setup
    leaves, and so on what all before leave; with which feed they do is of no concern."""

    def __init__(self, tasks: Tasks) -> None:
        self._tasks = tasks
        # by identity: documents are frozen and have no hash
        self._keys: dict[int, tuple[SetupDoc, list[tuple[str, str, str]]]] = {}

    def track(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """Key of a cutter's track: all that shapes it; names, notes, coolant, stick-out and holder do not."""
        return self._all(setup, operation)[0]

    def path(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """Key of a path: that of the cutter's track, and shank, stick-out and holder."""
        return self._all(setup, operation)[1]

    def made(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """Key of the mark that an operation of this name was computed once, whatever changed since."""
        return key_of("made", [self._tasks.setups.workspace.part_key(), setup.name, operation.name])

    def _all(self, setup: SetupDoc, operation: OperationDoc) -> tuple[str, str, str]:
        """Keys of track, path and what is left, one after the other down to the one that is asked for."""
        known = self._keys.get(id(setup))
        if known is None or known[0] is not setup:
            known = self._keys[id(setup)] = (setup, [])
        keys, place = known[1], self._tasks.place(setup, operation)
        while len(keys) <= place:
            n = len(keys)
            before = next((keys[i][2] for i in range(n - 1, -1, -1) if setup.operations[i].enabled), None)
            task = self._tasks.task(setup, setup.operations[n])
            given = self._given(task, before)
            track = key_of("track", [*given, task.track_inputs()])
            left = key_of("left", [*given, task.ground_inputs(), task.body_inputs()])
            keys.append((track, self._path(task, track), left))
        return keys[place]

    def _given(self, task: Task, earlier: str | None) -> list[Any]:
        """What an operation works on: part, stock, side, and what the one before leaves."""
        setups, side = self._tasks.setups, task.operation.side
        frame, stock = setups.frame_of(task.setup), setups.stock_key(task.setup)
        given = [setups.workspace.part_key(), frame, stock, earlier]
        if side is not None:
            given.append(setups.seen(task.setup, side).setup_from_side.tolist())
        return given

    def _path(self, task: Task, track: str) -> str:
        adapted_to = None
        if task.operation.feed_follows == "engagement":
            adapted_to = [task.spindle_rpm, task.feed_limit, self._tasks.job.proof.cell_mm]
        return key_of("path", [track, task.body_inputs(), adapted_to])
