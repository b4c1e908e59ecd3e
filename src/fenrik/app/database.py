"""Engine and migrations."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine
from sqlmodel import create_engine

MIGRATIONS = Path(__file__).parent / "migrations"


def make_engine(url: str) -> Engine:
    """An engine for a ``postgresql+psycopg://`` address."""
    return create_engine(url, pool_pre_ping=True, pool_size=10, max_overflow=20)


def migrate(url: str) -> None:
    """Brings the database to the newest version."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    command.upgrade(config, "head")
