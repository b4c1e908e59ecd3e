"""What a run computes: it reads the part, plans the paths, or proves the releases of a job.

Works on a document, files and a folder of results, and knows no database: it runs in a process that can be
ended at any moment. Every result is written whole, so that a run which is done again finds what was finished.
"""

from __future__ import annotations

import json
from typing import Any

from fenrik.core.errors import Cancelled, FenrikError, InputError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.proved import proposal_key, propose_proved
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import Store
from fenrik.core.job.workspace.files import JobFiles, check_files
from fenrik.core.progress import Progress
from fenrik.core.setups.setup import CarriedStock, SolidStock

READING = "reading the part"
"""What a run does at first: the words by which a crash of the geometry library is told from others."""


def compute(document: dict[str, Any], files: JobFiles, store: Store, target: str, progress: Progress) -> None:
    """Carries out a run: `target` is part, plan, prove or a whole plan for a setup ("whole:0"). Raises
    FenrikError."""
    job = job_from_data(document)
    check_files(job)
    paths = open_job(job, files, store)
    progress.step(0.0, READING)
    paths.workspace.part()
    for setup in job.setups:
        held = (f for f in job.fixtures if setup.held_in and f.name == setup.held_in.fixture)
        pieces = [*setup.fixture, *(piece for f in held for piece in f.pieces)]
        if isinstance(setup.stock, SolidStock) or any(piece.kind == "solid" for piece in pieces):
            paths.setups.clamped(setup)  # reads the solids of stock and fixture
        if any(m.id == setup.machine for m in job.machines):
            paths.setups.machine_files(paths.setups.machine(setup))  # and those of the machine's bodies
    if target == "part":
        return
    if target == "plan":
        failures = _plan(paths, progress)
        if failures:
            raise failures[0]
        return
    if target.startswith("whole:"):
        _whole(paths, files, store, int(target.split(":")[1]), progress)
        return
    prover = Prover(paths)
    releases = job.effective_releases()
    unproved: list[FenrikError] = []
    for i, release in enumerate(releases):
        try:
            prover.prove_whole(release, progress.stage(i / len(releases), (i + 1) / len(releases)))
        except Cancelled:
            raise
        except FenrikError as error:  # the others are still worth proving
            unproved.append(error)
    if unproved:
        raise unproved[0]


def _whole(paths: Paths, files: JobFiles, store: Store, place: int, progress: Progress) -> None:
    """Proposes a whole plan for a setup, proved, and keeps it."""
    job = paths.job
    if place >= len(job.setups):
        raise InputError(f"The job has no setup {place + 1}.", remedy="Choose a setup of this job.")
    setup = job.setups[place]
    made = propose_proved(job, setup, files, store, progress)
    store.put(proposal_key(job, setup), "proposal", json.dumps(made.plain()).encode())


def _plan(paths: Paths, progress: Progress) -> list[FenrikError]:
    """Every path that can be computed; returns what went wrong with the others."""
    failures: list[FenrikError] = []
    setups = paths.job.setups
    count = max(1, sum(o.enabled for s in setups for o in s.operations))
    done = 0
    for setup in setups:
        enabled = [o for o in setup.operations if o.enabled]
        try:
            if isinstance(
                setup.stock, CarriedStock
            ):  # also where nothing is planned yet: it is what can be seen
                progress.step(done / count, f"cutting the stock of '{setup.name}'")
                paths.setups.carried(setup, progress.stage(done / count, (done + 0.5) / count))
        except Cancelled:
            raise
        except FenrikError as error:  # nothing of this setup can be computed
            failures.append(error)
            continue
        for operation in enabled:
            stage = progress.stage(done / count, (done + 1) / count)
            stage.step(0.0, f"'{operation.name}'")
            done += 1
            try:
                paths.path(setup, operation, stage)
            except Cancelled:
                raise
            except FenrikError as error:  # the others are still worth computing
                failures.append(error)
    return failures
