"""Jobs: documents with revisions, their files, background runs."""

from __future__ import annotations

import hashlib
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import Any

from sqlalchemy import Engine, delete
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select

from fenrik.app.ports import Queue
from fenrik.app.recent import Recent
from fenrik.app.store import DatabaseStore
from fenrik.app.tables import BlobRow, FileRow, JobRow, RevisionRow, RunRow, now
from fenrik.core.errors import Conflict, DocumentError, InputError, NotFound
from fenrik.core.job.document import Job
from fenrik.core.job.planning import Planner
from fenrik.core.job.proving import Proof
from fenrik.core.job.reading import job_data, job_from_data
from fenrik.core.job.replaying import replay_of
from fenrik.core.model.child import read_in_child
from fenrik.core.model.part_model import PartModel
from fenrik.core.model.reading import MAX_BYTES
from fenrik.core.proof.replay import Replay

TARGETS = ("part", "plan", "prove")
OPEN_STATES = ("queued", "running")


class Jobs:
    """Everything the application does with jobs. One instance serves all threads."""

    def __init__(self, engine: Engine, queue: Queue) -> None:
        self.engine, self.queue = engine, queue
        self.store = DatabaseStore(engine)
        self._replays: Recent[Replay] = Recent(2)

    # documents -------------------------------------------------------------------------------

    def create(self, document: dict[str, Any]) -> int:
        """A new job from a document; returns its id. Raises DocumentError."""
        job = job_from_data(document)
        with Session(self.engine) as session:
            row = JobRow(name=job.name, revision=1, last_revision=1)
            session.add(row)
            session.flush()
            assert row.id is not None
            session.add(RevisionRow(job_id=row.id, number=1, document=job_data(job)))
            session.commit()
            return row.id

    def listing(self) -> list[dict[str, Any]]:
        """All jobs, newest change first."""
        with Session(self.engine) as session:
            rows = session.exec(select(JobRow).order_by(col(JobRow.updated).desc())).all()
            return [{"id": r.id, "name": r.name, "updated": r.updated.isoformat()} for r in rows]

    def get(self, job_id: int) -> dict[str, Any]:
        """The job's document with its place among the revisions. Raises NotFound."""
        with Session(self.engine) as session:
            row = self._row(session, job_id)
            return self._described(session, row)

    def _described(self, session: Session, row: JobRow) -> dict[str, Any]:
        revision = session.get(RevisionRow, (row.id, row.revision))
        assert revision is not None
        return {
            "id": row.id,
            "revision": row.revision,
            "can_undo": row.revision > 1,
            "can_redo": row.revision < row.last_revision,
            "document": job_from_data(revision.document).model_dump(mode="json"),
        }

    def _row(self, session: Session, job_id: int, lock: bool = False) -> JobRow:
        row = session.get(JobRow, job_id, with_for_update=lock)
        if row is None:
            raise NotFound(f"There is no job {job_id}.", remedy="Choose one from the list.")
        return row

    def save(self, job_id: int, revision: int, document: dict[str, Any]) -> dict[str, Any]:
        """A new revision after `revision`; what was undone is dropped. A number stands for one document for ever, so that
        nobody takes the dropped one for the new. Raises DocumentError, Conflict."""
        job = job_from_data(document)
        with Session(self.engine) as session:
            row = self._row(session, job_id, lock=True)
            if row.revision != revision:
                raise Conflict(
                    f"The job is at revision {row.revision}, the change was made on {revision}.",
                    remedy="Reload the page and make the change again.",
                )
            session.exec(  # type: ignore[call-overload]
                delete(RevisionRow).where(
                    col(RevisionRow.job_id) == job_id, col(RevisionRow.number) > revision
                )
            )
            row.revision = row.last_revision = row.last_revision + 1
            row.name, row.updated = job.name, now()
            session.add(row)
            session.add(RevisionRow(job_id=job_id, number=row.revision, document=job_data(job)))
            session.commit()
            return self._described(session, row)

    def step(self, job_id: int, by: int) -> dict[str, Any]:
        """Undo (-1) or redo (+1). Raises Conflict when there is nothing to undo or redo."""
        with Session(self.engine) as session:
            row = self._row(session, job_id, lock=True)
            number = col(RevisionRow.number)
            beyond = number < row.revision if by < 0 else number > row.revision
            nearest = number.desc() if by < 0 else number
            mine = select(RevisionRow.number).where(col(RevisionRow.job_id) == job_id, beyond)
            target = session.exec(mine.order_by(nearest)).first()
            if target is None:
                raise Conflict(f"There is nothing to {'undo' if by < 0 else 'redo'}.")
            row.revision, row.updated = target, now()
            session.add(row)
            session.commit()
            return self._described(session, row)

    def remove(self, job_id: int) -> None:
        """Deletes a job with its revisions, files and runs; artefacts may serve others and stay."""
        with Session(self.engine) as session:
            session.delete(self._row(session, job_id))
            session.commit()

    def job(self, job_id: int, revision: int | None = None) -> Job:
        """The job as a model, at its present or a given revision. Raises NotFound."""
        with Session(self.engine) as session:
            row = self._row(session, job_id)
            found = session.get(RevisionRow, (job_id, revision or row.revision))
            if found is None:
                raise NotFound(f"Job {job_id} has no revision {revision}.")
            return job_from_data(found.document)

    # files -----------------------------------------------------------------------------------

    def add_file(self, job_id: int, name: str, content: bytes) -> str:
        """Keeps a file for a job under a clean relative name, which is returned. Raises InputError."""
        clean = "/".join(p for p in PurePosixPath(name.replace("\\", "/")).parts if p not in ("/", "..", "."))
        if not clean:
            raise InputError("The file has no name.", remedy="Give it one.")
        if len(content) > MAX_BYTES:
            raise InputError(
                f"The file '{clean}' has {len(content) / 1e6:.0f} MB; at most {MAX_BYTES / 1e6:.0f} MB are taken.",
                remedy="Export the part alone.",
            )
        digest = hashlib.sha256(content).hexdigest()
        with Session(self.engine) as session:
            self._row(session, job_id)
            blob = insert(BlobRow).values(sha256=digest, content=content).on_conflict_do_nothing()
            session.exec(blob)  # type: ignore[call-overload]
            file = insert(FileRow).values(job_id=job_id, name=clean, sha256=digest)
            session.exec(  # type: ignore[call-overload]
                file.on_conflict_do_update(index_elements=["job_id", "name"], set_={"sha256": digest})
            )
            session.commit()
        return clean

    def file(self, job_id: int, name: str) -> bytes:
        """A job's file. Raises NotFound."""
        with Session(self.engine) as session:
            row = session.get(FileRow, (job_id, name))
            blob = session.get(BlobRow, row.sha256) if row else None
            if blob is None:
                raise NotFound(f"The job has no file '{name}'.", remedy="Upload it again.")
            return blob.content

    def file_names(self, job_id: int) -> list[str]:
        """Names of a job's files."""
        with Session(self.engine) as session:
            return list(session.exec(select(FileRow.name).where(FileRow.job_id == job_id)))

    @contextmanager
    def planner(self, job_id: int, revision: int | None = None, reading: bool = False) -> Iterator[Planner]:
        """A planner on the job's document and files, laid out in a folder for as long as it is used.

        Only with `reading` (in the worker) may it read model files and cut stocks; else both come from artefacts.
        """
        job = self.job(job_id, revision)
        with tempfile.TemporaryDirectory(prefix="fenrik-job-") as folder:
            for name in self.file_names(job_id):
                path = Path(folder) / name
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(self.file(job_id, name))
            read = read_in_child if reading else _not_here
            yield Planner(job, Path(folder), self.store, read, cutting=reading)

    # proofs ----------------------------------------------------------------------------------

    def proof(self, key: str) -> Proof:
        """A proved release by its key. Raises NotFound."""
        blob = self.store.get(key)
        if blob is None:
            raise NotFound("The release has not been proved yet.", remedy="Prove it.")
        return Proof.from_bytes(blob)

    def replay(self, key: str) -> Replay:
        """The replay of a proved release, kept for those looked at lately. Raises NotFound."""

        def made() -> Replay:
            proof = self.proof(key)
            return replay_of(proof.facts, proof.arrays, self.store)

        return self._replays.get(key, made)

    # runs ------------------------------------------------------------------------------------

    def start(self, job_id: int, target: str) -> dict[str, Any]:
        """Hands in background work on the job's present revision; an open run of the same target is
        cancelled first. Returns the run."""
        if target not in TARGETS:
            raise InputError(f"'{target}' cannot be computed.", remedy=f"Use one of: {', '.join(TARGETS)}.")
        with Session(self.engine) as session:
            row = self._row(session, job_id)
            open_runs = session.exec(
                select(RunRow).where(
                    RunRow.job_id == job_id, RunRow.target == target, col(RunRow.state).in_(OPEN_STATES)
                )
            ).all()
            for other in open_runs:
                other.cancel = True
                session.add(other)
            run = RunRow(job_id=job_id, target=target, revision=row.revision)
            session.add(run)
            session.commit()
            assert run.id is not None
            result = run_data(run)
        self.queue.submit(result["id"])
        return result

    def cancel(self, run_id: int) -> dict[str, Any]:
        """Asks a run to stop. Raises NotFound."""
        with Session(self.engine) as session:
            run = session.get(RunRow, run_id)
            if run is None:
                raise NotFound(f"There is no run {run_id}.")
            if run.state == "queued":
                run.state = "cancelled"
            run.cancel, run.updated = True, now()
            session.add(run)
            session.commit()
            return run_data(run)

    def runs(self, job_id: int) -> list[dict[str, Any]]:
        """The newest run of every target."""
        with Session(self.engine) as session:
            rows = session.exec(select(RunRow).where(RunRow.job_id == job_id).order_by(col(RunRow.id))).all()
            return list({r.target: run_data(r) for r in rows}.values())


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


def _not_here(path: Path, name: str, solid: int | None, scale: float, heal: bool) -> PartModel:
    raise DocumentError(
        f"The part '{name}' has not been read yet.",
        remedy="Wait until it is, or read it again.",
        where="part",
    )
