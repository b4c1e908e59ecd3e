"""Tables (SQLModel on PostgreSQL)."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, Column, DateTime, LargeBinary
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel

MOMENT = DateTime(timezone=True)
"""How moments are kept: with their zone."""


def now() -> datetime:
    """The present time, with its zone."""
    return datetime.now(UTC)


class JobRow(SQLModel, table=True):
    """A job; its document stands in the revision it points to. `problem` says why it cannot be opened by the
    version of the code that has `checked` it."""

    __tablename__ = "job"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    revision: int = 0
    last_revision: int = 0
    problem: str = ""
    checked: str = ""
    created: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]
    updated: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]


class RevisionRow(SQLModel, table=True):
    """One state of a job's document; undo and redo move between them. `editor` is the browser whose change
    made it."""

    __tablename__ = "revision"
    job_id: int = Field(foreign_key="job.id", primary_key=True, ondelete="CASCADE")
    number: int = Field(primary_key=True)
    document: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    editor: str = ""
    editor_name: str = ""
    at: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]


class BlobRow(SQLModel, table=True):
    """A file's bytes under their hash; they stand in its pieces."""

    __tablename__ = "blob"
    sha256: str = Field(primary_key=True)
    size: int = Field(sa_column=Column(BigInteger, nullable=False))


class BlobPieceRow(SQLModel, table=True):
    """A piece of a file, so that no file has to be in memory as a whole."""

    __tablename__ = "blob_piece"
    sha256: str = Field(foreign_key="blob.sha256", primary_key=True, ondelete="CASCADE")
    number: int = Field(primary_key=True)
    content: bytes = Field(sa_column=Column(LargeBinary, nullable=False))


class FileRow(SQLModel, table=True):
    """A file of a job under the name its document uses."""

    __tablename__ = "job_file"
    job_id: int = Field(foreign_key="job.id", primary_key=True, ondelete="CASCADE")
    name: str = Field(primary_key=True)
    sha256: str = Field(foreign_key="blob.sha256")
    at: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]


class RunRow(SQLModel, table=True):
    """A piece of background work and how far it is; these rows are the queue, too.

    `state`: queued, running, done, failed, cancelled. `worker` is who has taken it.
    """

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
    worker: int | None = None
    created: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]
    updated: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]


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
    results: list[str] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    text: str
    sheet: str
    at: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]


class ShopToolRow(SQLModel, table=True):
    """A tool that the shop keeps for later jobs."""

    __tablename__ = "shop_tool"
    id: int | None = Field(default=None, primary_key=True)
    tool: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    at: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]


class ShopItemRow(SQLModel, table=True):
    """A fixture or a machine that the shop keeps for later jobs: the item as a document holds it, and the
    hashes of the files that it names."""

    __tablename__ = "shop_item"
    id: int | None = Field(default=None, primary_key=True)
    kind: str
    name: str
    item: dict[str, Any] = Field(sa_column=Column(JSONB, nullable=False))
    files: dict[str, str] = Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))
    at: datetime = Field(default_factory=now, sa_type=MOMENT)  # type: ignore[call-overload]
