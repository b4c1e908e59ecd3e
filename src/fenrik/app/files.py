"""Files of jobs: kept in the database in pieces under their hash, laid out on disk for who computes with
them."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Iterator
from pathlib import PurePosixPath
from typing import BinaryIO

from sqlalchemy import Engine
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col, select

from fenrik.app.store import ResultStore, write_whole
from fenrik.app.tables import BlobPieceRow, BlobRow, FileRow, JobRow, now
from fenrik.core.errors import InputError, NotFound
from fenrik.core.file_names import check_file_name
from fenrik.core.job.workspace.files import ListedFiles
from fenrik.core.model.reading import MAX_BYTES

PIECE_BYTES = 1024 * 1024
MAX_FILES = 500
"""Most files of one job."""


class Files:
    """The files of all jobs."""

    def __init__(self, engine: Engine, store: ResultStore) -> None:
        self.engine, self._store = engine, store

    def add(self, job_id: int, name: str, content: BinaryIO) -> str:
        """Keeps a file for a job; returns its name, which gets a number when the job has another file of that
        name: what a document names never changes under it. Raises InputError, NotFound."""
        check_file_name(name)
        digest, size = _measured(content, name)
        with Session(self.engine) as session:
            known = self._known(session, job_id)
            free = _free_name(name, digest, known)
            if free not in known:
                _keep(session, digest, size, content)
                session.add(FileRow(job_id=job_id, name=free, sha256=digest, at=now()))
            session.commit()
        return free

    def share(self, job_id: int, name: str, digest: str) -> str:
        """Gives a job a file whose bytes are kept already; returns its name there, as `add` does. Raises
        InputError, NotFound."""
        with Session(self.engine) as session:
            known = self._known(session, job_id)
            # held against the collection of unused files until this transaction ends
            if session.get(BlobRow, digest, with_for_update=True) is None:
                raise NotFound(f"The file '{name}' is not kept any more.", remedy="Upload it again.")
            free = _free_name(name, digest, known)
            if free not in known:
                session.add(FileRow(job_id=job_id, name=free, sha256=digest, at=now()))
            session.commit()
        return free

    def _known(self, session: Session, job_id: int) -> dict[str, str]:
        """The files of a job, which is held until the transaction ends, by name with their hashes."""
        if session.get(JobRow, job_id, with_for_update=True) is None:
            raise NotFound(f"There is no job {job_id}.", remedy="Choose one from the list.")
        wanted = select(FileRow.name, FileRow.sha256).where(FileRow.job_id == job_id)
        known = dict(session.exec(wanted).all())
        if len(known) >= MAX_FILES:
            raise InputError(f"The job has {len(known)} files already.", remedy="Begin a new job.")
        return known

    def names(self, job_id: int) -> dict[str, str]:
        """A job's files by name with their hashes."""
        with Session(self.engine) as session:
            wanted = select(FileRow.name, FileRow.sha256).where(FileRow.job_id == job_id)
            return dict(session.exec(wanted).all())

    def content(self, job_id: int, name: str) -> Iterator[bytes]:
        """A job's file piece by piece. Raises NotFound before the first."""
        digest = self.names(job_id).get(name)
        if digest is None:
            raise NotFound(f"The job has no file '{name}'.", remedy="Upload it again.")
        return self._pieces(digest)

    def laid_out(self, job_id: int) -> ListedFiles:
        """A job's files as paths on this machine."""
        names = self.names(job_id)
        folder = self._store.folder / "files"
        for digest in set(names.values()):
            if not self._store.touched(folder / digest):
                write_whole(folder / digest, self._store.folder / "begun", self._pieces(digest))
        return ListedFiles(names, folder)

    def _pieces(self, digest: str) -> Iterator[bytes]:
        with Session(self.engine) as session:
            numbers = session.exec(
                select(BlobPieceRow.number)
                .where(BlobPieceRow.sha256 == digest)
                .order_by(col(BlobPieceRow.number))
            ).all()
            for number in numbers:
                wanted = select(BlobPieceRow.content).where(
                    BlobPieceRow.sha256 == digest, BlobPieceRow.number == number
                )
                yield session.exec(wanted).one()


def _measured(content: BinaryIO, name: str) -> tuple[str, int]:
    """Hash and size of a file, which is left at its beginning."""
    digest, size = hashlib.sha256(), 0
    while piece := content.read(PIECE_BYTES):
        digest.update(piece)
        size += len(piece)
        if size > MAX_BYTES:
            raise InputError(
                f"The file '{name}' has more than {MAX_BYTES / 1e6:.0f} MB.", remedy="Export the part alone."
            )
    content.seek(0)
    return digest.hexdigest(), size


def _free_name(name: str, digest: str, known: dict[str, str]) -> str:
    path = PurePosixPath(name)
    free, number = name, 2
    while free in known and known[free] != digest:
        free = str(path.with_name(f"{path.stem[:60]}_{number}{path.suffix}"))
        number += 1
    return free


def _keep(session: Session, digest: str, size: int, content: BinaryIO) -> None:
    """Keeps the bytes of a hash unless they are there; row by row, with one piece in memory."""
    row = (
        insert(BlobRow)
        .values(sha256=digest, size=size)
        .on_conflict_do_nothing()
        .returning(col(BlobRow.sha256))
    )
    while session.exec(row).first() is None:  # type: ignore[call-overload]
        # it is there: held against the collection of unused files until this transaction ends, unless that
        # was quicker
        if session.get(BlobRow, digest, with_for_update=True) is not None:
            return
    number = 0
    while (piece := content.read(PIECE_BYTES)) or number == 0:
        statement = insert(BlobPieceRow).values(sha256=digest, number=number, content=piece)
        session.exec(statement)  # type: ignore[call-overload]
        number += 1


def as_file(content: bytes) -> BinaryIO:
    """Bytes as a file."""
    return io.BytesIO(content)
