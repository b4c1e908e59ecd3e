"""Tables (SQLModel on PostgreSQL)."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Column, DateTime, LargeBinary
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel


def now() -> datetime:
    """The present time, with its zone."""
    return datetime.now(UTC)


class JobRow(SQLModel, table=True):
    """A job; its document stands in the revision it points to."""

    __tablename__ = "job"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    revision: int = 0
    last_revision: int = 0
    created: datetime = Field(default_factory=now, sa_type=DateTime(timezone=True))  # type: ignore[call-overload]
    updated: datetime = Field(default_factory=now, sa_type=DateTime(timezone=True))  # type: ignore[call-overload]


class RevisionRow(SQLModel, table=True):
    """One state of a job's document; undo and redo move between them."""

    __tablename__ = "revision"
    job_id: int = Field(foreign_key="job.id", primary_key=True, ondelete="CASCADE")
    number: int = Field(primary_key=True)
    document: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    at: datetime = Field(default_factory=now, sa_type=DateTime(timezone=True))  # type: ignore[call-overload]


class BlobRow(SQLModel, table=True):
    """A file's bytes under their hash."""

    __tablename__ = "blob"
    sha256: str = Field(primary_key=True)
    content: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class FileRow(SQLModel, table=True):
    """A file of a job under the name its document uses."""

    __tablename__ = "job_file"
    job_id: int = Field(foreign_key="job.id", primary_key=True, ondelete="CASCADE")
    name: str = Field(primary_key=True)
    sha256: str = Field(foreign_key="blob.sha256")


class ArtefactRow(SQLModel, table=True):
    """A result under the hash of its inputs."""

    __tablename__ = "artefact"
    key: str = Field(primary_key=True)
    kind: str
    content: bytes = Field(sa_column=Column(LargeBinary, nullable=False))
    at: datetime = Field(default_factory=now, sa_type=DateTime(timezone=True))  # type: ignore[call-overload]


class RunRow(SQLModel, table=True):
    """A piece of background work and how far it is. `state`: queued, running, done, failed, cancelled."""

    __tablename__ = "run"
    id: int | None = Field(default=None, primary_key=True)
    job_id: int = Field(foreign_key="job.id", index=True, ondelete="CASCADE")
    target: str
    revision: int
    state: str = "queued"
    fraction: float = 0.0
    words: str = ""
    cancel: bool = False
    error: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB))
    attempts: int = 0
    created: datetime = Field(default_factory=now, sa_type=DateTime(timezone=True))  # type: ignore[call-overload]
    updated: datetime = Field(default_factory=now, sa_type=DateTime(timezone=True))  # type: ignore[call-overload]


class KeptReleaseRow(SQLModel, table=True):
    """A release as it was handed out: what was asked for, the text, the setup sheet and the proof's facts."""

    __tablename__ = "kept_release"
    job_id: int = Field(foreign_key="job.id", primary_key=True, ondelete="CASCADE")
    number: int = Field(primary_key=True)
    revision: int
    notes: str = ""
    release: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    proof: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    proof_key: str
    text: str
    sheet: str
    at: datetime = Field(default_factory=now, sa_type=DateTime(timezone=True))  # type: ignore[call-overload]
