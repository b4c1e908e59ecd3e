"""Runs: pieces of background work. The rows are the queue: what is handed in is there for the workers when it
is committed.

A worker holds an advisory lock of the database under its number for as long as it is connected; a run whose
worker's lock is gone is free to be taken again.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Engine, text
from sqlmodel import Session, col, select

from fenrik.app.tables import JobRow, RunRow, now
from fenrik.core.errors import InputError, NotFound

TARGETS = ("part", "plan", "prove")
WHOLE = re.compile(r"whole:\d{1,3}")
"""A whole plan for a setup by its place in the job, from 0: computed and proved before it is offered."""
OPEN_STATES = ("queued", "running")
CHANNEL = "fenrik_run"
"""Where the database tells, by triggers, that the job in the payload or a run of it was made or changed."""
LOCK_CLASS = 0x464E
MAX_ATTEMPTS = 20

_CLAIM = text(
    """UPDATE run SET state = 'running', worker = :worker, attempts = attempts + 1, updated = now(),
       words = '' WHERE id = (SELECT r.id FROM run r WHERE r.state = 'queued'
                   AND NOT EXISTS (SELECT 1 FROM run o WHERE o.job_id = r.job_id AND o.state = 'running')
                   ORDER BY r.target <> 'part', r.id LIMIT 1 FOR UPDATE SKIP LOCKED)
       RETURNING id, job_id, revision, target, attempts, cancel"""
)
_RECLAIM = text(
    """UPDATE run SET state = CASE WHEN cancel THEN 'cancelled' ELSE 'queued' END, worker = NULL,
       updated = now() WHERE state = 'running' AND (worker IS NULL OR NOT EXISTS (
         SELECT 1 FROM pg_locks l WHERE l.locktype = 'advisory' AND l.classid = :lock AND l.objid = run.worker
         AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())))
       RETURNING id"""
)
_GIVE_BACK = text(
    """UPDATE run SET state = CASE WHEN cancel THEN 'cancelled' ELSE 'queued' END, worker = NULL,
       attempts = attempts - 1, updated = now()
       WHERE state = 'running' AND worker = :worker AND NOT (id = ANY(CAST(:but AS integer[])))"""
)


@dataclass(frozen=True)
class Claimed:
    """A run that a worker has taken."""

    id: int
    job_id: int
    revision: int
    target: str
    attempts: int


class Runs:
    """Hands in, takes and follows runs."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def start(self, job_id: int, target: str) -> dict[str, Any]:
        """Hands in work on the job's present revision; an open run of the same target is cancelled first.
        Returns the run. Raises InputError, NotFound."""
        if target not in TARGETS and not WHOLE.fullmatch(target):
            raise InputError(
                f"'{target[:40]}' cannot be computed.",
                remedy=f"Use one of: {', '.join(TARGETS)}, or whole: and a setup's place from 0.",
            )
        with Session(self.engine) as session:
            row = session.get(JobRow, job_id, with_for_update=True)
            if row is None:
                raise NotFound(f"There is no job {job_id}.", remedy="Choose one from the list.")
            wanted = select(RunRow).where(
                RunRow.job_id == job_id, RunRow.target == target, col(RunRow.state).in_(OPEN_STATES)
            )
            for other in session.exec(wanted.with_for_update()).all():
                _ask_to_stop(other)
                session.add(other)
            run = RunRow(job_id=job_id, target=target, revision=row.revision)
            session.add(run)
            session.flush()
            result = run_data(run)
            session.commit()
            return result

    def cancel(self, run_id: int) -> dict[str, Any]:
        """Asks a run to stop. Raises NotFound."""
        with Session(self.engine) as session:
            run = session.get(RunRow, run_id, with_for_update=True)
            if run is None:
                raise NotFound(f"There is no run {run_id}.")
            if run.state in OPEN_STATES:
                _ask_to_stop(run)
            session.add(run)
            session.flush()
            result = run_data(run)
            session.commit()
            return result

    def newest(self, job_id: int) -> list[dict[str, Any]]:
        """The newest run of every target."""
        with Session(self.engine) as session:
            wanted = select(RunRow).where(RunRow.job_id == job_id).distinct(col(RunRow.target))
            rows = session.exec(wanted.order_by(col(RunRow.target), col(RunRow.id).desc())).all()
            return [run_data(r) for r in sorted(rows, key=lambda r: r.id or 0)]

    def told(self, job_id: int) -> dict[str, Any]:
        """What a page follows: the job's revision (None when it is deleted) and its newest runs."""
        with Session(self.engine) as session:
            revision = session.exec(select(JobRow.revision).where(JobRow.id == job_id)).first()
        return {"revision": revision, "runs": self.newest(job_id)}

    # a worker's ------------------------------------------------------------------------------

    def claim(self, worker: int) -> Claimed | None:
        """The next run for a worker, taken, or None. One that ended its workers too often is marked as
        failed."""
        with Session(self.engine) as session:
            row = session.execute(_CLAIM, {"worker": worker}).first()
            session.commit()
        if row is None:
            return None
        if row.attempts > MAX_ATTEMPTS:
            fault = {
                "code": "compute",
                "what": f"The worker ended {MAX_ATTEMPTS} times while this was computed.",
                "remedy": "Make it smaller, for instance a coarser proof.",
                "where": "",
            }
            self.finish(row.id, worker, state="failed", error=fault, words=fault["what"])
            return None
        return Claimed(row.id, row.job_id, row.revision, row.target, row.attempts)

    def reclaim(self) -> list[int]:
        """Puts the runs of workers that are gone back into the queue; gives their numbers."""
        with Session(self.engine) as session:
            ids = [row.id for row in session.execute(_RECLAIM, {"lock": LOCK_CLASS})]
            session.commit()
            return ids

    def give_back(self, worker: int, but: Collection[int] = ()) -> None:
        """Puts a worker's runs back into the queue, `but` for these: since it ends in good order, or since it
        does not know of them, as happens when the connection is lost while a run is being taken."""
        with Session(self.engine) as session:
            session.execute(_GIVE_BACK, {"worker": worker, "but": list(but)})
            session.commit()

    def cancelled(self, worker: int) -> list[int]:
        """The runs of a worker that are asked to stop."""
        with Session(self.engine) as session:
            wanted = select(RunRow.id).where(
                RunRow.worker == worker, RunRow.state == "running", RunRow.cancel
            )
            return [i for i in session.exec(wanted) if i is not None]

    def progress(self, run_id: int, worker: int, fraction: float, words: str) -> None:
        """Notes how far a worker's run is."""
        values = {"fraction": fraction, "words": words} if words else {"fraction": fraction}
        self.finish(run_id, worker, **values)

    def finish(self, run_id: int, worker: int, **values: Any) -> None:
        """Writes values to a run, provided that it is still this worker's."""
        with Session(self.engine) as session:
            run = session.get(RunRow, run_id, with_for_update=True)
            if run is not None and run.worker == worker and run.state == "running":
                for key, value in values.items():
                    setattr(run, key, value)
                run.updated = now()
                session.add(run)
                session.commit()


def _ask_to_stop(run: RunRow) -> None:
    if run.state == "queued":
        run.state = "cancelled"
    run.cancel, run.updated = True, now()


def run_data(run: RunRow) -> dict[str, Any]:
    """A run as plain data."""
    return {
        "id": run.id,
        "target": run.target,
        "revision": run.revision,
        "state": run.state,
        "fraction": run.fraction,
        "words": run.words,
        "error": run.error,
    }
