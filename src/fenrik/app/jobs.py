"""Jobs: documents with revisions. Files, runs, results and answers hang on them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from sqlalchemy import Engine, delete
from sqlmodel import Session, col, select

from fenrik.app.answers import Answers, Asked
from fenrik.app.files import Files, as_file
from fenrik.app.job_list import job_list
from fenrik.app.ports import Asker
from fenrik.app.runs import Runs
from fenrik.app.store import ResultStore
from fenrik.app.tables import JobRow, RevisionRow, now
from fenrik.core.errors import Conflict, DocumentError, FenrikError, NotFound
from fenrik.core.job.document.job import VERSION, Job
from fenrik.core.job.document.reading import job_data, job_from_data
from fenrik.core.job.workspace.artefacts import code_version
from fenrik.core.job.workspace.files import check_files

MAX_EDITOR = 40

if TYPE_CHECKING:
    from fenrik.core.job.paths.paths import Paths


@dataclass(frozen=True)
class Editor:
    """Who makes a change: the number that a browser has given itself, and the name that its user chose."""

    id: str = ""
    name: str = ""


NOBODY = Editor()


class Jobs:
    """Everything the application does with jobs. One instance serves all threads."""

    def __init__(self, engine: Engine, store: ResultStore, asker: Asker) -> None:
        self.engine, self.store = engine, store
        self.files = Files(engine, store)
        self.runs = Runs(engine)
        self.answers = Answers(store, self.files, asker)

    def create(self, document: dict[str, Any], editor: Editor = NOBODY) -> dict[str, Any]:
        """A new job from a document, described as by `get`. Raises InputError."""
        job = opened(document)
        with Session(self.engine) as session:
            row = JobRow(name=job.name, revision=1, last_revision=1, checked=code_version())
            session.add(row)
            session.flush()
            assert row.id is not None
            session.add(_revision(row.id, 1, job, editor))
            described = _described(row, job, False)
            session.commit()
            return described

    def listing(self) -> list[dict[str, Any]]:
        """All jobs, newest change first; see `job_list`."""
        return job_list(self.engine)

    def get(self, job_id: int) -> dict[str, Any]:
        """The job's document with its place among the revisions. Raises NotFound, DocumentError."""
        with Session(self.engine) as session:
            row = self._row(session, job_id)
            job = opened(self._stored(session, job_id, row.revision))
            return _described(row, job, self._earlier(session, row))

    def stored(self, job_id: int) -> dict[str, Any]:
        """The present document as it is stored, whether it can be opened or not. Raises NotFound."""
        with Session(self.engine) as session:
            return self._stored(session, job_id, self._row(session, job_id).revision)

    def asked(self, job_id: int) -> Asked:
        """The present document as questions take it. Raises NotFound."""
        with Session(self.engine) as session:
            revision = self._row(session, job_id).revision
            return Asked(job_id, revision, self._stored(session, job_id, revision))

    def document_at(self, job_id: int, revision: int) -> dict[str, Any]:
        """The document of a revision. Raises NotFound."""
        with Session(self.engine) as session:
            return self._stored(session, job_id, revision)

    @staticmethod
    def _stored(session: Session, job_id: int, revision: int) -> dict[str, Any]:
        found = session.get(RevisionRow, (job_id, revision))
        if found is None:
            raise NotFound(f"Job {job_id} has no revision {revision}.", remedy="Reload the page.")
        return found.document

    @staticmethod
    def _row(session: Session, job_id: int, lock: bool = False) -> JobRow:
        row = session.get(JobRow, job_id, with_for_update=lock)
        if row is None:
            raise NotFound(f"There is no job {job_id}.", remedy="Choose one from the list.")
        return row

    @staticmethod
    def _earlier(session: Session, row: JobRow) -> bool:
        wanted = select(RevisionRow.number).where(
            RevisionRow.job_id == row.id, col(RevisionRow.number) < row.revision
        )
        return session.exec(wanted.limit(1)).first() is not None

    def save(
        self, job_id: int, revision: int, document: dict[str, Any], editor: Editor = NOBODY
    ) -> dict[str, Any]:
        """A new revision after `revision`; what was undone is dropped. A number stands for one document for
        ever, so that nobody takes the dropped one for the new. Returns the revision that was made. Raises
        InputError, Conflict."""
        job = opened(document)
        with Session(self.engine) as session:
            row = self._row(session, job_id, lock=True)
            if row.revision != revision:
                raise Conflict(
                    f"The job is at revision {row.revision}, the change was made on {revision}.",
                    remedy="Somebody else has changed it meanwhile: look at what it is now, and make the "
                    "change again.",
                )
            return self._append(session, row, job, editor)

    def change_part(self, job_id: int, file: str, editor: Editor = NOBODY) -> dict[str, Any]:
        """A new revision of the present document with another part. Raises NotFound, InputError."""
        with Session(self.engine) as session:
            row = self._row(session, job_id, lock=True)
            document = {**self._stored(session, job_id, row.revision), "part": {"file": file}}
            return self._append(session, row, opened(document), editor)

    def _append(self, session: Session, row: JobRow, job: Job, editor: Editor) -> dict[str, Any]:
        dropped = delete(RevisionRow).where(
            col(RevisionRow.job_id) == row.id, col(RevisionRow.number) > row.revision
        )
        session.exec(dropped)  # type: ignore[call-overload]
        row.revision = row.last_revision = row.last_revision + 1
        row.name, row.updated, row.problem, row.checked = job.name, now(), "", code_version()
        assert row.id is not None
        session.add(row)
        session.add(_revision(row.id, row.revision, job, editor))
        described = _described(row, job, True)
        session.commit()
        return described

    def step(self, job_id: int, by: int, editor: Editor = NOBODY, anyway: bool = False) -> dict[str, Any]:
        """Undo (-1) or redo (+1); returns the revision that it leads to. Raises Conflict when there is
        nothing to undo or redo, and when the change is another editor's, unless it is wanted `anyway`."""
        with Session(self.engine) as session:
            row = self._row(session, job_id, lock=True)
            number = col(RevisionRow.number)
            beyond = number < row.revision if by < 0 else number > row.revision
            nearest = number.desc() if by < 0 else number
            mine = select(RevisionRow).where(col(RevisionRow.job_id) == job_id, beyond)
            target = session.exec(mine.order_by(nearest)).first()
            if target is None:
                raise Conflict(f"There is nothing to {'undo' if by < 0 else 'redo'}.")
            moved = session.get(RevisionRow, (job_id, row.revision)) if by < 0 else target
            if moved is not None and not anyway:
                _check_own(moved, editor, by)
            job = opened(target.document)
            row.revision, row.updated, row.name = target.number, now(), job.name
            row.problem, row.checked = "", code_version()
            session.add(row)
            described = _described(row, job, self._earlier(session, row))
            session.commit()
            return described

    def remove(self, job_id: int) -> None:
        """Deletes a job with its revisions, files and runs; results may serve others and stay until room is
        needed."""
        with Session(self.engine) as session:
            session.delete(self._row(session, job_id))
            session.commit()

    def check_all(self) -> int:
        """Looks at every job that this version has not opened yet, notes why one cannot be; gives how many
        cannot."""
        with Session(self.engine) as session:
            wanted = select(JobRow.id).where(col(JobRow.checked) != code_version())
            ids = session.exec(wanted).all()
        return sum(self._check(i) for i in ids if i is not None)

    def _check(self, job_id: int) -> bool:
        with Session(self.engine) as session:
            row = session.get(JobRow, job_id, with_for_update=True)
            if row is None:
                return False
            try:
                opened(self._stored(session, job_id, row.revision))
                row.problem = ""
            except FenrikError as error:
                row.problem = error.message
            row.checked = code_version()
            session.add(row)
            session.commit()
            return bool(row.problem)

    # several steps in one call ----------------------------------------------------------------

    def add_file(self, job_id: int, name: str, content: bytes) -> str:
        """Keeps a file for a job from memory; see `Files.add`."""
        return self.files.add(job_id, name, as_file(content))

    def paths(self, job_id: int) -> Paths:
        """A paths on the job's present document and files, which may read and cut."""
        from fenrik.core.job.opening import open_job  # what computes is not needed to serve

        return open_job(opened(self.stored(job_id)), self.files.laid_out(job_id), self.store)


def opened(document: Any) -> Job:
    """The job in a stranger's document, its files' names checked. Raises InputError."""
    if not isinstance(document, dict):
        raise DocumentError(
            "The document holds no job: a mapping is needed.", remedy=f"Start it with 'fenrik: {VERSION}'."
        )
    job = job_from_data(document)
    check_files(job)
    return job


def _revision(job_id: int, number: int, job: Job, editor: Editor) -> RevisionRow:
    return RevisionRow(
        job_id=job_id,
        number=number,
        document=job_data(job),
        editor=editor.id[:MAX_EDITOR],
        editor_name=editor.name[:MAX_EDITOR],
    )


def _check_own(moved: RevisionRow, editor: Editor, by: int) -> None:
    if not moved.editor or not editor.id or moved.editor == editor.id:
        return
    who = f"'{moved.editor_name}'" if moved.editor_name else "somebody else"
    what = "undo" if by < 0 else "redo"
    raise Conflict(
        f"The change to {what} was made by {who}, at {moved.at.astimezone():%H:%M}.",
        remedy=f"Ask them first, or {what} it all the same.",
        where="others",
    )


def _described(row: JobRow, job: Job, can_undo: bool) -> dict[str, Any]:
    return {
        "id": row.id,
        "revision": row.revision,
        "can_undo": can_undo,
        "can_redo": row.revision < row.last_revision,
        "document": job.model_dump(mode="json"),
    }
