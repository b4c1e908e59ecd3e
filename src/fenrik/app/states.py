"""What of a job is computed, stale, missing or failing: the answer to "what is next"."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.app.shapes import (
    Box,
    Fault,
    JobState,
    OperationState,
    PartState,
    ReleaseState,
    SafeBodyState,
    SetupState,
    SideState,
    StockState,
)
from fenrik.core.errors import FenrikError, NotYet
from fenrik.core.job.cutting.proofs import kept_proof
from fenrik.core.job.document.job import OperationDoc, ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.setups.moving import moving_words
from fenrik.core.job.setups.safe_body import SafeBody
from fenrik.core.job.workspace.artefacts import Store
from fenrik.core.setups.side import SideDoc


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
    state = job_state(paths(watching)).model_dump(mode="json", exclude_none=True)
    return {"state": state, "present": sorted(watching.present), "absent": sorted(watching.absent)}


def job_state(paths: Paths) -> JobState:
    """Part, setups, operations and releases with their state and what follows from the decisions."""
    job = paths.job
    if job.part is None:
        return JobState(part=PartState(state="missing"), setups=[], releases=[])
    try:
        part = paths.workspace.part()
    except FenrikError as error:
        return JobState(part=PartState(state="unread", error=_fault(error)), setups=[], releases=[])
    return JobState(
        part=PartState(state="ready", key=paths.workspace.part_key(), **part.summary()),
        setups=[_setup_state(paths, s) for s in job.setups],
        releases=[
            _release_state(paths, r, i, setup)
            for i, r in enumerate(job.effective_releases())
            for setup in r.setups
        ],
    )


def _fault(error: FenrikError) -> Fault:
    return Fault(**error.as_dict())


def _box(low: NDArray[np.float64], high: NDArray[np.float64]) -> Box:
    return Box(min=tuple(low.tolist()), max=tuple(high.tolist()))


def _setup_state(paths: Paths, setup: SetupDoc) -> SetupState:
    setups = paths.setups
    try:
        clamped = setups.clamped(setup)
        setups.machine(setup)
        setups.material(setup)
        where = f"{setups.where(setup)}.sides"
        sides = [side_state(paths, setup, s, f"{where}[{i}]") for i, s in enumerate(setup.sides)]
        body = setups.safe_body(setup)
    except NotYet as error:
        waiting = [_operation_state(paths, setup, o, waits=True) for o in setup.operations]
        return SetupState(name=setup.name, state="waits", error=_fault(error), operations=waiting)
    except FenrikError as error:
        return SetupState(name=setup.name, state="wrong", error=_fault(error), operations=[])
    stock = _box(clamped.stock_low, clamped.stock_high)
    return SetupState(
        name=setup.name,
        state="ready",
        setup_from_part=clamped.setup_from_part.tolist(),
        stock=StockState(min=stock.min, max=stock.max, shape=setups.stock_shape(setup)),
        safe_body=None if body is None else _body(body),
        fixture=setups.fixture_shape(setup),
        machine=setups.machine_shape(setup),
        part=_box(clamped.part_low, clamped.part_high),
        table_from_setup=tuple(clamped.table_from_setup.tolist()),
        copies=[tuple(c) for c in clamped.copies.tolist()],
        moved=moving_words(setups, setup),
        sides=sides,
        operations=[_operation_state(paths, setup, o) for o in setup.operations],
    )


def _body(body: SafeBody) -> SafeBodyState:
    (ax, ay, az), (bx, by, bz) = body.low.tolist(), body.high.tolist()
    return SafeBodyState(low=(ax, ay, az), high=(bx, by, bz), radius=body.radius, top=float(body.top))


def side_state(paths: Paths, setup: SetupDoc, side: SideDoc, where: str) -> SideState:
    """What is known of a side that a setup has, or may get. Raises DocumentError for one that has no
    direction."""
    matrix, on = paths.setups.frame_of_side(setup, side, where), paths.setups.on_machine(setup)
    axis = on.work_from_setup[:3, :3] @ matrix[:3, 2]
    held = None if side.up.rotary is None else on.machine.rotary_at(side.up.rotary)
    why, joints = on.machine.why_not(axis, held), {}
    if not why and not on.machine.is_arm:
        given = None if held is None else held[None]
        angles = on.machine.rotary_positions(axis[None], held=given)[0][0]
        joints = {
            j.letter or j.name: round(float(a), 4) for j, a in zip(on.machine.rotary, angles, strict=True)
        }
    return SideState(name=side.name, setup_from_side=matrix.tolist(), out_of_reach=why, joints=joints)


def _operation_state(
    paths: Paths, setup: SetupDoc, operation: OperationDoc, waits: bool = False
) -> OperationState:
    """An operation; where its setup `waits`, its stock is not known yet and so it has no key."""
    task = paths.tasks.task(setup, operation)
    numbers: dict[str, Any] = {
        "name": operation.name,
        "spindle_rpm": task.spindle_rpm,
        "feed_mm_min": task.feed,
    }
    if waits:
        return OperationState(state=_open(paths, setup, operation), **numbers)
    key = paths.keys.path(setup, operation)
    if paths.store.has(key):
        return OperationState(state="ready", key=key, **numbers)
    failed = paths.failure(setup, operation)
    if failed is None:
        return OperationState(state=_open(paths, setup, operation), key=key, **numbers)
    return OperationState(state="failed", key=key, error=_fault(failed), **numbers)


def _open(paths: Paths, setup: SetupDoc, operation: OperationDoc) -> Literal["new", "stale"]:
    return "stale" if paths.computed_before(setup, operation) else "new"


def _release_state(paths: Paths, release: ReleaseDoc, index: int, setup: str) -> ReleaseState:
    """What of a release runs in one of its setups; `index` is the release's place in the document."""
    row: dict[str, Any] = {"name": release.name, "index": index, "setup": setup, "dialect": release.dialect}
    row["file"] = release.file
    try:
        key = Prover(paths).release_key(release, setup)
    except NotYet as error:
        return ReleaseState(**row, state="stale", error=_fault(error))
    except FenrikError as error:
        return ReleaseState(**row, state="wrong", error=_fault(error))
    proof = kept_proof(paths.store, key)
    if proof is None:
        return ReleaseState(**row, state="stale", key=key)
    severities = [f["severity"] for f in proof.facts["findings"]]
    row |= {"stops": severities.count("stop"), "cautions": severities.count("caution")}
    return ReleaseState(**row, state="ready", key=key)
