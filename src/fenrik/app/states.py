"""What of a job is computed, stale, missing or failing: the answer to "what is next"."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fenrik.core.errors import FenrikError, NotYet
from fenrik.core.job.document.job import OperationDoc, ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.setups.moving import moving_words
from fenrik.core.job.workspace.artefacts import Store


class Watching:
    """A store that notes which results were there and which were not: an answer holds for as long as that is
    so."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self.present: set[str] = set()
        self.absent: set[str] = set()

    def get(self, key: str) -> bytes | None:
        """The result under a key, or None."""
        blob = self._store.get(key)
        (self.absent if blob is None else self.present).add(key)
        return blob

    def has(self, key: str) -> bool:
        """Whether there is a result."""
        there = self._store.has(key)
        (self.present if there else self.absent).add(key)
        return there

    def put(self, key: str, kind: str, blob: bytes) -> None:
        """Keeps a result."""
        self._store.put(key, kind, blob)
        self.absent.discard(key)
        self.present.add(key)


def recorded_state(paths: Callable[[Store], Paths], store: Store) -> dict[str, Any]:
    """The state of a job, and the keys of the results that must be present and absent for it to
    hold."""
    watching = Watching(store)
    state = job_state(paths(watching))
    return {"state": state, "present": sorted(watching.present), "absent": sorted(watching.absent)}


def job_state(paths: Paths) -> dict[str, Any]:
    """Part, setups, operations and releases with their state and what follows from the decisions."""
    job = paths.job
    if job.part is None:
        return {"part": {"state": "missing"}, "setups": [], "releases": []}
    try:
        part = paths.workspace.part()
    except FenrikError as error:
        return {"part": {"state": "unread", "error": error.as_dict()}, "setups": [], "releases": []}
    return {
        "part": {"state": "ready", "key": paths.workspace.part_key(), **part.summary()},
        "setups": [_setup_state(paths, s) for s in job.setups],
        "releases": [
            _release_state(paths, r, i, setup)
            for i, r in enumerate(job.effective_releases())
            for setup in r.setups
        ],
    }


def _setup_state(paths: Paths, setup: SetupDoc) -> dict[str, Any]:
    try:
        clamped = paths.setups.clamped(setup)
        paths.setups.machine(setup)
        paths.setups.material(setup)
        sides = [_side_state(paths, setup, s.name) for s in setup.sides]
    except NotYet as error:
        waiting = [_waiting(paths, setup, o) for o in setup.operations]
        return {"name": setup.name, "state": "waits", "error": error.as_dict(), "operations": waiting}
    except FenrikError as error:
        return {"name": setup.name, "state": "wrong", "error": error.as_dict(), "operations": []}
    return {
        "name": setup.name,
        "state": "ready",
        "setup_from_part": clamped.setup_from_part.tolist(),
        "stock": {
            "min": clamped.stock_low.tolist(),
            "max": clamped.stock_high.tolist(),
            "shape": paths.setups.stock_shape(setup),
        },
        "fixture": paths.setups.fixture_shape(setup),
        "part": {"min": clamped.part_low.tolist(), "max": clamped.part_high.tolist()},
        "table_from_setup": clamped.table_from_setup.tolist(),
        "copies": clamped.copies.tolist(),
        "moved": moving_words(paths.setups, setup),
        "sides": sides,
        "operations": [_operation_state(paths, setup, o) for o in setup.operations],
    }


def _side_state(paths: Paths, setup: SetupDoc, name: str) -> dict[str, Any]:
    matrix, on = paths.setups.seen(setup, name).setup_from_side, paths.setups.on_machine(setup)
    why = on.machine.why_not(on.work_from_setup[:3, :3] @ matrix[:3, 2])
    return {"name": name, "setup_from_side": matrix.tolist(), "out_of_reach": why}


def _waiting(paths: Paths, setup: SetupDoc, operation: OperationDoc) -> dict[str, Any]:
    """An operation whose stock is not known yet."""
    resolved = paths.tasks.task(setup, operation)
    return {
        "name": operation.name,
        "state": "stale",
        "spindle_rpm": resolved.spindle_rpm,
        "feed_mm_min": resolved.feed,
    }


def _operation_state(paths: Paths, setup: SetupDoc, operation: OperationDoc) -> dict[str, Any]:
    resolved = paths.tasks.task(setup, operation)
    key = paths.keys.path(setup, operation)
    ready = paths.store.has(key)
    failed = None if ready else paths.failure(setup, operation)
    return {
        "name": operation.name,
        "key": key,
        "state": "ready" if ready else "failed" if failed else "stale",
        **({"error": failed.as_dict()} if failed else {}),
        "spindle_rpm": resolved.spindle_rpm,
        "feed_mm_min": resolved.feed,
    }


def _release_state(paths: Paths, release: ReleaseDoc, index: int, setup: str) -> dict[str, Any]:
    """What of a release runs in one of its setups; `index` is the release's place in the document."""
    row: dict[str, Any] = {"name": release.name, "index": index, "setup": setup, "dialect": release.dialect}
    try:
        key = Prover(paths).release_key(release, setup)
    except NotYet as error:
        return {**row, "state": "stale", "error": error.as_dict()}
    except FenrikError as error:
        return {**row, "state": "wrong", "error": error.as_dict()}
    return {**row, "state": "ready" if paths.store.has(key) else "stale", "key": key}
