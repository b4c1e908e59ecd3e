"""Artefacts in PostgreSQL."""

from __future__ import annotations

from sqlalchemy import Engine
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session

from fenrik.app.tables import ArtefactRow, now


class DatabaseStore:
    """Artefacts kept in a table; each is written in a transaction of its own, whole or not at all."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine

    def get(self, key: str) -> bytes | None:
        """The artefact under a key, or None."""
        with Session(self._engine) as session:
            row = session.get(ArtefactRow, key)
            return row.content if row else None

    def has(self, key: str) -> bool:
        """Whether there is an artefact, without reading it."""
        from sqlmodel import select

        with Session(self._engine) as session:
            return session.exec(select(ArtefactRow.key).where(ArtefactRow.key == key)).first() is not None

    def put(self, key: str, kind: str, blob: bytes) -> None:
        """Keeps an artefact; one that is there already stays."""
        with Session(self._engine) as session:
            row = (
                insert(ArtefactRow)
                .values(key=key, kind=kind, content=blob, at=now())
                .on_conflict_do_nothing()
            )
            session.exec(row)  # type: ignore[call-overload]
            session.commit()
