"""Computes a run: reads the part, plans the paths, or proves the releases of a job."""

from __future__ import annotations

import logging
import time
from typing import Any

from sqlmodel import Session

from fenrik.app.jobs import Jobs
from fenrik.app.tables import RunRow, now
from fenrik.core.errors import Cancelled, FenrikError
from fenrik.core.job.planning import Planner
from fenrik.core.job.proving import Prover
from fenrik.core.progress import Progress
from fenrik.core.setups.setup import CarriedStock, SolidStock

log = logging.getLogger(__name__)
MAX_ATTEMPTS = 3


def compute(jobs: Jobs, run_id: int) -> None:
    """Carries out one run. Every result is an artefact written whole, so a run that dies in the middle is
    simply run again and finds what was finished."""
    run = _begin(jobs, run_id)
    if run is None:
        return
    progress = _progress(jobs, run_id)
    try:
        if run["attempts"] > MAX_ATTEMPTS:
            raise FenrikError(
                f"The computation ended the worker {MAX_ATTEMPTS} times.",
                remedy="Make it smaller, for instance a coarser proof.",
            )
        with jobs.planner(run["job_id"], run["revision"], reading=True) as planner:
            _work(planner, run["target"], progress)
        _update(jobs, run_id, state="done", fraction=1.0, words="")
    except Cancelled:
        _update(jobs, run_id, state="cancelled", words="cancelled")
    except FenrikError as error:
        _update(jobs, run_id, state="failed", error=error.as_dict(), words=error.message)
    except Exception as error:
        log.exception("run %s failed", run_id)
        fault = {
            "code": "defect",
            "what": f"A defect in Fenrik: {type(error).__name__}: {error}",
            "remedy": "",
            "where": "",
        }
        _update(jobs, run_id, state="failed", error=fault, words=fault["what"])


def _work(planner: Planner, target: str, progress: Progress) -> None:
    progress.step(0.0, "reading the part")
    planner.part()
    for setup in planner.job.setups:
        if isinstance(setup.stock, SolidStock) or any(f.kind == "solid" for f in setup.fixture):
            planner.clamped(setup)  # reads the solids of stock and fixture
    if target == "part":
        return
    if target == "plan":
        failures = _plan(planner, progress)
        if failures:
            raise failures[0]
        return
    prover = Prover(planner)
    releases = planner.job.effective_releases()
    for i, release in enumerate(releases):
        prover.prove_whole(release, progress.part(i / len(releases), (i + 1) / len(releases)))


def _plan(planner: Planner, progress: Progress) -> list[FenrikError]:
    """Every path that can be computed; returns what went wrong with the others."""
    failures: list[FenrikError] = []
    setups = planner.job.setups
    count = max(1, sum(o.enabled for s in setups for o in s.operations))
    done = 0
    for setup in setups:
        enabled = [o for o in setup.operations if o.enabled]
        try:
            if isinstance(
                setup.stock, CarriedStock
            ):  # also where nothing is planned yet: it is what can be seen
                progress.step(done / count, f"cutting the stock of '{setup.name}'")
                planner.carried(setup, progress.part(done / count, (done + 0.5) / count))
        except Cancelled:
            raise
        except FenrikError as error:  # nothing of this setup can be computed
            failures.append(error)
            continue
        for operation in enabled:
            part = progress.part(done / count, (done + 1) / count)
            part.step(0.0, f"'{operation.name}'")
            done += 1
            try:
                planner.path(setup, operation, part)
            except Cancelled:
                raise
            except FenrikError as error:  # the others are still worth computing
                failures.append(error)
    return failures


def _begin(jobs: Jobs, run_id: int) -> dict[str, Any] | None:
    with Session(jobs.engine) as session:
        run = session.get(RunRow, run_id)
        if run is None or run.state not in ("queued", "running"):
            return None
        if run.cancel:
            run.state = "cancelled"
        else:
            run.state, run.attempts = "running", run.attempts + 1
        run.updated = now()
        session.add(run)
        session.commit()
        if run.state == "cancelled":
            return None
        return {
            "job_id": run.job_id,
            "revision": run.revision,
            "target": run.target,
            "attempts": run.attempts,
        }


def _update(jobs: Jobs, run_id: int, **values: Any) -> bool:
    """Writes progress; returns whether the run was asked to stop."""
    with Session(jobs.engine) as session:
        run = session.get(RunRow, run_id)
        if run is None:
            return True
        for key, value in values.items():
            setattr(run, key, value)
        run.updated = now()
        session.add(run)
        session.commit()
        return run.cancel


def _progress(jobs: Jobs, run_id: int) -> Progress:
    """Progress written at most five times a second; cancelling is noticed at the same pace."""
    state = {"at": 0.0, "stop": False}

    def report(fraction: float, words: str) -> None:
        if time.monotonic() - state["at"] < 0.2:
            return
        state["at"] = time.monotonic()
        values: dict[str, Any] = {"fraction": fraction}
        if words:
            values["words"] = words
        state["stop"] = _update(jobs, run_id, **values)

    return Progress(report, lambda: bool(state["stop"]))
